//! The steps of a preparation as definitions.

use std::collections::HashMap;

use super::civil;
use super::definitions::{Bound, Definitions};
use super::nodes::{call, compare, minus, number, over, plus, times};
use super::refusal::Refusal;
use pronoia_data::Kind;
use pronoia_data::expression::{Comparison, Expression, Function, Node, Type};
use pronoia_learn::prepare::{FittedStep, OTHER, Preparation, Typed, band_labels, read_as};

/// Where the columns of the analyst stand after the steps.
pub(super) fn stepped(made: &mut Definitions, preparation: &Preparation) -> Result<HashMap<String, Bound>, Refusal> {
    let mut columns = Columns { bound: made.bound(), kinds: HashMap::new() };
    for input in &preparation.inputs {
        columns.kinds.insert(input.name.clone(), input.kind);
    }
    for step in &preparation.steps {
        columns.take(made, step)?;
    }
    Ok(columns.bound)
}

/// The columns as the steps so far left them.
struct Columns {
    bound: HashMap<String, Bound>,
    kinds: HashMap<String, Kind>,
}

impl Columns {
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
                let capped = if branches.is_empty() { x } else { Node::Case(branches, Box::new(x)) };
                self.number(made, column, "capped", capped);
            }
            FittedStep::Log { column } => {
                let x = self.at(column)?.column();
                let node = by_sign(
                    &x,
                    call(Function::Ln, plus(number(1.0), x.clone())),
                    Node::Minus(Box::new(call(Function::Ln, minus(number(1.0), x.clone())))),
                );
                self.number(made, column, "logarithm", node);
            }
            FittedStep::Power { column, lambda } => {
                let x = self.at(column)?.column();
                let above = power(plus(number(1.0), x.clone()), *lambda);
                let below = Node::Minus(Box::new(power(minus(number(1.0), x.clone()), 2.0 - lambda)));
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
                let node = Node::Case(branches, Box::new(number(encoded.other)));
                self.number(made, column, "encoded", node);
            }
            FittedStep::Ordered { column, order } => {
                let at = self.at(column)?;
                let of = |(rank, value): (usize, &String)| (at.is_one_of([value.as_str()]), number((rank + 1) as f64));
                let branches = order.iter().enumerate().map(of).collect();
                self.number(made, column, "rank", Node::Case(branches, Box::new(Node::Missing(Type::Number))));
            }
            FittedStep::Standardise { column, mean, sd } => {
                let x = self.at(column)?.column();
                self.number(made, column, "standardised", over(minus(x, number(*mean)), number(*sd)));
            }
            FittedStep::Bands { column, edges, least, whole } => {
                let at = self.at(column)?;
                let labels = band_labels(edges, *least, *whole);
                let mut branches = vec![(at.is_missing(), Node::Missing(Type::Text))];
                branches.extend(edges.iter().zip(&labels).map(|(edge, label)| {
                    (compare(Comparison::LessOrEqual, at.column(), number(*edge)), Node::Text(label.clone()))
                }));
                let last = Node::Text(labels.last().cloned().unwrap_or_default());
                self.text(made, column, "band", Kind::Ordered, Node::Case(branches, Box::new(last)));
            }
            FittedStep::GroupRare { column, kept } => {
                let at = self.at(column)?;
                let kind = self.kinds.get(column).copied().unwrap_or(Kind::Category);
                let mut branches = vec![(at.is_missing(), Node::Missing(Type::Text))];
                let text = |value: &String| (at.is_one_of([value.as_str()]), Node::Text(value.clone()));
                branches.extend(kept.iter().map(text));
                let node = Node::Case(branches, Box::new(Node::Text(OTHER.into())));
                self.text(made, column, "grouped", kind, node);
            }
        }
        Ok(())
    }

    fn number(&mut self, made: &mut Definitions, column: &str, what: &str, node: Node) {
        let place = made.number(&format!("{column}_{what}"), node);
        self.put(column, Kind::Number, Bound::At(place));
    }

    fn text(&mut self, made: &mut Definitions, column: &str, what: &str, kind: Kind, node: Node) {
        let place = made.text(&format!("{column}_{what}"), node);
        self.put(column, kind, Bound::At(place));
    }

    fn fill(&mut self, made: &mut Definitions, column: &str, value: &str, flag: bool) -> Result<(), Refusal> {
        let at = self.at(column)?;
        let kind = self.kinds.get(column).copied().unwrap_or(Kind::Category);
        let constant = match read_as(value, kind) {
            Some(Typed::Number(x)) => Some(number(x)),
            Some(Typed::Day(day)) => Some(number(f64::from(day))),
            Some(Typed::Word(word)) => Some(at.constant(&word).ok_or_else(|| Refusal::Step {
                column: column.to_owned(),
                needs: format!("is a number read as a code, and filled with “{word}”, which is no number"),
                form: "a formula",
            })?),
            None => None,
        };
        if let Some(constant) = constant {
            let node = Node::Case(vec![(at.is_missing(), constant)], Box::new(at.column()));
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
            let node = Node::Case(vec![(at.is_missing(), yes())], Box::new(no()));
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
                let branches = vec![(node.clone(), yes()), (Node::Not(Box::new(node)), no())];
                let node = Node::Case(branches, Box::new(Node::Missing(Type::Text)));
                (Bound::At(made.text(name, node)), Kind::YesNo)
            }
        })
    }
}

fn yes() -> Node {
    Node::Text("yes".into())
}

fn no() -> Node {
    Node::Text("no".into())
}

/// One of two numbers by the sign of `x`.
fn by_sign(x: &Node, above: Node, below: Node) -> Node {
    Node::Case(vec![(compare(Comparison::Less, x.clone(), number(0.0)), below)], Box::new(above))
}

/// The power transform of a number of at least 1.
fn power(of: Node, exponent: f64) -> Node {
    let logarithm = call(Function::Ln, of);
    if exponent.abs() < 1e-12 {
        return logarithm;
    }
    let raised = call(Function::Exp, times(number(exponent), logarithm));
    over(minus(raised, number(1.0)), number(exponent))
}

/// The node with its columns at their places, and days as numbers.
fn placed(made: &mut Definitions, node: &Node, places: &[usize]) -> Node {
    let mut of = |node: &Node| placed(made, node, places);
    let mut both = |pair: &[Node; 2]| Box::new([of(&pair[0]), of(&pair[1])]);
    match node {
        Node::Column(at) => Node::Column(places[*at]),
        Node::Day(day) => number(f64::from(*day)),
        Node::Missing(Type::Day) => Node::Missing(Type::Number),
        Node::Number(_) | Node::Text(_) | Node::Truth(_) | Node::Missing(_) => node.clone(),
        Node::Arithmetic(how, pair) => Node::Arithmetic(*how, both(pair)),
        Node::Minus(inner) => Node::Minus(Box::new(of(inner))),
        Node::DaysBetween(pair) => {
            let [later, earlier] = *both(pair);
            minus(later, earlier)
        }
        Node::DaysLater(pair) => {
            let [day, days] = *both(pair);
            plus(day, civil::rounded(made, days))
        }
        Node::Compare(how, pair) => Node::Compare(*how, both(pair)),
        Node::And(pair) => Node::And(both(pair)),
        Node::Or(pair) => Node::Or(both(pair)),
        Node::Not(inner) => Node::Not(Box::new(of(inner))),
        Node::IsMissing(inner) => Node::IsMissing(Box::new(of(inner))),
        Node::OneOf(inner, constants) => Node::OneOf(Box::new(of(inner)), constants.iter().map(&mut of).collect()),
        Node::Like(inner, form) => Node::Like(Box::new(of(inner)), form.clone()),
        Node::Case(branches, last) => {
            let branches = branches.iter().map(|(condition, result)| (of(condition), of(result))).collect();
            Node::Case(branches, Box::new(of(last)))
        }
        Node::Call(function, arguments) => {
            let mut arguments: Vec<Node> = arguments.iter().map(of).collect();
            match function {
                Function::Year | Function::Month | Function::DayOfMonth | Function::DayOfWeek => {
                    civil::part(made, *function, arguments.remove(0))
                }
                Function::Round => civil::rounded(made, arguments.remove(0)),
                _ => Node::Call(*function, arguments),
            }
        }
    }
}
