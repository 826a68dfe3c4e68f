//! Totals of an amount by group.

use super::grouping::{Grouping, RateGroup};
use crate::table::Column;

/// An amount summed over a group of customers.
#[derive(Debug, Clone, PartialEq)]
pub struct GroupTotal {
    /// The group.
    pub group: RateGroup,
    /// Customers of it with an amount.
    pub known: u64,
    /// Their amounts added up.
    pub sum: f64,
    /// The amounts of those with the event, added up.
    pub of_events: f64,
}

impl GroupTotal {
    /// Amount of a customer on average; NaN if none is known.
    pub fn mean(&self) -> f64 {
        self.sum / self.known as f64
    }
}

/// Adds up `amount` over the groups of a column, in the order of the groups.
/// Missing amounts are not counted as nothing; they are not counted.
pub fn group_totals(amount: &Column, by: &Column, rows: &[usize], event: &[bool], most: usize) -> Vec<GroupTotal> {
    let Grouping { groups, codes } = Grouping::of(by, rows, event, most);
    let mut totals: Vec<GroupTotal> =
        groups.into_iter().map(|group| GroupTotal { group, known: 0, sum: 0.0, of_events: 0.0 }).collect();
    for ((&row, &code), &e) in rows.iter().zip(&codes).zip(event) {
        let Some(x) = amount.number(row) else { continue };
        let total = &mut totals[usize::from(code)];
        total.known += 1;
        total.sum += x;
        total.of_events += if e { x } else { 0.0 };
    }
    totals
}
