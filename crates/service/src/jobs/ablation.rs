//! What the policy would be worth if its model were not shown some columns.

use pronoia_core::Progress;
use pronoia_core::progress::ProgressPart;
use pronoia_core::study::ColumnRole;
use pronoia_core::validation::{BaselinePredictions, Without};

use super::fit::{fetch_with, hold_memory};
use super::{Trouble, Watch, compute};
use crate::App;

/// Fits the policy's model without the columns, and decides by the same rule.
pub(super) async fn look(
    app: &App,
    workspace: i64,
    (id, columns): (i64, &[String]),
    watch: &Watch,
) -> Result<String, Trouble> {
    let row = app.store.model(id).await?;
    let study = app.store.study(workspace, row.study_id).await?;
    let (basis, recipe, seed) = (row.fitted_on()?, row.recipe()?, row.seed as u64);
    let state = study.choices()?;
    let chosen = state.policy.clone().filter(|policy| policy.model_id == id);
    let chosen = chosen.ok_or_else(|| Trouble::Failed("The policy was changed in the meantime.".into()))?;
    let told = app.store.judgement(id).await?;
    let told = told
        .ok_or_else(|| Trouble::Failed("The predictions for single customers were not saved; fit it again.".into()))?;
    let _held = hold_memory(app, workspace, &study, (&basis, &[&recipe]), watch).await?;
    watch.tell("Reading the columns", 0.0);
    let sensitive: Vec<String> =
        state.columns.iter().filter(|c| c.role == ColumnRole::Sensitive).map(|c| c.name.clone()).collect();
    let mut more = sensitive.clone();
    more.extend(chosen.policy.inputs());
    let table = fetch_with(app, workspace, &study, &basis, |_| Ok(more)).await?;
    let (watch, columns) = (watch.clone(), columns.to_vec());
    let found = compute(move || {
        let rows: Vec<usize> = told.positions.iter().map(|&row| row as usize).collect();
        let told = BaselinePredictions { probability: &told.probability, rows: &rows };
        let part = ProgressPart::of(&watch, 0.05, 1.0);
        Without::fit(&table, &basis, (&recipe, seed), (&columns, &sensitive), (chosen, told), &part)
    })
    .await??;
    app.store.set_without(id, &found).await?;
    Ok(format!("/studies/{}/decide/groups#without", study.id))
}
