//! Everything that is kept, in one file, and back out of it.
//!
//! A backup is a ZIP archive: `database` is what PostgreSQL's own `pg_dump` writes (its custom
//! format), `uploads/…` are the files of the uploads folder as they were when the database was read,
//! and `manifest.json` says when it was made and what all of them must be, by size and SHA-256. What
//! is secret only for a while is not in it: sessions, guesses at passwords, the views that questions
//! are asked of. Neither is the key that seals stored passwords; it is kept elsewhere on purpose.

mod restore;
mod take;
mod tools;

use std::io::Read;
use std::path::PathBuf;

use chrono::{DateTime, Utc};
use pronoia_core::model::hex;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

pub use restore::restore;
pub use take::take;

use crate::{Result, StoreError};

/// The form of archives that is written; others are refused.
const FORM: u32 = 1;

/// What the entry of the database is called.
const DATABASE: &str = "database";

/// What the entry is called that says what the others are.
const MANIFEST: &str = "manifest.json";

/// What stands before the names of uploaded files.
const UPLOADS: &str = "uploads/";

/// The database and the folder that are backed up, or filled.
#[derive(Debug, Clone)]
pub struct BackupLocation {
    /// The database's address, with its password.
    pub database: String,
    /// The folder of uploaded files.
    pub uploads: PathBuf,
}

/// What a backup holds.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BackupManifest {
    form: u32,
    /// When the database was read.
    pub taken_at: DateTime<Utc>,
    /// The steps that had made its tables.
    steps: Vec<String>,
    /// What the entries of the archive are.
    entries: Vec<ArchiveFile>,
}

/// A file of the archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct ArchiveFile {
    name: String,
    size: u64,
    sha256: String,
}

impl BackupManifest {
    /// Uploaded files in it.
    pub fn files(&self) -> usize {
        self.entries.iter().filter(|entry| entry.name.starts_with(UPLOADS)).count()
    }

    /// Bytes of what it holds, unpacked.
    pub fn size(&self) -> u64 {
        self.entries.iter().map(|entry| entry.size).sum()
    }
}

/// Copies, and tells what was copied.
fn copied(name: &str, from: &mut impl Read, to: &mut impl std::io::Write) -> std::io::Result<ArchiveFile> {
    let (mut digest, mut size) = (Sha256::new(), 0);
    let mut part = vec![0; 1 << 16];
    loop {
        let read = from.read(&mut part)?;
        if read == 0 {
            return Ok(ArchiveFile { name: name.to_owned(), size, sha256: hex(&digest.finalize()) });
        }
        digest.update(&part[..read]);
        size += read as u64;
        to.write_all(&part[..read])?;
    }
}

/// A refusal about a file.
fn file_problem(path: &std::path::Path, what: &str, e: &std::io::Error) -> StoreError {
    match e.kind() {
        std::io::ErrorKind::StorageFull => StoreError::Refused(format!(
            "The disk that {} lies on is full. Nothing was kept; free some space and try again.",
            path.display()
        )),
        _ => StoreError::Refused(format!("{} could not be {what}: {e}.", path.display())),
    }
}

/// Does what waits for files and other programs where it holds nobody up.
async fn aside<T: Send + 'static>(work: impl FnOnce() -> Result<T> + Send + 'static) -> Result<T> {
    tokio::task::spawn_blocking(work).await.map_err(|e| StoreError::Damaged(e.to_string()))?
}
