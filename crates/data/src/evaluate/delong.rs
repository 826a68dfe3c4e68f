//! How sure an area under the ROC curve is, and the difference of two on the same rows.
//!
//! DeLong, DeLong & Clarke-Pearson 1988: each row's placement is the share of
//! rows of the other outcome that it stands above, ties counting half; the
//! variance of an area is that of the placements. Placements come from ranks
//! (Sun & Xu 2014).

use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, Normal};

use crate::stats::{Z95, standard_error};

/// An area under the ROC curve, or a difference of two.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Area {
    /// The area, or the first less the second.
    pub value: f64,
    /// Its standard error.
    pub se: f64,
}

impl Area {
    /// The 95 % interval.
    pub fn interval(self) -> (f64, f64) {
        (self.value - Z95 * self.se, self.value + Z95 * self.se)
    }

    /// The chance of a value at least this far from 0 if it were 0; for differences.
    pub fn chance(self) -> f64 {
        if self.se == 0.0 {
            return if self.value == 0.0 { 1.0 } else { 0.0 };
        }
        2.0 * Normal::standard().sf((self.value / self.se).abs())
    }
}

/// The area with its standard error; none without at least two rows of either outcome.
pub fn area(score: &[f64], event: &[bool]) -> Option<Area> {
    let placed = Placements::of(score, event)?;
    let se = standard_error(&placed.events).hypot(standard_error(&placed.others));
    Some(Area { value: placed.area(), se })
}

/// The first area less the second, on the same rows; none without at least two
/// rows of either outcome.
pub fn difference(first: &[f64], second: &[f64], event: &[bool]) -> Option<Area> {
    Some(Placements::of(first, event)?.over(&[Placements::of(second, event)?]))
}

/// The first area less the mean of several others, on the same rows; none without any other, or
/// without at least two rows of either outcome.
pub fn over_mean(first: &[f64], others: &[Vec<f64>], event: &[bool]) -> Option<Area> {
    let placed = others.iter().map(|score| Placements::of(score, event)).collect::<Option<Vec<_>>>()?;
    if placed.is_empty() { None } else { Some(Placements::of(first, event)?.over(&placed)) }
}

/// The placement of every event among the others, and of every other row below the events.
struct Placements {
    events: Vec<f64>,
    others: Vec<f64>,
}

impl Placements {
    fn of(score: &[f64], event: &[bool]) -> Option<Self> {
        let side =
            |wanted: bool| -> Vec<f64> { score.iter().zip(event).filter(|s| *s.1 == wanted).map(|s| *s.0).collect() };
        let (events, others) = (side(true), side(false));
        if events.len() < 2 || others.len() < 2 {
            return None;
        }
        let all = mid_ranks(score);
        let of = |wanted: bool| all.iter().zip(event).filter(move |r| *r.1 == wanted).map(|r| *r.0);
        let (m, n) = (events.len() as f64, others.len() as f64);
        let above = of(true).zip(mid_ranks(&events)).map(|(all, own)| (all - own) / n).collect();
        let below = of(false).zip(mid_ranks(&others)).map(|(all, own)| 1.0 - (all - own) / m).collect();
        Some(Self { events: above, others: below })
    }

    /// This area less the mean of others.
    fn over(&self, others: &[Self]) -> Area {
        // Row by row, so that what is the same takes away exactly nothing.
        let apart = |of: fn(&Self) -> &[f64]| -> Vec<f64> {
            let over = |row: usize, x: f64| others.iter().map(|other| x - of(other)[row]).sum::<f64>();
            of(self).iter().enumerate().map(|(row, &x)| over(row, x) / others.len() as f64).collect()
        };
        let (events, others) = (apart(|placed| &placed.events), apart(|placed| &placed.others));
        let value = events.iter().sum::<f64>() / events.len() as f64;
        Area { value, se: standard_error(&events).hypot(standard_error(&others)) }
    }

    fn area(&self) -> f64 {
        self.events.iter().sum::<f64>() / self.events.len() as f64
    }
}

/// Ranks from 1; equal values share the middle of theirs.
fn mid_ranks(values: &[f64]) -> Vec<f64> {
    let mut order: Vec<usize> = (0..values.len()).collect();
    order.sort_by(|&a, &b| values[a].total_cmp(&values[b]));
    let mut ranks = vec![0.0; values.len()];
    let mut before = 0;
    for ties in order.chunk_by(|&a, &b| values[a] == values[b]) {
        let rank = before as f64 + (ties.len() + 1) as f64 / 2.0;
        ties.iter().for_each(|&at| ranks[at] = rank);
        before += ties.len();
    }
    ranks
}
