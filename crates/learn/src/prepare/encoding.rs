//! Categories as numbers that were learned from the outcome, never from a row's own.
//!
//! What a value stands for is learned from all training rows and kept for every
//! other row. A training row gets what the other folds say of its value, since
//! its own outcome must not come back to it as a predictor.

use std::collections::BTreeMap;

use arrow_array::Float64Array;
use serde::{Deserialize, Serialize};

use super::TrainingRows;
use pronoia_data::split::folds;
use pronoia_data::table::ColumnValues;
use pronoia_data::{Column, Kind};

/// Parts that take turns in being encoded by the others.
const FOLDS: usize = 5;

/// Governs which row is in which part.
const SEED: u64 = 0x00e0_c0de;

/// Rows that the overall rate counts as beside those of a value (Micci-Barreca
/// 2001, eq. 4 with a constant weight).
const PRIOR_ROWS: f64 = 20.0;

/// What a category is turned into.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Encoder {
    /// The event rate of the value, drawn towards the overall rate (Micci-Barreca 2001).
    TargetMean,
    /// The logarithm of the share of all events that have the value over the
    /// share of all others that have it (Good 1950), half a row added to either.
    WeightOfEvidence,
}

/// What every value of a category stands for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Encoded {
    /// By value.
    pub values: BTreeMap<String, f64>,
    /// For a missing value.
    pub missing: f64,
    /// For a value that was not seen.
    pub other: f64,
}

impl Encoder {
    /// Learns what every value stands for from the rows at these positions of
    /// the training rows.
    fn learn(self, column: &Column, training: &TrainingRows, at: impl Iterator<Item = usize>) -> Encoded {
        let mut counts: BTreeMap<Option<String>, [f64; 2]> = BTreeMap::new();
        let mut all = [0.0f64; 2];
        for at in at {
            let side = usize::from(training.event[at]);
            counts.entry(column.text(training.rows[at])).or_default()[side] += 1.0;
            all[side] += 1.0;
        }
        let overall = all[1] / (all[0] + all[1]).max(1.0);
        let stands_for = |[others, events]: [f64; 2]| match self {
            Self::TargetMean => (events + PRIOR_ROWS * overall) / (events + others + PRIOR_ROWS),
            Self::WeightOfEvidence => ((events + 0.5) * all[0].max(1.0) / ((others + 0.5) * all[1].max(1.0))).ln(),
        };
        let other = match self {
            Self::TargetMean => overall,
            Self::WeightOfEvidence => 0.0,
        };
        let missing = counts.get(&None).map_or(other, |n| stands_for(*n));
        let values = counts.iter().filter_map(|(value, n)| Some((value.clone()?, stands_for(*n)))).collect();
        Encoded { values, missing, other }
    }

    /// Learns from all training rows.
    pub(super) fn fit(self, column: &Column, training: &TrainingRows) -> Encoded {
        self.learn(column, training, 0..training.rows.len())
    }

    /// Puts into the training rows of an encoded column what the other folds
    /// say of them; `source` is the column before it was encoded.
    pub(super) fn cross_fit(self, source: &Column, encoded: &Column, training: &TrainingRows) -> Column {
        let of_row = folds(training.event, FOLDS, SEED);
        let mut values: Vec<Option<f64>> = (0..encoded.len()).map(|row| encoded.number(row)).collect();
        for fold in 0..FOLDS {
            let learned = self.learn(source, training, (0..of_row.len()).filter(|&at| of_row[at] != fold));
            for at in (0..of_row.len()).filter(|&at| of_row[at] == fold) {
                let row = training.rows[at];
                values[row] = Some(learned.of(source.text(row)));
            }
        }
        let values = ColumnValues::Numbers(Float64Array::from(values));
        Column { name: encoded.name.clone(), kind: Kind::Number, values }
    }
}

impl Encoded {
    fn of(&self, value: Option<String>) -> f64 {
        value.map_or(self.missing, |v| self.values.get(&v).copied().unwrap_or(self.other))
    }

    /// Encodes every row of a column.
    pub(super) fn apply(&self, column: &Column) -> Column {
        let values: Vec<f64> = (0..column.len()).map(|row| self.of(column.text(row))).collect();
        Column {
            name: column.name.clone(),
            kind: Kind::Number,
            values: ColumnValues::Numbers(Float64Array::from(values)),
        }
    }
}
