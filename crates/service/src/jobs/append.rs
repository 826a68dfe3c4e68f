//! The rows of one table are put below those of another.

use pronoia_core::Progress;
use pronoia_core::number::count;
use pronoia_store::records::{Append, Label, SealedFor, TableSource};

use super::import::profile_of;
use super::{Trouble, Watch};
use crate::App;

/// Makes the table that comes out; it says where it came from.
pub(super) async fn append(app: &App, workspace: i64, append: &Append, watch: &Watch) -> Result<String, Trouble> {
    if let Some(table) = app.store.table_of_job().await? {
        return Ok(format!("/tables/{table}"));
    }
    let (first, second) =
        (app.store.table(workspace, append.first).await?, app.store.table(workspace, append.second).await?);
    watch.tell("Appending the rows", 0.1);
    let listening = watch.clone();
    let mut importer = app.store.append(workspace, append, move || listening.is_cancelled()).await?;
    let source = TableSource {
        sentence: format!(
            "the {} rows of {} (version {}), and appended to them the {} of {} (version {})",
            count(first.rows.unsigned_abs()),
            first.name,
            first.version,
            count(second.rows.unsigned_abs()),
            second.name,
            second.version
        ),
        rejected: 0,
        misfit_cells: 0,
    };
    let profile = profile_of(&mut importer, watch).await?;
    let label = Label { name: &append.name, source: &source, is_list: false };
    let table = importer.seal(label, &profile, SealedFor::Itself).await?;
    Ok(format!("/tables/{table}"))
}
