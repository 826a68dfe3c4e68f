//! The rule by which customers are acted on today, tried on the rows that candidates are judged on.

use pronoia_core::Progress;
use pronoia_core::decide::FixedRule;
use pronoia_core::expression::{Expression, Type};
use pronoia_core::prepare::steps::columns_after;

use super::fit::fetch_with;
use super::{Trouble, Watch, compute};
use crate::{App, text};

/// Follows the rule of today on validation rows, and keeps whom it would have acted on.
pub(super) async fn try_out(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let study = app.store.study(workspace, id).await?;
    let address = format!("/studies/{id}/compare");
    let state = study.choices()?;
    let (Some(condition), Some(basis)) = (state.todays_rule.clone(), state.basis()) else { return Ok(address) };
    watch.tell("Reading the columns", 0.0);
    let records = fetch_with(app, workspace, &study, &basis, |kinds| {
        let after = columns_after(&basis.steps, kinds);
        let types: Vec<_> = after.into_iter().map(|(name, kind)| (name, Type::of(kind))).collect();
        let rule = Expression::check_condition(&condition, &types).map_err(|e| e.to_string())?;
        Ok(rule.inputs().map(str::to_owned).collect())
    })
    .await?;
    watch.tell("Evaluating the rule", 0.5);
    let asked = basis.clone();
    let found = compute(move || {
        let (records, happened) = asked.population(&records)?;
        let dealt = asked.split.deal(&records, &happened).map_err(|e| e.to_string())?;
        let rows = asked.split.judged(dealt);
        let event: Vec<bool> = rows.iter().map(|&row| happened[row] == Some(true)).collect();
        // What learning steps make is not known before anything is fitted.
        let there: Vec<_> = Expression::columns_of(&records);
        let rule = Expression::check_condition(&condition, &there).map_err(|e| e.to_string())?;
        FixedRule::follow(&rule, &records, &rows, &event).map(|found| (condition, found))
    })
    .await?;
    let (condition, found) = found.map_err(Trouble::Failed)?;
    app.store.set_rule_tried(id, &condition, &basis, &found).await?;
    let figure = format!(
        "it selects {} of {} customers, {} of them with the event",
        text::count(found.counts.acted()),
        text::count(found.counts.rows()),
        text::count(found.counts.hits)
    );
    app.store.note(id, None, "Today’s rule evaluated", &figure).await?;
    Ok(address)
}
