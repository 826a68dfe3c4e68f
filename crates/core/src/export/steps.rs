//! The steps of a preparation as definitions.

use std::collections::HashMap;

use super::civil_date;
use super::definitions::{Bound, Definitions};
use super::nodes::{call, compare, minus, number, over, plus, times};
use super::refusal::Refusal;
use pronoia_data::Kind;
use pronoia_data::expression::{Comparison, Expression, ExpressionNode, Function, Type};
use pronoia_learn::prepare::{FittedStep, OTHER, Preparation, TypedValue, band_labels, read_as};

/// Where the columns of the analyst stand after the steps.
pub(super) fn stepped(made: &mut Definitions, preparation: &Preparation) -> Result<HashMap<String, Bound>, Refusal> {
    let mut columns = StepColumns { bound: made.bound(), kinds: HashMap::new() };
    for input in &preparation.inputs {
        columns.kinds.insert(input.name.clone(), input.kind);
    }
    for step in &preparation.steps {
        columns.take(made, step)?;
    }
    Ok(columns.bound)
}

/// The columns as the steps so far left them.
struct StepColumns {
    bound: HashMap<String, Bound>,
    kinds: HashMap<String, Kind>,
}

impl StepColumns {
    fn at(&self, name: &str) -> Result<Bound, Refusal> {
        let missing = || Refusal::Columns(format!("The column “{name}” is missing, and the model needs it."));
        self.bound.get(name).copied().ok_or_else(missing)
    }

    fn put(&mut self, name: &str, kind: Kind, bound: Bound) {
        self.bound.insert(name.to_owned(), bound);
        self.kinds.insert(name.to_owned(), kind);
    }

    fn take(&mut self, made: &mut Definitions, step: &FittedStep) -> Result<(), Refusal> {
        match step {
            FittedStep::Derive { name, expression } => {
                let (bound, kind) = self.derived(made, name, expression)?;
                self.put(name, kind, bound);
            }
            FittedStep::Fill { column, value, flag } => self.fill(made, column, value, *flag)?,
            FittedStep::Cap { column, low, high } => {
                let x = self.at(column)?.column();
                let mut branches = Vec::new();
                if *low > f64::MIN {
                    branches.push((compare(Comparison::Less, x.clone(), number(*low)), number(*low)));
                }
                if *high < f64::MAX {
                    branches.push((compare(Comparison::Greater, x.clone(), number(*high)), number(*high)));
                }
                let capped = if branches.is_empty() { x } else { ExpressionNode::Case(branches, Box::new(x)) };
                self.number(made, column, "capped", capped);
            }
            FittedStep::Log { column } => {
                let x = self.at(column)?.column();
                let node = by_sign(
                    &x,
                    call(Function::Ln, plus(number(1.0), x.clone())),
                    ExpressionNode::Minus(Box::new(call(Function::Ln, minus(number(1.0), x.clone())))),
                );
                self.number(made, column, "logarithm", node);
            }
            FittedStep::Power { column, lambda } => {
                let x = self.at(column)?.column();
                let above = power(plus(number(1.0), x.clone()), *lambda);
                let below = ExpressionNode::Minus(Box::new(power(minus(number(1.0), x.clone()), 2.0 - lambda)));
                self.number(made, column, "power", by_sign(&x, above, below));
            }
            FittedStep::AsCode { column } => {
                let place = self.at(column)?.place();
                self.put(column, Kind::Code, Bound::Digits(place));
            }
            FittedStep::Encode { column, encoded, .. } => {
                let at = self.at(column)?;
                let of = |(value, stands_for): (&String, &f64)| (at.is_one_of([value.as_str()]), number(*stands_for));
                let branches = std::iter::once((at.is_missing(), number(encoded.missing)));
                let branches = branches.chain(encoded.values.iter().map(of)).collect();
                let node = ExpressionNode::Case(branches, Box::new(number(encoded.other)));
                self.number(made, column, "encoded", node);
            }
            FittedStep::Ordered { column, order } => {
                let at = self.at(column)?;
                let of = |(rank, value): (usize, &String)| (at.is_one_of([value.as_str()]), number((rank + 1) as f64));
                let branches = order.iter().enumerate().map(of).collect();
                self.number(
                    made,
                    column,
                    "rank",
                    ExpressionNode::Case(branches, Box::new(ExpressionNode::Missing(Type::Number))),
                );
            }
            FittedStep::Standardise { column, mean, sd } => {
                let x = self.at(column)?.column();
                self.number(made, column, "standardised", over(minus(x, number(*mean)), number(*sd)));
            }
            FittedStep::Bands { column, edges, least, whole } => {
                let at = self.at(column)?;
                let labels = band_labels(edges, *least, *whole);
                let mut branches = vec![(at.is_missing(), ExpressionNode::Missing(Type::Text))];
                branches.extend(edges.iter().zip(&labels).map(|(edge, label)| {
                    (compare(Comparison::LessOrEqual, at.column(), number(*edge)), ExpressionNode::Text(label.clone()))
                }));
                let last = ExpressionNode::Text(labels.last().cloned().unwrap_or_default());
                self.text(made, column, "band", Kind::Ordered, ExpressionNode::Case(branches, Box::new(last)));
            }
            FittedStep::GroupRare { column, kept } => {
                let at = self.at(column)?;
                let kind = self.kinds.get(column).copied().unwrap_or(Kind::Category);
                let mut branches = vec![(at.is_missing(), ExpressionNode::Missing(Type::Text))];
                let text = |value: &String| (at.is_one_of([value.as_str()]), ExpressionNode::Text(value.clone()));
                branches.extend(kept.iter().map(text));
                let node = ExpressionNode::Case(branches, Box::new(ExpressionNode::Text(OTHER.into())));
                self.text(made, column, "grouped", kind, node);
            }
        }
        Ok(())
    }

    fn number(&mut self, made: &mut Definitions, column: &str, what: &str, node: ExpressionNode) {
        let place = made.number(&format!("{column}_{what}"), node);
        self.put(column, Kind::Number, Bound::At(place));
    }

    fn text(&mut self, made: &mut Definitions, column: &str, what: &str, kind: Kind, node: ExpressionNode) {
        let place = made.text(&format!("{column}_{what}"), node);
        self.put(column, kind, Bound::At(place));
    }

    fn fill(&mut self, made: &mut Definitions, column: &str, value: &str, flag: bool) -> Result<(), Refusal> {
        let at = self.at(column)?;
        let kind = self.kinds.get(column).copied().unwrap_or(Kind::Category);
        let constant = match read_as(value, kind) {
            Some(TypedValue::Number(x)) => Some(number(x)),
            Some(TypedValue::Day(day)) => Some(number(f64::from(day))),
            Some(TypedValue::Word(word)) => Some(at.constant(&word).ok_or_else(|| Refusal::Step {
                column: column.to_owned(),
                needs: format!("is a number read as a code, and filled with “{word}”, which is no number"),
                form: "a formula",
            })?),
            None => None,
        };
        if let Some(constant) = constant {
            let node = ExpressionNode::Case(vec![(at.is_missing(), constant)], Box::new(at.column()));
            let hint = format!("{column}_filled");
            let bound = match (kind, at) {
                (_, Bound::Digits(_)) => Bound::Digits(made.number(&hint, node)),
                (Kind::Number | Kind::Date, _) => Bound::At(made.number(&hint, node)),
                _ => Bound::At(made.text(&hint, node)),
            };
            self.put(column, kind, bound);
        }
        if flag {
            let name = format!("{column} was missing");
            let node = ExpressionNode::Case(vec![(at.is_missing(), yes())], Box::new(no()));
            let place = made.text(&name, node);
            self.put(&name, Kind::YesNo, Bound::At(place));
        }
        Ok(())
    }

    /// A column made by an expression.
    fn derived(&self, made: &mut Definitions, name: &str, expression: &Expression) -> Result<(Bound, Kind), Refusal> {
        let (node, inputs) = expression.parts();
        let mut places = Vec::new();
        for (input, _) in inputs {
            match self.at(input)? {
                Bound::At(place) => places.push(place),
                Bound::Digits(_) => {
                    return Err(Refusal::Step {
                        column: name.to_owned(),
                        needs: format!("reads the text of “{input}”, which is a number read as a code"),
                        form: "a formula",
                    });
                }
            }
        }
        let node = placed(made, node, &places);
        Ok(match expression.result() {
            Type::Number => (Bound::At(made.number(name, node)), Kind::Number),
            Type::Day => (Bound::At(made.number(name, node)), Kind::Date),
            Type::Text => (Bound::At(made.text(name, node)), Kind::Category),
            Type::Truth => {
                let branches = vec![(node.clone(), yes()), (ExpressionNode::Not(Box::new(node)), no())];
                let node = ExpressionNode::Case(branches, Box::new(ExpressionNode::Missing(Type::Text)));
                (Bound::At(made.text(name, node)), Kind::YesNo)
            }
        })
    }
}

fn yes() -> ExpressionNode {
    ExpressionNode::Text("yes".into())
}

fn no() -> ExpressionNode {
    ExpressionNode::Text("no".into())
}

/// One of two numbers by the sign of `x`.
fn by_sign(x: &ExpressionNode, above: ExpressionNode, below: ExpressionNode) -> ExpressionNode {
    ExpressionNode::Case(vec![(compare(Comparison::Less, x.clone(), number(0.0)), below)], Box::new(above))
}

/// The power transform of a number of at least 1.
fn power(of: ExpressionNode, exponent: f64) -> ExpressionNode {
    let logarithm = call(Function::Ln, of);
    if exponent.abs() < 1e-12 {
        return logarithm;
    }
    let raised = call(Function::Exp, times(number(exponent), logarithm));
    over(minus(raised, number(1.0)), number(exponent))
}

/// The node with its columns at their places, and days as numbers.
fn placed(made: &mut Definitions, node: &ExpressionNode, places: &[usize]) -> ExpressionNode {
    let mut of = |node: &ExpressionNode| placed(made, node, places);
    let mut both = |pair: &[ExpressionNode; 2]| Box::new([of(&pair[0]), of(&pair[1])]);
    match node {
        ExpressionNode::Column(at) => ExpressionNode::Column(places[*at]),
        ExpressionNode::Day(day) => number(f64::from(*day)),
        ExpressionNode::Missing(Type::Day) => ExpressionNode::Missing(Type::Number),
        ExpressionNode::Number(_) | ExpressionNode::Text(_) | ExpressionNode::Truth(_) | ExpressionNode::Missing(_) => {
            node.clone()
        }
        ExpressionNode::Arithmetic(how, pair) => ExpressionNode::Arithmetic(*how, both(pair)),
        ExpressionNode::Minus(inner) => ExpressionNode::Minus(Box::new(of(inner))),
        ExpressionNode::DaysBetween(pair) => {
            let [later, earlier] = *both(pair);
            minus(later, earlier)
        }
        ExpressionNode::DaysLater(pair) => {
            let [day, days] = *both(pair);
            plus(day, civil_date::rounded(made, days))
        }
        ExpressionNode::Compare(how, pair) => ExpressionNode::Compare(*how, both(pair)),
        ExpressionNode::And(pair) => ExpressionNode::And(both(pair)),
        ExpressionNode::Or(pair) => ExpressionNode::Or(both(pair)),
        ExpressionNode::Not(inner) => ExpressionNode::Not(Box::new(of(inner))),
        ExpressionNode::IsMissing(inner) => ExpressionNode::IsMissing(Box::new(of(inner))),
        ExpressionNode::OneOf(inner, constants) => {
            ExpressionNode::OneOf(Box::new(of(inner)), constants.iter().map(&mut of).collect())
        }
        ExpressionNode::Like(inner, form) => ExpressionNode::Like(Box::new(of(inner)), form.clone()),
        ExpressionNode::Case(branches, last) => {
            let branches = branches.iter().map(|(condition, result)| (of(condition), of(result))).collect();
            ExpressionNode::Case(branches, Box::new(of(last)))
        }
        ExpressionNode::Call(function, arguments) => {
            let mut arguments: Vec<ExpressionNode> = arguments.iter().map(of).collect();
            match function {
                Function::Year | Function::Month | Function::DayOfMonth | Function::DayOfWeek => {
                    civil_date::part(made, *function, arguments.remove(0))
                }
                Function::Round => civil_date::rounded(made, arguments.remove(0)),
                _ => ExpressionNode::Call(*function, arguments),
            }
        }
    }
}
