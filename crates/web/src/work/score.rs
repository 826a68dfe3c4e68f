//! A list is scored into a table of its own: the original columns, then probability and decision.

use pronoia_core::Progress;
use pronoia_core::score::{self, By, match_list};
use pronoia_store::records::{Label, SealedFor, Source};

use super::import::profile_of;
use super::{Trouble, Watch, compute};
use crate::{App, text};

/// Scores a list.
pub(super) async fn score(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let list = app.store.list(id).await?;
    let study = app.store.study(workspace, list.study_id).await?;
    let address = format!("/studies/{}/lists/{id}", study.id);
    if list.scored_id.is_some() {
        return Ok(address);
    }
    let result = score_rows(app, workspace, &list, watch).await;
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
    workspace: i64,
    list: &pronoia_store::list::Model,
    watch: &Watch,
) -> Result<(u64, u64), Trouble> {
    let model = app.store.model(list.model_id).await?.fitted()?;
    let source = app.store.table(workspace, list.table_id).await?;
    watch.tell("Fetching the list", 0.0);
    let rows = app.store.columns(&source, None).await?;
    watch.go_on()?;
    watch.tell("Scoring", 0.2);
    let chosen = list.decided_by()?;
    let scored = compute(move || {
        let (_, matched) = match_list(&model, &rows);
        let by = By::Policy(&chosen.policy, &chosen.population);
        score::scored(&model, &rows, &matched, Some(by)).map_err(Trouble::Failed)
    })
    .await?;
    let (table, acted) = scored?;
    watch.go_on()?;
    watch.tell("Keeping the scored list", 0.6);
    let shape: Vec<_> = table.columns().iter().map(|c| (c.name.clone(), c.kind)).collect();
    let mut importer = app.store.begin_import(workspace, &shape).await?;
    importer.add(&table).await?;
    let profile = profile_of(&mut importer, watch).await?;
    let origin = Source { sentence: format!("{}, scored", source.name), rejected: 0, misfit_cells: 0 };
    let label = Label { name: &format!("{} scored", source.name), source: &origin, is_list: true };
    importer.seal(label, &profile, SealedFor::List(list.id, acted)).await?;
    Ok((acted, table.rows() as u64))
}
