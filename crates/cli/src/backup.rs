//! `pronoia backup` and `pronoia restore`.

use std::path::{Path, PathBuf};

use clap::Args;
use pronoia_store::backup::{self, BackupLocation, BackupManifest};

use crate::CommandOutcome;
use crate::place::{Records, runtime};

/// Write the database and all files into one file, while others work.
///
/// The key that encrypts stored passwords is not in it: keep that file apart. Earlier backups still hold
/// what was erased since; delete them when they are old.
#[derive(Args)]
pub struct Backup {
    #[command(flatten)]
    records: Records,
    /// The file to write; it must not be there yet.
    file: PathBuf,
}

/// Fill an empty database from a backup.
#[derive(Args)]
pub struct Restore {
    #[command(flatten)]
    records: Records,
    /// The backup.
    file: PathBuf,
}

impl Records {
    fn kept(&self) -> BackupLocation {
        BackupLocation { database: self.database.clone(), uploads: self.uploads.clone() }
    }
}

fn told(manifest: &BackupManifest, file: &Path) -> String {
    let files = match manifest.files() {
        1 => "1 uploaded file".to_owned(),
        n => format!("{n} uploaded files"),
    };
    format!(
        "{}, as everything was on {} UTC: the database and {files}, {:.1} MB unpacked.",
        file.display(),
        manifest.taken_at.format("%-d %B %Y at %H:%M:%S"),
        manifest.size() as f64 / 1e6
    )
}

impl Backup {
    pub fn run(self) -> CommandOutcome {
        let taken = runtime()?
            .block_on(backup::take(&self.records.kept(), &self.file))
            .map_err(|e| self.records.sentence(&e))?;
        println!("Written: {}", told(&taken, &self.file));
        Ok(())
    }
}

impl Restore {
    pub fn run(self) -> CommandOutcome {
        let restored = runtime()?
            .block_on(backup::restore(&self.file, &self.records.kept()))
            .map_err(|e| self.records.sentence(&e))?;
        println!("Restored: {}", told(&restored, &self.file));
        println!("Everybody signs in again. Passwords of sources are read with the key that they were sealed with.");
        Ok(())
    }
}
