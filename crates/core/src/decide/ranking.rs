//! Customers from the highest probability down, and what acting on the first so many is worth.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::{Economics, Prices};
use crate::evaluate::Confusion;
use crate::profile::quantile;

/// Steps of the axis "share of customers acted on".
const STEPS: usize = 1_000;

/// Resamples behind the band.
const RESAMPLES: u64 = 200;

/// A policy whose profit is at least this share of the best is nearly as good.
const NEARLY: f64 = 0.97;

/// The economics and the rule that turns a probability into an action.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Policy {
    /// What outcomes are worth.
    pub economics: Economics,
    /// Act on customers with at least this probability.
    pub cut_off: f64,
}

/// Judged rows in order of probability, summarised at up to 1 000 steps.
///
/// Serialised with a model's evaluation, so that a page needs no rows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Ranking {
    /// Rows judged.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// From acting on none to acting on all; a step never parts equal probabilities.
    pub stands: Vec<Stand>,
    /// Events per slot of customers, 1 000 slots in order of probability
    /// (fewer with fewer rows), for the picture of the thousand.
    pub slots: Vec<(u32, u32)>,
}

/// Acting on the customers down to one probability.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Stand {
    /// Customers acted on.
    pub acted: u64,
    /// Events among them.
    pub events: u64,
    /// The least probability acted on; above 1 where nobody is.
    pub cut_off: f64,
    /// Events among as many customers in the 5th and 95th of 100 resamples.
    pub events_range: (f64, f64),
}

/// A point of the profit curve.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct ProfitPoint {
    /// Share of customers acted on.
    pub share: f64,
    /// The least probability acted on.
    pub cut_off: f64,
    /// Customers acted on per customer judged × population.
    pub acted: f64,
    /// Events among them.
    pub events: f64,
    /// Expected profit.
    pub profit: f64,
    /// Lower end of the 90 % band.
    pub low: f64,
    /// Upper end.
    pub high: f64,
}

/// Where the curve is highest, and where it is nearly so.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Best {
    /// Position of the best point.
    pub at: usize,
    /// First position that is nearly as good.
    pub from: usize,
    /// Last position that is nearly as good.
    pub to: usize,
}

/// Why there is no curve.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CurveError {
    /// Nothing to judge on.
    #[error("There are no judged rows to draw a curve from.")]
    NoRows,
}

impl Ranking {
    /// Orders the rows and summarises them; `seed` governs the resamples.
    ///
    /// # Errors
    /// [`CurveError::NoRows`].
    pub fn of(probability: &[f64], event: &[bool], seed: u64) -> Result<Self, CurveError> {
        Self::summarised(probability, event, |happened, ends| bands(happened, ends, seed))
    }

    /// The same without resamples: the ranges are the counts themselves.
    ///
    /// # Errors
    /// [`CurveError::NoRows`].
    pub fn counted(probability: &[f64], event: &[bool]) -> Result<Self, CurveError> {
        Self::summarised(probability, event, |happened, ends| {
            let mut events = 0.0;
            let mut from = 0;
            let count = |&end: &usize| {
                events += happened[from..end].iter().filter(|&&e| e).count() as f64;
                from = end;
                (events, events)
            };
            ends.iter().map(count).collect()
        })
    }

    /// `bands` is handed what happened in order, and the numbers of customers looked at.
    fn summarised(
        probability: &[f64],
        event: &[bool],
        bands: impl FnOnce(&[bool], &[usize]) -> Vec<(f64, f64)>,
    ) -> Result<Self, CurveError> {
        let n = probability.len();
        if n == 0 {
            return Err(CurveError::NoRows);
        }
        let order = crate::evaluate::descending(probability);
        let happened: Vec<bool> = order.iter().map(|&i| event[i]).collect();
        let mut cumulative = Vec::with_capacity(n + 1);
        cumulative.push(0u64);
        for &e in &happened {
            cumulative.push(cumulative[cumulative.len() - 1] + u64::from(e));
        }
        let ends = tie_ends(probability, &order);
        let bands = bands(&happened, &ends);
        let stands = ends
            .iter()
            .zip(bands)
            .map(|(&acted, events_range)| Stand {
                acted: acted as u64,
                events: cumulative[acted],
                cut_off: if acted == 0 { 1.0 + f64::EPSILON } else { probability[order[acted - 1]] },
                events_range,
            })
            .collect();
        let slots = (0..STEPS.min(n))
            .map(|s| {
                let k = STEPS.min(n);
                let (from, to) = (s * n / k, (s + 1) * n / k);
                ((cumulative[to] - cumulative[from]) as u32, (to - from) as u32)
            })
            .collect();
        Ok(Self { rows: n as u64, events: cumulative[n], stands, slots })
    }

    /// The profit curve for `population` customers like the ones judged.
    pub fn profit(&self, prices: &Prices, population: f64) -> Vec<ProfitPoint> {
        let scale = population / self.rows as f64;
        self.stands
            .iter()
            .map(|s| {
                let acted = s.acted as f64;
                let of = |events: f64| prices.profit(acted, events) * scale;
                let (a, b) = (of(s.events_range.0), of(s.events_range.1));
                ProfitPoint {
                    share: acted / self.rows as f64,
                    cut_off: s.cut_off,
                    acted: acted * scale,
                    events: s.events as f64 * scale,
                    profit: of(s.events as f64),
                    low: a.min(b),
                    high: a.max(b),
                }
            })
            .collect()
    }

    /// The step at which a cut-off acts: the last whose probabilities reach it.
    pub fn position_of(&self, cut_off: f64) -> usize {
        self.stands.partition_point(|s| s.cut_off >= cut_off).saturating_sub(1)
    }

    /// Counts at a step.
    pub fn confusion(&self, position: usize) -> Confusion {
        let stand = &self.stands[position.min(self.stands.len() - 1)];
        Confusion {
            hits: stand.events,
            false_alarms: stand.acted - stand.events,
            missed: self.events - stand.events,
            left_alone: self.rows - stand.acted - (self.events - stand.events),
        }
    }
}

impl Best {
    /// The best point of a curve and the range that is nearly as good.
    ///
    /// Where nothing pays, the best is to act on none.
    pub fn of(curve: &[ProfitPoint]) -> Self {
        let at =
            (0..curve.len()).reduce(|best, i| if curve[i].profit > curve[best].profit { i } else { best }).unwrap_or(0);
        let floor = curve.get(at).map_or(0.0, |p| p.profit * NEARLY);
        // From the first to the last: a dip between them is the noise of single customers.
        let good = |i: &usize| curve[*i].profit >= floor;
        let from = (0..at).find(good).unwrap_or(at);
        let to = (at..curve.len()).rfind(good).unwrap_or(at);
        Self { at, from, to }
    }
}

/// Numbers of customers at which to look: about a thousand, none of which
/// parts customers with equal probabilities, with 0 and all.
fn tie_ends(probability: &[f64], order: &[usize]) -> Vec<usize> {
    let n = order.len();
    let is_end = |k: usize| k == n || probability[order[k]] != probability[order[k - 1]];
    let mut ends = vec![0];
    let mut next = 1;
    for k in (1..=n).filter(|&k| is_end(k)) {
        if k * STEPS >= next * n {
            ends.push(k);
            next = k * STEPS / n + 1;
        }
    }
    ends
}

/// Events among the first so many, in the 5th and 95th of 100 resamples of the rows.
///
/// Each row is drawn a Poisson(1) number of times, which is the bootstrap for
/// many rows (Hanley & MacGibbon 2006); shares acted on are kept as they are.
fn bands(happened: &[bool], ends: &[usize], seed: u64) -> Vec<(f64, f64)> {
    let n = happened.len();
    let resamples: Vec<Vec<f64>> = (0..RESAMPLES)
        .into_par_iter()
        .map(|r| {
            let mut rng = ChaCha8Rng::seed_from_u64(seed.wrapping_mul(0x9e37_79b9).wrapping_add(r));
            let draws: Vec<u8> = (0..n).map(|_| poisson_one(&mut rng)).collect();
            let total: f64 = draws.iter().map(|&d| f64::from(d)).sum();
            let mut out = Vec::with_capacity(ends.len());
            let (mut row, mut weight, mut events) = (0, 0.0, 0.0);
            for &end in ends {
                let wanted = end as f64 * total / n as f64;
                while row < n && weight + f64::from(draws[row]) <= wanted {
                    weight += f64::from(draws[row]);
                    events += if happened[row] { f64::from(draws[row]) } else { 0.0 };
                    row += 1;
                }
                let part = if row < n && happened[row] { wanted - weight } else { 0.0 };
                out.push((events + part) * n as f64 / total.max(1.0));
            }
            out
        })
        .collect();
    let mut column = Vec::with_capacity(resamples.len());
    (0..ends.len())
        .map(|j| {
            column.clear();
            column.extend(resamples.iter().map(|r| r[j]));
            column.sort_unstable_by(f64::total_cmp);
            (quantile(&column, 0.05), quantile(&column, 0.95))
        })
        .collect()
}

/// A draw from the Poisson distribution with mean 1, by inversion.
fn poisson_one(rng: &mut ChaCha8Rng) -> u8 {
    let u: f64 = rng.random();
    let (mut k, mut p) = (0u8, (-1.0f64).exp());
    let mut below = p;
    while u >= below && k < 20 {
        k += 1;
        p /= f64::from(k);
        below += p;
    }
    k
}
