//! `pronoia export`.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::export::{ExportForm, ModelFormula, SCHEMA};

use crate::{CommandOutcome, records};

/// Export a model as SQL, PMML, ONNX or JSON.
#[derive(Args)]
pub struct Export {
    /// The model.
    #[arg(long, required_unless_present = "schema")]
    model: Option<PathBuf>,
    /// The form: pmml, onnx, json, sql, sql-postgresql, sql-duckdb or sql-spark.
    #[arg(long, required_unless_present = "schema")]
    format: Option<ExportForm>,
    /// The file to write.
    #[arg(long, required_unless_present = "schema")]
    out: Option<PathBuf>,
    /// Customers on whom the export is checked against the model before it is written.
    #[arg(long)]
    check: Option<PathBuf>,
    /// Print the schema of the form json.
    #[arg(long, conflicts_with_all = ["model", "format", "out", "check"])]
    schema: bool,
}

impl Export {
    pub fn run(self) -> CommandOutcome {
        let (Some(model), Some(form), Some(out)) = (&self.model, self.format, &self.out) else {
            print!("{SCHEMA}");
            return Ok(());
        };
        let model = records::read_model(model)?;
        let formula = ModelFormula::of(&model).map_err(|e| e.to_string())?;
        if let Some(path) = self.check {
            let input = records::InputFile::of(path);
            let (table, _) = input.read_for(&model, &records::Terminal::new())?;
            let checked = formula.checked(&model, &table).map_err(|e| e.to_string())?;
            eprintln!(
                "Compared on {} customers; the largest difference of predicted probabilities is {:.1e}.",
                checked.rows, checked.difference
            );
        }
        let written = form.write(&formula).map_err(|e| e.to_string())?;
        records::write(out, &written.bytes)?;
        written.notes.iter().for_each(|note| eprintln!("{note}"));
        if !model.evaluated {
            eprintln!("The model was never evaluated on rows that it was not fitted to; `pronoia evaluate` does that.");
        }
        Ok(())
    }
}
