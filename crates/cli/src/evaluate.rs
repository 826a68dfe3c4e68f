//! `pronoia evaluate`.

use std::path::PathBuf;

use clap::Args;

use crate::{CommandOutcome, fitting, records};

/// Evaluate a model on rows that it was not fitted to, and mark it as evaluated.
#[derive(Args)]
pub struct Evaluate {
    #[command(flatten)]
    table: records::InputFile,
    /// The model.
    #[arg(long)]
    model: PathBuf,
    /// Write the figures as JSON to this file.
    #[arg(long)]
    json: Option<PathBuf>,
}

impl Evaluate {
    pub fn run(self) -> CommandOutcome {
        let mut model = records::read_model(&self.model)?;
        let (table, _) = self.table.read(&records::Terminal::new())?;
        let rows: Vec<usize> = (0..table.rows()).collect();
        let e = fitting::judge(&model, &table, &rows)?;
        if let Some(path) = &self.json {
            records::write_json(path, &e)?;
        } else {
            println!("{} rows, {} events", e.rows, e.events);
            println!("AUC (ROC)         {:.4}", e.area_under_roc);
            println!("average precision {:.4}", e.average_precision);
            println!("log loss          {:.4}", e.log_loss);
            println!("Brier             {:.4}", e.brier);
        }
        if !model.evaluated {
            model.evaluated = true;
            records::write(&self.model, &model.to_bytes().map_err(|e| e.to_string())?)?;
        }
        Ok(())
    }
}
