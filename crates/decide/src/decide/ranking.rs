//! Judged customers from the most pressing down, counted at about a thousand steps.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use pronoia_data::evaluate::{Confusion, descending};

/// Steps of the axis "share of customers acted on".
const STEPS: usize = 1_000;

/// Judged rows in order of probability, or of another key, summarised at up to 1 000 steps.
///
/// Serialised with a model's evaluation, so that a page needs no rows.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Ranking {
    /// Rows judged.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// From acting on none to acting on all; a step never parts equal keys.
    pub stands: Vec<CutPoint>,
    /// Events per slot of customers, 1 000 slots in order of probability
    /// (fewer with fewer rows), for the picture of the thousand.
    pub slots: Vec<(u32, u32)>,
}

/// Acting on the customers down to one value of the key.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CutPoint {
    /// Customers acted on.
    pub acted: u64,
    /// Events among them.
    pub events: u64,
    /// The least key acted on; above every key where nobody is.
    pub cut_off: f64,
}

/// Why there is no curve.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CurveError {
    /// Nothing to judge on.
    #[error("There are no evaluation rows for a curve.")]
    NoRows,
}

impl Ranking {
    /// Orders the rows by probability and summarises them.
    ///
    /// # Errors
    /// [`CurveError::NoRows`].
    pub fn of(probability: &[f64], event: &[bool]) -> Result<Self, CurveError> {
        Ok(Self::ordered(probability, event, &[])?.0)
    }

    /// Orders the rows by any key, the greatest first, and summarises them, looking also at all
    /// who reach each of some keys; and their places in that order.
    ///
    /// # Errors
    /// [`CurveError::NoRows`].
    pub fn ordered(key: &[f64], event: &[bool], also: &[f64]) -> Result<(Self, Vec<usize>), CurveError> {
        let n = key.len();
        if n == 0 {
            return Err(CurveError::NoRows);
        }
        let order = descending(key);
        let mut cumulative = Vec::with_capacity(n + 1);
        cumulative.push(0u64);
        for &row in &order {
            cumulative.push(cumulative[cumulative.len() - 1] + u64::from(event[row]));
        }
        let above = if key[order[0]] <= 1.0 { 1.0 + f64::EPSILON } else { key[order[0]] * (1.0 + 1e-9) };
        let stand = |acted: usize| CutPoint {
            acted: acted as u64,
            events: cumulative[acted],
            cut_off: if acted == 0 { above } else { key[order[acted - 1]] },
        };
        let stands = ends(key, &order, also).into_iter().map(stand).collect();
        let slots = (0..STEPS.min(n))
            .map(|s| {
                let k = STEPS.min(n);
                let (from, to) = (s * n / k, (s + 1) * n / k);
                ((cumulative[to] - cumulative[from]) as u32, (to - from) as u32)
            })
            .collect();
        Ok((Self { rows: n as u64, events: cumulative[n], stands, slots }, order))
    }

    /// Share of the rows that have the event.
    pub fn rate(&self) -> f64 {
        self.events as f64 / self.rows as f64
    }

    /// The step at which a cut-off acts: the last whose probabilities reach it.
    pub fn position_of(&self, cut_off: f64) -> usize {
        self.stands.partition_point(|s| s.cut_off >= cut_off).saturating_sub(1)
    }

    /// The least key of every tenth of the rows but the last, from the first down.
    pub fn tenths(&self) -> Vec<f64> {
        let reaches = |tenth: u64| move |stand: &&CutPoint| stand.acted * 10 >= tenth * self.rows;
        (1..10).filter_map(|tenth| self.stands.iter().find(reaches(tenth)).map(|stand| stand.cut_off)).collect()
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

/// Numbers of customers at which to look: about a thousand, none of which parts customers with
/// equal keys, with 0, all, and those who reach each of some keys.
fn ends(key: &[f64], order: &[usize], also: &[f64]) -> Vec<usize> {
    let n = order.len();
    let is_end = |k: usize| k == n || key[order[k]] != key[order[k - 1]];
    let mut ends = vec![0];
    let mut next = 1;
    for k in (1..=n).filter(|&k| is_end(k)) {
        if k * STEPS >= next * n {
            ends.push(k);
            next = k * STEPS / n + 1;
        }
    }
    ends.extend(also.iter().map(|least| order.partition_point(|&row| key[row] >= *least)));
    ends.sort_unstable();
    ends.dedup();
    ends
}
