//! Log loss: its start, its gradient and its mean.

use rayon::prelude::*;

use crate::learn::Target;
use pronoia_data::stats::{log_loss_of_log_odds, logit, sigmoid};

/// Log-odds of the weighted event rate.
pub(super) fn start(target: &Target) -> f64 {
    logit(target.rate())
}

/// First and second derivative by the score, side by side for each row.
pub(super) fn gradients(scores: &[f64], target: &Target, out: &mut [[f32; 2]]) {
    out.par_iter_mut().enumerate().with_min_len(8_192).for_each(|(row, gh)| {
        let (p, counts) = (sigmoid(scores[row]), target.weight(row));
        let gradient = p - f64::from(u8::from(target.event[row]));
        *gh = [(counts * gradient) as f32, (counts * p * (1.0 - p)).max(1e-16) as f32];
    });
}

/// Weighted mean log loss of scores in log-odds.
pub(super) fn mean(scores: &[f64], target: &Target) -> f64 {
    let loss = |(row, &score): (usize, &f64)| target.weight(row) * log_loss_of_log_odds(score, target.event[row]);
    let total: f64 = scores.iter().enumerate().map(loss).sum();
    total / (target.total(true) + target.total(false))
}
