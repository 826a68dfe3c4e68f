//! A closer look at a candidate: would more rows help, and how far do a few columns go?

use pronoia_core::Progress;
use pronoia_core::progress::ProgressPart;
use pronoia_core::validation::Diagnostics;

use super::fit::{fetch, hold_memory};
use super::{Trouble, Watch, compute};
use crate::App;

/// Fits the candidate to more and more rows, and a small model beside it.
pub(super) async fn look(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let row = app.store.model(id).await?;
    let study = app.store.study(workspace, row.study_id).await?;
    let (basis, recipe, seed) = (row.fitted_on()?, row.recipe()?, row.seed as u64);
    let _held = hold_memory(app, workspace, &study, (&basis, &[&recipe]), watch).await?;
    watch.tell("Reading the columns", 0.0);
    let table = fetch(app, workspace, &study, &basis).await?;
    let watch = watch.clone();
    let closer =
        compute(move || Diagnostics::look(&table, &basis, &recipe, seed, &ProgressPart::of(&watch, 0.05, 1.0)))
            .await??;
    app.store.set_closer(id, &closer).await?;
    Ok(format!("/studies/{}/compare?model={id}#closer", study.id))
}
