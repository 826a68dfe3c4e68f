//! An uploaded file becomes a table.

use std::fs::File;

use pronoia_core::intake::{FileReader, Intake, IntakeError, ReadPlan, Scan};
use pronoia_core::profile::{Evenly, TableProfile};
use pronoia_core::progress::ProgressPart;
use pronoia_core::score::{ColumnAnswers, ColumnPairing, pair};
use pronoia_core::{Cancelled, Progress, Table};
use pronoia_store::records::{Label, SealedFor, TableSource};
use pronoia_store::{StoreError, upload};

use super::{Trouble, Watch, compute, matching};
use crate::{App, text};

/// Rows that are handed on at a time.
const CHUNK: usize = 8_000;

/// Rows that a list is described by, at least, where it has as many: nothing is decided by its figures,
/// and it may be longer than memory holds. Records are described by all of their rows.
pub(super) const DESCRIBED: usize = 20_000;

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
pub(super) async fn scan(
    app: &App,
    workspace: i64,
    id: i64,
    sheet: Option<&str>,
    watch: &Watch,
) -> Result<String, Trouble> {
    let upload = app.store.upload(workspace, id).await?;
    let done = match upload.study_id {
        Some(study) => list(app, workspace, study, &upload, watch).await,
        None => preview(app, &upload, sheet, watch).await,
    };
    match done {
        Ok(address) => Ok(address),
        Err(trouble) => Err(put_down(app, &upload, trouble).await),
    }
}

async fn preview(app: &App, upload: &upload::Model, sheet: Option<&str>, watch: &Watch) -> Result<String, Trouble> {
    let scan = scan_file(upload, sheet, watch).await?;
    app.store.set_scan(upload.id, &scan, "ready").await?;
    Ok(format!("/uploads/{}", upload.id))
}

/// Brings a list in and matches it to the policy's model. What was done before
/// a server was killed is found and not done again.
async fn list(app: &App, workspace: i64, study: i64, upload: &upload::Model, watch: &Watch) -> Result<String, Trouble> {
    let study = app.store.study(workspace, study).await?;
    let chosen = matching::policy_of(&study)?;
    let model = app.store.model(chosen.model_id).await?.fitted()?;
    let table_id = match upload.table_id {
        Some(table_id) => table_id,
        None => {
            let mut scan = scan_file(upload, None, watch).await?;
            read_as_trained(&mut scan.plan, &model);
            import_rows(app, upload, scan, true, watch).await?
        }
    };
    let table = app.store.table(workspace, table_id).await?;
    let list = matching::begin(app, &study, &table, &chosen, watch).await?;
    Ok(format!("/studies/{}/lists/{list}", study.id))
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
        Ok(table) => Ok(format!("/tables/{table}")),
        Err(trouble) => Err(put_down(app, &upload, trouble).await),
    }
}

/// Writes down why an upload went no further; its bytes are not kept.
async fn put_down(app: &App, upload: &upload::Model, trouble: Trouble) -> Trouble {
    let (state, error) = match &trouble {
        Trouble::Stopped => ("stopped", None),
        Trouble::Failed(reason) => ("failed", Some(reason.as_str())),
        Trouble::Away | Trouble::Lost => return trouble,
    };
    match app.store.set_upload_state(upload.id, state, error).await {
        Ok(()) => remove_file(upload),
        // Whoever has the job now needs the file.
        Err(StoreError::LeaseLost) => return Trouble::Lost,
        Err(e) => tracing::warn!("the state of upload {} could not be recorded: {e}", upload.id),
    }
    trouble
}

/// The bytes are in a sealed table now, or will never be in one.
fn remove_file(upload: &upload::Model) {
    if let Err(e) = std::fs::remove_file(&upload.path) {
        tracing::warn!("the file of upload {} could not be removed: {e}", upload.id);
    }
}

async fn scan_file(upload: &upload::Model, sheet: Option<&str>, watch: &Watch) -> Result<Scan, Trouble> {
    let (path, size, watch) = (upload.path.clone(), upload.size as u64, watch.clone());
    let sheet = sheet.map(str::to_owned);
    let scan = move || Intake { open: || File::open(&path), size, sheet: sheet.as_deref() }.scan(&watch);
    Ok(compute(scan).await??)
}

/// Columns that a model knows are read in the kind it was trained with, those that may be meant too:
/// once a code was read as a number, its zeros are gone.
fn read_as_trained(plan: &mut ReadPlan, model: &pronoia_core::Model) {
    let names: Vec<String> = plan.columns.iter().map(|c| c.name.clone()).collect();
    let names: Vec<&str> = names.iter().map(String::as_str).collect();
    let inputs: Vec<_> = model.inputs().collect();
    let needed: Vec<&str> = inputs.iter().map(|input| input.name.as_str()).collect();
    for (input, paired) in inputs.iter().zip(pair(&needed, &names, &ColumnAnswers::new())) {
        let meant = match &paired {
            ColumnPairing::Open(suggestion) => suggestion.as_deref(),
            paired => paired.source(&input.name),
        };
        if let Some(meant) = meant {
            plan.read_as(meant, input.kind);
        }
    }
}

async fn import_rows(
    app: &App,
    upload: &upload::Model,
    mut scan: Scan,
    is_list: bool,
    watch: &Watch,
) -> Result<i64, Trouble> {
    let shape: Vec<_> = scan.plan.columns.iter().map(|c| (c.name.clone(), c.kind)).collect();
    let mut importer = app.store.begin_import(upload.workspace_id, &shape).await?;
    let (sender, mut chunks) = tokio::sync::mpsc::channel::<Table>(2);
    let (path, size, plan) = (upload.path.clone(), upload.size as u64, scan.plan.clone());
    let reader_watch = watch.clone();
    let reader = tokio::task::spawn_blocking(move || {
        let file = File::open(path)?;
        let reader = FileReader { plan: &plan, size, chunk: CHUNK };
        reader.read(file, &ProgressPart::of(&reader_watch, 0.0, 0.8), &mut |table| {
            // Nobody receives any more once the writing has failed, which says why.
            sender.blocking_send(table).map_err(|_| IntakeError::Cancelled(Cancelled))
        })
    });
    // Described once they are all in; kept until then rather than read back.
    let mut evenly = if is_list { Evenly::up_to(DESCRIBED) } else { Evenly::whole() };
    while let Some(chunk) = chunks.recv().await {
        watch.go_on()?;
        importer.add(&chunk).await?;
        evenly.meet(chunk);
    }
    let misfits = reader.await.map_err(|e| Trouble::Failed(format!("Reading broke off: {e}.")))??;
    scan.count(misfits);
    let name = std::path::Path::new(&upload.file_name)
        .file_stem()
        .map_or("table".into(), |s| s.to_string_lossy().into_owned());
    let source = TableSource {
        sentence: format!(
            "{}, {}, {}",
            upload.origin.clone().unwrap_or_else(|| format!("from {}", upload.file_name)),
            text::bytes(upload.size as u64),
            scan.plan.format.sentence()
        ),
        rejected: scan.rejected,
        misfit_cells: scan.misfit_cells,
    };
    app.store.set_scan(upload.id, &scan, "importing").await?;
    watch.tell("Profiling every column", 0.85);
    let profile = compute(move || evenly.described()).await?;
    let label = Label { name: &name, source: &source, is_list };
    let table = importer.seal(label, &profile, SealedFor::Upload(upload.id)).await?;
    remove_file(upload);
    Ok(table)
}

/// Keeps rows that are at hand as a table version; they are described as they are, not read back.
pub(super) async fn keep(
    app: &App,
    workspace: i64,
    table: Table,
    (label, sealed_for): (Label<'_>, SealedFor),
    watch: &Watch,
) -> Result<i64, Trouble> {
    let mut importer = app.store.begin_import(workspace, &table.kinds()).await?;
    importer.add(&table).await?;
    watch.go_on()?;
    watch.tell("Profiling every column", 0.85);
    let profile = compute(move || TableProfile::of(&table)).await?;
    watch.go_on()?;
    Ok(importer.seal(label, &profile, sealed_for).await?)
}

/// Describes the rows as they are stored.
pub(super) async fn profile_of(
    importer: &mut pronoia_store::records::Importer,
    watch: &Watch,
) -> Result<TableProfile, Trouble> {
    watch.tell("Profiling every column", 0.85);
    let rows = importer.read_back().await?;
    watch.go_on()?;
    compute(move || TableProfile::of(&rows)).await
}
