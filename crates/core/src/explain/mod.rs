//! Why a model says what it says.

mod counterfactual;
mod edit;
mod grid;
mod linear_shap;
mod partial_dependence;
mod permutation_importance;
mod prepared;
mod sampling_shap;
mod similarity;
mod tree_shap;

pub use counterfactual::{Counterfactual, smallest_change};
pub use edit::{typical, with_value};
pub use grid::At;
pub use partial_dependence::{AverageEffect, Averages, EffectPoint, JointEffect};
pub use permutation_importance::{ColumnImportance, InfluenceError, PermutationImportance};
pub use similarity::{Near, Similarity};

use serde::Serialize;

use crate::model::{EnsembleMember, Model};
use pronoia_data::Table;
use pronoia_learn::learn::Estimator;
use pronoia_learn::prepare::{Design, PrepareError};

/// What a score is counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ScoreUnit {
    /// Log-odds of the event.
    LogOdds,
    /// Distance from a border.
    Distance,
    /// A share of customers with the event, the mean of many trees.
    Share,
}

/// How reasons were found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ShapleyMethod {
    /// By all ways in which columns can be known or not known, down every tree.
    Trees,
    /// By what each column adds.
    Sum,
    /// By columns made known in orders drawn by lot.
    Drawn,
}

/// Scores as sums of reasons: Shapley values (Shapley 1953; Lundberg & Lee 2017), before
/// calibration. The columns of one reason are those that go into the model, steps taken.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Reasons {
    /// What scores are counted in.
    pub unit: ScoreUnit,
    /// How they were found.
    pub method: ShapleyMethod,
    /// Columns, in the order in which the model takes them.
    pub columns: Vec<String>,
    /// The score of somebody of whom nothing is known: the mean over the background, or for trees
    /// over the training rows that came by their nodes.
    pub base: f64,
    /// One entry per customer, with a reason per column.
    pub of: Vec<Vec<f64>>,
    /// Standard errors of the reasons, where they were drawn by lot.
    pub errors: Option<Vec<Vec<f64>>>,
    /// Scores of the customers: base and reasons together.
    pub scores: Vec<f64>,
    /// Probabilities of the customers, calibrated.
    pub probability: Vec<f64>,
}

/// Customers of a table.
#[derive(Debug, Clone, Copy)]
pub struct ExplainedCustomers<'a> {
    /// The table.
    pub table: &'a Table,
    /// Rows of it.
    pub rows: &'a [usize],
}

impl Reasons {
    /// Explains what a model says of some customers, against a background of others. `seed` governs
    /// what is drawn by lot, for families that leave no other way.
    ///
    /// Trees are explained exactly, in time that is linear in customers and leaves; sums exactly;
    /// everything else by sampling, with its error. Columns that the model does not use have
    /// exactly 0.
    ///
    /// # Errors
    /// [`PrepareError`] if a column that the model needs is missing.
    pub fn of(
        model: &Model,
        customers: ExplainedCustomers,
        background: ExplainedCustomers,
        seed: u64,
    ) -> Result<Self, PrepareError> {
        let probability = model.probabilities(customers.table, customers.rows)?;
        let columns = columns_of(model);
        let found = match &model.members[..] {
            [only] if model.blended.is_none() => exactly(only, &columns, customers, background)?,
            _ => None,
        };
        match found {
            Some(exact) => Ok(Self { probability, columns, ..exact }),
            None => {
                let drawn = sampling_shap::reasons(model, &columns, customers, background, seed)?;
                Ok(Self { probability, columns, ..drawn })
            }
        }
    }
}

/// The columns that go into a model, each once.
fn columns_of(model: &Model) -> Vec<String> {
    let mut columns: Vec<String> = Vec::new();
    for column in model.members.iter().flat_map(|member| &member.preparation.columns) {
        if !columns.contains(&column.name) {
            columns.push(column.name.clone());
        }
    }
    columns
}

/// Which column every feature of a design was made of.
fn players(design: &Design, columns: &[String]) -> Vec<usize> {
    let of = |column: &String| columns.iter().position(|name| name == column).unwrap_or(0);
    design.features().iter().map(|feature| of(&feature.column)).collect()
}

fn exactly(
    member: &EnsembleMember,
    columns: &[String],
    customers: ExplainedCustomers,
    background: ExplainedCustomers,
) -> Result<Option<Reasons>, PrepareError> {
    let design = || member.preparation.apply(customers.table, customers.rows);
    Ok(match &member.estimator {
        Estimator::Boosted(boosted) => {
            let design = design()?;
            let reasons = tree_shap::reasons(&boosted.trees, &design, &players(&design, columns), columns.len());
            Some(reasons.into_reasons(ScoreUnit::LogOdds, boosted.start, 1.0))
        }
        Estimator::Tree(tree) => {
            let design = design()?;
            let reasons = tree_shap::reasons(
                std::slice::from_ref(&tree.tree),
                &design,
                &players(&design, columns),
                columns.len(),
            );
            Some(reasons.into_reasons(ScoreUnit::LogOdds, 0.0, 1.0))
        }
        Estimator::Forest(forest) => {
            let design = design()?;
            let reasons = tree_shap::reasons(&forest.trees, &design, &players(&design, columns), columns.len());
            Some(reasons.into_reasons(ScoreUnit::Share, 0.0, 1.0 / forest.trees.len() as f64))
        }
        estimator => {
            let Some(of) = linear_shap::of(estimator) else { return Ok(None) };
            let other = member.preparation.apply(background.table, background.rows)?;
            Some(of.reasons(&design()?, &other, columns))
        }
    })
}
