//! From the parser's tree to ours: names found, types fitted.

use sqlparser::ast::{
    BinaryOperator, CeilFloorKind, DataType, DateTimeField, Expr, Function as Call, FunctionArg, FunctionArgExpr,
    FunctionArguments, Ident, InTarget, Spanned, UnaryOperator, Value,
};
use sqlparser::tokenizer::Span;

use super::parse::place;
use super::tree::{Arithmetic, Comparison, ExpressionNode, Function};
use super::{ExpressionError, Type};
use crate::value::{DateOrder, parse_date};

/// How deep the tree may be; chains of operators nest on the left.
const DEEPEST_TREE: usize = 150;

type TypedNode = Result<(ExpressionNode, Type), ExpressionError>;

/// Checks an expression against the columns there are.
pub(super) struct Checker<'a> {
    sql: &'a str,
    columns: &'a [(String, Type)],
    inputs: Vec<(String, Type)>,
    depth: usize,
}

impl<'a> Checker<'a> {
    pub fn new(sql: &'a str, columns: &'a [(String, Type)]) -> Self {
        Self { sql, columns, inputs: Vec::new(), depth: 0 }
    }

    /// The columns that were read, in order of first mention.
    pub fn into_inputs(self) -> Vec<(String, Type)> {
        self.inputs
    }

    fn error<T>(&self, span: Span, message: impl Into<String>) -> Result<T, ExpressionError> {
        let (from, to) = place(self.sql, span);
        Err(ExpressionError { message: message.into(), from, to })
    }

    /// The node and its type.
    pub fn check(&mut self, expr: &Expr) -> TypedNode {
        self.depth += 1;
        if self.depth > DEEPEST_TREE {
            return self.error(
                Span::empty(),
                "The expression nests too deep. Divide it into steps, each a column of its own.",
            );
        }
        let checked = self.node(expr);
        self.depth -= 1;
        checked
    }

    fn node(&mut self, expr: &Expr) -> TypedNode {
        match expr {
            Expr::Nested(inner) => self.check(inner),
            Expr::Identifier(name) => self.column(name),
            Expr::CompoundIdentifier(parts) if parts.len() > 1 => {
                // A name with a point in it, such as pet.age, need not be quoted.
                let joined = parts.iter().map(|p| p.value.as_str()).collect::<Vec<_>>().join(".");
                self.column(&Ident { value: joined, quote_style: None, span: expr.span() })
            }
            Expr::Value(value) => self.literal(&value.value, value.span),
            Expr::TypedString(typed) if typed.data_type == DataType::Date => {
                let text = typed.value.clone().into_string().unwrap_or_default();
                self.day(&text, typed.value.span)
            }
            Expr::UnaryOp { op: UnaryOperator::Minus, expr } => {
                let node = self.needed(expr, Type::Number)?;
                Ok((ExpressionNode::Minus(Box::new(node)), Type::Number))
            }
            Expr::UnaryOp { op: UnaryOperator::Plus, expr } => Ok((self.needed(expr, Type::Number)?, Type::Number)),
            Expr::UnaryOp { op: UnaryOperator::Not, expr } => {
                Ok((ExpressionNode::Not(Box::new(self.needed(expr, Type::Truth)?)), Type::Truth))
            }
            Expr::BinaryOp { left, op, right } => self.binary(left, op, right, expr),
            Expr::IsNull(inner) => Ok((ExpressionNode::IsMissing(Box::new(self.check(inner)?.0)), Type::Truth)),
            Expr::IsNotNull(inner) => {
                let missing = ExpressionNode::IsMissing(Box::new(self.check(inner)?.0));
                Ok((ExpressionNode::Not(Box::new(missing)), Type::Truth))
            }
            Expr::In { expr: inner, target: InTarget::List(list), negated, .. } => self.one_of(inner, list, *negated),
            Expr::Between { expr: inner, negated, low, high } => {
                let from = self.compared(inner, Comparison::GreaterOrEqual, low)?;
                let to = self.compared(inner, Comparison::LessOrEqual, high)?;
                Ok((negated_if(ExpressionNode::And(Box::new([from, to])), *negated), Type::Truth))
            }
            Expr::Like { negated, any: false, expr: inner, pattern, escape_char: None } => {
                let node = self.needed(inner, Type::Text)?;
                match self.check(pattern)? {
                    (ExpressionNode::Text(form), _) => Ok((negated_if(ExpressionNode::Like(Box::new(node), form), *negated), Type::Truth)),
                    _ => self.error(pattern.span(), "After LIKE stands a text in single quotes, such as 'A%'."),
                }
            }
            Expr::Case { operand, conditions, else_result, .. } => {
                let mut branches = Vec::new();
                for branch in conditions {
                    let condition = match operand {
                        Some(operand) => self.compared(operand, Comparison::Equal, &branch.condition)?,
                        None => self.needed(&branch.condition, Type::Truth)?,
                    };
                    branches.push((condition, &branch.result));
                }
                let results: Vec<&Expr> = branches.iter().map(|b| b.1).chain(else_result.as_deref()).collect();
                let (mut nodes, result) = self.alike(&results, "The results of a CASE")?;
                let last = if else_result.is_some() { nodes.pop() } else { None };
                let branches = branches.into_iter().map(|b| b.0).zip(nodes).collect();
                Ok((ExpressionNode::Case(branches, Box::new(last.unwrap_or(ExpressionNode::Missing(result)))), result))
            }
            Expr::Floor { expr: inner, field: CeilFloorKind::DateTimeField(DateTimeField::NoDateTime) } => {
                Ok((ExpressionNode::Call(Function::Floor, vec![self.needed(inner, Type::Number)?]), Type::Number))
            }
            Expr::Ceil { expr: inner, field: CeilFloorKind::DateTimeField(DateTimeField::NoDateTime) } => {
                Ok((ExpressionNode::Call(Function::Ceil, vec![self.needed(inner, Type::Number)?]), Type::Number))
            }
            Expr::Trim { trim_where: None, trim_what: None, expr: inner, trim_characters: None } => {
                Ok((ExpressionNode::Call(Function::Trim, vec![self.needed(inner, Type::Text)?]), Type::Text))
            }
            Expr::Extract { field, expr: inner, .. } => {
                let function = match field {
                    DateTimeField::Year => Function::Year,
                    DateTimeField::Month => Function::Month,
                    DateTimeField::Day => Function::DayOfMonth,
                    DateTimeField::Dow => Function::DayOfWeek,
                    other => {
                        return self.error(expr.span(), format!("“{other}” cannot be taken from a date; YEAR, MONTH, DAY and DOW (0 is Sunday) can."));
                    }
                };
                Ok((ExpressionNode::Call(function, vec![self.needed(inner, Type::Day)?]), Type::Number))
            }
            Expr::Function(call) => self.call(call, expr.span()),
            Expr::Subquery(_) | Expr::Exists { .. } | Expr::In { .. } => {
                self.error(expr.span(), "An expression looks at one customer at a time; it cannot hold a SELECT.")
            }
            other => self.error(other.span(), "This is not understood in an expression. Arithmetic, comparisons, AND, OR, NOT, IN, BETWEEN, LIKE, CASE and the functions listed below are."),
        }
    }

    fn column(&mut self, name: &Ident) -> TypedNode {
        let exact = self.columns.iter().find(|c| c.0 == name.value);
        let found = match exact {
            Some(found) => Some(found),
            None => {
                let mut alike = self.columns.iter().filter(|c| c.0.eq_ignore_ascii_case(&name.value));
                alike.next().filter(|_| alike.next().is_none())
            }
        };
        let Some((found, kind)) = found else {
            let nearest = self
                .columns
                .iter()
                .map(|c| (strsim::damerau_levenshtein(&c.0.to_lowercase(), &name.value.to_lowercase()), &c.0))
                .min()
                .filter(|(far, _)| *far <= name.value.chars().count().div_ceil(3));
            let hint = match (nearest, name.quote_style) {
                (Some((_, near)), _) => format!(" Perhaps {near}?"),
                (None, Some('"')) => " Text stands in single quotes; double ones are for names of columns.".into(),
                _ => String::new(),
            };
            return self.error(name.span, format!("There is no column “{}”.{hint}", name.value));
        };
        let at = self.inputs.iter().position(|i| i.0 == *found).unwrap_or_else(|| {
            self.inputs.push((found.clone(), *kind));
            self.inputs.len() - 1
        });
        Ok((ExpressionNode::Column(at), *kind))
    }

    fn literal(&self, value: &Value, span: Span) -> TypedNode {
        Ok(match value {
            Value::Number(text, _) => match text.parse::<f64>().ok().filter(|x| x.is_finite()) {
                Some(x) => (ExpressionNode::Number(x), Type::Number),
                None => return self.error(span, format!("“{text}” is too large for a number.")),
            },
            Value::SingleQuotedString(text) => (ExpressionNode::Text(text.clone()), Type::Text),
            Value::Boolean(b) => (ExpressionNode::Truth(*b), Type::Truth),
            Value::Null => (ExpressionNode::Missing(Type::Text), Type::Text),
            other => return self.error(span, format!("“{other}” is not understood; text stands in single quotes.")),
        })
    }

    fn day(&self, text: &str, span: Span) -> TypedNode {
        match parse_date(text, DateOrder::YearMonthDay) {
            Some(day) => Ok((ExpressionNode::Day(day), Type::Day)),
            None => self.error(span, format!("“{text}” is not a day; write it as '2024-03-31'.")),
        }
    }

    /// A node of the type that is needed; NULL is of any type, and text that is a day is one.
    fn needed(&mut self, expr: &Expr, kind: Type) -> Result<ExpressionNode, ExpressionError> {
        let (node, found) = self.check(expr)?;
        self.fitted(node, found, kind, expr)
    }

    fn fitted(
        &self,
        node: ExpressionNode,
        found: Type,
        kind: Type,
        expr: &Expr,
    ) -> Result<ExpressionNode, ExpressionError> {
        match node {
            ExpressionNode::Missing(_) => Ok(ExpressionNode::Missing(kind)),
            ExpressionNode::Text(text) if kind == Type::Day => self.day(&text, expr.span()).map(|d| d.0),
            node if found == kind => Ok(node),
            _ => self.error(expr.span(), format!("This is {}; {} is needed here.", found.word(), kind.word())),
        }
    }

    /// Nodes of one type.
    fn alike(&mut self, exprs: &[&Expr], what: &str) -> Result<(Vec<ExpressionNode>, Type), ExpressionError> {
        let checked = exprs.iter().map(|e| self.check(e)).collect::<Result<Vec<_>, _>>()?;
        let told = |c: &&(ExpressionNode, Type)| !matches!(c.0, ExpressionNode::Missing(_));
        // A day written as text is one beside a day.
        let day = checked.iter().any(|c| c.1 == Type::Day);
        let kind = if day { Type::Day } else { checked.iter().find(told).map_or(Type::Text, |c| c.1) };
        let mut nodes = Vec::new();
        for ((node, found), expr) in checked.into_iter().zip(exprs) {
            if !matches!(node, ExpressionNode::Missing(_) | ExpressionNode::Text(_)) && found != kind {
                return self.error(
                    expr.span(),
                    format!("{what} must be alike; this is {}, what stands before it {}.", found.word(), kind.word()),
                );
            }
            nodes.push(self.fitted(node, found, kind, expr)?);
        }
        Ok((nodes, kind))
    }

    fn compared(&mut self, left: &Expr, how: Comparison, right: &Expr) -> Result<ExpressionNode, ExpressionError> {
        let (nodes, _) = self.alike(&[left, right], "The two sides of a comparison")?;
        let [left, right]: [ExpressionNode; 2] = nodes.try_into().unwrap_or_else(|_| unreachable!("two were given"));
        Ok(ExpressionNode::Compare(how, Box::new([left, right])))
    }

    fn one_of(&mut self, inner: &Expr, list: &[Expr], negated: bool) -> TypedNode {
        let mut any = None;
        for one in list {
            let equal = self.compared(inner, Comparison::Equal, one)?;
            any = Some(match any {
                None => equal,
                Some(before) => ExpressionNode::Or(Box::new([before, equal])),
            });
        }
        Ok((negated_if(any.unwrap_or(ExpressionNode::Truth(false)), negated), Type::Truth))
    }

    fn binary(&mut self, left: &Expr, op: &BinaryOperator, right: &Expr, whole: &Expr) -> TypedNode {
        let comparison = match op {
            BinaryOperator::Eq => Some(Comparison::Equal),
            BinaryOperator::NotEq => Some(Comparison::Different),
            BinaryOperator::Lt => Some(Comparison::Less),
            BinaryOperator::LtEq => Some(Comparison::LessOrEqual),
            BinaryOperator::Gt => Some(Comparison::Greater),
            BinaryOperator::GtEq => Some(Comparison::GreaterOrEqual),
            _ => None,
        };
        if let Some(how) = comparison {
            return Ok((self.compared(left, how, right)?, Type::Truth));
        }
        let arithmetic = match op {
            BinaryOperator::And | BinaryOperator::Or => {
                let both = Box::new([self.needed(left, Type::Truth)?, self.needed(right, Type::Truth)?]);
                let node =
                    if *op == BinaryOperator::And { ExpressionNode::And(both) } else { ExpressionNode::Or(both) };
                return Ok((node, Type::Truth));
            }
            BinaryOperator::StringConcat => {
                let both = vec![self.needed(left, Type::Text)?, self.needed(right, Type::Text)?];
                return Ok((ExpressionNode::Call(Function::Concat, both), Type::Text));
            }
            BinaryOperator::Plus => Arithmetic::Plus,
            BinaryOperator::Minus => Arithmetic::Minus,
            BinaryOperator::Multiply => Arithmetic::Times,
            BinaryOperator::Divide => Arithmetic::Over,
            other => {
                return self.error(
                    whole.span(),
                    format!("The operator {other} is not understood; + − * / and comparisons are."),
                );
            }
        };
        let ((a, kind_a), (b, kind_b)) = (self.check(left)?, self.check(right)?);
        match (arithmetic, kind_a, kind_b) {
            (Arithmetic::Minus, Type::Day, _) if kind_b != Type::Number => {
                let b = self.fitted(b, kind_b, Type::Day, right)?;
                Ok((ExpressionNode::DaysBetween(Box::new([a, b])), Type::Number))
            }
            (Arithmetic::Plus, Type::Day, _) => {
                let b = self.fitted(b, kind_b, Type::Number, right)?;
                Ok((ExpressionNode::DaysLater(Box::new([a, b])), Type::Day))
            }
            (Arithmetic::Minus, Type::Day, Type::Number) => {
                Ok((ExpressionNode::DaysLater(Box::new([a, ExpressionNode::Minus(Box::new(b))])), Type::Day))
            }
            _ => {
                let a = self.fitted(a, kind_a, Type::Number, left)?;
                let b = self.fitted(b, kind_b, Type::Number, right)?;
                Ok((ExpressionNode::Arithmetic(arithmetic, Box::new([a, b])), Type::Number))
            }
        }
    }

    fn call(&mut self, call: &Call, span: Span) -> TypedNode {
        let name = call.name.to_string().to_uppercase();
        let Some(&(_, function, least, most)) = Function::NAMED.iter().find(|f| f.0 == name) else {
            let known: Vec<&str> = Function::NAMED.iter().map(|f| f.0).collect();
            return self.error(
                call.name.span(),
                format!("There is no function {name}; there are {}, TRIM and EXTRACT.", known.join(", ")),
            );
        };
        let refused = "The arguments of a function are expressions with commas between.";
        let plain = call.filter.is_none() && call.over.is_none() && call.within_group.is_empty();
        let FunctionArguments::List(list) = &call.args else { return self.error(span, refused) };
        if !plain || list.duplicate_treatment.is_some() || !list.clauses.is_empty() {
            return self.error(span, refused);
        }
        let mut args = Vec::new();
        for arg in &list.args {
            match arg {
                FunctionArg::Unnamed(FunctionArgExpr::Expr(expr)) => args.push(expr),
                _ => return self.error(span, refused),
            }
        }
        if !(least..=most).contains(&args.len()) {
            let wants = if least == most { format!("{least}") } else { format!("{least} or more") };
            return self.error(span, format!("{name} takes {wants} arguments; here are {}.", args.len()));
        }
        let (nodes, result) = match function {
            Function::Least | Function::Greatest | Function::Coalesce | Function::NullIf => {
                self.alike(&args, &format!("The arguments of {name}"))?
            }
            Function::Length => (vec![self.needed(args[0], Type::Text)?], Type::Number),
            Function::Lower | Function::Upper => (vec![self.needed(args[0], Type::Text)?], Type::Text),
            _ => (vec![self.needed(args[0], Type::Number)?], Type::Number),
        };
        Ok((ExpressionNode::Call(function, nodes), result))
    }
}

fn negated_if(node: ExpressionNode, negated: bool) -> ExpressionNode {
    if negated { ExpressionNode::Not(Box::new(node)) } else { node }
}
