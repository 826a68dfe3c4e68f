//! A model: preparation and estimator, one unit that is saved, scored with and exported whole.

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use thiserror::Error;

use crate::learn::{Estimator, FitError, Settings, sigmoid};
use crate::prepare::{Preparation, PrepareError};
use crate::progress::Part;
use crate::study::{Basis, Outcome, OutcomeError};
use crate::{Kind, Progress, Table};

/// The version of the form in which models are saved.
const VERSION: u32 = 2;

/// Rows scored at a time, to keep memory flat.
const BLOCK: usize = 65_536;

/// Everything needed to turn a customer into a probability.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Model {
    /// What is predicted.
    pub outcome: Outcome,
    /// The fitted preparation.
    pub preparation: Preparation,
    /// How it was fitted.
    pub settings: Settings,
    /// The fitted classifier.
    pub estimator: Estimator,
    /// What governed all that was drawn by lot.
    pub seed: u64,
    /// Rows fitted to.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// Act from this probability on, if a policy says so.
    pub cut_off: Option<f64>,
    /// Whether it was judged on rows that it had not seen.
    pub evaluated: bool,
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
    /// The saved form is damaged or of another kind.
    #[error("{0}")]
    Saved(String),
}

/// The saved form: the model with a checksum over its text.
#[derive(Serialize, Deserialize)]
struct Saved {
    pronoia_model: u32,
    sha256: String,
    model: Box<serde_json::value::RawValue>,
}

impl Model {
    /// Fits preparation and estimator to the rows given, by the choices of `basis`.
    ///
    /// Rows without an outcome are passed over. The result is the same, bit
    /// for bit, for the same rows, settings and seed, whatever the number of
    /// threads.
    ///
    /// # Errors
    /// [`ModelError`].
    pub fn fit(
        table: &Table,
        basis: &Basis,
        rows: &[usize],
        settings: &Settings,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Self, ModelError> {
        let happened = basis.outcome.read(table)?;
        let rows: Vec<usize> = rows.iter().copied().filter(|&r| happened[r].is_some()).collect();
        let event: Vec<bool> = rows.iter().map(|&r| happened[r] == Some(true)).collect();
        progress.tell("Preparing the training rows", 0.0);
        let preparation = Preparation::fit(table, &basis.steps, &basis.predictors, &rows, settings.encoding())?;
        let design = preparation.apply(table, &rows)?;
        progress.go_on().map_err(FitError::from)?;
        let estimator = settings.fit(&design, &event, seed, &Part::of(progress, 0.1, 1.0))?;
        Ok(Self {
            outcome: basis.outcome.clone(),
            preparation,
            settings: settings.clone(),
            estimator,
            seed,
            rows: rows.len() as u64,
            events: event.iter().filter(|&&e| e).count() as u64,
            cut_off: None,
            evaluated: false,
        })
    }

    /// Probability of the event for every row given.
    ///
    /// # Errors
    /// [`PrepareError`] if the table does not have the columns needed.
    pub fn probabilities(&self, table: &Table, rows: &[usize]) -> Result<Vec<f64>, PrepareError> {
        let mut out = Vec::with_capacity(rows.len());
        for block in rows.chunks(BLOCK) {
            let design = self.preparation.apply(table, block)?;
            out.extend(self.estimator.log_odds(&design).into_iter().map(sigmoid));
        }
        Ok(out)
    }

    /// The columns that the model reads, with their kinds.
    pub fn inputs(&self) -> impl Iterator<Item = (&str, Kind)> {
        self.preparation.inputs.iter().map(|input| (input.name.as_str(), input.kind))
    }

    /// The saved form, as JSON with a version and a checksum.
    ///
    /// # Errors
    /// [`ModelError::Saved`] if the model holds what JSON cannot.
    pub fn to_bytes(&self) -> Result<Vec<u8>, ModelError> {
        let saved = |e: serde_json::Error| ModelError::Saved(e.to_string());
        let model = serde_json::value::to_raw_value(self).map_err(saved)?;
        let sha256 = hex(&Sha256::digest(model.get().as_bytes()));
        serde_json::to_vec(&Saved { pronoia_model: VERSION, sha256, model }).map_err(saved)
    }

    /// Reads the saved form.
    ///
    /// # Errors
    /// [`ModelError::Saved`] if it is no model, of a later version, or was changed.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, ModelError> {
        let refuse = |what: String| ModelError::Saved(what);
        let saved: Saved = serde_json::from_slice(bytes)
            .map_err(|e| refuse(format!("This is not a saved model, or it was cut short: {e}.")))?;
        if saved.pronoia_model != VERSION {
            return Err(refuse(format!(
                "The model was saved in form {}; this program reads form {VERSION}.",
                saved.pronoia_model
            )));
        }
        if hex(&Sha256::digest(saved.model.get().as_bytes())) != saved.sha256 {
            return Err(refuse("The model was changed after it was saved: its checksum does not fit.".into()));
        }
        serde_json::from_str(saved.model.get()).map_err(|e| refuse(format!("The model cannot be read: {e}.")))
    }
}

/// Bytes in hexadecimal.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}
