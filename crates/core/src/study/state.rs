//! Everything that was chosen in a study, as one value that can be put back.

use serde::{Deserialize, Serialize};

use super::{ColumnChoice, Outcome};
use crate::decide::Policy;
use crate::split::SplitPlan;

/// The choices of a study. Every ledger entry keeps the value from before it,
/// so that taking it back is putting that value in place again.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct StudyState {
    /// What happened; none until the analyst has said so.
    pub outcome: Option<Outcome>,
    /// Who is judged on what.
    pub split: SplitPlan,
    /// What each column is for; empty until there is an outcome.
    pub columns: Vec<ColumnChoice>,
    /// What to do about whom.
    pub policy: Option<ChosenPolicy>,
}

/// A policy together with the model it uses.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ChosenPolicy {
    /// The model that gives the probabilities.
    pub model_id: i64,
    /// Economics and rule.
    pub policy: Policy,
    /// Size of the population the money is for; without one it is per 1 000 customers.
    pub population: Option<f64>,
}

/// What a model is fitted on. A model whose basis differs from the study's
/// present one is stale.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Basis {
    /// What is predicted.
    pub outcome: Outcome,
    /// From which columns.
    pub predictors: Vec<String>,
    /// On which rows.
    pub split: SplitPlan,
}

impl StudyState {
    /// The present basis of a fit; none without an outcome.
    pub fn basis(&self) -> Option<Basis> {
        let predictors = self.columns.iter().filter(|c| c.goes_in()).map(|c| c.name.clone()).collect();
        self.outcome.clone().map(|outcome| Basis { outcome, predictors, split: self.split })
    }
}
