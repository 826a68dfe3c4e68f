//! Fills an empty database and folder from a backup.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use sea_orm_migration::MigratorTrait;
use sqlx::Connection;
use sqlx::postgres::PgConnection;
use tempfile::NamedTempFile;
use zip::ZipArchive;

use super::{DATABASE, Entry, FORM, Kept, MANIFEST, Manifest, UPLOADS, aside, copied, file_problem, tools};
use crate::schema::Migrator;
use crate::{Result, Store, StoreError};

/// Fills an empty database, and the uploads folder, from a backup, and brings its tables up to date.
/// The backup is read through once before anything is touched; the database is filled whole or not at
/// all. Everybody has to sign in again.
///
/// # Errors
/// [`StoreError::Refused`] if the backup is damaged, or of a newer Pronoia, if the database is not
/// empty, if a file of the same name lies in the folder, or if `pg_restore` does not do its work;
/// [`StoreError::Unreachable`].
pub async fn restore(file: &Path, kept: &Kept) -> Result<Manifest> {
    let path = file.to_owned();
    let manifest = aside(move || checked(&path)).await?;
    let mut connection = PgConnection::connect(&kept.database).await?;
    let tables: i64 = sqlx::query_scalar(
        "SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'",
    )
    .fetch_one(&mut connection)
    .await?;
    if tables > 0 {
        return Err(StoreError::Refused(
            "The database is not empty, and nothing in it was touched. Make a new one (createdb) and name it with DATABASE_URL.".into(),
        ));
    }
    let (path, into, entries) = (file.to_owned(), kept.clone(), manifest.entries.clone());
    aside(move || filled(&path, &into, &entries)).await?;
    let mut folder = kept.uploads.to_string_lossy().into_owned();
    folder.push('/');
    sqlx::query("UPDATE upload SET path = $1 || regexp_replace(path, '^.*/', '')")
        .bind(folder)
        .execute(&mut connection)
        .await?;
    connection.close().await?;
    Store::open(&kept.database).await?;
    Ok(manifest)
}

fn damaged(file: &Path, what: impl std::fmt::Display) -> StoreError {
    StoreError::Refused(format!(
        "{} is no whole backup ({what}). Nothing was touched; take another copy of it, or an older backup.",
        file.display()
    ))
}

fn archive(file: &Path) -> Result<ZipArchive<File>> {
    let opened = File::open(file).map_err(|e| file_problem(file, "read", &e))?;
    ZipArchive::new(opened).map_err(|e| damaged(file, e))
}

/// What the backup holds, once all of it is found to be as it was written.
fn checked(file: &Path) -> Result<Manifest> {
    let mut archive = archive(file)?;
    let mut text = String::new();
    let entry = archive.by_name(MANIFEST).map_err(|e| damaged(file, e))?;
    entry.take(1 << 26).read_to_string(&mut text).map_err(|e| damaged(file, e))?;
    let manifest: Manifest = serde_json::from_str(&text).map_err(|e| damaged(file, e))?;
    let known: Vec<String> = Migrator::migrations().iter().map(|step| step.name().to_owned()).collect();
    if manifest.form != FORM || manifest.steps.iter().any(|step| !known.contains(step)) {
        return Err(StoreError::Refused(format!(
            "{} was made by a newer Pronoia than this one. Nothing was touched; restore it with that one.",
            file.display()
        )));
    }
    for entry in &manifest.entries {
        let mut found = archive.by_name(&entry.name).map_err(|e| damaged(file, format!("{}: {e}", entry.name)))?;
        let read = copied(&entry.name, &mut found, &mut std::io::sink());
        if read.map_err(|e| damaged(file, format!("{}: {e}", entry.name)))? != *entry {
            return Err(damaged(file, format!("{} is not as it was written", entry.name)));
        }
    }
    if manifest.entries.iter().any(|entry| entry.name == DATABASE) {
        Ok(manifest)
    } else {
        Err(damaged(file, "the database is missing"))
    }
}

/// Puts the files into the folder, then fills the database; without the one there is not the other.
fn filled(file: &Path, kept: &Kept, entries: &[Entry]) -> Result<()> {
    let mut archive = archive(file)?;
    let mut put = Vec::new();
    let outcome = put_files(&mut archive, file, kept, entries, &mut put).and_then(|()| fill(&mut archive, file, kept));
    if outcome.is_err() {
        for path in put {
            let _ = std::fs::remove_file(path);
        }
    }
    outcome
}

fn put_files(
    archive: &mut ZipArchive<File>,
    file: &Path,
    kept: &Kept,
    entries: &[Entry],
    put: &mut Vec<PathBuf>,
) -> Result<()> {
    std::fs::create_dir_all(&kept.uploads).map_err(|e| file_problem(&kept.uploads, "made", &e))?;
    for name in entries.iter().filter_map(|entry| entry.name.strip_prefix(UPLOADS)) {
        if Path::new(name).components().count() != 1 || Path::new(name).file_name().is_none() {
            return Err(damaged(file, format!("{name} is no name of a file")));
        }
        let path = kept.uploads.join(name);
        let mut found = archive.by_name(&format!("{UPLOADS}{name}")).map_err(|e| damaged(file, e))?;
        let mut partial = NamedTempFile::new_in(&kept.uploads).map_err(|e| file_problem(&path, "written", &e))?;
        copied(name, &mut found, &mut partial).map_err(|e| file_problem(&path, "written", &e))?;
        partial.persist_noclobber(&path).map_err(|e| file_problem(&path, "written", &e.error))?;
        put.push(path);
    }
    Ok(())
}

fn fill(archive: &mut ZipArchive<File>, file: &Path, kept: &Kept) -> Result<()> {
    let mut command = tools::tool("pg_restore", &kept.database)?;
    command.args(["--format=custom", "--single-transaction", "--exit-on-error", "--no-owner", "--no-privileges"]);
    let mut found = archive.by_name(DATABASE).map_err(|e| damaged(file, e))?;
    let mut restoring = tools::started(command)?;
    let mut pipe = restoring.stdin.take().ok_or_else(|| StoreError::Damaged("pg_restore hears nothing".into()))?;
    let told = copied(DATABASE, &mut found, &mut pipe);
    drop(pipe);
    // What the program says of its end tells more than that it does not listen any more.
    tools::ended(restoring)?;
    told.map(drop).map_err(|e| damaged(file, e))
}
