//! What models said of judged customers, row by row, kept while somebody decides about them.

use std::sync::{Arc, OnceLock};

use pronoia_core::Table;
use pronoia_core::explain::Similarity;
use pronoia_core::prepare::steps;
use pronoia_store::{StoreError, model};

use crate::App;
use crate::cache::PolicyCache;
use crate::error::ServiceError;
use crate::study_view::StudyView;

/// Bytes of all books that are kept; the one that was opened last is kept whatever its size.
const KEPT: usize = 256 << 20;

/// Customers that others are compared with, at most.
const COMPARED: usize = 50_000;

/// Judged customers of one model.
#[derive(Debug)]
pub struct CandidatePredictions {
    /// Their probabilities.
    pub probability: Vec<f64>,
    /// What happened.
    pub event: Vec<bool>,
    /// Their places in the table.
    pub rows: Vec<usize>,
    /// Columns of all customers.
    pub table: Table,
    likeness: OnceLock<Similarity>,
}

impl CandidatePredictions {
    /// About how much memory it takes.
    fn bytes(&self) -> usize {
        size_of::<f64>() * (self.table.rows() * self.table.columns().len() + 3 * self.rows.len())
    }

    /// Customers fitted to, or some of very many, ready to be compared with others; learned once.
    pub fn likeness(
        &self,
        columns: &[String],
        fitted_to: impl FnOnce(&Table) -> Result<Vec<usize>, ServiceError>,
    ) -> Result<&Similarity, ServiceError> {
        if let Some(learned) = self.likeness.get() {
            return Ok(learned);
        }
        let fitted_to = fitted_to(&self.table)?;
        let step = fitted_to.len().div_ceil(COMPARED).max(1);
        let compared: Vec<usize> = fitted_to.into_iter().step_by(step).collect();
        Ok(self.likeness.get_or_init(|| Similarity::of(&self.table, columns, &compared)))
    }
}

/// The model, and the columns.
type Key = (i64, Vec<String>);

/// The books that were opened last.
#[derive(Debug, Clone)]
pub struct PredictionCache(PolicyCache<Key, CandidatePredictions>);

impl Default for PredictionCache {
    fn default() -> Self {
        Self(PolicyCache::within(KEPT, CandidatePredictions::bytes))
    }
}

impl PredictionCache {
    /// Closes all of them.
    pub fn clear(&self) {
        self.0.clear();
    }

    /// The book of a model with some columns; a sentence if nothing was kept of the model.
    pub async fn open(
        &self,
        app: &App,
        view: &StudyView,
        model: &model::Model,
        columns: Vec<String>,
    ) -> Result<Arc<CandidatePredictions>, ServiceError> {
        let key = (model.id, columns);
        if let Some(book) = self.0.get(&key) {
            return Ok(book);
        }
        let told = app.store.judgement(model.id).await?.ok_or_else(|| {
            ServiceError::Refused(format!(
                "The predictions of {} for single customers were not saved. Fit it again at Train, then decide by customer.",
                model.name.to_lowercase()
            ))
        })?;
        let table = columns_of(app, view, model, &key.1).await?;
        let rows: Vec<usize> = told.positions.iter().map(|&row| row as usize).collect();
        if !key.1.is_empty() && rows.iter().any(|&row| row >= table.rows()) {
            return Err(StoreError::Damaged("a model was evaluated on rows that its table does not have".into()).into());
        }
        let book = CandidatePredictions {
            probability: told.probability,
            event: told.event,
            rows,
            table,
            likeness: OnceLock::new(),
        };
        Ok(self.0.put(key, book))
    }
}

/// Columns of the table that a model was fitted on, also of those that its steps make.
async fn columns_of(
    app: &App,
    view: &StudyView,
    model: &model::Model,
    names: &[String],
) -> Result<Table, ServiceError> {
    if names.is_empty() {
        return Ok(Table::default());
    }
    let basis = model.fitted_on()?;
    let record = app.store.table(view.study.workspace_id, view.study.records(basis.table)).await?;
    let kinds = record.kinds()?;
    let is_stored = |name: &String| kinds.iter().any(|kind| kind.0 == *name);
    if names.iter().all(is_stored) {
        return Ok(app.store.columns(&record, Some(names)).await?);
    }
    let refused = |e: String| ServiceError::Refused(format!("The amounts cannot be computed: {e}"));
    let checked = steps::checked(&basis.steps, &kinds).map_err(|e| refused(e.to_string()))?;
    let mut wanted: Vec<String> = names.iter().filter(|name| is_stored(name)).cloned().collect();
    for name in checked.into_iter().flat_map(|(_, reads)| reads).filter(is_stored) {
        if !wanted.contains(&name) {
            wanted.push(name);
        }
    }
    let stored = app.store.columns(&record, Some(&wanted)).await?;
    let (derived, _) = steps::population(&basis.steps, &stored).map_err(|e| refused(e.to_string()))?;
    match names.iter().find(|name| derived.column(name).is_none()) {
        None => Ok(derived),
        Some(missing) => {
            Err(refused(format!("“{missing}” was not there when {} was fitted.", model.name.to_lowercase())))
        }
    }
}
