//! Somebody was erased: figures of tables and models that hold customers are made anew without them.

use pronoia_core::Progress;
use pronoia_core::learn::Settings;
use pronoia_core::profile::Evenly;

use super::fit::fit_and_judge;
use super::import::DESCRIBED;
use super::{Trouble, Watch, compute};
use pronoia_store::record_table;

use crate::App;

/// Rows of a table that are read at a time.
const ROWS: usize = 20_000;

/// Describes tables anew, fits models that hold customers again in their own place, and has studies looked
/// at again.
pub(super) async fn take_out(app: &App, workspace: i64, tables: &[i64], watch: &Watch) -> Result<String, Trouble> {
    app.forget_customers();
    for table in app.store.tables_of(workspace, tables).await? {
        watch.tell(&format!("Profiling {} again", table.name), 0.1);
        let mut evenly = if table.is_list { Evenly::up_to(DESCRIBED) } else { Evenly::whole() };
        if let Err(trouble) = read(app, &table, &mut evenly, watch).await {
            // A table that was erased meanwhile holds nobody.
            if app.store.is_stored(&table).await? {
                return Err(trouble);
            }
            continue;
        }
        let profile = compute(move || evenly.described()).await?;
        app.store.describe_anew(&table, &profile).await?;
    }
    for id in app.store.every_model(workspace).await? {
        watch.go_on()?;
        refit(app, workspace, (id, tables), watch).await?;
    }
    app.forget_customers();
    for study in app.store.studies_on(workspace, tables).await? {
        let looked_at = app.store.finding_in_short(study).await?.is_some();
        if looked_at && let Err(e) = app.store.look_again(workspace, study).await {
            return Err(Trouble::Failed(e.to_string()));
        }
    }
    Ok("/erasure".into())
}

/// Reads the rows of a table, part by part.
async fn read(app: &App, table: &record_table::Model, evenly: &mut Evenly, watch: &Watch) -> Result<(), Trouble> {
    let mut parts = app.store.parts(table, None, ROWS).await?;
    while let Some(part) = parts.next().await? {
        watch.go_on()?;
        evenly.meet(part);
    }
    Ok(())
}

/// Fits a model again in its own place, if it holds customers of these tables: the nearest of them are what
/// it tells by.
async fn refit(app: &App, workspace: i64, (id, tables): (i64, &[i64]), watch: &Watch) -> Result<(), Trouble> {
    let row = app.store.model(id).await?;
    let holds_customers = row.recipe()?.members().iter().any(|member| matches!(member, Settings::Neighbours(_)));
    if !holds_customers {
        return Ok(());
    }
    let study = app.store.study_even_if_away(workspace, row.study_id).await?;
    if !tables.contains(&study.records(row.fitted_on()?.table)) {
        return Ok(());
    }
    watch.tell(&format!("Fitting {} again", row.name.to_lowercase()), 0.5);
    let brought = fit_and_judge(app, workspace, &study, &row, watch).await?;
    app.store.set_fitted(id, &brought).await?;
    Ok(())
}
