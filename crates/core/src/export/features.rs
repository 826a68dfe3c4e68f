//! The columns of a model as its estimator receives them, as definitions.

use super::definitions::{Bound, Definitions, SplitFeature, WeightedSum};
use super::nodes::{compare, minus, number, over};
use super::refusal::Refusal;
use super::steps::stepped;
use pronoia_data::expression::{Comparison, ExpressionNode};
use pronoia_learn::learn::scorecard::ScorecardBins;
use pronoia_learn::prepare::{Coding, Encoding, Preparation, PreparedColumn};

/// A feature of the design.
pub(super) enum Coded {
    /// The number at a place.
    Number(usize),
    /// The level of a column.
    Levels(Bound, Vec<String>),
}

/// The prepared columns of a member.
pub(super) struct Features<'a> {
    columns: Vec<(&'a PreparedColumn, Bound)>,
    /// The features of the design with the names of their columns, where none is an indicator.
    coded: Vec<(&'a str, Coded)>,
}

/// A value where one is missing, and the value itself elsewhere.
fn filled(bound: Bound, fill: f64) -> ExpressionNode {
    ExpressionNode::Case(vec![(bound.is_missing(), number(fill))], Box::new(bound.column()))
}

impl<'a> Features<'a> {
    /// Takes the steps, and codes what they leave.
    pub fn of(made: &mut Definitions, preparation: &'a Preparation) -> Result<Self, Refusal> {
        let bound = stepped(made, preparation)?;
        let mut features = Self { columns: Vec::new(), coded: Vec::new() };
        for prepared in &preparation.columns {
            let at = bound.get(&prepared.name).copied().ok_or_else(|| {
                Refusal::Columns(format!("The column “{}” is missing, and the model needs it.", prepared.name))
            })?;
            features.columns.push((prepared, at));
            let name = prepared.name.as_str();
            match (&prepared.coding, preparation.encoding) {
                (_, Encoding::Indicators) => {}
                (Coding::Number { .. }, Encoding::Native) => features.coded.push((name, Coded::Number(at.place()))),
                (&Coding::Number { fill, flag, mean, sd }, Encoding::Standardised) => {
                    let scaled = over(minus(filled(at, fill), number(mean)), number(sd));
                    features.coded.push((name, Coded::Number(made.number(&format!("{name}_scaled"), scaled))));
                    if flag {
                        features
                            .coded
                            .push((name, Coded::Number(made.number(&format!("{name}_missing"), flagged(at)))));
                    }
                }
                (Coding::Levels { levels, .. }, _) => features.coded.push((name, Coded::Levels(at, levels.clone()))),
            }
        }
        Ok(features)
    }

    /// A feature, and its column's name.
    pub fn at(&self, feature: usize) -> (&str, &Coded) {
        let (name, coded) = &self.coded[feature];
        (name, coded)
    }

    /// All features in the order of the design.
    pub fn all(&self) -> impl Iterator<Item = (&str, &Coded)> {
        self.coded.iter().map(|(name, coded)| (*name, coded))
    }

    /// The features as trees ask for them.
    pub fn asked(&self) -> Vec<SplitFeature> {
        let of = |(_, coded): &(&str, Coded)| match coded {
            Coded::Number(place) => SplitFeature::Number(*place),
            Coded::Levels(bound, levels) => {
                SplitFeature::Levels(*bound, levels.iter().take(pronoia_learn::learn::BINS).cloned().collect())
            }
        };
        self.coded.iter().map(of).collect()
    }

    /// The features as indicators and standardised numbers, each times its coefficient: one term for
    /// every column.
    pub fn weighed(&self, made: &mut Definitions, intercept: f64, coefficients: &[f64]) -> WeightedSum {
        let mut left = coefficients.iter().copied();
        let mut next = || left.next().unwrap_or_default();
        let mut terms = Vec::new();
        for (prepared, at) in &self.columns {
            let name = &prepared.name;
            match &prepared.coding {
                &Coding::Number { fill, flag, mean, sd } => {
                    let scaled = over(minus(filled(*at, fill), number(mean)), number(sd));
                    terms.push((made.number(&format!("{name}_scaled"), scaled), next()));
                    if flag {
                        terms.push((made.number(&format!("{name}_missing"), flagged(*at)), next()));
                    }
                }
                Coding::Levels { levels, grouped, missing_seen } => {
                    let adds: Vec<f64> =
                        levels.iter().enumerate().map(|(code, _)| if code == 0 { 0.0 } else { next() }).collect();
                    let unknown = if grouped.is_empty() { 0.0 } else { next() };
                    let missing = if *missing_seen { next() } else { 0.0 };
                    let node = Self::by_level(*at, levels, &adds, missing, unknown);
                    terms.push((made.number(&format!("{name}_adds"), node), 1.0));
                }
            }
        }
        WeightedSum::plain(intercept, terms.into_iter().filter(|(_, weight)| *weight != 0.0).collect())
    }

    /// A number for every level, for a missing value and for any other.
    pub fn by_level(at: Bound, levels: &[String], numbers: &[f64], missing: f64, unknown: f64) -> ExpressionNode {
        let mut branches = vec![(at.is_missing(), number(missing))];
        // Levels that share a number stand together.
        let mut shared: Vec<(f64, Vec<&str>)> = Vec::new();
        for (level, x) in levels.iter().zip(numbers) {
            match shared.iter_mut().find(|(of, _)| of.to_bits() == x.to_bits()) {
                Some((_, together)) => together.push(level),
                None => shared.push((*x, vec![level])),
            }
        }
        let says = |(x, together): (f64, Vec<&str>)| (at.is_one_of(together), number(x));
        branches.extend(shared.into_iter().map(says));
        ExpressionNode::Case(branches, Box::new(number(unknown)))
    }

    /// A number for every band and for a missing value.
    pub fn banded(x: usize, edges: &[f64], numbers: &[f64], missing: f64) -> ExpressionNode {
        let x = ExpressionNode::Column(x);
        let mut branches = vec![(ExpressionNode::IsMissing(Box::new(x.clone())), number(missing))];
        let up_to =
            |(edge, says): (&f64, &f64)| (compare(Comparison::LessOrEqual, x.clone(), number(*edge)), number(*says));
        branches.extend(edges.iter().zip(numbers).map(up_to));
        ExpressionNode::Case(branches, Box::new(number(numbers.last().copied().unwrap_or(missing))))
    }

    /// A number for every group of a feature; `missing` also where a value is in no group.
    pub fn grouped(&self, feature: usize, groups: &ScorecardBins, numbers: &[f64], missing: f64) -> ExpressionNode {
        match (groups, &self.coded[feature].1) {
            (ScorecardBins::Number { edges, .. }, Coded::Number(x)) => Self::banded(*x, edges, numbers, missing),
            (ScorecardBins::Levels { group }, Coded::Levels(bound, levels)) => {
                let of = |group: &u16| numbers.get(usize::from(*group)).copied().unwrap_or(missing);
                let numbers: Vec<f64> = group.iter().map(of).collect();
                Self::by_level(*bound, levels, &numbers, missing, missing)
            }
            _ => number(missing),
        }
    }
}

/// 1 where the value is missing.
fn flagged(at: Bound) -> ExpressionNode {
    ExpressionNode::Case(vec![(at.is_missing(), number(1.0))], Box::new(number(0.0)))
}
