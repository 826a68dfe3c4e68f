//! Everything that was chosen in a study, as one value that can be put back.

use serde::{Deserialize, Serialize};

use super::{ColumnChoice, ColumnRole, Outcome};
use crate::study::AcceptedCaution;
use pronoia_data::split::{Split, SplitPlan};
use pronoia_data::{Kind, Table};
use pronoia_decide::decide::{ExpectedProfit, Policy, Population};
use pronoia_learn::balance::Balance;
use pronoia_learn::prepare::{PreparationStep, PrepareError, StepAction, steps};

/// The choices of a study. Every ledger entry keeps the value from before it,
/// so that taking it back is putting that value in place again.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct StudyState {
    /// The version of the records, by the key of its table; none is the one
    /// that the study began with.
    pub table: Option<i64>,
    /// What happened; none until the analyst has said so.
    pub outcome: Option<Outcome>,
    /// Customers with the event, and customers whose outcome is known, as
    /// counted when the outcome was chosen.
    pub counted: Option<(u64, u64)>,
    /// Who is judged on what.
    pub split: SplitPlan,
    /// What is done with the columns before a model sees them.
    pub steps: Vec<PreparationStep>,
    /// How the rarer outcome is made to count more while models are fitted.
    pub balance: Balance,
    /// What each column is for; empty until there is an outcome.
    pub columns: Vec<ColumnChoice>,
    /// Cautions that somebody decided to live with.
    pub kept: Vec<AcceptedCaution>,
    /// By what condition on a customer's columns people act today, if they do.
    pub todays_rule: Option<String>,
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
    /// Whom the money is for.
    pub population: Population,
    /// What the money is counted in, as it stands behind amounts; empty if nobody said.
    #[serde(default)]
    pub currency: String,
    /// What the customers judged promised when it was chosen; none where that was not written down.
    pub promised: Option<ExpectedProfit>,
}

/// What a model is fitted on. A model whose basis differs from the study's
/// present one is stale.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Basis {
    /// The version of the records, as in [`StudyState::table`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table: Option<i64>,
    /// What is predicted.
    pub outcome: Outcome,
    /// From which columns.
    pub predictors: Vec<String>,
    /// On which rows.
    pub split: SplitPlan,
    /// After which steps.
    #[serde(default)]
    pub steps: Vec<PreparationStep>,
    /// The column that says how much each row counts.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<String>,
    /// How the rarer outcome is made to count more.
    #[serde(default)]
    pub balance: Balance,
}

impl Basis {
    /// Predictors as they stand, split as usual.
    pub fn plain(outcome: Outcome, predictors: impl Into<Vec<String>>) -> Self {
        Self {
            table: None,
            outcome,
            predictors: predictors.into(),
            split: SplitPlan::default(),
            steps: Vec::new(),
            weight: None,
            balance: Balance::default(),
        }
    }

    /// The columns of the table that a fit reads, by name: the outcome, the
    /// predictors, and what the split and the steps look at; those that steps make are not
    /// among them.
    ///
    /// # Errors
    /// [`PrepareError::Step`] if a step cannot be taken on these columns.
    pub fn columns_read(&self, columns: &[(String, Kind)]) -> Result<Vec<String>, PrepareError> {
        let mut read = self.predictors.clone();
        read.extend(self.outcome.columns().map(str::to_owned));
        read.extend(self.split.columns().map(str::to_owned));
        read.extend(self.weight.clone());
        read.extend(steps::checked(&self.steps, columns)?.into_iter().flat_map(|(_, reads)| reads));
        Ok(columns.iter().map(|c| &c.0).filter(|name| read.contains(name)).cloned().collect())
    }

    /// The table as the study looks at it, with every derived column; and what
    /// happened to every customer: none where it is not known, or where a filter
    /// leaves the customer out, or a sample, which is drawn after all filters.
    ///
    /// # Errors
    /// A sentence if the outcome cannot be read or a filter not be applied.
    pub fn population(&self, table: &Table) -> Result<(Table, Vec<Option<bool>>), String> {
        let happened = self.outcome.read(table).map_err(|e| e.to_string())?;
        let (derived, kept) = steps::population(&self.steps, table).map_err(|e| e.to_string())?;
        let mut happened: Vec<_> = happened.into_iter().zip(kept).map(|(what, kept)| what.filter(|_| kept)).collect();
        for step in self.steps.iter().filter(|s| !s.off) {
            if let StepAction::Sample { of } = step.action {
                of.draw(&mut happened, self.split.seed);
            }
        }
        Ok((derived, happened))
    }

    /// How much every row of the table counts: none if each counts once, 0
    /// where the weight is missing.
    ///
    /// # Errors
    /// [`PrepareError::MissingColumn`], or [`PrepareError::Weight`] for what
    /// cannot be a weight.
    pub fn weights(&self, table: &Table) -> Result<Option<Vec<f64>>, PrepareError> {
        let Some(name) = &self.weight else { return Ok(None) };
        let column = table.column(name).ok_or_else(|| PrepareError::MissingColumn(name.clone()))?;
        let weights: Vec<f64> = (0..column.len()).map(|row| column.number(row).unwrap_or(0.0)).collect();
        match weights.iter().find(|w| !w.is_finite() || **w < 0.0) {
            Some(wrong) => {
                Err(PrepareError::Weight { column: name.clone(), value: pronoia_data::number::plain(*wrong) })
            }
            None => Ok(Some(weights)),
        }
    }

    /// The rows of every part of the study.
    ///
    /// # Errors
    /// A sentence, as [`Basis::population`], or if a part would be one-sided.
    pub fn deal(&self, table: &Table) -> Result<Split, String> {
        let (_, happened) = self.population(table)?;
        self.split.deal(table, &happened).map_err(|e| e.to_string())
    }
}

impl StudyState {
    /// The present basis of a fit; none without an outcome.
    pub fn basis(&self) -> Option<Basis> {
        let switched_off: Vec<String> = self.steps.iter().filter(|s| s.off).filter_map(|s| s.action.makes()).collect();
        let there = |name: &String| !switched_off.contains(name);
        let predictors = self.columns.iter().filter(|c| c.goes_in()).map(|c| c.name.clone()).filter(there).collect();
        let weight = self.columns.iter().find(|c| c.role == ColumnRole::CaseWeight).map(|c| c.name.clone());
        let (split, steps, balance) = (self.split.clone(), self.steps.clone(), self.balance);
        self.outcome.clone().map(|outcome| Basis {
            table: self.table,
            outcome,
            predictors,
            split,
            steps,
            weight,
            balance,
        })
    }
}
