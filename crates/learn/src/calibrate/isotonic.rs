//! A curve that never falls.

use serde::{Deserialize, Serialize};

use crate::learn::Target;

/// Points of a curve in log-odds, between which it is straight, and beyond
/// which it is level.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct IsotonicSteps {
    /// Log-odds as the classifier gives them, ascending.
    pub at: Vec<f64>,
    /// Log-odds that hold there, ascending.
    pub log_odds: Vec<f64>,
}

/// Neighbouring scores that share a rate.
struct RatePool {
    /// Sum of the scores, each by its weight.
    score: f64,
    events: f64,
    weight: f64,
}

impl RatePool {
    fn rate(&self) -> f64 {
        self.events / self.weight
    }
}

impl IsotonicSteps {
    /// The rates that never fall and are nearest to what happened (pooling of
    /// adjacent violators, Ayer et al. 1955), each at the middle of its scores.
    /// A block counts one more row at the overall rate, so that none is certain.
    pub(super) fn fit(log_odds: &[f64], target: &Target) -> Self {
        let mut order: Vec<usize> = (0..log_odds.len()).filter(|&row| target.weight(row) > 0.0).collect();
        order.sort_by(|&a, &b| log_odds[a].total_cmp(&log_odds[b]));
        let mut blocks: Vec<RatePool> = Vec::new();
        for ties in order.chunk_by(|&a, &b| log_odds[a] == log_odds[b]) {
            let weight: f64 = ties.iter().map(|&row| target.weight(row)).sum();
            let events = ties.iter().filter(|&&row| target.event[row]).map(|&row| target.weight(row)).sum();
            blocks.push(RatePool { score: log_odds[ties[0]] * weight, events, weight });
            while let [.., before, last] = &blocks[..]
                && before.rate() >= last.rate()
            {
                let (score, events, weight) = (last.score, last.events, last.weight);
                blocks.pop();
                if let Some(block) = blocks.last_mut() {
                    block.score += score;
                    block.events += events;
                    block.weight += weight;
                }
            }
        }
        let rate = target.rate();
        let odds = |block: &RatePool| ((block.events + rate) / (block.weight - block.events + 1.0 - rate)).ln();
        let mut steps = Self { at: Vec::new(), log_odds: Vec::new() };
        for block in &blocks {
            // The row that is added may turn neighbours round that are nearly alike.
            let least = steps.log_odds.last().copied().unwrap_or(f64::NEG_INFINITY);
            steps.at.push(block.score / block.weight);
            steps.log_odds.push(odds(block).max(least));
        }
        steps
    }

    /// The log-odds that hold.
    pub(super) fn apply(&self, log_odds: f64) -> f64 {
        let after = self.at.partition_point(|&at| at <= log_odds);
        match (after.checked_sub(1), self.at.get(after)) {
            (None, _) => self.log_odds.first().copied().unwrap_or(log_odds),
            (Some(before), None) => self.log_odds[before],
            (Some(before), Some(&next)) => {
                let share = (log_odds - self.at[before]) / (next - self.at[before]);
                self.log_odds[before] + share * (self.log_odds[after] - self.log_odds[before])
            }
        }
    }
}
