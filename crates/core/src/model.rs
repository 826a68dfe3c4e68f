//! A model: preparation and estimator, one unit that is saved, scored with and exported whole.

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};
use thiserror::Error;

use crate::calibrate::{Calibrated, Calibration};
use crate::learn::{Estimator, FitError, Fitted, Settings, Target, sigmoid};
use crate::prepare::{Preparation, PrepareError, Training};
use crate::progress::Part;
use crate::split::SplitError;
use crate::study::{Basis, Outcome, OutcomeError};
use crate::{Kind, Progress, Table};

/// The version of the form in which models are saved.
const VERSION: u32 = 4;

/// The oldest version that can still be read.
const OLDEST: u32 = 4;

/// Parts of the training rows that take turns in being scored by models fitted
/// to the others.
const FOLDS: usize = 5;

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
    /// What makes probabilities of its scores, where they are none by themselves.
    #[serde(default)]
    pub calibration: Option<Calibration>,
    /// How that was chosen.
    #[serde(default)]
    pub calibrated: Option<Calibrated>,
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
    /// Rows without an outcome, or that count nothing, are passed over. The
    /// result is the same, bit for bit, for the same rows, settings and seed,
    /// whatever the number of threads.
    ///
    /// Where the rows are balanced, or the family gives no log-odds, the
    /// probabilities are calibrated on the rows as they were: five parts of them,
    /// each scored by a model that was fitted to the others after balancing those.
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
        let weights = basis.weights(table)?;
        let counts = |row: usize| weights.as_ref().is_none_or(|w| w[row] > 0.0);
        let rows: Vec<usize> = rows.iter().copied().filter(|&r| happened[r].is_some() && counts(r)).collect();
        let event: Vec<bool> = rows.iter().map(|&r| happened[r] == Some(true)).collect();
        let weight = weights.map(|w| rows.iter().map(|&r| w[r]).collect::<Vec<f64>>());
        let fit = Fit { table, basis, settings, seed };
        let target = Target { weight, ..Target::plain(event.clone()) };
        // Rows of one customer are in and out of a tree's bag together only in folds.
        let judges_itself = settings.judges_itself() && basis.split.together.is_none();
        let (told, whole) = match !basis.balance.is_off() || (settings.needs_calibration() && !judges_itself) {
            true => (Some(fit.told(&rows, &target, &Part::of(progress, 0.0, 0.8))?), 0.8),
            false => (None, 0.0),
        };
        let (preparation, fitted) = fit.fitted(&rows, &target, &Part::of(progress, whole, 1.0))?;
        let told = told.or(fitted.unmet.filter(|_| settings.needs_calibration()));
        let (calibration, calibrated) = match told {
            Some(log_odds) => {
                let of_row = fit.folds(&rows, &target)?;
                let (calibration, how) = Calibration::choose(&log_odds, &target, &of_row)?;
                (calibration, Some(how))
            }
            None => (None, None),
        };
        let estimator = fitted.estimator;
        Ok(Self {
            outcome: basis.outcome.clone(),
            preparation,
            settings: settings.clone(),
            estimator,
            calibration,
            calibrated,
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
            let held = |score: f64| self.calibration.as_ref().map_or(score, |c| c.apply(score));
            out.extend(self.estimator.log_odds(&design).into_iter().map(|score| sigmoid(held(score))));
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
        if !(OLDEST..=VERSION).contains(&saved.pronoia_model) {
            return Err(refuse(format!(
                "The model was saved in form {}; this program reads form {VERSION}. Fit it again.",
                saved.pronoia_model
            )));
        }
        if hex(&Sha256::digest(saved.model.get().as_bytes())) != saved.sha256 {
            return Err(refuse("The model was changed after it was saved: its checksum does not fit.".into()));
        }
        serde_json::from_str(saved.model.get()).map_err(|e| refuse(format!("The model cannot be read: {e}.")))
    }
}

/// What is fitted, and how; on which rows is said each time.
struct Fit<'a> {
    table: &'a Table,
    basis: &'a Basis,
    settings: &'a Settings,
    seed: u64,
}

impl Fit<'_> {
    /// Preparation and estimator of the rows given, balanced as chosen.
    fn fitted(
        &self,
        rows: &[usize],
        target: &Target,
        progress: &dyn Progress,
    ) -> Result<(Preparation, Fitted), ModelError> {
        let &Self { table, basis, settings, seed } = self;
        progress.tell("Preparing the training rows", 0.0);
        // What steps learn, they learn from rows as they are.
        let training = Training { rows, event: &target.event };
        let encoding = settings.encoding();
        let (preparation, whole) = Preparation::fit(table, &basis.steps, &basis.predictors, &training, encoding)?;
        let read: Vec<String> = preparation.inputs.iter().map(|input| input.name.clone()).collect();
        let balanced = basis.balance.apply(table, &read, rows, &target.event, seed);
        let mut design = if balanced.kept.len() == rows.len() { whole } else { whole.take(&balanced.kept) };
        let mut target = target.take(&balanced.kept);
        target.balanced = !basis.balance.is_off();
        if let Some(weight) = balanced.weight {
            let both = weight.iter().enumerate().map(|(row, w)| w * target.weight(row)).collect();
            target.weight = Some(both);
        }
        if let Some(synthetic) = balanced.synthetic {
            let all: Vec<usize> = (0..synthetic.table.rows()).collect();
            design = design.followed_by(&preparation.apply(&synthetic.table, &all)?);
            for &[first, second] in &synthetic.parents {
                target.event.push(target.event[first]);
                let between = (target.weight(first) + target.weight(second)) / 2.0;
                if let Some(weight) = &mut target.weight {
                    weight.push(between);
                }
            }
            target.parents = synthetic.parents;
        }
        progress.go_on().map_err(FitError::from)?;
        let fitted = settings.fit(&design, &target, seed, &Part::of(progress, 0.1, 1.0))?;
        Ok((preparation, fitted))
    }

    /// The part of every row, among those that take turns in being scored.
    fn folds(&self, rows: &[usize], target: &Target) -> Result<Vec<usize>, ModelError> {
        Ok(self.basis.split.folds_of(self.table, rows, &target.event, (FOLDS, self.seed))?)
    }

    /// Log-odds of every row as it is, told by a model that has not seen it.
    fn told(&self, rows: &[usize], target: &Target, progress: &dyn Progress) -> Result<Vec<f64>, ModelError> {
        let of_row = self.folds(rows, target)?;
        let mut log_odds = vec![0.0; rows.len()];
        for fold in 0..FOLDS {
            let (from, to) = (fold as f64 / FOLDS as f64, (fold + 1) as f64 / FOLDS as f64);
            let pick = |inside: bool| (0..rows.len()).filter(|&at| (of_row[at] == fold) == inside).collect();
            let (judged, learned): (Vec<usize>, Vec<usize>) = (pick(true), pick(false));
            let of = |at: &[usize]| at.iter().map(|&at| rows[at]).collect::<Vec<_>>();
            let (preparation, fitted) =
                self.fitted(&of(&learned), &target.take(&learned), &Part::of(progress, from, to))?;
            let scores = fitted.estimator.log_odds(&preparation.apply(self.table, &of(&judged))?);
            judged.iter().zip(scores).for_each(|(&at, score)| log_odds[at] = score);
        }
        Ok(log_odds)
    }
}

/// Bytes in hexadecimal.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}
