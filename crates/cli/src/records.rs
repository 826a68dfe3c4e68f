//! Files in and out, for every command.

use std::fs::File;
use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};

use clap::Args;
use pronoia_core::intake::{Intake, Scan};
use pronoia_core::{Model, Progress, Table};

/// Shows progress on standard error where that is a terminal.
pub struct Terminal {
    shows: bool,
}

impl Terminal {
    pub fn new() -> Self {
        Self { shows: std::io::stderr().is_terminal() }
    }
}

impl Progress for Terminal {
    fn tell(&self, stage: &str, share: f64) {
        if self.shows {
            eprint!("\r\x1b[K{:>3.0} %  {stage}", share.clamp(0.0, 1.0) * 100.0);
            if share >= 1.0 {
                eprintln!();
            }
        }
    }
}

/// A file to read, named on the command line.
#[derive(Args)]
pub struct InputFile {
    /// The file: delimited text, XLSX, ODS, Parquet, Arrow or JSON lines.
    #[arg(value_name = "FILE")]
    pub path: PathBuf,
    /// The sheet to read, if it is a workbook; without it, the first that is not empty.
    #[arg(long)]
    sheet: Option<String>,
}

impl InputFile {
    /// A file, of which the first sheet is read.
    pub fn of(path: PathBuf) -> Self {
        Self { path, sheet: None }
    }

    /// Reads it and says on standard error what did not fit.
    pub fn read(&self, progress: &dyn Progress) -> Result<(Table, Scan), String> {
        self.read_as(|_| {}, progress)
    }

    /// Reads it in the kinds that a model was trained with.
    pub fn read_for(&self, model: &Model, progress: &dyn Progress) -> Result<(Table, Scan), String> {
        let as_trained = |scan: &mut Scan| model.inputs().for_each(|input| scan.plan.read_as(&input.name, input.kind));
        self.read_as(as_trained, progress)
    }

    fn read_as(&self, change: impl FnOnce(&mut Scan), progress: &dyn Progress) -> Result<(Table, Scan), String> {
        let path = &self.path;
        let size = std::fs::metadata(path).map_err(|e| format!("{}: {e}.", path.display()))?.len();
        let intake = Intake { open: || File::open(path), size, sheet: self.sheet.as_deref() };
        let (table, scan) = intake.table(change, progress).map_err(|e| format!("{}: {e}", path.display()))?;
        for note in &scan.notes {
            eprintln!("{}: {note}", path.display());
        }
        if scan.rejected + scan.misfit_cells > 0 {
            eprintln!(
                "{}: {} rows rejected, {} cells read as missing; the first is on {} {}.",
                path.display(),
                scan.rejected,
                scan.misfit_cells,
                scan.plan.format.place(),
                scan.misfits.first().map_or(0, |m| m.line)
            );
        }
        Ok((table, scan))
    }
}

/// Reads a saved model.
pub fn read_model(path: &Path) -> Result<Model, String> {
    let bytes = std::fs::read(path).map_err(|e| format!("{}: {e}.", path.display()))?;
    Model::from_bytes(&bytes).map_err(|e| format!("{}: {e}", path.display()))
}

/// Writes a file whole or not at all: under another name first, then renamed.
pub fn write(path: &Path, bytes: &[u8]) -> Result<(), String> {
    let name = path.file_name().ok_or_else(|| format!("{} is not a file name.", path.display()))?;
    let partial = path.with_file_name(format!(".{}.{}", name.to_string_lossy(), std::process::id()));
    let written = File::create(&partial)
        .and_then(|mut file| file.write_all(bytes).and_then(|()| file.sync_all()))
        .and_then(|()| std::fs::rename(&partial, path));
    written.map_err(|e| {
        let _ = std::fs::remove_file(&partial);
        format!("{} could not be written: {e}.", path.display())
    })
}

/// Writes JSON to a file.
pub fn write_json(path: &Path, value: &impl serde::Serialize) -> Result<(), String> {
    let text = serde_json::to_vec_pretty(value).map_err(|e| e.to_string())?;
    write(path, &text)
}
