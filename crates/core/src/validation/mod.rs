//! A model with what it said of customers whom it had not seen; whether more
//! rows would help it, how far a few columns go, and what it goes by.

mod ablation;
mod diagnostics;
mod forward_selection;
mod importance;
mod learning_curve;

pub use ablation::{BaselinePredictions, Without};
pub use diagnostics::Diagnostics;
pub use forward_selection::FewColumns;
pub use importance::{Interaction, ModelImportance};
pub use learning_curve::{ByRows, Gain, RowsPoint};

use crate::model::{Model, ModelError, Recipe};
use crate::study::Basis;
use pronoia_data::progress::ProgressPart;
use pronoia_data::split::{Fold, Split};
use pronoia_data::{Progress, Table};

/// Rows to learn from, and others to judge on: training and validation rows, or with
/// cross-validation all folds but the first, and the first.
fn learned_and_judged(
    table: &Table,
    basis: &Basis,
    happened: &[Option<bool>],
    seed: u64,
) -> Result<(Vec<usize>, Vec<usize>), ModelError> {
    let dealt = basis.split.deal(table, happened)?;
    let Some(folds) = basis.split.folds else { return Ok((dealt.training, dealt.validation)) };
    let rows = dealt.unsealed();
    let event: Vec<bool> = rows.iter().map(|&row| happened[row] == Some(true)).collect();
    let of_row = basis.split.folds_of(table, &rows, &event, (folds, seed))?;
    let first = Fold::of(&of_row).next();
    Ok(first.map_or_else(|| (rows.clone(), Vec::new()), |turn| (turn.of_learned(&rows), turn.of_judged(&rows))))
}

/// A fitted model and how it is judged.
#[derive(Debug, Clone)]
pub struct EvaluatedModel {
    /// The model.
    pub model: Model,
    /// The rows it is judged on: validation rows, or with cross-validation all
    /// that are not sealed.
    pub rows: Vec<usize>,
    /// Probability of each, told by a model that was not fitted to the row.
    pub probability: Vec<f64>,
    /// What happened.
    pub event: Vec<bool>,
}

impl EvaluatedModel {
    /// Fits a model and has it judged, as the split of `basis` says.
    ///
    /// With cross-validation the probabilities are those of the models of the
    /// folds, each with its preparation, balance and calibration from the other
    /// folds alone; the model that is kept is fitted to all folds together, and
    /// a cut-off chosen on the judged rows is carried over as a probability.
    ///
    /// # Errors
    /// [`ModelError`].
    pub fn fit(
        table: &Table,
        basis: &Basis,
        recipe: impl Into<Recipe>,
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Self, ModelError> {
        let recipe = &recipe.into();
        let (_, happened) = basis.population(table).map_err(ModelError::Population)?;
        let dealt = basis.split.deal(table, &happened)?;
        let events = |rows: &[usize]| rows.iter().map(|&row| happened[row] == Some(true)).collect::<Vec<_>>();
        let Some(folds) = basis.split.folds else {
            let Split { training, validation: rows, .. } = dealt;
            let mut model = Model::fit(table, basis, &training, recipe, seed, &ProgressPart::of(progress, 0.0, 0.95))?;
            model.evaluated = true;
            let probability = model.probabilities(table, &rows)?;
            return Ok(Self { model, probability, event: events(&rows), rows });
        };
        let rows = dealt.unsealed();
        let event = events(&rows);
        let of_row = basis.split.folds_of(table, &rows, &event, (folds, seed))?;
        let mut probability = vec![f64::NAN; rows.len()];
        let part = |fold: usize| fold as f64 / (folds + 1) as f64;
        for (fold, turn) in Fold::of(&of_row).enumerate() {
            let progress = ProgressPart::of(progress, part(fold), part(fold + 1));
            let model = Model::fit(table, basis, &turn.of_learned(&rows), recipe, seed, &progress)?;
            turn.put(model.probabilities(table, &turn.of_judged(&rows))?, &mut probability);
        }
        let mut model = Model::fit(table, basis, &rows, recipe, seed, &ProgressPart::of(progress, part(folds), 1.0))?;
        model.evaluated = true;
        Ok(Self { model, rows, probability, event })
    }
}
