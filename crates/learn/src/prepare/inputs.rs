//! What a model saw of the columns that it reads, before any step.

use serde::{Deserialize, Serialize};

use super::Spread;
use pronoia_data::Kind;
use pronoia_data::table::{Column, ColumnValues};

/// How far beside the range that was seen a number is still like those in it, as a share of the width.
const BESIDE: f64 = 0.1;

/// A column that a model reads from the customer, and what training saw of it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ModelInput {
    /// Its name.
    pub name: String,
    /// Its kind.
    pub kind: Kind,
    /// What occurred in it.
    pub seen: ObservedValues,
    /// How that was spread; none in models that were fitted before it was counted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spread: Option<Spread>,
}

/// What occurred in a column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ObservedValues {
    /// Numbers, or days since 1970-01-01, between two.
    Between(f64, f64),
    /// These values, in order.
    Values(Vec<String>),
    /// Nothing: every value was missing.
    Nothing,
}

impl ModelInput {
    /// Looks at the rows given.
    pub fn of(column: &Column, rows: &[usize]) -> Self {
        let seen = match &column.values {
            ColumnValues::Words(words) => {
                let mut occurs = vec![false; words.level_count()];
                rows.iter().filter_map(|&row| words.code(row)).for_each(|code| occurs[code] = true);
                let mut values: Vec<String> =
                    words.levels().zip(occurs).filter(|l| l.1).map(|l| l.0.to_owned()).collect();
                values.sort_unstable();
                if values.is_empty() { ObservedValues::Nothing } else { ObservedValues::Values(values) }
            }
            _ => {
                rows.iter().filter_map(|&row| column.number(row)).fold(ObservedValues::Nothing, |seen, x| match seen {
                    ObservedValues::Between(low, high) => ObservedValues::Between(low.min(x), high.max(x)),
                    _ => ObservedValues::Between(x, x),
                })
            }
        };
        Self { name: column.name.clone(), kind: column.kind, seen, spread: Some(Spread::of(column, rows)) }
    }

    /// Whether a value was never seen in training.
    pub fn is_unseen(&self, value: &str) -> bool {
        match &self.seen {
            ObservedValues::Values(values) => values.binary_search_by(|v| v.as_str().cmp(value)).is_err(),
            ObservedValues::Nothing => true,
            ObservedValues::Between(..) => false,
        }
    }

    /// Whether a number lies outside what was seen in training by more than a tenth of its width: some
    /// few always lie a little outside.
    pub fn is_beyond(&self, x: f64) -> bool {
        match self.seen {
            ObservedValues::Between(low, high) => {
                let beside = (high - low) * BESIDE;
                x < low - beside || x > high + beside
            }
            ObservedValues::Values(_) | ObservedValues::Nothing => false,
        }
    }
}
