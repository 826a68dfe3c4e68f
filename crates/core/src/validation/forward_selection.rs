//! How far a few columns go: a small readable model beside a full one.

use serde::{Deserialize, Serialize};

use super::learning_curve::share_of;
use crate::model::{Model, ModelError};
use crate::study::Basis;
use pronoia_data::evaluate::log_loss;
use pronoia_data::progress::{ProgressPart, Quiet};
use pronoia_data::split::Fold;
use pronoia_data::{Progress, Table};
use pronoia_learn::learn::Settings;
use pronoia_learn::learn::scorecard::ScorecardSettings;

/// Columns that the small model may have.
const MOST: usize = 3;

/// Rows that columns are chosen on, at most.
const ROWS: f64 = 20_000.0;

/// Columns that are tried beside those already chosen: the best by themselves.
const TRIED: usize = 12;

/// Parts of those rows that take turns in being judged.
const FOLDS: usize = 3;

/// What a column must take off the log loss, as a share of it, to be added.
const WORTH_ADDING: f64 = 0.001;

/// A scorecard on a few columns, which were chosen one after the other.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FewColumns {
    /// Its columns, in the order in which they were chosen.
    pub columns: Vec<String>,
    /// The model.
    pub model: Model,
}

impl FewColumns {
    /// Chooses columns on the rows given, one after the other, each the one that
    /// takes most off the log loss of rows that a scorecard had not met; then fits
    /// a scorecard on them. None if no column tells anything.
    ///
    /// # Errors
    /// [`ModelError`].
    pub fn fit(
        table: &Table,
        basis: &Basis,
        rows: &[usize],
        seed: u64,
        progress: &dyn Progress,
    ) -> Result<Option<Self>, ModelError> {
        let happened = basis.outcome.read(table)?;
        let event: Vec<bool> = rows.iter().map(|&row| happened[row] == Some(true)).collect();
        let share = (ROWS / rows.len().max(1) as f64).min(1.0);
        let places = share_of(&event, share, seed).unwrap_or_else(|| (0..rows.len()).collect());
        let drawn: Vec<usize> = places.iter().map(|&at| rows[at]).collect();
        let choice = SelectionRows {
            table: &table.take(&drawn),
            basis,
            event: places.iter().map(|&at| event[at]).collect(),
            seed,
        };
        let columns = choice.columns(&ProgressPart::of(progress, 0.0, 0.8))?;
        if columns.is_empty() {
            return Ok(None);
        }
        let settings = Settings::Scorecard(ScorecardSettings::default());
        let basis = Basis { predictors: columns.clone(), ..basis.clone() };
        let mut model = Model::fit(table, &basis, rows, settings, seed, &ProgressPart::of(progress, 0.8, 1.0))?;
        model.evaluated = true;
        Ok(Some(Self { columns, model }))
    }
}

/// What columns are chosen on: a table of only those rows.
struct SelectionRows<'a> {
    table: &'a Table,
    basis: &'a Basis,
    event: Vec<bool>,
    seed: u64,
}

impl SelectionRows<'_> {
    fn columns(&self, progress: &dyn Progress) -> Result<Vec<String>, ModelError> {
        let rate = self.event.iter().filter(|&&e| e).count() as f64 / self.event.len().max(1) as f64;
        let mut least = log_loss(&vec![rate; self.event.len()], &self.event, None);
        let mut alone: Vec<(f64, &String)> = Vec::new();
        let all = self.basis.predictors.len() + (MOST - 1) * TRIED;
        let tell = |tried: usize| progress.tell("Trying a few columns", tried as f64 / all as f64);
        for (at, column) in self.basis.predictors.iter().enumerate() {
            tell(at);
            alone.push((self.loss(std::slice::from_ref(column), progress)?, column));
        }
        alone.sort_by(|a, b| a.0.total_cmp(&b.0));
        alone.truncate(TRIED);
        let mut chosen: Vec<String> = Vec::new();
        for place in 0..MOST {
            let mut best: Option<(f64, &String)> = None;
            for (at, &(by_itself, column)) in alone.iter().enumerate() {
                tell(self.basis.predictors.len() + place.saturating_sub(1) * TRIED + at);
                if chosen.contains(column) {
                    continue;
                }
                let together: Vec<String> = chosen.iter().chain([column]).cloned().collect();
                let loss = if chosen.is_empty() { by_itself } else { self.loss(&together, progress)? };
                if best.is_none_or(|(least, _)| loss < least) {
                    best = Some((loss, column));
                }
            }
            match best {
                Some((loss, column)) if loss < least * (1.0 - WORTH_ADDING) => {
                    chosen.push(column.clone());
                    least = loss;
                }
                _ => break,
            }
        }
        Ok(chosen)
    }

    /// Mean log loss of a scorecard on these columns, on rows that it had not met;
    /// infinite if there can be none.
    fn loss(&self, columns: &[String], progress: &dyn Progress) -> Result<f64, ModelError> {
        progress.go_on().map_err(pronoia_learn::learn::FitError::from)?;
        let basis = Basis { predictors: columns.to_vec(), ..self.basis.clone() };
        let settings = Settings::Scorecard(ScorecardSettings::default());
        let rows: Vec<usize> = (0..self.table.rows()).collect();
        let of_row = basis.split.folds_of(self.table, &rows, &self.event, (FOLDS, self.seed))?;
        let mut probability = vec![0.0; rows.len()];
        for turn in Fold::of(&of_row) {
            // Whoever cannot tell progress apart by column is not told of it.
            let learned = turn.of_learned(&rows);
            let told = Model::fit(self.table, &basis, &learned, &settings, self.seed, &Quiet(progress))
                .and_then(|model| Ok(model.probabilities(self.table, &turn.of_judged(&rows))?));
            match told {
                Ok(told) => turn.put(told, &mut probability),
                Err(stopped @ ModelError::Fit(pronoia_learn::learn::FitError::Cancelled(_))) => return Err(stopped),
                Err(_) => return Ok(f64::INFINITY),
            }
        }
        Ok(log_loss(&probability, &self.event, None))
    }
}
