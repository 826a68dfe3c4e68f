//! What a candidate goes by.

use pronoia_core::Progress;
use pronoia_core::progress::ProgressPart;
use pronoia_core::validation::ModelImportance;

use super::fit::{fetch_with, hold_memory};
use super::{Trouble, Watch, compute};
use crate::App;

/// Deals out every column among customers judged, and looks at columns two by two.
pub(super) async fn look(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let row = app.store.model(id).await?;
    let study = app.store.study(workspace, row.study_id).await?;
    let (basis, recipe, model) = (row.fitted_on()?, row.recipe()?, row.fitted()?);
    let chosen = study.choices()?.policy.filter(|policy| policy.model_id == id);
    let _held = hold_memory(app, workspace, &study, (&basis, &[&recipe]), watch).await?;
    watch.tell("Reading the columns", 0.0);
    let inputs = chosen.as_ref().map_or(Vec::new(), |chosen| chosen.policy.inputs());
    let table = fetch_with(app, workspace, &study, &basis, |_| Ok(inputs)).await?;
    let watch = watch.clone();
    let found = compute(move || {
        ModelImportance::of(&table, &basis, (&model, &recipe), chosen, &ProgressPart::of(&watch, 0.05, 1.0))
    })
    .await??;
    app.store.set_understanding(id, &found).await?;
    Ok(format!("/studies/{}/decide/why?model={id}", study.id))
}
