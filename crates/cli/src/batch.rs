//! `pronoia batch`: lists are dropped into one folder, and scored ones are collected from another.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use chrono::{DateTime, Utc};
use clap::Args;
use pronoia_core::Model;
use pronoia_core::model::hex;
use pronoia_core::write::FileFormat;
use serde::Serialize;
use sha2::{Digest, Sha256};

use crate::{CommandOutcome, records, scoring};

/// Score every list in a folder with a model.
#[derive(Args)]
pub struct Batch {
    /// The folder where lists are dropped. Each is moved to “done” or “refused” within it.
    inbox: PathBuf,
    /// The folder where scored lists are written, each with a manifest.
    outbox: PathBuf,
    /// The model.
    #[arg(long)]
    model: PathBuf,
    /// The format of scored lists: csv, xlsx, parquet or jsonl.
    #[arg(long, default_value = "csv")]
    format: String,
    /// Look for new lists every so many seconds until stopped, instead of once.
    #[arg(long, value_name = "SECONDS")]
    watch: Option<u64>,
    #[command(flatten)]
    how: scoring::How,
}

/// What became of a list. It is written last: where it stands, everything else does.
#[derive(Debug, Default, Serialize)]
struct ListManifest {
    /// The list as it was dropped.
    list: String,
    bytes: u64,
    sha256: String,
    /// Why there is no scored list.
    #[serde(skip_serializing_if = "Option::is_none")]
    refused: Option<String>,
    /// The scored list.
    #[serde(skip_serializing_if = "Option::is_none")]
    scored: Option<ScoredList>,
    /// Rows that could not be read, and where they are.
    rejected_rows: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    rejects: Option<String>,
    /// Cells that were taken as missing.
    misfit_cells: u64,
    /// What is worth minding, in sentences.
    remarks: Vec<String>,
    /// The records that the model was fitted to.
    model_records: String,
    /// The version of the program that fitted the model.
    model_version: String,
    began: DateTime<Utc>,
    ended: DateTime<Utc>,
}

#[derive(Debug, Serialize)]
struct ScoredList {
    file: String,
    sha256: String,
    rows: u64,
    to_act_on: u64,
    #[serde(skip_serializing_if = "Option::is_none")]
    expected_gain: Option<f64>,
}

impl Batch {
    pub fn run(self) -> CommandOutcome {
        let Some(form) = FileFormat::of_extension(&self.format) else {
            let known = FileFormat::ALL.map(FileFormat::extension).join(", ");
            return Err(format!("There is no format “{}”; there are {known}.", self.format));
        };
        self.how.check()?;
        let model = records::read_model(&self.model)?;
        for folder in [&self.inbox, &self.outbox, &self.inbox.join("done"), &self.inbox.join("refused")] {
            std::fs::create_dir_all(folder).map_err(|e| format!("{}: {e}.", folder.display()))?;
        }
        let Some(seconds) = self.watch else {
            let lists = waiting(&self.inbox)?;
            let mut refused = 0;
            for (list, _) in &lists {
                refused += usize::from(!self.one(&model, form, list)?);
            }
            return match refused {
                0 => Ok(()),
                n => Err(format!("{n} of {} lists were refused; the manifests say why.", lists.len())),
            };
        };
        // A list that is still being copied grows between two looks.
        let mut before: HashMap<PathBuf, u64> = HashMap::new();
        loop {
            let lists = waiting(&self.inbox)?;
            for (list, _) in lists.iter().filter(|(list, bytes)| before.get(list) == Some(bytes)) {
                self.one(&model, form, list)?;
            }
            before = lists.into_iter().collect();
            std::thread::sleep(Duration::from_secs(seconds.max(1)));
        }
    }

    /// Scores a list, and says what became of it; false if it was refused.
    fn one(&self, model: &Model, form: FileFormat, list: &Path) -> Result<bool, String> {
        let began = Utc::now();
        let name = list.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let bytes = std::fs::read(list).map_err(|e| format!("{}: {e}.", list.display()))?;
        let mut manifest = ListManifest {
            list: name.clone(),
            bytes: bytes.len() as u64,
            sha256: digest(&bytes),
            model_records: model.fingerprint.clone(),
            model_version: model.version.clone(),
            began,
            ..ListManifest::default()
        };
        let stem = free_stem(&self.outbox, list);
        let scored = self.scored(model, form, (list, &stem), &mut manifest);
        let is_scored = scored.is_ok();
        match scored {
            Ok(scored) => manifest.scored = Some(scored),
            Err(reason) => manifest.refused = Some(reason),
        }
        manifest.ended = Utc::now();
        records::write_json(&self.outbox.join(format!("{stem}.manifest.json")), &manifest)?;
        let aside = self.inbox.join(if is_scored { "done" } else { "refused" });
        let place = aside.join(format!("{} {name}", began.format("%Y-%m-%d %H%M%S%.3f")));
        std::fs::rename(list, &place).map_err(|e| format!("{} could not be moved: {e}.", list.display()))?;
        eprintln!("{name}: {}", manifest.refused.as_deref().unwrap_or("scored"));
        Ok(is_scored)
    }

    fn scored(
        &self,
        model: &Model,
        form: FileFormat,
        (list, stem): (&Path, &str),
        manifest: &mut ListManifest,
    ) -> Result<ScoredList, String> {
        let input = records::InputFile::of(list.to_owned());
        let (table, scan) = input.read_for(model, &records::Terminal::new())?;
        (manifest.rejected_rows, manifest.misfit_cells) = (scan.rejected, scan.misfit_cells);
        if !scan.misfits.is_empty() {
            let rejects = format!("{stem}.rejects.csv");
            records::write(&self.outbox.join(&rejects), scan.rejects_csv().as_bytes())?;
            manifest.rejects = Some(rejects);
        }
        let scored = self.how.scored(model, &table, &mut |remark| manifest.remarks.push(remark))?;
        let mut bytes = Vec::new();
        form.write(&scored.table, &mut bytes).map_err(|e| e.to_string())?;
        let file = format!("{stem}.scored.{}", form.extension());
        records::write(&self.outbox.join(&file), &bytes)?;
        Ok(ScoredList {
            file,
            sha256: digest(&bytes),
            rows: scored.account.rows,
            to_act_on: scored.account.acted,
            expected_gain: scored.account.gain,
        })
    }
}

fn digest(bytes: &[u8]) -> String {
    hex(&Sha256::digest(bytes))
}

/// The lists in a folder with their sizes, by name; what begins with a point is not one yet.
fn waiting(folder: &Path) -> Result<Vec<(PathBuf, u64)>, String> {
    let failed = |e: std::io::Error| format!("{}: {e}.", folder.display());
    let mut lists = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(failed)? {
        let entry = entry.map_err(failed)?;
        // One that was taken away in between is no list any more.
        let Ok(about) = entry.metadata() else { continue };
        if about.is_file() && !entry.file_name().to_string_lossy().starts_with('.') {
            lists.push((entry.path(), about.len()));
        }
    }
    lists.sort();
    Ok(lists)
}

/// The beginning of the names of what is made of a list, with a number where there was one of its name
/// before.
fn free_stem(outbox: &Path, list: &Path) -> String {
    let stem = list.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let taken = |stem: &str| outbox.join(format!("{stem}.manifest.json")).exists();
    if !taken(&stem) {
        return stem;
    }
    (2..).map(|n| format!("{stem} {n}")).find(|stem| !taken(stem)).unwrap_or(stem)
}
