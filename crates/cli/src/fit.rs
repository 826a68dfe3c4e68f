//! `pronoia fit`.

use clap::Args;
use pronoia_core::learn::{Family, Settings};
use pronoia_core::model::ModelError;
use pronoia_core::tune::{SEARCHED, TriedCandidate, TuningMeasure, TuningPlan, TuningRun};

use crate::fitting::{Fitting, On};
use crate::{CommandOutcome, records};

/// Fit a model to a table.
#[derive(Args)]
pub struct FitCommand {
    #[command(flatten)]
    on: Fitting,
    /// logistic, scorecard, tree, forest, boosted, network, bayes, neighbours or svm.
    #[arg(long, default_value = "logistic")]
    family: String,
    /// A hyperparameter of the family, as name=value; may be given again.
    #[arg(long = "set", value_name = "KEY=VALUE")]
    settings: Vec<String>,
    /// Tune families and hyperparameters by random search for so many minutes; --family and --set are then not used.
    #[arg(long, alias = "search", value_name = "MINUTES", conflicts_with_all = ["family", "settings"])]
    tune: Option<f64>,
    /// Most candidates to try, as reported by an earlier tuning.
    #[arg(long, requires = "tune", default_value_t = 1_000)]
    candidates: usize,
}

impl FitCommand {
    pub fn run(self) -> CommandOutcome {
        let asked = self.settings()?;
        self.on.run(|on, progress| match self.tune {
            Some(minutes) => Ok(self.searched(minutes, on, progress)?.into()),
            None => Ok(asked.into()),
        })
    }

    /// The best settings that a search finds on the rows given.
    fn searched(&self, minutes: f64, on: On, progress: &records::Terminal) -> Result<Settings, String> {
        let families = SEARCHED.map(str::to_owned).to_vec();
        let plan = TuningPlan {
            families,
            measure: TuningMeasure::LogLoss,
            most: self.candidates,
            minutes: Some(minutes),
            seed: self.on.seed,
        };
        let mut search = TuningRun::new(plan)?;
        search.run(on, progress, &mut |_| Ok::<_, ModelError>(())).map_err(|e| e.to_string())?;
        let nothing = "No candidate could be evaluated; give the tuning more minutes.";
        let ((found, behind), best) = search.found().zip(search.best()).ok_or(nothing)?;
        let name = |tried: &TriedCandidate| tried.settings.name().to_lowercase();
        println!(
            "tuned over {} candidates; best: {} with out-of-fold log loss {:.4}",
            search.tried.len(),
            name(best),
            best.loss()
        );
        if found != best {
            println!(
                "taken: {} with log loss {:.4}; {:.4} ± {:.4} (standard error) behind, within one standard error, and easier to interpret",
                name(found),
                found.loss(),
                behind.by,
                behind.error
            );
        }
        Ok(found.settings.clone())
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
}
