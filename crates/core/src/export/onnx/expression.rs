//! Expressions as operators.

use super::super::formula::ModelFormula;
use super::super::lookup::ValueLookup;
use super::super::refusal::Refusal;
use super::FORM;
use super::graph::Graph;
use super::proto::TensorProto;
use pronoia_data::expression::{Arithmetic, Comparison, ExpressionNode, Function, Type};

/// What is written for one definition.
pub(super) struct OnnxExpressions<'a> {
    pub formula: &'a ModelFormula,
    /// What the definition is called, to name it in a refusal.
    pub column: &'a str,
    /// The tensor at every place.
    pub places: &'a [String],
    pub graph: &'a mut Graph,
}

impl OnnxExpressions<'_> {
    fn refused<T>(&self, needs: &str) -> Result<T, Refusal> {
        Err(Refusal::Step { column: self.column.to_owned(), needs: needs.to_owned(), form: FORM })
    }

    /// The tensor of a definition, with a value for every customer.
    pub fn definition(&mut self, node: &ExpressionNode) -> Result<String, Refusal> {
        let mut reads = false;
        node.each(&mut |node| reads |= matches!(node, ExpressionNode::Column(_)));
        let value = self.value(node)?;
        Ok(if reads { value } else { self.graph.for_everybody(&value) })
    }

    fn is_text(&self, node: &ExpressionNode) -> bool {
        match node {
            ExpressionNode::Column(place) => self.formula.type_at(*place) == Type::Text,
            ExpressionNode::Text(_) => true,
            ExpressionNode::Missing(kind) => *kind == Type::Text,
            ExpressionNode::Case(branches, last) => {
                branches.iter().map(|b| &b.1).chain([&**last]).any(|node| self.is_text(node))
            }
            ExpressionNode::Call(function, arguments) => match function {
                Function::Lower | Function::Upper | Function::Trim | Function::Concat => true,
                Function::Least | Function::Greatest | Function::Coalesce | Function::NullIf => {
                    arguments.iter().any(|node| self.is_text(node))
                }
                _ => false,
            },
            _ => false,
        }
    }

    fn missing(&mut self, is_text: bool) -> String {
        match is_text {
            true => self.graph.constant(TensorProto::text("")),
            false => self.graph.number(f64::NAN),
        }
    }

    /// The value of a node; missing as NaN or empty.
    fn value(&mut self, node: &ExpressionNode) -> Result<String, Refusal> {
        if let Some(lookup) = ValueLookup::of(node)
            && let Some(table) = self.table(&lookup)
        {
            return Ok(table);
        }
        Ok(match node {
            ExpressionNode::Column(place) => self.places[*place].clone(),
            ExpressionNode::Number(x) => self.graph.number(*x),
            ExpressionNode::Text(text) => self.graph.constant(TensorProto::text(text)),
            ExpressionNode::Missing(kind) => self.missing(*kind == Type::Text),
            ExpressionNode::Minus(inner) => {
                let inner = self.value(inner)?;
                self.graph.add("Neg", &[&inner])
            }
            ExpressionNode::Arithmetic(how, pair) => {
                let [a, b] = self.both(pair)?;
                let operator = match how {
                    Arithmetic::Plus => "Add",
                    Arithmetic::Minus => "Sub",
                    Arithmetic::Times => "Mul",
                    Arithmetic::Over => "Div",
                };
                let value = self.graph.add(operator, &[&a, &b]);
                match (how, &pair[1]) {
                    (Arithmetic::Over, ExpressionNode::Number(x)) if *x != 0.0 => value,
                    (Arithmetic::Over, _) => {
                        let nothing = self.graph.number(0.0);
                        let is_zero = self.graph.add("Equal", &[&b, &nothing]);
                        let missing = self.missing(false);
                        self.graph.add("Where", &[&is_zero, &missing, &value])
                    }
                    _ => value,
                }
            }
            ExpressionNode::Case(branches, last) => {
                let mut value = self.value(last)?;
                for (condition, result) in branches.iter().rev() {
                    let condition = self.condition(condition, true)?;
                    let result = self.value(result)?;
                    value = self.graph.add("Where", &[&condition, &result, &value]);
                }
                value
            }
            ExpressionNode::Call(function, arguments) => self.call(*function, arguments)?,
            _ => return self.refused("takes a condition for a value"),
        })
    }

    fn both(&mut self, pair: &[ExpressionNode; 2]) -> Result<[String; 2], Refusal> {
        Ok([self.value(&pair[0])?, self.value(&pair[1])?])
    }

    /// Numbers looked up by text; none for anything else.
    fn table(&mut self, lookup: &ValueLookup) -> Option<String> {
        let number = |node: &ExpressionNode| match node {
            ExpressionNode::Number(x) => Some(*x),
            ExpressionNode::Missing(Type::Number) => Some(f64::NAN),
            _ => None,
        };
        let mut keys: Vec<&str> = Vec::new();
        let mut numbers = Vec::new();
        for (key, result) in &lookup.entries {
            let ExpressionNode::Text(key) = key else { return None };
            // Of two entries of one value the first holds.
            if !keys.contains(&key.as_str()) {
                keys.push(key);
                numbers.push(number(result)?);
            }
        }
        if keys.is_empty() {
            return None;
        }
        numbers.extend([number(lookup.missing)?, number(lookup.otherwise)?]);
        let codes = self.graph.code(&self.places[lookup.of], keys);
        Some(self.graph.rows(&codes, numbers, 1))
    }

    /// Whether a condition is true, or, unless `wanted`, whether it is false.
    fn condition(&mut self, node: &ExpressionNode, wanted: bool) -> Result<String, Refusal> {
        Ok(match node {
            ExpressionNode::Truth(is) => self.truth(*is == wanted),
            ExpressionNode::Missing(_) => self.truth(false),
            ExpressionNode::Not(inner) => self.condition(inner, !wanted)?,
            ExpressionNode::And(pair) | ExpressionNode::Or(pair) => {
                let is_and = matches!(node, ExpressionNode::And(_)) == wanted;
                let (a, b) = (self.condition(&pair[0], wanted)?, self.condition(&pair[1], wanted)?);
                self.graph.add(if is_and { "And" } else { "Or" }, &[&a, &b])
            }
            ExpressionNode::Compare(how, pair) => self.compared(*how, pair, wanted)?,
            ExpressionNode::IsMissing(inner) => {
                let is_missing = match self.is_text(inner) {
                    true => self.is_one_of(inner, &[""])?,
                    false => {
                        let inner = self.value(inner)?;
                        self.graph.add("IsNaN", &[&inner])
                    }
                };
                if wanted { is_missing } else { self.graph.add("Not", &[&is_missing]) }
            }
            ExpressionNode::OneOf(inner, constants) => {
                let texts = constants.iter().filter_map(|node| match node {
                    ExpressionNode::Text(text) => Some(text.as_str()),
                    _ => None,
                });
                let is = match self.is_text(inner) {
                    true => self.is_one_of(inner, &texts.collect::<Vec<_>>())?,
                    false => {
                        let value = self.value(inner)?;
                        let mut any = self.truth(false);
                        for constant in constants {
                            let constant = self.value(constant)?;
                            let is = self.graph.add("Equal", &[&value, &constant]);
                            any = self.graph.add("Or", &[&any, &is]);
                        }
                        any
                    }
                };
                if wanted { is } else { self.known_but_not(&is, &[inner])? }
            }
            ExpressionNode::Like(..) => return self.refused("compares text with a form (LIKE)"),
            ExpressionNode::Case(branches, last) => {
                let mut value = self.condition(last, wanted)?;
                for (when, then) in branches.iter().rev() {
                    let (when, then) = (self.condition(when, true)?, self.condition(then, wanted)?);
                    // Where does not choose between truths everywhere; logic does.
                    let taken = self.graph.add("And", &[&when, &then]);
                    let passed = self.graph.add("Not", &[&when]);
                    let passed = self.graph.add("And", &[&passed, &value]);
                    value = self.graph.add("Or", &[&taken, &passed]);
                }
                value
            }
            _ => return self.refused("calls a function on conditions"),
        })
    }

    fn truth(&mut self, is: bool) -> String {
        let [one, two] = [0.0, if is { 1.0 } else { 0.0 }].map(|x| self.graph.number(x));
        self.graph.add("Less", &[&one, &two])
    }

    /// Whether text is one of these.
    fn is_one_of(&mut self, text: &ExpressionNode, texts: &[&str]) -> Result<String, Refusal> {
        let mut keys: Vec<&str> = texts.to_vec();
        keys.sort_unstable();
        keys.dedup();
        // Missing text has a code of its own, unless it is what is asked for.
        let last = if keys == [""] { 0 } else { keys.len() as i64 - 1 };
        keys.retain(|key| !key.is_empty());
        let value = self.value(text)?;
        let codes = self.graph.code(&value, keys);
        let last = self.graph.constant(TensorProto::ints(&[1, 1], vec![last]));
        Ok(self.graph.add("LessOrEqual", &[&codes, &last]))
    }

    /// Where nothing is missing, and yet it is not so.
    fn known_but_not(&mut self, is: &str, needs: &[&ExpressionNode]) -> Result<String, Refusal> {
        let mut known = self.graph.add("Not", &[is]);
        for node in needs {
            let there = self.condition(&ExpressionNode::IsMissing(Box::new((*node).clone())), false)?;
            known = self.graph.add("And", &[&known, &there]);
        }
        Ok(known)
    }

    fn compared(&mut self, how: Comparison, pair: &[ExpressionNode; 2], wanted: bool) -> Result<String, Refusal> {
        let is_equality = matches!(how, Comparison::Equal | Comparison::Different);
        if self.is_text(&pair[0]) || self.is_text(&pair[1]) {
            return match pair {
                _ if !is_equality => self.refused("puts text in order"),
                [value, ExpressionNode::Text(text)] | [ExpressionNode::Text(text), value] => {
                    let is = self.is_one_of(value, &[text])?;
                    match (how == Comparison::Equal) == wanted {
                        true => Ok(is),
                        false => self.known_but_not(&is, &[value]),
                    }
                }
                _ => {
                    let [a, b] = self.both(pair)?;
                    let alike = self.graph.add("Equal", &[&a, &b]);
                    // Missing text is empty on both sides, and yet not alike.
                    let is_missing = ExpressionNode::IsMissing(Box::new(pair[0].clone()));
                    match (how == Comparison::Equal) == wanted {
                        true => {
                            let there = self.condition(&is_missing, false)?;
                            Ok(self.graph.add("And", &[&alike, &there]))
                        }
                        false => self.known_but_not(&alike, &[&pair[0], &pair[1]]),
                    }
                }
            };
        }
        let [a, b] = self.both(pair)?;
        if is_equality {
            let is = self.graph.add("Equal", &[&a, &b]);
            return match (how == Comparison::Equal) == wanted {
                true => Ok(is),
                false => self.known_but_not(&is, &[&pair[0], &pair[1]]),
            };
        }
        // What is not a number is in no order, so that a missing value makes each of these false.
        let operator = match (how, wanted) {
            (Comparison::Less, true) | (Comparison::GreaterOrEqual, false) => "Less",
            (Comparison::LessOrEqual, true) | (Comparison::Greater, false) => "LessOrEqual",
            (Comparison::Greater, true) | (Comparison::LessOrEqual, false) => "Greater",
            _ => "GreaterOrEqual",
        };
        Ok(self.graph.add(operator, &[&a, &b]))
    }

    fn call(&mut self, function: Function, arguments: &[ExpressionNode]) -> Result<String, Refusal> {
        let is_text = arguments.iter().any(|node| self.is_text(node));
        let mut values = Vec::new();
        for argument in arguments {
            values.push(self.value(argument)?);
        }
        let first = values[0].clone();
        Ok(match function {
            Function::Abs => self.graph.add("Abs", &[&first]),
            Function::Floor => self.graph.add("Floor", &[&first]),
            Function::Ceil => self.graph.add("Ceil", &[&first]),
            // The root of what is negative is not a number.
            Function::Sqrt => self.graph.add("Sqrt", &[&first]),
            Function::Ln => self.guarded("Greater", 0.0, "Log", &first),
            Function::Exp => self.guarded("Less", 709.0, "Exp", &first),
            Function::Least | Function::Greatest if !is_text => {
                let operator = if function == Function::Least { "LessOrEqual" } else { "GreaterOrEqual" };
                let mut best = first;
                for value in &values[1..] {
                    let better = self.graph.add(operator, &[&best, value]);
                    let other_missing = self.graph.add("IsNaN", &[value]);
                    let stays = self.graph.add("Or", &[&better, &other_missing]);
                    best = self.graph.add("Where", &[&stays, &best, value]);
                }
                best
            }
            Function::Coalesce => {
                let mut after = values[values.len() - 1].clone();
                for (argument, value) in arguments.iter().zip(&values).rev().skip(1) {
                    let is_missing = self.condition(&ExpressionNode::IsMissing(Box::new(argument.clone())), true)?;
                    after = self.graph.add("Where", &[&is_missing, &after, value]);
                }
                after
            }
            Function::NullIf => {
                let pair = [arguments[0].clone(), arguments[1].clone()];
                let is = self.compared(Comparison::Equal, &pair, true)?;
                let missing = self.missing(is_text);
                self.graph.add("Where", &[&is, &missing, &first])
            }
            Function::Concat => {
                let joined = self.graph.add("StringConcat", &[&first, &values[1]]);
                let mut nothing = self.condition(&ExpressionNode::IsMissing(Box::new(arguments[0].clone())), true)?;
                let other = self.condition(&ExpressionNode::IsMissing(Box::new(arguments[1].clone())), true)?;
                nothing = self.graph.add("Or", &[&nothing, &other]);
                let missing = self.missing(true);
                self.graph.add("Where", &[&nothing, &missing, &joined])
            }
            Function::Length | Function::Lower | Function::Upper | Function::Trim => {
                return self.refused("works on the letters of text");
            }
            _ => return self.refused("works on text in a way"),
        })
    }

    /// A function where its argument is in range, missing elsewhere.
    fn guarded(&mut self, operator: &str, limit: f64, function: &str, of: &str) -> String {
        let limit = self.graph.number(limit);
        let in_range = self.graph.add(operator, &[of, &limit]);
        let value = self.graph.add(function, &[of]);
        let missing = self.missing(false);
        self.graph.add("Where", &[&in_range, &value, &missing])
    }
}
