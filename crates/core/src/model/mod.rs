//! A model: preparation and estimator, one unit that is saved, scored with and exported whole.

mod blended;
mod fingerprint;
mod fitting;
mod memory;
mod recipe;
mod saved;

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::study::{Outcome, OutcomeError};
pub use blended::Blended;
pub use memory::Width;
use pronoia_data::Table;
use pronoia_data::split::SplitError;
use pronoia_data::stats::sigmoid;
use pronoia_learn::calibrate::{Calibrated, Calibration};
use pronoia_learn::learn::{Estimator, FitError, Settings};
use pronoia_learn::prepare::{Design, ModelInput, Preparation, PrepareError};
pub use recipe::{Ensemble, Mix, Recipe};

/// Rows scored at a time, to keep memory flat.
const BLOCK: usize = 65_536;

/// Everything needed to turn a customer into a probability.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Model {
    /// What is predicted.
    pub outcome: Outcome,
    /// What tells log-odds: one family, or those of a blend.
    pub members: Vec<EnsembleMember>,
    /// How several are put together; none if there is one.
    pub blended: Option<Blended>,
    /// What governed all that was drawn by lot.
    pub seed: u64,
    /// Rows fitted to.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// A digest of what was read of those rows: it differs when they do.
    pub fingerprint: String,
    /// The version of the program that fitted it.
    pub version: String,
    /// Act from this probability on, if a policy says so.
    pub cut_off: Option<f64>,
    /// Whether it was judged on rows that it had not seen.
    pub evaluated: bool,
}

/// One fitted family with all that it needs to tell log-odds that hold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct EnsembleMember {
    /// How it was fitted.
    pub settings: Settings,
    /// The fitted preparation.
    pub preparation: Preparation,
    /// The fitted classifier.
    pub estimator: Estimator,
    /// What makes probabilities of its scores, where they are none by themselves.
    pub calibration: Option<Calibration>,
    /// How that was chosen.
    pub calibrated: Option<Calibrated>,
}

/// Why there is no model.
#[derive(Debug, Clone, PartialEq, Error)]
pub enum ModelError {
    /// The preparation failed.
    #[error(transparent)]
    Prepare(#[from] PrepareError),
    /// The fit failed.
    #[error(transparent)]
    Fit(#[from] FitError),
    /// The outcome cannot be read.
    #[error(transparent)]
    Outcome(#[from] OutcomeError),
    /// The rows cannot be dealt out.
    #[error(transparent)]
    Split(#[from] SplitError),
    /// A filter cannot be applied.
    #[error("{0}")]
    Population(String),
    /// The saved form is damaged or of another kind.
    #[error("{0}")]
    Saved(String),
}

impl Model {
    /// Probability of the event for every row given.
    ///
    /// # Errors
    /// [`PrepareError`] if the table does not have the columns needed.
    pub fn probabilities(&self, table: &Table, rows: &[usize]) -> Result<Vec<f64>, PrepareError> {
        let mut out = Vec::with_capacity(rows.len());
        for block in rows.chunks(BLOCK) {
            let told: Vec<Vec<f64>> =
                self.members.iter().map(|member| member.log_odds(table, block)).collect::<Result<_, _>>()?;
            let log_odds = match &self.blended {
                Some(blended) => blended.log_odds(&told),
                None => told.into_iter().next().unwrap_or_default(),
            };
            out.extend(log_odds.into_iter().map(sigmoid));
        }
        Ok(out)
    }

    /// Log-odds of rows that are prepared already, a design for each member; calibrated only where
    /// members are put together, which they are as they hold.
    pub(crate) fn scores(&self, designs: &[&Design]) -> Vec<f64> {
        match (&self.blended, &self.members[..]) {
            (None, [only, ..]) => designs.first().map_or(Vec::new(), |design| only.estimator.log_odds(design)),
            (Some(blended), members) => {
                let told = members.iter().zip(designs).map(|(m, design)| m.calibrated(m.estimator.log_odds(design)));
                blended.log_odds(&told.collect::<Vec<_>>())
            }
            (None, []) => Vec::new(),
        }
    }

    /// Log-odds of rows that are prepared already, a design for each member; as they hold.
    pub(crate) fn log_odds_of(&self, designs: &[&Design]) -> Vec<f64> {
        let scores = self.scores(designs);
        match (&self.blended, &self.members[..]) {
            (None, [only, ..]) => only.calibrated(scores),
            _ => scores,
        }
    }

    /// The columns that the model reads, each once.
    pub fn inputs(&self) -> impl Iterator<Item = &ModelInput> {
        let all = || self.members.iter().flat_map(|member| &member.preparation.inputs);
        all().enumerate().filter(move |(at, input)| !all().take(*at).any(|i| i.name == input.name)).map(|(_, i)| i)
    }
}

impl EnsembleMember {
    /// Log-odds of the event for every row given, calibrated.
    fn log_odds(&self, table: &Table, rows: &[usize]) -> Result<Vec<f64>, PrepareError> {
        let design = self.preparation.apply(table, rows)?;
        Ok(self.calibrated(self.estimator.log_odds(&design)))
    }

    /// Scores of the classifier as log-odds that hold.
    fn calibrated(&self, scores: Vec<f64>) -> Vec<f64> {
        match &self.calibration {
            Some(calibration) => scores.into_iter().map(|score| calibration.apply(score)).collect(),
            None => scores,
        }
    }
}

/// Bytes in hexadecimal.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}
