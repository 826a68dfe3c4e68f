//! Families and settings are searched; what is found is fitted as a candidate.

use pronoia_core::Progress;
use pronoia_core::learn::Settings;
use pronoia_core::model::Recipe;
use pronoia_core::tune::TuningRun;
use pronoia_store::fits::NewFit;
use pronoia_store::search;
use tokio::runtime::Handle;

use super::fit::{fetch, hold_memory, parts};
use super::{Trouble, Watch, compute};
use crate::App;

/// Goes on with a search until its budget is spent, and has what it found fitted.
pub(super) async fn search(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let row = app.store.search(id).await?;
    let address = format!("/studies/{}/train/search/{id}", row.study_id);
    if row.state != "done"
        && let Err(trouble) = seek(app, workspace, &row, watch).await
    {
        match &trouble {
            Trouble::Stopped => app.store.set_search_state(id, "stopped", None).await?,
            Trouble::Failed(reason) => app.store.set_search_state(id, "failed", Some(reason)).await?,
            Trouble::Away | Trouble::Lost => {}
        }
        return Err(trouble);
    }
    // From what is kept: a job that is begun again after it was kept enters the same.
    let search = app.store.search(id).await?.so_far()?;
    if let Some((found, _)) = search.found() {
        let figure =
            format!("{} candidates tried; {} is fitted", search.tried.len(), found.settings.name().to_lowercase());
        app.store.note(row.study_id, None, "Tuning ended", &figure).await?;
    }
    Ok(address)
}

async fn seek(app: &App, workspace: i64, row: &search::Model, watch: &Watch) -> Result<(), Trouble> {
    let study = app.store.study(workspace, row.study_id).await?;
    let (mut search, basis) = (row.so_far()?, row.fitted_on()?);
    // The largest of the families that take part says how much memory is held.
    let families = search.plan.families.iter().filter_map(|word| Settings::of_family(word));
    let recipes: Vec<Recipe> = families.map(Recipe::from).collect();
    let _held = hold_memory(app, workspace, &study, (&basis, &recipes.iter().collect::<Vec<_>>()), watch).await?;
    watch.tell("Reading the columns", 0.0);
    let table = fetch(app, workspace, &study, &basis).await?;
    let (store, runtime, watch, id) = (app.store.clone(), Handle::current(), watch.clone(), row.id);
    let (search, basis, ended) = compute(move || -> Result<_, Trouble> {
        let training = parts(&table, &basis)?.training;
        // What was tried is kept at once: a server that is killed loses the candidate that it was at.
        let mut keep = |search: &TuningRun| Ok(runtime.block_on(store.set_tried(id, search))?);
        let ended: Result<_, Trouble> = search.run((&table, &basis, &training), &watch, &mut keep);
        ended.map(|ended| (search, basis, ended))
    })
    .await??;
    let Some((found, _)) = search.found() else {
        let why = search.tried.iter().find_map(|t| t.failed.clone());
        return Err(Trouble::Failed(why.unwrap_or_else(|| "No candidate could be evaluated.".into())));
    };
    let name = format!("{}, searched", found.settings.name());
    let recipe = Recipe::from(&found.settings);
    let fit = NewFit { name: &name, recipe: &recipe, basis: &basis, seed: search.plan.seed };
    app.store.set_found(row.id, ended, &study, &fit).await?;
    Ok(())
}
