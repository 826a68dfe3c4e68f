//! A checked expression as a tree.

/// A node; its children have the types that it needs.
#[derive(Debug, Clone, PartialEq)]
pub enum Node {
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
    Arithmetic(Arithmetic, Box<[Node; 2]>),
    /// The number with its sign turned.
    Minus(Box<Node>),
    /// Days from the second to the first.
    DaysBetween(Box<[Node; 2]>),
    /// A day so many days later; the number is rounded.
    DaysLater(Box<[Node; 2]>),
    /// Two values of one type compared.
    Compare(Comparison, Box<[Node; 2]>),
    /// Both.
    And(Box<[Node; 2]>),
    /// Either.
    Or(Box<[Node; 2]>),
    /// Not.
    Not(Box<Node>),
    /// Whether the value is missing.
    IsMissing(Box<Node>),
    /// Whether the value is one of these constants of its type.
    OneOf(Box<Node>, Vec<Node>),
    /// Whether text has a form, in which `%` stands for any letters and `_` for one.
    Like(Box<Node>, String),
    /// The value beside the first condition that is true, else the last one.
    Case(Vec<(Node, Node)>, Box<Node>),
    /// A function.
    Call(Function, Vec<Node>),
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

impl Node {
    /// Hands on the node and everything in it.
    pub fn each(&self, found: &mut dyn FnMut(&Node)) {
        found(self);
        match self {
            Node::Arithmetic(_, pair)
            | Node::DaysBetween(pair)
            | Node::DaysLater(pair)
            | Node::Compare(_, pair)
            | Node::And(pair)
            | Node::Or(pair) => pair.iter().for_each(|inner| inner.each(found)),
            Node::Minus(inner) | Node::Not(inner) | Node::IsMissing(inner) | Node::Like(inner, _) => inner.each(found),
            Node::OneOf(inner, constants) => {
                inner.each(found);
                constants.iter().for_each(|inner| inner.each(found));
            }
            Node::Case(branches, last) => {
                branches.iter().for_each(|(condition, result)| {
                    condition.each(found);
                    result.each(found);
                });
                last.each(found);
            }
            Node::Call(_, arguments) => arguments.iter().for_each(|inner| inner.each(found)),
            Node::Column(_) | Node::Number(_) | Node::Text(_) | Node::Day(_) | Node::Truth(_) | Node::Missing(_) => {}
        }
    }
}
