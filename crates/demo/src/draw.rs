//! What the generators share: draws by proportion, and the constant that sets a rate.

use rand::{Rng, RngExt};

/// The constant that makes the mean of the logistic function of log-odds plus
/// constant the rate wanted.
pub(crate) fn constant_for(odds: &[f64], rate: f64) -> f64 {
    let mean = |c: f64| odds.iter().map(|eta| logistic(eta + c)).sum::<f64>() / odds.len().max(1) as f64;
    let (mut low, mut high) = (-30.0, 30.0);
    for _ in 0..80 {
        let middle = (low + high) / 2.0;
        if mean(middle) < rate { low = middle } else { high = middle }
    }
    (low + high) / 2.0
}

/// The probability at these log-odds.
pub(crate) fn logistic(eta: f64) -> f64 {
    1.0 / (1.0 + (-eta).exp())
}

/// Draws one of the values with chances in proportion to the figures beside them.
pub(crate) fn pick<T: Copy>(rng: &mut impl Rng, values: &[(T, u32)]) -> T {
    let total: u32 = values.iter().map(|v| v.1).sum();
    let mut at = rng.random_range(0..total);
    for &(value, part) in values {
        if at < part {
            return value;
        }
        at -= part;
    }
    values[values.len() - 1].0
}
