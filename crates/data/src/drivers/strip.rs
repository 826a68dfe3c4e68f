//! A number along its range: where the customers are, and how the event rate
//! goes up and down with it.

use serde::{Deserialize, Serialize};

use crate::profile::shape;
use crate::stats::Count;
use crate::stats::quantile;
use crate::table::Column;

/// Share of the customers beyond either end of what is drawn: a few far out
/// would leave no room for the others.
const BEYOND: f64 = 0.005;

/// Customers and events in intervals of equal width.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Strip {
    /// Where the intervals begin and end, in rising order; one more than there are counts.
    pub edges: Vec<f64>,
    /// What is in each: values from its first edge up to its last, that left out.
    pub counts: Vec<Count>,
}

impl Strip {
    /// Of the values that are there; none if there are fewer than two different ones.
    pub(super) fn of(column: &Column, rows: &[usize], event: &[bool]) -> Option<Self> {
        let mut values: Vec<(f64, bool)> =
            rows.iter().zip(event).filter_map(|(&row, &event)| Some((column.number(row)?, event))).collect();
        values.sort_unstable_by(|a, b| a.0.total_cmp(&b.0));
        let numbers: Vec<f64> = values.iter().map(|v| v.0).collect();
        let (low, high) = (quantile(&numbers, BEYOND), quantile(&numbers, 1.0 - BEYOND));
        values.retain(|v| v.0 >= low && v.0 <= high);
        let drawn: Vec<f64> = values.iter().map(|v| v.0).collect();
        if drawn.first() == drawn.last() {
            return None;
        }
        let (edges, bars) = shape(&drawn);
        let mut counts = Vec::with_capacity(bars.len());
        let mut rest = values.as_slice();
        for rows in bars {
            let (inside, after) = rest.split_at(rows as usize);
            counts.push(Count { rows, events: inside.iter().filter(|v| v.1).count() as u64 });
            rest = after;
        }
        Some(Self { edges, counts })
    }
}
