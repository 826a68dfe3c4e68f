//! Two tables are put together into a new one.

use pronoia_core::Progress;
use pronoia_core::number::count;
use pronoia_store::records::{Join, JoinKind, Label, SealedFor, TableSource};

use super::import::profile_of;
use super::{Trouble, Watch};
use crate::App;

/// Puts the tables together; the new table says where it came from.
pub(super) async fn join(app: &App, workspace: i64, join: &Join, watch: &Watch) -> Result<String, Trouble> {
    if let Some(table) = app.store.table_of_job().await? {
        return Ok(format!("/tables/{table}"));
    }
    let (first, second) =
        (app.store.table(workspace, join.first).await?, app.store.table(workspace, join.second).await?);
    watch.tell("Counting the keys", 0.0);
    let account = app.store.key_account(workspace, join).await?;
    watch.go_on()?;
    watch.tell("Joining the tables", 0.1);
    let listening = watch.clone();
    let mut importer = app.store.join(workspace, join, move || listening.is_cancelled()).await?;
    let how = match &join.take {
        JoinKind::Columns => "with the columns of".to_owned(),
        JoinKind::RollUp { as_of: None } => "with the aggregated rows of".to_owned(),
        JoinKind::RollUp { as_of: Some((day, other)) } => {
            format!("with the rows up to {day} (by {other}), aggregated, of")
        }
    };
    let source = TableSource {
        sentence: format!(
            "{} (version {}) {how} {} (version {}), by {} = {}: {} of {} keys matched",
            first.name,
            first.version,
            second.name,
            second.version,
            join.first_key,
            join.second_key,
            count(account.first.matched),
            count(account.first.keys)
        ),
        rejected: if join.keep_unmatched { 0 } else { account.first.rows - account.first.rows_matched },
        misfit_cells: 0,
    };
    let profile = profile_of(&mut importer, watch).await?;
    let label = Label { name: &join.name, source: &source, is_list: false };
    let table = importer.seal(label, &profile, SealedFor::Itself).await?;
    Ok(format!("/tables/{table}"))
}
