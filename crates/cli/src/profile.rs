//! `pronoia profile`.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::number::plain;
use pronoia_core::profile::TableProfile;

use crate::{CommandOutcome, records};

/// Describe every column of a table.
#[derive(Args)]
pub struct Profile {
    #[command(flatten)]
    table: records::InputFile,
    /// Write the figures as JSON to this file.
    #[arg(long)]
    json: Option<PathBuf>,
}

impl Profile {
    pub fn run(self) -> CommandOutcome {
        let (table, _) = self.table.read(&records::Terminal::new())?;
        let profile = TableProfile::of(&table);
        if let Some(path) = &self.json {
            return records::write_json(path, &profile);
        }
        println!("{} rows", profile.rows);
        println!("{:<28} {:<9} {:>9} {:>9}  from – to, or most frequent", "column", "kind", "missing", "different");
        for c in &profile.columns {
            let what = match &c.numbers {
                Some(n) if c.kind.is_number() => format!("{} – {}, mean {}", plain(n.min), plain(n.max), plain(n.mean)),
                _ => c.top.iter().take(3).map(|(v, n)| format!("{v} ({n})")).collect::<Vec<_>>().join(", "),
            };
            println!("{:<28} {:<9} {:>9} {:>9}  {what}", c.name, c.kind.word(), c.missing, c.distinct);
        }
        Ok(())
    }
}
