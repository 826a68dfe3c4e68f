//! What a policy would be worth if the model were not shown some columns.

use serde::{Deserialize, Serialize};

use super::EvaluatedModel;
use crate::model::{ModelError, Recipe};
use crate::study::{Basis, ChosenPolicy};
use pronoia_data::drivers::Grouping;
use pronoia_data::evaluate::delong::{self, Area};
use pronoia_data::{Progress, Table};
use pronoia_decide::decide::{ExpectedProfit, GroupDecision, Stakes, worth_between};

/// Groups of a column at most.
const GROUPS: usize = 10;

/// A policy on a model that was made without some columns, on the same judged customers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Without {
    /// The columns that it was not shown.
    pub columns: Vec<String>,
    /// The policy.
    pub chosen: ChosenPolicy,
    /// What the same rule gains over leaving everybody alone.
    pub gain: ExpectedProfit,
    /// By how much that is less than with the columns, and its 90 % interval.
    pub less: ExpectedProfit,
    /// By how much the area under ROC is less.
    pub less_area: Option<Area>,
    /// What it means for the groups of some columns.
    pub groups: Vec<(String, Vec<GroupDecision>)>,
}

/// What the model with the columns said of the customers judged.
#[derive(Debug, Clone, Copy)]
pub struct BaselinePredictions<'a> {
    /// Their probabilities.
    pub probability: &'a [f64],
    /// Their places in the table.
    pub rows: &'a [usize],
}

impl Without {
    /// Fits a recipe without some columns and decides by the same rule. `compared` are the columns
    /// by whose groups the decision is looked at.
    ///
    /// # Errors
    /// [`ModelError`], also if no column would be left or the rows judged are others than `told`.
    pub fn fit(
        table: &Table,
        basis: &Basis,
        (recipe, seed): (&Recipe, u64),
        (columns, compared): (&[String], &[String]),
        (chosen, told): (ChosenPolicy, BaselinePredictions),
        progress: &dyn Progress,
    ) -> Result<Self, ModelError> {
        let predictors = basis.predictors.iter().filter(|name| !columns.contains(name)).cloned().collect();
        let judged = EvaluatedModel::fit(table, &Basis { predictors, ..basis.clone() }, recipe, seed, progress)?;
        if judged.rows != told.rows {
            return Err(ModelError::Population("The model was evaluated on other customers; fit it again.".into()));
        }
        let (population, _) = basis.population(table).map_err(ModelError::Population)?;
        let mut policy = chosen.policy.clone();
        let (offered, _) =
            policy.worked_out(&population, &judged.rows).map_err(|e| ModelError::Population(e.to_string()))?;
        let stakes = Stakes { rule: &policy.rule, offered: &offered, population: &chosen.population };
        let (before, after) = (stakes.decided(told.probability), stakes.decided(&judged.probability));
        let weights = stakes.weights(&judged.event);
        let groups = compared.iter().filter_map(|name| {
            let grouping = Grouping::of(population.column(name)?, &judged.rows, &judged.event, GROUPS);
            let decided = (after.actions.as_slice(), after.probability.as_slice());
            let payoffs = |at: usize| after.given.payoffs_of(at);
            let groups = GroupDecision::of_all(&grouping, decided, &judged.event, payoffs, weights);
            Some((name.clone(), groups))
        });
        Ok(Self {
            columns: columns.to_vec(),
            gain: stakes.gain(&after, &judged.event),
            less: worth_between(|at| before.worth(at), |at| after.worth(at), &judged.event, weights),
            less_area: delong::difference(told.probability, &judged.probability, &judged.event),
            groups: groups.collect(),
            chosen,
        })
    }
}
