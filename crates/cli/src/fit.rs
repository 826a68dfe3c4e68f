//! `pronoia fit`.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::evaluate::Evaluation;
use pronoia_core::learn::{Family, Settings};
use pronoia_core::prepare::Step;
use pronoia_core::profile::TableProfile;
use pronoia_core::split::SplitPlan;
use pronoia_core::study::{self, Basis, Outcome as StudyOutcome};
use pronoia_core::tune::{Measure, Plan, SEARCHED, Search};
use pronoia_core::{Model, Table};

use crate::{Outcome, records};

/// Fit a model to a table.
#[derive(Args)]
pub struct Fit {
    #[command(flatten)]
    table: records::Input,
    /// The column that says what happened.
    #[arg(long)]
    outcome: String,
    /// The value of that column which is the event.
    #[arg(long)]
    event: String,
    /// logistic, scorecard, tree, forest, boosted, network, bayes, neighbours or svm.
    #[arg(long, default_value = "logistic")]
    family: String,
    /// A setting of the family, as name=value; may be given again.
    #[arg(long = "set", value_name = "KEY=VALUE")]
    settings: Vec<String>,
    /// Search families and settings for so many minutes; --family and --set are then not used.
    #[arg(long, value_name = "MINUTES", conflicts_with_all = ["family", "settings"])]
    search: Option<f64>,
    /// Candidates that a search tries at most, as told by an earlier one.
    #[arg(long, requires = "search", default_value_t = 1_000)]
    candidates: usize,
    /// Columns to leave out, with commas between.
    #[arg(long, value_delimiter = ',')]
    leave_out: Vec<String>,
    /// A column to keep against the proposal to leave it out; may be given again.
    #[arg(long = "keep", value_name = "COL")]
    keep: Vec<String>,
    /// Steps to take before the fit, as a JSON list.
    #[arg(long, value_name = "STEPS.json")]
    preparation: Option<PathBuf>,
    /// Governs all that is drawn by lot.
    #[arg(long, default_value_t = SplitPlan::default().seed)]
    seed: u64,
    /// Threads to use; the result is the same for any number.
    #[arg(long)]
    threads: Option<usize>,
    /// Share of rows held out and judged on, 0 to below 1.
    #[arg(long, default_value_t = 0.0)]
    holdout: f64,
    /// Where the model is written.
    #[arg(long)]
    model: PathBuf,
    /// Where the figures are written, as JSON.
    #[arg(long)]
    report: Option<PathBuf>,
}

impl Fit {
    pub fn run(self) -> Outcome {
        if let Some(threads) = self.threads {
            rayon::ThreadPoolBuilder::new().num_threads(threads).build_global().map_err(|e| e.to_string())?;
        }
        let asked = self.settings()?;
        let progress = records::Terminal::new();
        let (table, _) = self.table.read(&progress)?;
        let profile = TableProfile::of(&table);
        let outcome = StudyOutcome::is(&self.outcome, &self.event);
        outcome.check(profile.column(&self.outcome)).map_err(|e| e.to_string())?;
        let predictors = self.predictors(&table, &profile)?;
        let basis = self.basis(outcome, predictors)?;
        let (training, held_out) = self.parts(&table, &basis)?;
        let settings = match self.search {
            Some(minutes) => self.searched(minutes, (&table, &basis, &training), &progress)?,
            None => asked,
        };
        let mut model =
            Model::fit(&table, &basis, &training, &settings, self.seed, &progress).map_err(|e| e.to_string())?;
        if held_out.is_empty() {
            println!("fitted to {} rows; not evaluated, because nothing was held out", model.rows);
        } else {
            let evaluation = judge(&model, &table, &held_out)?;
            model.evaluated = true;
            println!(
                "fitted to {} rows; on {} held out: area under ROC {:.4}, log loss {:.4}",
                model.rows, evaluation.rows, evaluation.area_under_roc, evaluation.log_loss
            );
            if let Some(path) = &self.report {
                records::write_json(path, &evaluation)?;
            }
        }
        records::write(&self.model, &model.to_bytes().map_err(|e| e.to_string())?)
    }

    /// The best settings that a search finds on the rows given.
    fn searched(
        &self,
        minutes: f64,
        on: (&Table, &Basis, &[usize]),
        progress: &records::Terminal,
    ) -> Result<Settings, String> {
        let families = SEARCHED.map(str::to_owned).to_vec();
        let plan = Plan {
            families,
            measure: Measure::LogLoss,
            most: self.candidates,
            minutes: Some(minutes),
            seed: self.seed,
        };
        let mut search = Search::new(plan)?;
        search.run(on, progress).map_err(|e| e.to_string())?;
        let best = search.best().ok_or("No candidate could be judged; give the search more minutes.")?;
        println!(
            "searched {} candidates; best: {} with log loss {:.4}, each row told by a model that had not met it",
            search.tried.len(),
            best.settings.name().to_lowercase(),
            best.loss()
        );
        Ok(best.settings.clone())
    }

    fn settings(&self) -> Result<Settings, String> {
        let mut settings = Settings::of_family(&self.family).ok_or_else(|| {
            let known: Vec<&str> = Family::ALL.iter().map(|family| family.word).collect();
            format!("There is no family “{}”; there are {}.", self.family, known.join(", "))
        })?;
        for pair in &self.settings {
            let (name, value) =
                pair.split_once('=').ok_or_else(|| format!("“{pair}” is not of the form name=value."))?;
            settings.set(name, value).map_err(|e| e.to_string())?;
        }
        Ok(settings)
    }

    /// All columns but the outcome, those named, and those that cannot be right.
    fn predictors(&self, table: &Table, profile: &TableProfile) -> Result<Vec<String>, String> {
        for name in self.leave_out.iter().chain(&self.keep) {
            if table.column(name).is_none() {
                return Err(format!("There is no column called “{name}” in {}.", self.table.path.display()));
            }
        }
        let mut predictors = Vec::new();
        for choice in study::guess(profile, &self.outcome, |_| None) {
            let kept = self.keep.contains(&choice.name) && choice.name != self.outcome;
            if choice.never && !kept {
                if choice.name != self.outcome {
                    eprintln!("{} left out: {}.", choice.name, choice.reason);
                }
            } else if !self.leave_out.contains(&choice.name) {
                predictors.push(choice.name);
            }
        }
        Ok(predictors)
    }

    /// The choices as a study would hold them; columns that steps make go in.
    fn basis(&self, outcome: StudyOutcome, mut predictors: Vec<String>) -> Result<Basis, String> {
        let steps: Vec<Step> = match &self.preparation {
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
    let happened = model.outcome.read(table).map_err(|e| e.to_string())?;
    let rows: Vec<usize> = rows.iter().copied().filter(|&r| happened[r].is_some()).collect();
    let event: Vec<bool> = rows.iter().map(|&r| happened[r] == Some(true)).collect();
    let probability = model.probabilities(table, &rows).map_err(|e| e.to_string())?;
    Ok(Evaluation::of(&probability, &event))
}
