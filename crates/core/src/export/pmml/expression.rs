//! Expressions as PMML has them.
//!
//! PMML is silent on conditions of which one part is missing, so that every condition is written as
//! one that is true or false: whether the expression is true, or whether it is false.

use super::super::definitions::WeightedSum;
use super::super::formula::ModelFormula;
use super::super::lookup::ValueLookup;
use super::super::refusal::Refusal;
use super::FORM;
use super::element::Element;
use pronoia_data::expression::{Arithmetic, Comparison, ExpressionNode, Function, Type};

/// What is written for one definition.
pub(super) struct PmmlExpressions<'f> {
    pub formula: &'f ModelFormula,
    /// What the definition is called, to name it in a refusal.
    pub column: &'f str,
}

/// The places that an expression needs.
pub(super) fn places(node: &ExpressionNode) -> Vec<usize> {
    let mut found = Vec::new();
    node.each(&mut |node| {
        if let ExpressionNode::Column(place) = node {
            found.push(*place);
        }
    });
    found
}

fn number(x: f64) -> Element {
    Element::constant("double", &x.to_string())
}

fn truth(is: bool) -> Element {
    Element::constant("boolean", if is { "true" } else { "false" })
}

fn missing(kind: Type) -> Element {
    let data_type = if kind == Type::Text { "string" } else { "double" };
    Element::constant(data_type, "").with("missing", "true")
}

fn apply(function: &str, arguments: impl IntoIterator<Item = Element>) -> Element {
    Element::apply(function).children(arguments)
}

/// A condition that is false where something that it needs is missing.
fn known(function: &str, arguments: impl IntoIterator<Item = Element>) -> Element {
    Element::apply(function).with("mapMissingTo", "false").children(arguments)
}

impl PmmlExpressions<'_> {
    fn refused<T>(&self, needs: &str) -> Result<T, Refusal> {
        Err(Refusal::Step { column: self.column.to_owned(), needs: needs.to_owned(), form: FORM })
    }

    /// A weighted sum.
    pub fn sum(&self, sum: &WeightedSum) -> Element {
        let term = |(place, weight): &(usize, f64)| {
            apply("*", [number(*weight), Element::field(self.formula.name_at(*place))])
        };
        let mut terms: Vec<Element> = std::iter::once(number(sum.constant)).chain(sum.terms.iter().map(term)).collect();
        // In pairs, so that a long sum is not a deep one.
        while terms.len() > 1 {
            let mut paired = Vec::with_capacity(terms.len().div_ceil(2));
            let mut left = terms.into_iter();
            while let Some(first) = left.next() {
                paired.push(match left.next() {
                    Some(second) => apply("+", [first, second]),
                    None => first,
                });
            }
            terms = paired;
        }
        let total = terms.pop().unwrap_or_else(|| number(0.0));
        if sum.rectified { apply("max", [total, number(0.0)]) } else { total }
    }

    /// The value of a node.
    pub fn value(&self, node: &ExpressionNode) -> Result<Element, Refusal> {
        if let Some(lookup) = ValueLookup::of(node)
            && let Some(table) = self.table(&lookup)
        {
            return Ok(table);
        }
        Ok(match node {
            ExpressionNode::Column(place) => Element::field(self.formula.name_at(*place)),
            ExpressionNode::Number(x) => number(*x),
            ExpressionNode::Text(text) => Element::constant("string", text),
            ExpressionNode::Missing(kind) => missing(*kind),
            ExpressionNode::Minus(inner) => apply("*", [number(-1.0), self.value(inner)?]),
            ExpressionNode::Arithmetic(Arithmetic::Over, pair) => {
                let [a, b] = self.both(pair)?;
                match pair[1] {
                    ExpressionNode::Number(x) if x != 0.0 => apply("/", [a, b]),
                    _ => {
                        let is_zero = known("equal", [b.clone(), number(0.0)]);
                        apply("if", [is_zero, missing(Type::Number), apply("/", [a, b])])
                    }
                }
            }
            ExpressionNode::Arithmetic(how, pair) => {
                let function = match how {
                    Arithmetic::Plus => "+",
                    Arithmetic::Minus => "-",
                    _ => "*",
                };
                apply(function, self.both(pair)?)
            }
            ExpressionNode::Case(branches, last) => {
                let mut value = self.value(last)?;
                for (condition, result) in branches.iter().rev() {
                    value = apply("if", [self.condition(condition, true)?, self.value(result)?, value]);
                }
                value
            }
            ExpressionNode::Call(function, arguments) => self.call(*function, arguments)?,
            _ => return self.refused("takes a condition for a value"),
        })
    }

    fn both(&self, pair: &[ExpressionNode; 2]) -> Result<[Element; 2], Refusal> {
        Ok([self.value(&pair[0])?, self.value(&pair[1])?])
    }

    /// A table of values; none where values are numbers.
    fn table(&self, lookup: &ValueLookup) -> Option<Element> {
        let text = |node: &ExpressionNode| match node {
            ExpressionNode::Number(x) => Some(x.to_string()),
            ExpressionNode::Text(text) => Some(text.clone()),
            _ => None,
        };
        let mut rows = Vec::new();
        for (key, result) in &lookup.entries {
            let ExpressionNode::Text(key) = key else { return None };
            let cells = [Element::with_text("key", key), Element::with_text("gives", &text(result)?)];
            rows.push(Element::new("row").children(cells));
        }
        if rows.is_empty() {
            return None;
        }
        let data_type = if matches!(lookup.entries[0].1, ExpressionNode::Number(_)) { "double" } else { "string" };
        let mut table = Element::new("MapValues").with("outputColumn", "gives").with("dataType", data_type);
        for (name, of) in [("mapMissingTo", lookup.missing), ("defaultValue", lookup.otherwise)] {
            if let Some(of) = text(of) {
                table = table.with(name, &of);
            }
        }
        let pair = Element::new("FieldColumnPair").with("field", self.formula.name_at(lookup.of)).with("column", "key");
        Some(table.child(pair).child(Element::new("InlineTable").children(rows)))
    }

    /// Whether a condition is true, or, unless `wanted`, whether it is false.
    pub fn condition(&self, node: &ExpressionNode, wanted: bool) -> Result<Element, Refusal> {
        Ok(match node {
            ExpressionNode::Truth(is) => truth(*is == wanted),
            ExpressionNode::Missing(_) => truth(false),
            ExpressionNode::Not(inner) => self.condition(inner, !wanted)?,
            ExpressionNode::And(pair) | ExpressionNode::Or(pair) => {
                let is_and = matches!(node, ExpressionNode::And(_)) == wanted;
                let parts = [self.condition(&pair[0], wanted)?, self.condition(&pair[1], wanted)?];
                apply(if is_and { "and" } else { "or" }, parts)
            }
            ExpressionNode::Compare(how, pair) => {
                let function = match (how, wanted) {
                    (Comparison::Equal, true) | (Comparison::Different, false) => "equal",
                    (Comparison::Different, true) | (Comparison::Equal, false) => "notEqual",
                    (Comparison::Less, true) | (Comparison::GreaterOrEqual, false) => "lessThan",
                    (Comparison::LessOrEqual, true) | (Comparison::Greater, false) => "lessOrEqual",
                    (Comparison::Greater, true) | (Comparison::LessOrEqual, false) => "greaterThan",
                    (Comparison::GreaterOrEqual, true) | (Comparison::Less, false) => "greaterOrEqual",
                };
                known(function, self.both(pair)?)
            }
            ExpressionNode::IsMissing(inner) => {
                apply(if wanted { "isMissing" } else { "isNotMissing" }, [self.value(inner)?])
            }
            ExpressionNode::OneOf(_, constants) if constants.is_empty() && wanted => truth(false),
            ExpressionNode::OneOf(inner, constants) => {
                let mut arguments = vec![self.value(inner)?];
                for constant in constants {
                    arguments.push(self.value(constant)?);
                }
                known(if wanted { "isIn" } else { "isNotIn" }, arguments)
            }
            ExpressionNode::Like(inner, form) => {
                let matches = known("matches", [self.value(inner)?, Element::constant("string", &pattern(form))]);
                match wanted {
                    true => matches,
                    false => apply("and", [apply("isNotMissing", [self.value(inner)?]), apply("not", [matches])]),
                }
            }
            ExpressionNode::Case(branches, last) => {
                let mut condition = self.condition(last, wanted)?;
                for (when, then) in branches.iter().rev() {
                    condition = apply("if", [self.condition(when, true)?, self.condition(then, wanted)?, condition]);
                }
                condition
            }
            _ => return self.refused("calls a function on conditions"),
        })
    }

    fn call(&self, function: Function, arguments: &[ExpressionNode]) -> Result<Element, Refusal> {
        let mut values = Vec::new();
        for argument in arguments {
            values.push(self.value(argument)?);
        }
        let first = values[0].clone();
        // What has no value is missing rather than an error, and so is what is worked out from nothing.
        let guarded = |condition: Element, name: &str| {
            apply("if", [condition, apply(name, [first.clone()]), missing(Type::Number)])
        };
        let present = |name: &str, kind: Type| {
            let there = apply("isNotMissing", [first.clone()]);
            apply("if", [there, apply(name, [first.clone()]), missing(kind)])
        };
        Ok(match function {
            Function::Abs => present("abs", Type::Number),
            Function::Floor => present("floor", Type::Number),
            Function::Ceil => present("ceil", Type::Number),
            Function::Sqrt => guarded(known("greaterOrEqual", [first.clone(), number(0.0)]), "sqrt"),
            Function::Ln => guarded(known("greaterThan", [first.clone(), number(0.0)]), "ln"),
            Function::Exp => guarded(known("lessThan", [first.clone(), number(709.0)]), "exp"),
            // They pass over what is missing.
            Function::Least => apply("min", values),
            Function::Greatest => apply("max", values),
            Function::Coalesce => {
                let last = values.pop().unwrap_or(first);
                values
                    .into_iter()
                    .rev()
                    .fold(last, |after, value| apply("if", [apply("isNotMissing", [value.clone()]), value, after]))
            }
            Function::NullIf => {
                let kind = if matches!(arguments[1], ExpressionNode::Text(_)) { Type::Text } else { Type::Number };
                apply("if", [known("equal", [first.clone(), values[1].clone()]), missing(kind), first])
            }
            Function::Length => present("stringLength", Type::Number),
            Function::Lower => present("lowercase", Type::Text),
            Function::Upper => present("uppercase", Type::Text),
            Function::Trim => present("trimBlanks", Type::Text),
            Function::Concat => {
                let there = values.iter().map(|value| apply("isNotMissing", [value.clone()]));
                apply("if", [apply("and", there), apply("concat", values.clone()), missing(Type::Text)])
            }
            Function::Round | Function::Year | Function::Month | Function::DayOfMonth | Function::DayOfWeek => {
                return self.refused("was not written as arithmetic");
            }
        })
    }
}

/// A form with `%` and `_` as a regular expression.
fn pattern(form: &str) -> String {
    let mut pattern = String::from("^");
    let mut letters = form.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '%' => pattern.push_str("(?s:.*)"),
            '_' => pattern.push_str("(?s:.)"),
            '\\' => literal(letters.next().unwrap_or('\\'), &mut pattern),
            letter => literal(letter, &mut pattern),
        }
    }
    pattern + "$"
}

fn literal(letter: char, to: &mut String) {
    if !letter.is_alphanumeric() && letter.is_ascii() {
        to.push('\\');
    }
    to.push(letter);
}
