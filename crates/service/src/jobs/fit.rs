//! A candidate is fitted, and judged on rows that it was not fitted to.

use std::time::Instant;

use pronoia_core::cautions::{CautionedCandidate, look_at_candidate};
use pronoia_core::decide::Ranking;
use pronoia_core::evaluate::Evaluation;
use pronoia_core::learn::FitError;
use pronoia_core::model::{ModelError, Recipe};
use pronoia_core::progress::ProgressPart;
use pronoia_core::split::Split;
use pronoia_core::study::Basis;
use pronoia_core::{EvaluatedModel, Kind, Model, Progress, Table};
use pronoia_store::models::FittedCandidate;
use pronoia_store::{model, study};

use super::{Trouble, Watch, compute};
use crate::budget::bytes_needed;
use crate::{App, text};

impl From<ModelError> for Trouble {
    fn from(e: ModelError) -> Self {
        match e {
            ModelError::Fit(FitError::Cancelled(_)) => Self::Stopped,
            other => Self::Failed(other.to_string()),
        }
    }
}

/// Fits a candidate and keeps model, figures and ranking.
pub(super) async fn fit(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let row = app.store.model(id).await?;
    let study = app.store.study(workspace, row.study_id).await?;
    let address = format!("/studies/{}/compare", study.id);
    if row.state != "fitted" {
        match fit_and_judge(app, workspace, &study, &row, watch).await {
            Ok(brought) => app.store.set_fitted(id, &brought).await?,
            Err(trouble) => {
                match &trouble {
                    Trouble::Stopped => app.store.set_model_state(id, "stopped", None).await?,
                    Trouble::Failed(reason) => app.store.set_model_state(id, "failed", Some(reason)).await?,
                    Trouble::Away | Trouble::Lost => {}
                }
                return Err(trouble);
            }
        }
    }
    enter(app, id).await?;
    Ok(address)
}

/// Enters a fitted candidate in the ledger: from what is kept of it, so that a job that is begun again after it was
/// kept enters the same.
async fn enter(app: &App, id: i64) -> Result<(), Trouble> {
    let row = app.store.model(id).await?;
    let Some(evaluation) = row.judged()? else { return Ok(()) };
    let figure = format!(
        "on {} rows; AUC (ROC) {} on {} {} rows",
        text::count(row.fitted()?.rows),
        text::fixed(evaluation.area_under_roc, 3),
        text::count(evaluation.rows),
        row.fitted_on()?.split.judged_on()
    );
    app.store.note(row.study_id, None, &format!("{} fitted", row.name), &figure).await?;
    Ok(())
}

/// Fits a candidate on its choices, and judges it.
pub(super) async fn fit_and_judge(
    app: &App,
    workspace: i64,
    study: &study::Model,
    row: &model::Model,
    watch: &Watch,
) -> Result<FittedCandidate, Trouble> {
    let (basis, recipe, seed) = (row.fitted_on()?, row.recipe()?, row.seed as u64);
    let _held = hold_memory(app, workspace, study, (&basis, &[&recipe]), watch).await?;
    watch.tell("Reading the columns", 0.0);
    let table = fetch(app, workspace, study, &basis).await?;
    let (watch, name) = (watch.clone(), row.name.clone());
    compute(move || {
        let begun = Instant::now();
        let judged = EvaluatedModel::fit(&table, &basis, &recipe, seed, &ProgressPart::of(&watch, 0.05, 0.95))?;
        let fit_seconds = begun.elapsed().as_secs_f64();
        watch.tell("Evaluating", 0.95);
        let evaluation = Evaluation::of(&judged.probability, &judged.event);
        let ranking = Ranking::of(&judged.probability, &judged.event).map_err(|e| Trouble::Failed(e.to_string()))?;
        let sample = &judged.rows[..judged.rows.len().min(1_000)];
        let begun = Instant::now();
        judged.model.probabilities(&table, sample).map_err(|e| Trouble::Failed(e.to_string()))?;
        let score_seconds = begun.elapsed().as_secs_f64() * 1_000.0 / sample.len() as f64;
        let fitted_to = basis.split.fitted_to(parts(&table, &basis)?);
        let (probability, event) = judge(&judged.model, &table, &basis, &fitted_to)?;
        let training = Ranking::of(&probability, &event).map_err(|e| Trouble::Failed(e.to_string()))?;
        let candidate =
            CautionedCandidate { name: &name, model: &judged.model, evaluation: &evaluation, basis: &basis };
        let cautions = look_at_candidate(&candidate);
        Ok(FittedCandidate { judged, evaluation, ranking, training, cautions, fit_seconds, score_seconds })
    })
    .await?
}

/// Waits until there is memory for the largest of some fits, and holds it.
pub(super) async fn hold_memory(
    app: &App,
    workspace: i64,
    study: &study::Model,
    (basis, recipes): (&Basis, &[&Recipe]),
    watch: &Watch,
) -> Result<tokio::sync::OwnedSemaphorePermit, Trouble> {
    let table = app.store.table(workspace, study.records(basis.table)).await?;
    let needed = recipes.iter().map(|recipe| bytes_needed(&table, basis, recipe)).collect::<Result<Vec<_>, _>>()?;
    let bytes = needed.into_iter().max().unwrap_or(0);
    app.memory.check(bytes).map_err(Trouble::Failed)?;
    Ok(app.memory.take(bytes, watch).await?)
}

/// The columns that a fit needs.
pub(super) async fn fetch(app: &App, workspace: i64, study: &study::Model, basis: &Basis) -> Result<Table, Trouble> {
    fetch_with(app, workspace, study, basis, |_| Ok(Vec::new())).await
}

/// The columns that a fit needs, and more of those that are there.
pub(super) async fn fetch_with(
    app: &App,
    workspace: i64,
    study: &study::Model,
    basis: &Basis,
    more: impl FnOnce(&[(String, Kind)]) -> Result<Vec<String>, String>,
) -> Result<Table, Trouble> {
    let table = app.store.table(workspace, study.records(basis.table)).await?;
    let kinds = table.kinds()?;
    let mut names = basis.columns_read(&kinds).map_err(|e| Trouble::Failed(e.to_string()))?;
    for name in more(&kinds).map_err(Trouble::Failed)? {
        if !names.contains(&name) && kinds.iter().any(|kind| kind.0 == name) {
            names.push(name);
        }
    }
    Ok(app.store.columns(&table, Some(&names)).await?)
}

/// Training, validation and test rows.
pub(super) fn parts(table: &Table, basis: &Basis) -> Result<Split, Trouble> {
    basis.deal(table).map_err(Trouble::Failed)
}

/// Probabilities and outcomes of the rows given.
pub(super) fn judge(
    model: &Model,
    table: &Table,
    basis: &Basis,
    rows: &[usize],
) -> Result<(Vec<f64>, Vec<bool>), Trouble> {
    let failed = |e: String| Trouble::Failed(e);
    let probability = model.probabilities(table, rows).map_err(|e| failed(e.to_string()))?;
    let happened = basis.outcome.read(table).map_err(|e| failed(e.to_string()))?;
    Ok((probability, rows.iter().map(|&r| happened[r] == Some(true)).collect()))
}
