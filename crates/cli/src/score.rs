//! `pronoia score`.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::score::{By, match_list, scored, to_csv};

use crate::{Outcome, records};

/// Score a list with a model.
#[derive(Args)]
pub struct Score {
    #[command(flatten)]
    list: records::Input,
    /// The model.
    #[arg(long)]
    model: PathBuf,
    /// Where the scored list is written, as CSV.
    #[arg(long)]
    out: PathBuf,
    /// Act from this probability on; without it, the cut-off stored in the model.
    #[arg(long)]
    cut_off: Option<f64>,
}

impl Score {
    pub fn run(self) -> Outcome {
        if self.out.extension().is_none_or(|e| !e.eq_ignore_ascii_case("csv")) {
            return Err(format!(
                "{}: a scored list is written as CSV; give a name that ends in .csv.",
                self.out.display()
            ));
        }
        if let Some(p) = self.cut_off.filter(|p| !(0.0..=1.0).contains(p)) {
            return Err(format!("A cut-off is a probability between 0 and 1; it is {p}."));
        }
        let model = records::read_model(&self.model)?;
        let list = self.list.read_for(&model, &records::Terminal::new())?;
        let (report, matched) = match_list(&model, &list);
        if !report.is_complete() {
            return Err(format!(
                "{}: the model needs columns that are not there: {}.",
                self.list.path.display(),
                report.lacking().join(", ")
            ));
        }
        for input in &report.inputs {
            for remark in input.remarks() {
                eprintln!("{}: {remark}.", input.name);
            }
        }
        if !model.evaluated {
            eprintln!("The model was never judged on rows that it had not seen; `pronoia evaluate` does that.");
        }
        let cut_off = self.cut_off.or(model.cut_off);
        if cut_off.is_none() {
            eprintln!("No cut-off was given and the model has none, so that there is no column pronoia_decision.");
        }
        let (table, _) = scored(&model, &list, &matched, cut_off.map(By::CutOff))?;
        records::write(&self.out, &to_csv(&table).map_err(|e| e.to_string())?)
    }
}
