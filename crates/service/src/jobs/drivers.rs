//! What goes with the outcome is looked for on training rows, and kept.

use pronoia_core::cautions::CautionInput;
use pronoia_core::cautions::Survey;
use pronoia_core::drivers::Drivers;
use pronoia_core::progress::ProgressPart;
use pronoia_core::study::{ColumnRole, Verdict};
use pronoia_core::{Kind, Progress};

use super::{Trouble, Watch, compute};
use crate::App;

/// Looks at every column of a study that is not text, except the outcome.
/// Nothing is kept if somebody chose otherwise meanwhile; that choice is looked
/// at in its turn.
pub(super) async fn look(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let study = app.store.study(workspace, id).await?;
    let state = study.choices()?;
    let basis = state.basis().ok_or_else(|| Trouble::Failed("The study has no outcome yet.".into()))?;
    let table = app.store.table(study.workspace_id, study.records(state.table)).await?;
    watch.tell("Reading the columns", 0.0);
    // What names the customer or never varies can say nothing of the next one.
    let mute = |name: &str| state.columns.iter().any(|c| c.name == name && c.never);
    let columns = table.stored_columns()?;
    let kinds: Vec<_> = columns.iter().map(|c| (c.name.clone(), c.kind)).collect();
    let looked_at: Vec<String> = columns
        .into_iter()
        .filter(|c| c.kind != Kind::Text && c.name != basis.outcome.column && !mute(&c.name))
        .map(|c| c.name)
        .collect();
    // Steps may read what is not looked at by itself: a filter, a free text.
    let mut fetched = basis.columns_read(&kinds).map_err(|e| Trouble::Failed(e.to_string()))?;
    let named = state.columns.iter().filter(|c| c.role == ColumnRole::Identifier).map(|c| &c.name);
    for name in looked_at.iter().chain(named) {
        if !fetched.contains(name) && kinds.iter().any(|k| k.0 == *name) {
            fetched.push(name.clone());
        }
    }
    let records = app.store.columns(&table, Some(&fetched)).await?;
    // What should not go in would push aside all that tells something before the decision.
    let sound =
        |name: &String| state.columns.iter().any(|c| c.name == *name && c.stands_under() != Verdict::ShouldNotGoIn);
    let usable: Vec<String> = basis.predictors.iter().filter(|name| sound(name)).cloned().collect();
    let (asked, part) = (basis.clone(), watch.clone());
    let (state, question, profile) = (state.clone(), study.kind(), table.figures()?);
    let (drivers, survey) = compute(move || {
        let (records, happened) = asked.population(&records).map_err(Trouble::Failed)?;
        let dealt = asked.split.deal(&records, &happened).map_err(|e| Trouble::Failed(e.to_string()))?;
        let rows = &dealt.training;
        let event: Vec<bool> = rows.iter().map(|&row| happened[row] == Some(true)).collect();
        let derived = asked.steps.iter().filter(|s| !s.off).filter_map(|s| s.action.makes());
        let looked_at: Vec<String> = looked_at.into_iter().chain(derived).collect();
        let part = ProgressPart::of(&part, 0.2, 0.9);
        let looked = Drivers::of(&records, &looked_at, &usable, (rows, &event), asked.split.seed, &part)?;
        let seen = CautionInput {
            table: &records,
            happened: &happened,
            dealt: &dealt,
            profile: &profile,
            state: &state,
            question,
        };
        Ok::<_, Trouble>((looked, Survey::of(&seen, &asked)))
    })
    .await??;
    app.store.set_finding(id, &basis, &drivers, &survey).await?;
    Ok(format!("/studies/{id}/drivers"))
}
