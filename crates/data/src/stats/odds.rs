//! Probabilities and their log-odds.

/// The log-odds of a probability that is neither 0 nor 1.
pub fn logit(probability: f64) -> f64 {
    (probability / (1.0 - probability)).ln()
}

/// The probability that belongs to log-odds, without overflow.
pub fn sigmoid(log_odds: f64) -> f64 {
    if log_odds >= 0.0 {
        1.0 / (1.0 + (-log_odds).exp())
    } else {
        let e = log_odds.exp();
        e / (1.0 + e)
    }
}

/// The log loss of one prediction, given as log-odds: minus the logarithm of the probability of what was observed,
/// without overflow.
pub fn log_loss_of_log_odds(log_odds: f64, event: bool) -> f64 {
    log_odds.max(0.0) + (-log_odds.abs()).exp().ln_1p() - if event { log_odds } else { 0.0 }
}
