//! A learning curve by number of rows: would more of them help?

use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

use pronoia_data::evaluate::{area_under_roc, delong, log_loss};
use pronoia_data::stats::Z95;

/// Shares of the rows that the recipe is fitted to.
pub(super) const SHARES: [f64; 5] = [1.0 / 16.0, 1.0 / 8.0, 1.0 / 4.0, 1.0 / 2.0, 1.0];

/// Events, and other rows, without which a share is passed over.
const FEWEST: usize = 20;

/// The same recipe fitted to more and more rows, always judged on the same others.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ByRows {
    /// From the fewest rows to all.
    pub points: Vec<RowsPoint>,
    /// Rows judged on.
    pub judged: u64,
    /// Events among them.
    pub events: u64,
    /// What the second half of the rows brought; none if half of them were too few.
    pub gain: Option<Gain>,
}

/// One share of the rows.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct RowsPoint {
    /// Rows fitted to.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// Area under ROC on the rows judged.
    pub area_under_roc: f64,
    /// Its standard error.
    pub area_error: Option<f64>,
    /// Mean log loss on the rows judged.
    pub log_loss: f64,
}

/// By how much the log loss fell from half of the rows to all of them.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Gain {
    /// The mean fall.
    pub fall: f64,
    /// Half the width of its 95 % interval, by the spread of single rows.
    pub reach: f64,
}

impl Gain {
    /// Of probabilities by half of the rows and by all, on the same rows judged.
    pub fn of(half: &[f64], all: &[f64], event: &[bool]) -> Self {
        let loss = |p: f64, event: bool| -(if event { p } else { 1.0 - p }).max(f64::MIN_POSITIVE).ln();
        let falls: Vec<f64> = (0..event.len()).map(|at| loss(half[at], event[at]) - loss(all[at], event[at])).collect();
        let n = falls.len().max(2) as f64;
        let fall = falls.iter().sum::<f64>() / n;
        let variance = falls.iter().map(|f| (f - fall).powi(2)).sum::<f64>() / (n - 1.0);
        Self { fall, reach: Z95 * (variance / n).sqrt() }
    }

    /// Whether more rows still helped, beyond chance.
    pub fn is_clear(&self) -> bool {
        self.fall > self.reach
    }
}

impl RowsPoint {
    /// Judges what a model said that was fitted to so many rows and events.
    pub(super) fn of((rows, events): (u64, u64), probability: &[f64], event: &[bool]) -> Self {
        Self {
            rows,
            events,
            area_under_roc: area_under_roc(probability, event, None),
            area_error: delong::area(probability, event).map(|area| area.se),
            log_loss: log_loss(probability, event, None),
        }
    }
}

/// A share of the rows, drawn by lot with events and others in proportion: places
/// among them, ascending. A smaller share is part of a larger one of the same
/// seed. None where it would hold too few of either.
pub(super) fn share_of(event: &[bool], share: f64, seed: u64) -> Option<Vec<usize>> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut drawn = Vec::new();
    for side in [true, false] {
        let mut places: Vec<usize> = (0..event.len()).filter(|&at| event[at] == side).collect();
        places.shuffle(&mut rng);
        let wanted = (places.len() as f64 * share).round() as usize;
        if wanted < FEWEST && share < 1.0 {
            return None;
        }
        drawn.extend_from_slice(&places[..wanted]);
    }
    drawn.sort_unstable();
    Some(drawn)
}
