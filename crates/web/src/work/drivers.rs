//! What goes with the outcome is looked for on training rows, and kept.

use pronoia_core::drivers::Drivers;
use pronoia_core::prepare::steps;
use pronoia_core::progress::Part;
use pronoia_core::study::Verdict;
use pronoia_core::{Kind, Progress};

use super::{Trouble, Watch, compute};
use crate::App;

/// Looks at every column of a study that is not text, except the outcome.
pub(super) async fn look(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let study = app.store.study(workspace, id).await?;
    let state = study.choices()?;
    let basis = state.basis().ok_or_else(|| Trouble::Failed("The study has no outcome yet.".into()))?;
    let table = app.store.table(workspace, study.table_id).await?;
    watch.tell("Fetching the columns", 0.0);
    // What names the customer or never varies can say nothing of the next one.
    let mute = |name: &str| state.columns.iter().any(|c| c.name == name && c.never);
    let looked_at: Vec<String> = table
        .stored_columns()?
        .into_iter()
        .filter(|c| c.kind != Kind::Text && c.name != basis.outcome.column && !mute(&c.name))
        .map(|c| c.name)
        .collect();
    let mut fetched = looked_at.clone();
    fetched.push(basis.outcome.column.clone());
    let records = app.store.columns(&table, Some(&fetched)).await?;
    // What should not go in would push aside all that tells something before the decision.
    let sound =
        |name: &String| state.columns.iter().any(|c| c.name == *name && c.stands_under() != Verdict::ShouldNotGoIn);
    let usable: Vec<String> = basis.predictors.iter().filter(|name| sound(name)).cloned().collect();
    let (asked, part) = (basis.clone(), watch.clone());
    let drivers = compute(move || {
        let happened = asked.happened(&records).map_err(Trouble::Failed)?;
        let rows = asked.deal(&records).map_err(Trouble::Failed)?.training;
        let event: Vec<bool> = rows.iter().map(|&row| happened[row] == Some(true)).collect();
        let derived = asked.steps.iter().filter(|s| !s.off).filter_map(|s| s.action.makes());
        let looked_at: Vec<String> = looked_at.into_iter().chain(derived).collect();
        let (records, _) = steps::population(&asked.steps, &records).map_err(|e| Trouble::Failed(e.to_string()))?;
        let part = Part::of(&part, 0.2, 1.0);
        let looked = Drivers::of(&records, &looked_at, &usable, (&rows, &event), asked.split.seed, &part);
        looked.map_err(Trouble::from)
    })
    .await??;
    app.store.set_finding(id, &basis, &drivers).await?;
    Ok(format!("/studies/{id}/drivers"))
}
