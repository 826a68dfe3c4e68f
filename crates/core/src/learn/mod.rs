//! Families of classifiers: checked settings, an estimator, a fitted result.

pub mod boosting;
pub mod logistic;
mod target;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::prepare::{Design, Encoding};
use crate::{Cancelled, Progress};
pub use target::Target;

use boosting::{Boosted, BoostedSettings};
use logistic::{Logistic, LogisticSettings};

/// A family and its settings, not yet checked.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "family")]
pub enum Settings {
    /// Logistic regression.
    Logistic(LogisticSettings),
    /// Gradient-boosted trees.
    Boosted(BoostedSettings),
}

/// Why a family cannot be fitted.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum FitError {
    /// A setting is out of its range.
    #[error("The setting “{setting}” must be {range}; it is {value}.")]
    Setting {
        /// Its name.
        setting: &'static str,
        /// What is allowed.
        range: &'static str,
        /// What was asked for.
        value: String,
    },
    /// There is no such setting.
    #[error("There is no setting “{setting}” for {family}; there are {known}.")]
    UnknownSetting {
        /// What was asked for.
        setting: String,
        /// The family in words.
        family: &'static str,
        /// The settings there are.
        known: &'static str,
    },
    /// All training rows have the same outcome.
    #[error("All {rows} training rows have the same outcome, so that nothing can be learned.")]
    OneSided {
        /// Training rows.
        rows: usize,
    },
    /// The equations have no stable solution, whatever the penalty.
    #[error(
        "The columns depend on each other so closely that no stable solution was found. Leave out columns that say the same, or raise the ridge penalty."
    )]
    Unstable,
    /// Stopped from outside.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// A fitted classifier of any family.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "family")]
pub enum Estimator {
    /// Logistic regression.
    Logistic(Logistic),
    /// Gradient-boosted trees.
    Boosted(Boosted),
}

impl Settings {
    /// The family with its sound defaults; none if there is no such family.
    pub fn of_family(word: &str) -> Option<Self> {
        match word {
            "logistic" => Some(Self::Logistic(LogisticSettings::default())),
            "boosted" => Some(Self::Boosted(BoostedSettings::default())),
            _ => None,
        }
    }

    /// The family's name on the pages.
    pub fn name(&self) -> &'static str {
        match self {
            Self::Logistic(_) => "Logistic regression",
            Self::Boosted(_) => "Boosted trees",
        }
    }

    /// How the family wants its columns.
    pub fn encoding(&self) -> Encoding {
        match self {
            Self::Logistic(_) => Encoding::Indicators,
            Self::Boosted(_) => Encoding::Native,
        }
    }

    /// Changes one setting by name.
    ///
    /// # Errors
    /// [`FitError::UnknownSetting`] or [`FitError::Setting`].
    pub fn set(&mut self, name: &str, value: &str) -> Result<(), FitError> {
        match self {
            Self::Logistic(s) => s.set(name, value),
            Self::Boosted(s) => s.set(name, value),
        }
    }

    /// Checks the settings and fits.
    ///
    /// `target` holds the outcome of every row of the design. `seed` governs all
    /// that is drawn by lot; the result is the same for any number of threads.
    ///
    /// # Errors
    /// [`FitError`].
    pub fn fit(
        &self,
        design: &Design,
        target: &Target,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Estimator, FitError> {
        if target.total(true) <= 0.0 || target.total(false) <= 0.0 {
            return Err(FitError::OneSided { rows: target.rows() });
        }
        match self {
            Self::Logistic(s) => s.check()?.fit(design, target, progress).map(Estimator::Logistic),
            Self::Boosted(s) => s.check()?.fit(design, target, seed, progress).map(Estimator::Boosted),
        }
    }
}

impl Estimator {
    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        match self {
            Self::Logistic(m) => m.log_odds(design),
            Self::Boosted(m) => m.log_odds(design),
        }
    }
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

/// Reads a setting's value.
pub(crate) fn parse_setting<T: std::str::FromStr>(
    setting: &'static str,
    range: &'static str,
    value: &str,
) -> Result<T, FitError> {
    value.trim().parse().map_err(|_| FitError::Setting { setting, range, value: value.into() })
}
