//! Takes a backup.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use chrono::Utc;
use sqlx::Connection;
use sqlx::postgres::PgConnection;
use tempfile::NamedTempFile;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

use super::{
    ArchiveFile, BackupLocation, BackupManifest, DATABASE, FORM, MANIFEST, UPLOADS, aside, copied, file_problem, tools,
};
use crate::{Result, StoreError};

/// Writes everything that is kept into one new file, as it is at one moment; whoever works meanwhile
/// is not held up. The file is there whole or not at all, and only its owner can read it.
///
/// # Errors
/// [`StoreError::Refused`] if the file is there already, cannot be written, or `pg_dump` does not do
/// its work; [`StoreError::Unreachable`].
pub async fn take(kept: &BackupLocation, file: &Path) -> Result<BackupManifest> {
    if file.exists() {
        return Err(StoreError::Refused(format!("{} is there already; name another file.", file.display())));
    }
    let mut connection = PgConnection::connect(&kept.database).await?;
    let mut moment = connection.begin_with("BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY").await?;
    let snapshot: String = sqlx::query_scalar("SELECT pg_export_snapshot()").fetch_one(&mut *moment).await?;
    let steps: Vec<String> = sqlx::query_scalar("SELECT version FROM seaql_migrations ORDER BY version")
        .fetch_all(&mut *moment)
        .await
        .map_err(|_| {
            StoreError::Refused("The database holds no tables of Pronoia; there is nothing to back up.".into())
        })?;
    let paths: Vec<String> = sqlx::query_scalar("SELECT path FROM upload ORDER BY id").fetch_all(&mut *moment).await?;
    let manifest = BackupManifest { form: FORM, taken_at: Utc::now(), steps, entries: Vec::new() };
    let (kept, file) = (kept.clone(), file.to_owned());
    // The snapshot is there as long as the transaction is.
    let manifest = aside(move || written(&kept, &file, &snapshot, &paths, manifest)).await?;
    moment.rollback().await?;
    Ok(manifest)
}

fn written(
    kept: &BackupLocation,
    file: &Path,
    snapshot: &str,
    paths: &[String],
    mut manifest: BackupManifest,
) -> Result<BackupManifest> {
    let problem = |e: std::io::Error| file_problem(file, "written", &e);
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let partial = NamedTempFile::new_in(folder).map_err(problem)?;
    let mut archive = ZipWriter::new(partial);
    for path in paths {
        // What is a table by now may be gone from the folder.
        if let Some((name, file)) = opened(kept, path) {
            manifest.entries.push(added(&mut archive, &format!("{UPLOADS}{name}"), file, true).map_err(problem)?);
        }
    }
    let mut command = tools::tool("pg_dump", &kept.database)?;
    command.args(["--format=custom", "--no-owner", "--no-privileges", "--exclude-schema=ask_*"]);
    command.args(["--exclude-table-data=public.session", "--exclude-table-data=public.sign_in_guard"]);
    // Roles belong to the server that the backup was taken from.
    command.arg("--exclude-table-data=public.question_role");
    command.arg(format!("--snapshot={snapshot}"));
    let mut dump = tools::started(command)?;
    let out = dump.stdout.take().ok_or_else(|| StoreError::Damaged("pg_dump says nothing".into()))?;
    let added_database = added(&mut archive, DATABASE, out, false).map_err(problem);
    tools::ended(dump)?;
    manifest.entries.push(added_database?);
    let text = serde_json::to_vec_pretty(&manifest)?;
    let finished = archive
        .start_file(MANIFEST, options(true))
        .map_err(std::io::Error::from)
        .and_then(|()| archive.write_all(&text))
        .and_then(|()| archive.finish().map_err(std::io::Error::from))
        .map_err(problem)?;
    finished.as_file().sync_all().map_err(problem)?;
    finished.persist_noclobber(file).map_err(|e| problem(e.error))?;
    Ok(manifest)
}

/// A file of the uploads folder, by the path that is remembered of it.
fn opened(kept: &BackupLocation, path: &str) -> Option<(String, File)> {
    let name = Path::new(path).file_name()?.to_str()?.to_owned();
    let path: PathBuf = kept.uploads.join(&name);
    Some((name, File::open(path).ok()?))
}

fn options(is_packed: bool) -> SimpleFileOptions {
    let method = if is_packed { CompressionMethod::Deflated } else { CompressionMethod::Stored };
    SimpleFileOptions::default().compression_method(method).large_file(true)
}

/// Adds a file; what is packed already is not packed again.
fn added(
    archive: &mut ZipWriter<NamedTempFile>,
    name: &str,
    mut from: impl std::io::Read,
    is_packed: bool,
) -> std::io::Result<ArchiveFile> {
    archive.start_file(name, options(is_packed))?;
    copied(name, &mut from, archive)
}
