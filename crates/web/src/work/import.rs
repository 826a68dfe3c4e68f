//! An uploaded file becomes a table.

use std::fs::File;

use pronoia_core::Table;
use pronoia_core::intake::{self, Chunks, IntakeError, Plan, Scan};
use pronoia_core::profile::TableProfile;
use pronoia_core::progress::Part;
use pronoia_core::score::match_list;
use pronoia_store::records::Source;
use pronoia_store::upload;

use super::{Trouble, Watch, compute};
use crate::{App, text};

/// Rows that are handed on at a time.
const CHUNK: usize = 20_000;

impl From<IntakeError> for Trouble {
    fn from(e: IntakeError) -> Self {
        match e {
            IntakeError::Cancelled(_) => Self::Stopped,
            other => Self::Failed(other.to_string()),
        }
    }
}

/// Reads a file and says what is in it. A list for a study goes on to become a
/// table at once, because the model already says what its columns are.
pub(super) async fn scan(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let upload = app.store.upload(workspace, id).await?;
    let result = scan_file(&upload, watch).await;
    let Some(study) = upload.study_id else {
        return match result {
            Ok(scan) => {
                app.store.set_scan(id, &scan, "ready").await?;
                Ok(format!("/uploads/{id}"))
            }
            Err(trouble) => Err(put_down(app, &upload, trouble).await),
        };
    };
    let listed = async {
        let mut scan = result?;
        let chosen = app.store.study(workspace, study).await?.choices()?.policy;
        let chosen = chosen.ok_or_else(|| Trouble::Failed("The study has no policy to score a list with.".into()))?;
        let model = app.store.model(chosen.model_id).await?.fitted()?;
        read_as_trained(&mut scan.plan, &model);
        let table_id = import_rows(app, &upload, scan, true, watch).await?;
        let table = app.store.table(workspace, table_id).await?;
        let rows = app.store.columns(&table, None).await?;
        let (report, _) = match_list(&model, &rows);
        let list = app.store.add_list(study, table_id, chosen.model_id, chosen.policy.cut_off, &report).await?;
        app.store.set_upload_state(id, "done", None, Some(table_id)).await?;
        Ok(format!("/studies/{study}/lists/{list}"))
    };
    match listed.await {
        Ok(address) => {
            remove_file(&upload);
            Ok(address)
        }
        Err(trouble) => Err(put_down(app, &upload, trouble).await),
    }
}

/// Makes an accepted upload a table.
pub(super) async fn import(app: &App, workspace: i64, id: i64, watch: &Watch) -> Result<String, Trouble> {
    let upload = app.store.upload(workspace, id).await?;
    if let Some(table) = upload.table_id {
        return Ok(format!("/tables/{table}"));
    }
    let imported = async {
        let scan = upload.scanned()?.ok_or_else(|| Trouble::Failed("The file was not read yet.".into()))?;
        import_rows(app, &upload, scan, false, watch).await
    };
    match imported.await {
        Ok(table) => {
            app.store.set_upload_state(id, "done", None, Some(table)).await?;
            remove_file(&upload);
            Ok(format!("/tables/{table}"))
        }
        Err(trouble) => Err(put_down(app, &upload, trouble).await),
    }
}

/// Writes down why an upload went no further; its bytes are not kept.
async fn put_down(app: &App, upload: &upload::Model, trouble: Trouble) -> Trouble {
    let (state, error) = match &trouble {
        Trouble::Stopped => ("stopped", None),
        Trouble::Failed(reason) => ("failed", Some(reason.as_str())),
        Trouble::Away => return trouble,
    };
    if let Err(e) = app.store.set_upload_state(upload.id, state, error, None).await {
        tracing::warn!("the state of upload {} could not be written down: {e}", upload.id);
    }
    remove_file(upload);
    trouble
}

/// The bytes are in a sealed table now, or will never be in one.
fn remove_file(upload: &upload::Model) {
    if let Err(e) = std::fs::remove_file(&upload.path) {
        tracing::warn!("the file of upload {} could not be removed: {e}", upload.id);
    }
}

async fn scan_file(upload: &upload::Model, watch: &Watch) -> Result<Scan, Trouble> {
    let (path, size, watch) = (upload.path.clone(), upload.size as u64, watch.clone());
    compute(move || intake::scan(|| File::open(&path), size, &watch))
        .await?
        .map_err(|e| Trouble::from(e.unwrap_or_else(IntakeError::Read)))
}

/// Columns that a model knows are read in the kind it was trained with.
fn read_as_trained(plan: &mut Plan, model: &pronoia_core::Model) {
    for (name, kind) in model.inputs() {
        plan.read_as(name, kind);
    }
}

async fn import_rows(
    app: &App,
    upload: &upload::Model,
    scan: Scan,
    is_list: bool,
    watch: &Watch,
) -> Result<i64, Trouble> {
    let shape: Vec<_> = scan.plan.columns.iter().map(|c| (c.name.clone(), c.kind)).collect();
    let mut importer = app.store.begin_import(upload.workspace_id, &shape).await?;
    let (sender, mut chunks) = tokio::sync::mpsc::channel::<Result<Table, IntakeError>>(2);
    let (path, size, plan) = (upload.path.clone(), upload.size as u64, scan.plan.clone());
    let reader_watch = watch.clone();
    let reader = tokio::task::spawn_blocking(move || {
        let file = File::open(path).map_err(IntakeError::Read)?;
        let mut reader = Chunks::open(file, plan, size, CHUNK)?;
        while let Some(table) = reader.next(&Part::of(&reader_watch, 0.0, 0.8))? {
            if sender.blocking_send(Ok(table)).is_err() {
                break;
            }
        }
        let (rejected, cells, misfits) = reader.misfits();
        Ok::<_, IntakeError>((rejected, cells, misfits.to_vec()))
    });
    while let Some(chunk) = chunks.recv().await {
        importer.add(&chunk?).await?;
    }
    let (rejected, cells, misfits) =
        reader.await.map_err(|e| Trouble::Failed(format!("Reading broke off: {e}.")))??;
    let name = std::path::Path::new(&upload.file_name)
        .file_stem()
        .map_or("table".into(), |s| s.to_string_lossy().into_owned());
    let source = Source {
        sentence: format!(
            "from {}, {}, {} between fields, {}",
            upload.file_name,
            text::bytes(upload.size as u64),
            scan.plan.dialect.delimiter.word(),
            scan.plan.dialect.encoding
        ),
        rejected,
        misfit_cells: cells,
    };
    app.store.set_scan(upload.id, &Scan { rejected, misfit_cells: cells, misfits, ..scan }, "importing").await?;
    let profile = profile_of(&mut importer, watch).await?;
    Ok(importer.seal(&name, &source, &profile, is_list, false).await?)
}

/// Describes the rows as they are stored.
pub(super) async fn profile_of(
    importer: &mut pronoia_store::records::Importer,
    watch: &Watch,
) -> Result<TableProfile, Trouble> {
    use pronoia_core::Progress;
    watch.tell("Describing every column", 0.85);
    let rows = importer.read_back().await?;
    watch.go_on()?;
    compute(move || TableProfile::of(&rows)).await
}
