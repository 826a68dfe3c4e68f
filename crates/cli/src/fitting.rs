//! What `fit` and `blend` share: the records, the choices, and where the model goes.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::evaluate::Evaluation;
use pronoia_core::model::Recipe;
use pronoia_core::prepare::PreparationStep;
use pronoia_core::profile::TableProfile;
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{self, Basis, Outcome as StudyOutcome};
use pronoia_core::{Model, Table};

use crate::{CommandOutcome, records};

/// The rows to fit to, and the files to write.
#[derive(Args)]
pub struct Fitting {
    #[command(flatten)]
    table: records::InputFile,
    /// The outcome column.
    #[arg(long)]
    pub outcome: String,
    /// The value of the outcome that is the event.
    #[arg(long)]
    pub event: String,
    /// Columns to exclude, separated by commas.
    #[arg(long, alias = "leave-out", value_delimiter = ',')]
    exclude: Vec<String>,
    /// A predictor to keep although it is proposed to be excluded; may be given again.
    #[arg(long = "keep", value_name = "COL")]
    keep: Vec<String>,
    /// Steps of the preparation, as a JSON list.
    #[arg(long, value_name = "STEPS.json")]
    preparation: Option<PathBuf>,
    /// Random seed.
    #[arg(long, default_value_t = SplitPlan::default().seed)]
    pub seed: u64,
    /// Threads to use; the result is the same for any number.
    #[arg(long)]
    threads: Option<usize>,
    /// Share of rows in the validation set, 0 to below 1.
    #[arg(long, default_value_t = 0.0)]
    holdout: f64,
    /// The file for the model.
    #[arg(long)]
    model: PathBuf,
    /// The file for the figures, as JSON.
    #[arg(long)]
    report: Option<PathBuf>,
}

/// The rows that a model is fitted to: the records, the choices, and which of them.
pub type On<'a> = (&'a Table, &'a Basis, &'a [usize]);

impl Fitting {
    /// What is predicted.
    pub fn predicts(&self) -> StudyOutcome {
        StudyOutcome::is(&self.outcome, &self.event)
    }

    /// Fits by the recipe that `chosen` gives for the rows, and writes the model.
    pub fn run(&self, chosen: impl FnOnce(On, &records::Terminal) -> Result<Recipe, String>) -> CommandOutcome {
        if let Some(threads) = self.threads {
            rayon::ThreadPoolBuilder::new().num_threads(threads).build_global().map_err(|e| e.to_string())?;
        }
        let progress = records::Terminal::new();
        let (table, _) = self.table.read(&progress)?;
        let profile = TableProfile::of(&table);
        let outcome = self.predicts();
        outcome.check(profile.column(&self.outcome)).map_err(|e| e.to_string())?;
        let predictors = self.predictors(&table, &profile)?;
        let basis = self.basis(outcome, predictors)?;
        let (training, held_out) = self.parts(&table, &basis)?;
        let recipe = chosen((&table, &basis, &training), &progress)?;
        let mut model =
            Model::fit(&table, &basis, &training, &recipe, self.seed, &progress).map_err(|e| e.to_string())?;
        if held_out.is_empty() {
            println!("fitted to {} rows; not evaluated, because there is no validation set", model.rows);
        } else {
            let evaluation = judge(&model, &table, &held_out)?;
            model.evaluated = true;
            println!(
                "fitted to {} rows; on {} validation rows: AUC (ROC) {:.4}, log loss {:.4}",
                model.rows, evaluation.rows, evaluation.area_under_roc, evaluation.log_loss
            );
            if let Some(path) = &self.report {
                records::write_json(path, &evaluation)?;
            }
        }
        records::write(&self.model, &model.to_bytes().map_err(|e| e.to_string())?)
    }

    /// All columns but the outcome, those named, and those that cannot be right.
    fn predictors(&self, table: &Table, profile: &TableProfile) -> Result<Vec<String>, String> {
        for name in self.exclude.iter().chain(&self.keep) {
            if table.column(name).is_none() {
                return Err(format!("There is no column called “{name}” in {}.", self.table.path.display()));
            }
        }
        let mut predictors = Vec::new();
        for choice in study::guess(profile, &self.outcome, |_| None) {
            let kept = self.keep.contains(&choice.name) && choice.name != self.outcome;
            if choice.never && !kept {
                if choice.name != self.outcome {
                    eprintln!("{} excluded: {}.", choice.name, choice.reason);
                }
            } else if !self.exclude.contains(&choice.name) {
                predictors.push(choice.name);
            }
        }
        Ok(predictors)
    }

    /// The choices as a study would hold them; columns that steps make go in.
    fn basis(&self, outcome: StudyOutcome, mut predictors: Vec<String>) -> Result<Basis, String> {
        let steps: Vec<PreparationStep> = match &self.preparation {
            None => Vec::new(),
            Some(path) => {
                let text = std::fs::read(path).map_err(|e| format!("{}: {e}.", path.display()))?;
                serde_json::from_slice(&text).map_err(|e| format!("{}: {e}.", path.display()))?
            }
        };
        predictors.extend(steps.iter().filter(|s| !s.off).filter_map(|s| s.action.makes()));
        let split = SplitPlan {
            training: 1.0 - self.holdout,
            validation: self.holdout / 2.0,
            seed: self.seed,
            ..SplitPlan::default()
        };
        Ok(Basis { split, steps, ..Basis::plain(outcome, predictors) })
    }

    /// Rows to fit to and rows held out; the same deal as a study with the same seed.
    fn parts(&self, table: &Table, basis: &Basis) -> Result<(Vec<usize>, Vec<usize>), String> {
        let (_, happened) = basis.population(table)?;
        if self.holdout == 0.0 {
            return Ok(((0..table.rows()).filter(|&r| happened[r].is_some()).collect(), Vec::new()));
        }
        let dealt = basis.split.deal(table, &happened).map_err(|e| e.to_string())?;
        let mut held_out = [dealt.validation, dealt.test].concat();
        held_out.sort_unstable();
        Ok((dealt.training, held_out))
    }
}

/// Judges a model on the rows given.
pub fn judge(model: &Model, table: &Table, rows: &[usize]) -> Result<Evaluation, String> {
    let (probability, event) = told(model, table, rows)?;
    Ok(Evaluation::of(&probability, &event))
}

/// Predicted probabilities of those of the rows whose outcome is known, and their outcomes.
pub fn told(model: &Model, table: &Table, rows: &[usize]) -> Result<(Vec<f64>, Vec<bool>), String> {
    let happened = model.outcome.read(table).map_err(|e| e.to_string())?;
    let rows: Vec<usize> = rows.iter().copied().filter(|&r| happened[r].is_some()).collect();
    let event: Vec<bool> = rows.iter().map(|&r| happened[r] == Some(true)).collect();
    let probability = model.probabilities(table, &rows).map_err(|e| e.to_string())?;
    Ok((probability, event))
}
