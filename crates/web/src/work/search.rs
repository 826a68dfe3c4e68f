//! Families and settings are searched; what is found is fitted as a candidate.

use std::time::Instant;

use pronoia_core::learn::Settings;
use pronoia_core::model::{ModelError, Recipe};
use pronoia_core::progress::Quiet;
use pronoia_core::tune::Ended;
use pronoia_core::{Progress, Table};
use pronoia_store::jobs::Work;
use pronoia_store::search;

use super::fit::{fetch, parts};
use super::{Trouble, Watch, compute};
use crate::App;
use crate::budget::bytes_needed;

/// Tries candidates until the budget is spent, one after the other, and keeps
/// each at once: a server that is killed loses the one that it was at.
pub(super) async fn search(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let row = app.store.search(id).await?;
    let address = format!("/studies/{}/train/search/{id}", row.study_id);
    if row.state == "done" {
        // Broken off between what was found and its fit.
        if let Some(model) = row.model_id
            && app.store.model(model).await?.state == "queued"
            && app.store.jobs_to(workspace, &Work::Fit { model }).await?.is_empty()
        {
            let title = "Fitting what was found";
            app.store.enqueue(workspace, Some(row.study_id), title, &Work::Fit { model }).await?;
        }
        return Ok(address);
    }
    match seek(app, workspace, &row, watch).await {
        Ok(()) => Ok(address),
        Err(trouble) => {
            match &trouble {
                Trouble::Stopped => app.store.set_search_state(id, "stopped", None).await?,
                Trouble::Failed(reason) => app.store.set_search_state(id, "failed", Some(reason)).await?,
                Trouble::Away => {}
            }
            Err(trouble)
        }
    }
}

async fn seek(app: &App, workspace: i64, row: &search::Model, watch: &Watch) -> Result<(), Trouble> {
    let study = app.store.study(workspace, row.study_id).await?;
    let (mut search, basis) = (row.so_far()?, row.fitted_on()?);
    // The largest of the families that take part says how much memory is held.
    let asked = search.plan.families.iter().filter_map(|word| Settings::of_family(word)).map(Recipe::from);
    let table = app.store.table(workspace, study.records(basis.table)).await?;
    let needed = asked.map(|recipe| bytes_needed(&table, &basis, &recipe)).collect::<Result<Vec<_>, _>>()?;
    let most = needed.into_iter().max().unwrap_or(0);
    app.memory.check(most).map_err(Trouble::Failed)?;
    let _held = app.memory.take(most, watch).await?;
    watch.tell("Fetching the columns", 0.0);
    let table = fetch(app, workspace, &study, &basis).await?;
    let (table, training) = {
        let basis = basis.clone();
        compute(move || parts(&table, &basis).map(|dealt| (table, dealt.training))).await??
    };
    let (table, training) = (std::sync::Arc::<Table>::new(table), std::sync::Arc::new(training));
    let spent: f64 = search.tried.iter().map(|t| t.seconds).sum();
    let begun = Instant::now();
    let ended = loop {
        watch.go_on()?;
        let minutes = (spent + begun.elapsed().as_secs_f64()) / 60.0;
        if let Some(ended) = search.ended(minutes) {
            break ended;
        }
        let Some(settings) = search.next() else { break Ended::NothingMore };
        let number = search.tried.len() + 1;
        // Whichever part of the budget is spent first says how far it has come.
        let by_time = search.plan.minutes.map_or(0.0, |most| minutes / most);
        let share = by_time.max((number - 1) as f64 / search.plan.most as f64);
        let stage = format!("Candidate {number}, at most {}: {}", search.plan.most, settings.name().to_lowercase());
        watch.tell(&stage, share);
        let (table, training, basis, watch) = (table.clone(), training.clone(), basis.clone(), watch.clone());
        let (judged, back) = compute(move || {
            let judged = search.judge((&table, &basis, &training), settings, &Quiet(&watch));
            (judged, search)
        })
        .await?;
        search = back;
        search.tried.push(judged.map_err(|e: ModelError| Trouble::from(e))?);
        app.store.set_tried(row.id, &search).await?;
    };
    let Some(best) = search.best() else {
        let why = search.tried.iter().find_map(|t| t.failed.clone());
        return Err(Trouble::Failed(why.unwrap_or_else(|| "No candidate could be judged.".into())));
    };
    let name = format!("{}, searched", best.settings.name());
    let model = app.store.add_model(study.id, &name, &best.settings, &basis, search.plan.seed).await?;
    app.store.set_found(row.id, ended, model).await?;
    let title = format!("Fitting {}", name.to_lowercase());
    app.store.enqueue(workspace, Some(study.id), &title, &Work::Fit { model }).await?;
    let figure = format!("{} candidates tried; {} is best", search.tried.len(), best.settings.name().to_lowercase());
    app.store.note(study.id, None, "Search ended", &figure).await?;
    Ok(())
}
