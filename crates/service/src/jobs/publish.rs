//! A scored list becomes a table that other programs read.

use pronoia_core::Progress;

use super::{Trouble, Watch};
use crate::{App, text};

pub(super) async fn publish(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let list = app.store.list(id).await?;
    let address = format!("/studies/{}/lists/{id}", list.study_id);
    let scored = list.scored_id.ok_or_else(|| Trouble::Failed("The list is no longer scored.".into()))?;
    let table = app.store.table(workspace, scored).await?;
    watch.tell("Publishing the list", 0.1);
    let model = app.store.model_name(list.model_id).await?;
    let rule = list.decided_by()?.policy.rule.in_short();
    let when = text::moment(&chrono::Utc::now());
    let about = format!("{}: {model}, {rule}; published by Pronoia on {when}", table.name);
    let place = app.store.publish(id, &table, &about).await?;
    app.store.note(list.study_id, None, &format!("List published as {place}"), &text::count_of(table.rows)).await?;
    Ok(address)
}
