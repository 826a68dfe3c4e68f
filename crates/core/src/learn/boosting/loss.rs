//! Log loss: its start, its gradient and its mean.

use rayon::prelude::*;

use crate::learn::sigmoid;

/// Log-odds of the event rate.
pub(super) fn start(event: &[bool]) -> f64 {
    let rate = event.iter().filter(|&&e| e).count() as f64 / event.len().max(1) as f64;
    (rate / (1.0 - rate)).ln()
}

/// First and second derivative by the score, side by side for each row.
pub(super) fn gradients(scores: &[f64], event: &[bool], out: &mut [[f32; 2]]) {
    out.par_iter_mut().zip(scores).zip(event).with_min_len(8_192).for_each(|((gh, &score), &e)| {
        let p = sigmoid(score);
        *gh = [(p - f64::from(u8::from(e))) as f32, (p * (1.0 - p)).max(1e-16) as f32];
    });
}

/// Mean log loss of scores in log-odds.
pub(super) fn mean(scores: &[f64], event: &[bool]) -> f64 {
    let total: f64 =
        scores.iter().zip(event).map(|(&s, &e)| s.max(0.0) - if e { s } else { 0.0 } + (-s.abs()).exp().ln_1p()).sum();
    total / event.len().max(1) as f64
}
