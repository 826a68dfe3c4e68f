//! Whether probabilities hold: what was said against what happened, group by group.

use serde::{Deserialize, Serialize};

use crate::stats::Count;

/// Groups of about equally many rows.
const GROUPS: usize = 10;

/// Rows with neighbouring probabilities.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CalibrationGroup {
    /// Rows.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// What was said of them on average.
    pub mean_probability: f64,
}

impl CalibrationGroup {
    /// What happened: the share of events.
    pub fn rate(&self) -> f64 {
        self.count().rate()
    }

    /// The 95 % interval of that share (Wilson 1927).
    pub fn interval(&self) -> (f64, f64) {
        self.count().interval()
    }

    fn count(&self) -> Count {
        Count { rows: self.rows, events: self.events }
    }

    /// Whether what was said lies within the interval of what happened.
    pub fn holds(&self) -> bool {
        let (low, high) = self.interval();
        (low..=high).contains(&self.mean_probability)
    }
}

/// Ten groups of rows in the order of their probabilities, none of which parts
/// equal ones; fewer where probabilities are fewer.
pub fn calibration_groups(probability: &[f64], event: &[bool]) -> Vec<CalibrationGroup> {
    let mut order: Vec<usize> = (0..probability.len()).collect();
    order.sort_by(|&a, &b| probability[a].total_cmp(&probability[b]));
    let n = order.len();
    let mut groups = Vec::new();
    let mut start = 0;
    for group in 1..=GROUPS {
        let mut end = (group * n / GROUPS).max(start);
        while end > start && end < n && probability[order[end]] == probability[order[end - 1]] {
            end += 1;
        }
        if end > start {
            let rows = &order[start..end];
            groups.push(CalibrationGroup {
                rows: rows.len() as u64,
                events: rows.iter().filter(|&&row| event[row]).count() as u64,
                mean_probability: rows.iter().map(|&row| probability[row]).sum::<f64>() / rows.len() as f64,
            });
            start = end;
        }
    }
    groups
}

/// How many rows of either outcome were given which probabilities.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct ScoreDistribution {
    /// The probability at which the last bar ends; the first begins at 0.
    pub up_to: f64,
    /// Rows without the event, bar by bar.
    pub others: Vec<u64>,
    /// Rows with it.
    pub events: Vec<u64>,
}

/// Bars of a distribution.
const BARS: usize = 24;

/// Counts rows in bars of equal width, up to the highest probability rounded up
/// to a tenth.
pub fn score_distribution(probability: &[f64], event: &[bool]) -> ScoreDistribution {
    let most = probability.iter().copied().fold(0.0, f64::max);
    let up_to = ((most * 10.0).ceil() / 10.0).clamp(0.1, 1.0);
    let mut counts = ScoreDistribution { up_to, others: vec![0; BARS], events: vec![0; BARS] };
    for (p, &e) in probability.iter().zip(event) {
        let bar = ((p / up_to * BARS as f64) as usize).min(BARS - 1);
        if e {
            counts.events[bar] += 1;
        } else {
            counts.others[bar] += 1;
        }
    }
    counts
}
