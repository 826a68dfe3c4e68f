//! A checked expression as a tree.

/// A node; its children have the types that it needs.
#[derive(Debug, Clone, PartialEq)]
pub enum ExpressionNode {
    /// A column, by its place among the inputs.
    Column(usize),
    /// A number.
    Number(f64),
    /// Text.
    Text(String),
    /// A day, counted from 1970-01-01.
    Day(i32),
    /// True or false.
    Truth(bool),
    /// Always missing; of the type that stands beside it.
    Missing(super::Type),
    /// Arithmetic on numbers.
    Arithmetic(Arithmetic, Box<[ExpressionNode; 2]>),
    /// The number with its sign turned.
    Minus(Box<ExpressionNode>),
    /// Days from the second to the first.
    DaysBetween(Box<[ExpressionNode; 2]>),
    /// A day so many days later; the number is rounded.
    DaysLater(Box<[ExpressionNode; 2]>),
    /// Two values of one type compared.
    Compare(Comparison, Box<[ExpressionNode; 2]>),
    /// Both.
    And(Box<[ExpressionNode; 2]>),
    /// Either.
    Or(Box<[ExpressionNode; 2]>),
    /// Not.
    Not(Box<ExpressionNode>),
    /// Whether the value is missing.
    IsMissing(Box<ExpressionNode>),
    /// Whether the value is one of these constants of its type.
    OneOf(Box<ExpressionNode>, Vec<ExpressionNode>),
    /// Whether text has a form, in which `%` stands for any letters and `_` for one.
    Like(Box<ExpressionNode>, String),
    /// The value beside the first condition that is true, else the last one.
    Case(Vec<(ExpressionNode, ExpressionNode)>, Box<ExpressionNode>),
    /// A function.
    Call(Function, Vec<ExpressionNode>),
}

/// The operations on two numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Arithmetic {
    /// Sum.
    Plus,
    /// Difference.
    Minus,
    /// Product.
    Times,
    /// Quotient; missing where the divisor is 0.
    Over,
}

/// The comparisons of two values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Comparison {
    /// `=`
    Equal,
    /// `<>`
    Different,
    /// `<`
    Less,
    /// `<=`
    LessOrEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterOrEqual,
}

/// The functions, by their SQL names.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Function {
    /// Absolute value.
    Abs,
    /// The nearest whole number.
    Round,
    /// The greatest whole number that is not greater.
    Floor,
    /// The least whole number that is not less.
    Ceil,
    /// Square root.
    Sqrt,
    /// Natural logarithm.
    Ln,
    /// Exponential.
    Exp,
    /// The least of the values that are there.
    Least,
    /// The greatest of the values that are there.
    Greatest,
    /// The first value that is there.
    Coalesce,
    /// Missing where the two values are equal, else the first.
    NullIf,
    /// Characters of a text.
    Length,
    /// In small letters.
    Lower,
    /// In capitals.
    Upper,
    /// Without spaces at both ends.
    Trim,
    /// Texts one after the other.
    Concat,
    /// Year of a day.
    Year,
    /// Month of a day, 1 to 12.
    Month,
    /// Day within its month, 1 to 31.
    DayOfMonth,
    /// Day within its week, 0 for Sunday.
    DayOfWeek,
}

impl Arithmetic {
    /// The sign for it, in SQL and elsewhere.
    pub fn sign(self) -> &'static str {
        match self {
            Self::Plus => "+",
            Self::Minus => "-",
            Self::Times => "*",
            Self::Over => "/",
        }
    }
}

impl Comparison {
    /// The sign for it, in SQL and elsewhere.
    pub fn sign(self) -> &'static str {
        match self {
            Self::Equal => "=",
            Self::Different => "<>",
            Self::Less => "<",
            Self::LessOrEqual => "<=",
            Self::Greater => ">",
            Self::GreaterOrEqual => ">=",
        }
    }
}

impl Function {
    /// Those that are called by name, with the counts of arguments they take.
    pub const NAMED: [(&'static str, Function, usize, usize); 14] = [
        ("ABS", Self::Abs, 1, 1),
        ("ROUND", Self::Round, 1, 1),
        ("FLOOR", Self::Floor, 1, 1),
        ("CEIL", Self::Ceil, 1, 1),
        ("SQRT", Self::Sqrt, 1, 1),
        ("LN", Self::Ln, 1, 1),
        ("EXP", Self::Exp, 1, 1),
        ("LEAST", Self::Least, 1, 50),
        ("GREATEST", Self::Greatest, 1, 50),
        ("COALESCE", Self::Coalesce, 1, 50),
        ("NULLIF", Self::NullIf, 2, 2),
        ("LENGTH", Self::Length, 1, 1),
        ("LOWER", Self::Lower, 1, 1),
        ("UPPER", Self::Upper, 1, 1),
    ];
}

impl ExpressionNode {
    /// Hands on the node and everything in it.
    pub fn each(&self, found: &mut dyn FnMut(&ExpressionNode)) {
        found(self);
        match self {
            ExpressionNode::Arithmetic(_, pair)
            | ExpressionNode::DaysBetween(pair)
            | ExpressionNode::DaysLater(pair)
            | ExpressionNode::Compare(_, pair)
            | ExpressionNode::And(pair)
            | ExpressionNode::Or(pair) => pair.iter().for_each(|inner| inner.each(found)),
            ExpressionNode::Minus(inner)
            | ExpressionNode::Not(inner)
            | ExpressionNode::IsMissing(inner)
            | ExpressionNode::Like(inner, _) => inner.each(found),
            ExpressionNode::OneOf(inner, constants) => {
                inner.each(found);
                constants.iter().for_each(|inner| inner.each(found));
            }
            ExpressionNode::Case(branches, last) => {
                branches.iter().for_each(|(condition, result)| {
                    condition.each(found);
                    result.each(found);
                });
                last.each(found);
            }
            ExpressionNode::Call(_, arguments) => arguments.iter().for_each(|inner| inner.each(found)),
            ExpressionNode::Column(_)
            | ExpressionNode::Number(_)
            | ExpressionNode::Text(_)
            | ExpressionNode::Day(_)
            | ExpressionNode::Truth(_)
            | ExpressionNode::Missing(_) => {}
        }
    }
}
