//! `pronoia score`.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::write::FileFormat;

use crate::{CommandOutcome, records, scoring};

/// Score a list with a model.
#[derive(Args)]
pub struct Score {
    #[command(flatten)]
    list: records::InputFile,
    /// The model.
    #[arg(long)]
    model: PathBuf,
    /// Where the scored list is written: a name that ends in .csv, .xlsx, .parquet or .jsonl.
    #[arg(long)]
    out: PathBuf,
    #[command(flatten)]
    how: scoring::How,
}

impl Score {
    pub fn run(self) -> CommandOutcome {
        let extension = self.out.extension().and_then(|e| e.to_str()).unwrap_or_default();
        let Some(form) = FileFormat::of_extension(extension) else {
            let known = FileFormat::ALL.map(|form| format!(".{}", form.extension()));
            return Err(format!("{}: give a name that ends in {}.", self.out.display(), known.join(", ")));
        };
        self.how.check()?;
        let model = records::read_model(&self.model)?;
        let (list, _) = self.list.read_for(&model, &records::Terminal::new())?;
        let scored = self.how.scored(&model, &list, &mut |sentence| eprintln!("{sentence}"));
        let scored = scored.map_err(|reason| format!("{}: {reason}", self.list.path.display()))?;
        let mut bytes = Vec::new();
        form.write(&scored.table, &mut bytes).map_err(|e| e.to_string())?;
        records::write(&self.out, &bytes)
    }
}
