//! A list is scored into a table of its own: the original columns, then what there is to say.

use pronoia_core::Progress;
use pronoia_core::score::{By, Scoring};
use pronoia_store::record_table;
use pronoia_store::records::{Label, ScoredList, SealedFor, Source};

use super::import::keep;
use super::matching::Matched;
use super::{Trouble, Watch, compute};
use crate::error::PageError;
use crate::pages::campaigns::mean_of_acted;
use crate::pages::lists::groups::GroupsView;
use crate::pages::lists::rows::Asked;
use crate::{App, text};

/// Scores a list.
pub(super) async fn score(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let list = app.store.list(id).await?;
    let study = app.store.study(workspace, list.study_id).await?;
    let address = format!("/studies/{}/lists/{id}", study.id);
    if list.scored_id.is_some() {
        return Ok(address);
    }
    let result = score_rows(app, &study, &list, watch).await;
    match result {
        Ok((acted, rows)) => {
            let figure = format!("{} of {} to act on", text::count(acted), text::count(rows));
            app.store.note(study.id, None, "List scored", &figure).await?;
            Ok(address)
        }
        Err(trouble) => {
            match &trouble {
                Trouble::Stopped => app.store.set_list_state(id, "stopped").await?,
                Trouble::Failed(_) => app.store.set_list_state(id, "failed").await?,
                Trouble::Away => {}
            }
            Err(trouble)
        }
    }
}

async fn score_rows(
    app: &App,
    study: &pronoia_store::study::Model,
    list: &pronoia_store::list::Model,
    watch: &Watch,
) -> Result<(u64, u64), Trouble> {
    let workspace = study.workspace_id;
    let source = app.store.table(workspace, list.table_id).await?;
    let (chosen, answers, extras) = (list.decided_by()?, list.said()?, list.held()?);
    let matched = Matched::of(app, study, &source, (&chosen, &answers), watch).await?;
    watch.go_on()?;
    watch.tell("Scoring", 0.6);
    let scored = compute(move || {
        let shift = chosen.population.shift();
        let tenths: Vec<f64> =
            matched.judged.map_or(Vec::new(), |ranking| ranking.tenths().into_iter().map(|p| shift.there(p)).collect());
        let by = By::Policy { policy: &chosen.policy, population: &chosen.population, steps: &matched.basis.steps };
        let scoring = Scoring { model: &matched.model, by: Some(by), extras, tenths: &tenths };
        scoring.of(&matched.list, &matched.columns, &matched.fitted_to).map_err(Trouble::Failed)
    })
    .await??;
    let rows = scored.table.rows() as u64;
    watch.go_on()?;
    watch.tell("Keeping the scored list", 0.8);
    let origin = Source { sentence: format!("{}, scored", source.name), rejected: 0, misfit_cells: 0 };
    let label = Label { name: &format!("{} scored", source.name), source: &origin, is_list: true };
    let of_list = ScoredList { list: list.id, acted: scored.acted, gain: scored.gain, lacking: scored.lacking };
    let kept = keep(app, workspace, scored.table, (label, SealedFor::List(of_list)), watch).await?;
    // What its page begins with is worked out while nobody waits for it.
    let kept = app.store.table(workspace, kept).await?;
    if let Err(e) = looked_at(app, &kept).await {
        tracing::warn!("a list that was scored could not be added up: {e}");
    }
    Ok((scored.acted, rows))
}

/// Adds up what the page of a scored list shows of all its customers.
async fn looked_at(app: &App, table: &record_table::Model) -> Result<(), PageError> {
    GroupsView::of(app, table, &Asked::default()).await?;
    mean_of_acted(app, table).await?;
    Ok(())
}
