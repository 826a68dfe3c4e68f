//! From scores to probabilities that hold.

use serde::{Deserialize, Serialize};

use crate::learn::logistic::LogisticSettings;
use crate::learn::{FitError, Target};
use crate::prepare::{Design, Feature};
use crate::progress::Unwatched;

/// A straight line from the log-odds a classifier gives to those that hold
/// (Cox 1958; Platt 1999).
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Calibration {
    /// Added at the end.
    pub intercept: f64,
    /// What the classifier's log-odds are multiplied by.
    pub slope: f64,
}

impl Calibration {
    /// The line of greatest likelihood; `log_odds[i]` belongs to row `i` of the
    /// target, which the classifier has not seen and nobody has balanced.
    ///
    /// Scores that tell nothing, or the opposite, all become the rate of the rows.
    ///
    /// # Errors
    /// [`FitError::OneSided`] if all rows have the same outcome.
    pub fn fit(log_odds: Vec<f64>, target: &Target) -> Result<Self, FitError> {
        if target.total(true) <= 0.0 || target.total(false) <= 0.0 {
            return Err(FitError::OneSided { rows: target.rows() });
        }
        let rate = target.rate();
        let flat = Self { intercept: (rate / (1.0 - rate)).ln(), slope: 0.0 };
        let varies = log_odds.iter().any(|x| x.to_bits() != log_odds[0].to_bits());
        if !varies {
            return Ok(flat);
        }
        let design = Design::new(vec![Feature::number("log-odds", "log-odds", log_odds)], target.rows());
        let fitted = LogisticSettings::default().check()?.fit(&design, target, &Unwatched)?;
        let slope = fitted.coefficients[0].value;
        Ok(if slope > 0.0 { Self { intercept: fitted.intercept, slope } } else { flat })
    }

    /// The log-odds that hold.
    pub fn apply(&self, log_odds: f64) -> f64 {
        self.intercept + self.slope * log_odds
    }
}
