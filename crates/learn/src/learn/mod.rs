//! Families of classifiers: checked settings, an estimator, a fitted result.

pub mod bayes;
pub mod boosting;
mod families;
pub mod forest;
mod linear;
pub mod logistic;
pub mod neighbours;
pub mod network;
pub mod scorecard;
pub mod setting;
pub mod svm;
mod target;
pub mod tree;
mod trees;

use thiserror::Error;

pub use families::{Estimator, Family, Fitted, Settings};
use pronoia_data::Cancelled;
pub use target::Target;
pub use trees::BINS;
pub use trees::{SplitRule, Tree, TreeNode};

/// Why a family cannot be fitted.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum FitError {
    /// A setting is out of its range.
    #[error("The setting “{setting}” must be {range}; it is {value}.")]
    Setting {
        /// Its name.
        setting: &'static str,
        /// What is allowed.
        range: String,
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
        known: String,
    },
    /// A direction was asked of a column that is no number, or not there.
    #[error("“{0}” is not a numeric predictor, so that no monotone constraint can be set on it.")]
    Column(String),
    /// All training rows have the same outcome.
    #[error("All {rows} training rows have the same outcome, so that nothing can be learned.")]
    OneSided {
        /// Training rows.
        rows: usize,
    },
    /// The equations have no stable solution, whatever the penalty.
    #[error(
        "The columns are so collinear that no stable solution was found. Exclude columns that duplicate others, or raise the ridge penalty."
    )]
    Unstable,
    /// Stopped from outside.
    #[error(transparent)]
    Cancelled(#[from] Cancelled),
}

/// The seed of one of several parts that are drawn by lot apart from each other.
pub fn seed_of(seed: u64, part: usize) -> u64 {
    seed ^ (part as u64 + 1).wrapping_mul(0x9e37_79b9_7f4a_7c15)
}
