//! Definitions, made one after the other.

use std::collections::HashMap;

use pronoia_data::Kind;
use pronoia_data::expression::{ExpressionNode, Type};
use pronoia_learn::learn::Tree;

/// A definition.
#[derive(Debug, Clone)]
pub(super) struct Definition {
    /// Its name, which no other has.
    pub name: String,
    /// What it is, as the analyst would call it.
    pub hint: String,
    /// Number or text.
    pub kind: Type,
    /// What it is.
    pub is: Is,
}

/// What a definition is.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Is {
    /// Days from 1970-01-01 to the day in the input at this place.
    DaysSince1970(usize),
    /// An expression over places.
    Value(ExpressionNode),
    /// A weighted sum of numbers, none of which is ever missing.
    Sum(WeightedSum),
    /// The sum of what trees say.
    Trees(Trees),
}

/// A weighted sum.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct WeightedSum {
    /// What is added at the end.
    pub constant: f64,
    /// Place and weight of everything that is added up.
    pub terms: Vec<(usize, f64)>,
    /// Whether a sum below 0 counts as 0.
    pub rectified: bool,
}

impl WeightedSum {
    /// A sum that may be below 0.
    pub fn plain(constant: f64, terms: Vec<(usize, f64)>) -> Self {
        Self { constant, terms, rectified: false }
    }
}

/// Trees, and what they ask.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Trees {
    /// What is added to the trees.
    pub start: f64,
    /// The trees, whose leaves are added up.
    pub trees: Vec<Tree>,
    /// What the features stand for that they ask.
    pub features: Vec<SplitFeature>,
}

/// A feature that trees ask.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum SplitFeature {
    /// The number at a place.
    Number(usize),
    /// The level of a column: its constants by code, those only that trees know.
    Levels(Bound, Vec<String>),
}

/// Where a column of the analyst stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Bound {
    /// At this place.
    At(usize),
    /// It is text, and at this place is the number that it is written from.
    Digits(usize),
}

impl Bound {
    /// The place.
    pub fn place(self) -> usize {
        match self {
            Self::At(place) | Self::Digits(place) => place,
        }
    }

    /// The value at the place.
    pub fn column(self) -> ExpressionNode {
        ExpressionNode::Column(self.place())
    }

    /// Text of the analyst's column as what stands at the place; none if it never stands there.
    pub fn constant(self, text: &str) -> Option<ExpressionNode> {
        match self {
            Self::At(_) => Some(ExpressionNode::Text(text.to_owned())),
            Self::Digits(_) => {
                let number: f64 = text.parse().ok()?;
                (pronoia_data::table::written_number(number) == text).then_some(ExpressionNode::Number(number))
            }
        }
    }

    /// Whether the column has one of these values.
    pub fn is_one_of<'t>(self, values: impl IntoIterator<Item = &'t str>) -> ExpressionNode {
        ExpressionNode::OneOf(
            Box::new(self.column()),
            values.into_iter().filter_map(|text| self.constant(text)).collect(),
        )
    }

    /// Whether the value is missing.
    pub fn is_missing(self) -> ExpressionNode {
        ExpressionNode::IsMissing(Box::new(self.column()))
    }
}

/// Definitions in the making.
pub(super) struct Definitions {
    inputs: Vec<(String, Kind)>,
    made: Vec<Definition>,
}

/// Letters of a definition's name that come from what it is made of.
const NAME_LETTERS: usize = 36;

impl Definitions {
    /// None yet, over these columns.
    pub fn of(inputs: impl Iterator<Item = (String, Kind)>) -> Self {
        Self { inputs: inputs.collect(), made: Vec::new() }
    }

    /// Defines something, unless the same is defined already; its place. `hint` says in a word what it is.
    pub fn define(&mut self, hint: &str, kind: Type, is: Is) -> usize {
        if let Some(at) = self.made.iter().position(|d| d.kind == kind && d.is == is) {
            return self.inputs.len() + at;
        }
        let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' };
        let letters: String = hint.chars().map(plain).take(NAME_LETTERS).collect();
        // The number makes it the only one of its name.
        let name = format!("pronoia_{}_{}", self.made.len() + 1, letters.trim_matches('_'));
        self.made.push(Definition { name, hint: hint.to_owned(), kind, is });
        self.inputs.len() + self.made.len() - 1
    }

    /// A number that is an expression.
    pub fn number(&mut self, hint: &str, node: ExpressionNode) -> usize {
        // What stands somewhere already needs no second place.
        match node {
            ExpressionNode::Column(place) => place,
            node => self.define(hint, Type::Number, Is::Value(node)),
        }
    }

    /// Text that is an expression.
    pub fn text(&mut self, hint: &str, node: ExpressionNode) -> usize {
        match node {
            ExpressionNode::Column(place) => place,
            node => self.define(hint, Type::Text, Is::Value(node)),
        }
    }

    /// Where every input stands at the beginning; days are counted from 1970-01-01.
    pub fn bound(&mut self) -> HashMap<String, Bound> {
        let inputs = self.inputs.clone();
        let place = |(at, (name, kind)): (usize, (String, Kind))| {
            let at = match kind {
                Kind::Date => self.define(&name, Type::Number, Is::DaysSince1970(at)),
                _ => at,
            };
            (name, Bound::At(at))
        };
        inputs.into_iter().enumerate().map(place).collect()
    }

    /// Inputs and definitions.
    pub fn finish(self) -> (Vec<(String, Kind)>, Vec<Definition>) {
        (self.inputs, self.made)
    }
}
