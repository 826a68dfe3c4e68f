//! What a candidate goes by: how much it leans on each column, and which columns it takes together.

use serde::{Deserialize, Serialize};

use super::learned_and_judged;
use crate::explain::{Averages, ExplainedCustomers, InfluenceError, PermutationImportance};
use crate::model::{Model, ModelError, Recipe};
use crate::study::{Basis, ChosenPolicy};
use pronoia_data::progress::{Cancelled, ProgressPart};
use pronoia_data::{Progress, Table};
use pronoia_decide::decide::{OfferAmounts, Stakes};

/// Customers that columns are dealt out among, at most; more would tell little more.
const MOST_ROWS: usize = 20_000;

/// Columns that are looked at two by two: those that the model leans on most.
const TOGETHER: usize = 7;

/// What a candidate goes by, on rows that it was not fitted to: validation rows, or with
/// cross-validation those of the first fold, told by a model of the others.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ModelImportance {
    /// How much it leans on each column.
    pub influence: PermutationImportance,
    /// Two columns at a time, those first that are least a sum of the two.
    pub interactions: Vec<Interaction>,
    /// The policy that money was counted with, if there was one.
    pub chosen: Option<ChosenPolicy>,
}

/// Two columns that a model takes together.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Interaction {
    /// The columns.
    pub columns: [String; 2],
    /// How far log-odds lie from a sum of the two.
    pub beyond: f64,
}

impl ModelImportance {
    /// Looks at a model made by `recipe`, and at what a policy would lose without each column.
    ///
    /// # Errors
    /// [`ModelError`].
    pub fn of(
        table: &Table,
        basis: &Basis,
        (model, recipe): (&Model, &Recipe),
        chosen: Option<ChosenPolicy>,
        progress: &dyn Progress,
    ) -> Result<Self, ModelError> {
        let seed = model.seed;
        let (population, happened) = basis.population(table).map_err(ModelError::Population)?;
        let (learned, mut judged) = learned_and_judged(table, basis, &happened, seed)?;
        let of_fold;
        let (model, done) = match basis.split.folds {
            None => (model, 0.0),
            Some(_) => {
                of_fold = Model::fit(table, basis, &learned, recipe, seed, &ProgressPart::of(progress, 0.0, 0.5))?;
                (&of_fold, 0.5)
            }
        };
        let step = judged.len().div_ceil(MOST_ROWS).max(1);
        judged = judged.into_iter().step_by(step).collect();
        let event: Vec<bool> = judged.iter().map(|&row| happened[row] == Some(true)).collect();
        let offered = match &chosen {
            None => None,
            Some(chosen) => Some(amounts(chosen, &population, &judged)?),
        };
        let stakes = chosen.as_ref().zip(offered.as_ref()).map(|(chosen, offered)| Stakes {
            rule: &chosen.policy.rule,
            offered,
            population: &chosen.population,
        });
        let customers = ExplainedCustomers { table, rows: &judged };
        let part = ProgressPart::of(progress, done, done + (1.0 - done) * 0.7);
        let influence =
            PermutationImportance::of(model, customers, &event, stakes, seed, &part).map_err(|e| match e {
                InfluenceError::Prepare(e) => ModelError::from(e),
                InfluenceError::Cancelled(stopped) => ModelError::from(pronoia_learn::learn::FitError::from(stopped)),
            })?;
        let averages = Averages::of(model, customers, &event)?;
        let leaned_on: Vec<&String> =
            influence.columns.iter().filter(|c| c.is_clear()).map(|c| &c.column).take(TOGETHER).collect();
        let part = ProgressPart::of(progress, done + (1.0 - done) * 0.7, 1.0);
        let interactions = two_by_two(&averages, &leaned_on, &part)
            .map_err(|stopped| ModelError::from(pronoia_learn::learn::FitError::from(stopped)))?;
        Ok(Self { influence, interactions, chosen })
    }
}

fn amounts(chosen: &ChosenPolicy, population: &Table, rows: &[usize]) -> Result<OfferAmounts, ModelError> {
    let mut policy = chosen.policy.clone();
    let (offered, _) =
        policy.worked_out(population, rows).map_err(|wrong| ModelError::Population(wrong.to_string()))?;
    Ok(offered)
}

fn two_by_two(
    averages: &Averages,
    columns: &[&String],
    progress: &dyn Progress,
) -> Result<Vec<Interaction>, Cancelled> {
    let mut found = Vec::new();
    let pairs = columns.len() * columns.len().saturating_sub(1) / 2;
    for (at, down) in columns.iter().enumerate() {
        for across in &columns[at + 1..] {
            progress.go_on()?;
            progress.tell(&format!("Looking at {down} with {across}"), found.len() as f64 / pairs as f64);
            let Some(joint) = averages.together(down, across) else { continue };
            found.push(Interaction { columns: joint.columns, beyond: joint.beyond });
        }
    }
    found.sort_by(|a, b| b.beyond.total_cmp(&a.beyond));
    Ok(found)
}
