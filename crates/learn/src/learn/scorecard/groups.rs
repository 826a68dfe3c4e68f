//! The groups that the values of a column fall into.

use serde::{Deserialize, Serialize};

use crate::prepare::FeatureValues;

/// The groups of a column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ScorecardBins {
    /// Bands of a number.
    Number {
        /// Upper ends, included, of all bands but the last.
        edges: Vec<f64>,
        /// Whether every value was a whole number.
        whole: bool,
    },
    /// Groups of levels.
    Levels {
        /// The group of every level, by code.
        group: Vec<u16>,
    },
}

impl ScorecardBins {
    /// Bands with these ends of numbers that look like those given.
    pub(super) fn of_numbers(edges: Vec<f64>, values: &[f64]) -> Self {
        Self::Number { edges, whole: values.iter().all(|x| x.is_nan() || x.fract() == 0.0) }
    }

    /// Number of groups; the missing are in none of them.
    pub fn len(&self) -> usize {
        match self {
            Self::Number { edges, .. } => edges.len() + 1,
            Self::Levels { group } => group.iter().max().map_or(0, |most| usize::from(*most) + 1),
        }
    }

    /// Whether there is no group at all.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The group of a row; one more than the last where the value is missing or in none.
    pub fn of(&self, values: &FeatureValues, row: usize) -> usize {
        let found = match (self, values) {
            (Self::Number { edges, .. }, FeatureValues::Number(v)) => {
                (!v[row].is_nan()).then(|| edges.partition_point(|&edge| edge < v[row]))
            }
            (Self::Levels { group }, FeatureValues::Levels { codes, .. }) => {
                group.get(codes[row] as usize).map(|&group| usize::from(group))
            }
            _ => None,
        };
        found.unwrap_or_else(|| self.len())
    }
}
