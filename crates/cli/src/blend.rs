//! `pronoia blend`.

use std::path::PathBuf;

use clap::Args;
use pronoia_core::Model;
use pronoia_core::model::{Ensemble, Mix, Recipe};

use crate::fitting::Fitting;
use crate::{CommandOutcome, records};

/// Fit an ensemble of the families of several models.
#[derive(Args)]
pub struct EnsembleCommand {
    /// A member: a model whose family and hyperparameters are used; given once for each.
    #[arg(long = "with", value_name = "MODEL.json", required = true)]
    members: Vec<PathBuf>,
    /// The weights of the members: average (equal) or stacked (fitted to out-of-fold predictions).
    #[arg(long, default_value = "stacked")]
    mix: String,
    #[command(flatten)]
    on: Fitting,
}

impl EnsembleCommand {
    pub fn run(self) -> CommandOutcome {
        let mix: Mix = self.mix.parse()?;
        let mut settings = Vec::new();
        for path in &self.members {
            let Model { outcome, members, .. } = records::read_model(path)?;
            if outcome != self.on.predicts() {
                return Err(format!(
                    "{}: this model predicts something else than “{}” being “{}”.",
                    path.display(),
                    self.on.outcome,
                    self.on.event
                ));
            }
            settings.extend(members.into_iter().map(|member| member.settings));
        }
        let recipe = Recipe::Blend(Ensemble::new(mix, settings)?);
        self.on.run(|_, _| Ok(recipe))
    }
}
