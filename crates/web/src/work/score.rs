//! A list is scored into a table of its own: the original columns, then what there is to say.

use pronoia_core::Progress;
use pronoia_core::score::{By, Scoring};
use pronoia_store::records::{Label, ScoredList, SealedFor, Source};

use super::import::keep;
use super::matching::Matched;
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
    keep(app, workspace, scored.table, (label, SealedFor::List(of_list)), watch).await?;
    Ok((scored.acted, rows))
}
