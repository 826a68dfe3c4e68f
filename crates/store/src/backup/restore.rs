//! Fills an empty database and folder from a backup.

use std::fs::File;
use std::io::{Read, Write};
use std::path::Path;

use sea_orm_migration::MigratorTrait;
use sqlx::Connection;
use sqlx::postgres::PgConnection;
use tempfile::NamedTempFile;
use zip::ZipArchive;

use super::{
    ArchiveFile, BackupLocation, BackupManifest, DATABASE, FORM, MANIFEST, UPLOADS, aside, copied, file_problem, tools,
};
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
pub async fn restore(file: &Path, kept: &BackupLocation) -> Result<BackupManifest> {
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
    connection.close().await?;
    let (path, into, entries) = (file.to_owned(), kept.clone(), manifest.entries.clone());
    aside(move || filled(&path, &into, &entries)).await?;
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
fn checked(file: &Path) -> Result<BackupManifest> {
    let mut archive = archive(file)?;
    let mut text = String::new();
    let entry = archive.by_name(MANIFEST).map_err(|e| damaged(file, e))?;
    entry.take(1 << 26).read_to_string(&mut text).map_err(|e| damaged(file, e))?;
    let manifest: BackupManifest = serde_json::from_str(&text).map_err(|e| damaged(file, e))?;
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

/// Unpacks the files beside the folder, moves them into it, then fills the database in one transaction. Whoever is
/// killed in between leaves files that the next try finds as they should be, and takes for its own.
fn filled(file: &Path, kept: &BackupLocation, entries: &[ArchiveFile]) -> Result<()> {
    let mut archive = archive(file)?;
    std::fs::create_dir_all(&kept.uploads).map_err(|e| file_problem(&kept.uploads, "made", &e))?;
    let unpacked = tempfile::Builder::new().prefix(".restoring-").tempdir_in(&kept.uploads);
    let unpacked = unpacked.map_err(|e| file_problem(&kept.uploads, "written", &e))?;
    let names = unpack(&mut archive, file, unpacked.path(), entries)?;
    let mut moved = Vec::new();
    let mut put = || -> Result<()> {
        for (name, entry) in &names {
            let (from, to) = (unpacked.path().join(name), kept.uploads.join(name));
            if is_same(&to, entry)? {
                continue;
            }
            if to.exists() {
                return Err(StoreError::Refused(format!(
                    "{} is there already, and is another file. Name another folder with --uploads; nothing was touched.",
                    to.display()
                )));
            }
            std::fs::rename(&from, &to).map_err(|e| file_problem(&to, "written", &e))?;
            moved.push(to);
        }
        Ok(())
    };
    let outcome = put().and_then(|()| fill(&mut archive, file, kept));
    if outcome.is_err() {
        for path in moved {
            let _ = std::fs::remove_file(path);
        }
    }
    outcome
}

/// Unpacks the files into a folder of their own; their names.
fn unpack<'e>(
    archive: &mut ZipArchive<File>,
    file: &Path,
    into: &Path,
    entries: &'e [ArchiveFile],
) -> Result<Vec<(&'e str, &'e ArchiveFile)>> {
    let mut names = Vec::new();
    for (name, entry) in entries.iter().filter_map(|entry| Some((entry.name.strip_prefix(UPLOADS)?, entry))) {
        if Path::new(name).components().count() != 1 || Path::new(name).file_name().is_none() {
            return Err(damaged(file, format!("{name} is no name of a file")));
        }
        let path = into.join(name);
        let mut found = archive.by_name(&entry.name).map_err(|e| damaged(file, e))?;
        let mut to = File::create_new(&path).map_err(|e| file_problem(&path, "written", &e))?;
        copied(name, &mut found, &mut to).map_err(|e| file_problem(&path, "written", &e))?;
        to.sync_all().map_err(|e| file_problem(&path, "written", &e))?;
        names.push((name, entry));
    }
    Ok(names)
}

/// Whether a file is there and is the one of the backup.
fn is_same(path: &Path, entry: &ArchiveFile) -> Result<bool> {
    let mut there = match File::open(path) {
        Ok(there) => there,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(false),
        Err(e) => return Err(file_problem(path, "read", &e)),
    };
    let read = copied(&entry.name, &mut there, &mut std::io::sink()).map_err(|e| file_problem(path, "read", &e))?;
    Ok(read == *entry)
}

/// Fills the database: all that `pg_restore` writes of it, and where the files lie now, in one transaction.
fn fill(archive: &mut ZipArchive<File>, file: &Path, kept: &BackupLocation) -> Result<()> {
    let mut found = archive.by_name(DATABASE).map_err(|e| damaged(file, e))?;
    let mut dump = NamedTempFile::new_in(&kept.uploads).map_err(|e| file_problem(&kept.uploads, "written", &e))?;
    copied(DATABASE, &mut found, &mut dump).map_err(|e| damaged(file, e))?;
    let mut command = tools::program("pg_restore");
    command.args(["--format=custom", "--no-owner", "--no-privileges", "--file=-"]).arg(dump.path());
    let mut writing = tools::started(command)?;
    let mut script = writing.stdout.take().ok_or_else(|| StoreError::Damaged("pg_restore says nothing".into()))?;
    let mut command = tools::tool("psql", &kept.database)?;
    command.args(["--no-psqlrc", "--quiet", "--output=/dev/null", "--set=ON_ERROR_STOP=1", "--file=-"]);
    let mut filling = tools::started(command)?;
    let mut pipe = filling.stdin.take().ok_or_else(|| StoreError::Damaged("psql hears nothing".into()))?;
    // Whoever is killed never says COMMIT, and then nothing of it is there.
    let told = pipe.write_all(b"BEGIN;\n").and_then(|()| std::io::copy(&mut script, &mut pipe)).and_then(|_| {
        let mut folder = kept.uploads.to_string_lossy().into_owned();
        folder.push('/');
        let folder = folder.replace('\'', "''");
        writeln!(pipe, "UPDATE public.upload SET path = '{folder}' || regexp_replace(path, '^.*/', '');")
    });
    // Only a script that was written to its end is carried out.
    let written = tools::ended(writing);
    let told = if written.is_ok() { told.and_then(|()| pipe.write_all(b"COMMIT;\n")) } else { told };
    drop(pipe);
    let filled = tools::ended(filling);
    written?;
    // What the program says of its end tells more than that it does not listen any more.
    filled?;
    told.map_err(|e| damaged(file, e))
}
