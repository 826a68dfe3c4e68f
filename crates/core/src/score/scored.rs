//! A list with what the model says and what the policy does.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

use super::remarks;
use crate::decide::{Action, Given, Payoffs, Policy, Population, Rule};
use crate::explain::{Customers, Reasons};
use crate::prepare::{Action as StepAction, PrepareError, Step, steps};
use crate::table::ColumnBuilder;
use crate::{Column, Kind, Model, Table};

/// What the names of the columns that are added begin with.
const ADDED: &str = "pronoia_";

/// The column that holds the probability of the event.
pub const PROBABILITY: &str = "pronoia_probability";

/// The column that holds the probability of there being no event, if it is asked for.
pub const OTHER_PROBABILITY: &str = "pronoia_probability_other";

/// The column that holds the decision: `act`, `refer` or `leave`.
pub const DECISION: &str = "pronoia_decision";

/// The column that holds what customers who are acted on are offered, where there are several offers.
pub const OFFER: &str = "pronoia_offer";

/// The column that holds what acting is expected to gain over leaving alone.
pub const GAIN: &str = "pronoia_gain";

/// The column that holds the tenth of the customers judged that the probability lies in, 1 being
/// the most likely.
pub const BAND: &str = "pronoia_band";

/// The column that holds the greatest reasons.
pub const REASONS: &str = "pronoia_reasons";

/// The column that holds what is out of the ordinary about a customer.
pub const REMARK: &str = "pronoia_remark";

/// Reasons per customer at most.
pub const MOST_REASONS: usize = 10;

/// Customers of the list that reasons are counted from on average.
const BACKGROUND: usize = 200;

/// By what a list is decided on.
#[derive(Debug, Clone, Copy)]
pub enum By<'p> {
    /// A probability alone.
    CutOff(f64),
    /// A policy.
    Policy {
        /// Economics and rule.
        policy: &'p Policy,
        /// Whom it was made for.
        population: &'p Population,
        /// The steps of the study, which make columns that amounts may be worked out from.
        steps: &'p [Step],
    },
}

/// What is written beside probability, decision and offer.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Extras {
    /// The probability of there being no event.
    pub other_probability: bool,
    /// What acting is expected to gain.
    pub gain: bool,
    /// The tenth of the customers judged.
    pub band: bool,
    /// How many reasons.
    pub reasons: usize,
    /// What is out of the ordinary.
    pub remarks: bool,
}

impl Extras {
    /// What is written unless somebody says otherwise.
    pub fn usual() -> Self {
        Self { gain: true, band: true, remarks: true, ..Self::default() }
    }
}

/// How a list is scored.
#[derive(Debug, Clone, Copy)]
pub struct Scoring<'a> {
    /// With what.
    pub model: &'a Model,
    /// By what it is decided on, if by anything.
    pub by: Option<By<'a>>,
    /// What else is written.
    pub extras: Extras,
    /// The least probability of every tenth of the customers judged but the last, downwards.
    pub tenths: &'a [f64],
}

/// What came of it.
#[derive(Debug, Clone)]
pub struct Scored {
    /// The columns of the list untouched, then what was added.
    pub table: Table,
    /// How many are to be acted on.
    pub acted: u64,
    /// What acting on them is expected to gain in all; none where nothing is said to be worth
    /// anything.
    pub gain: Option<f64>,
    /// For how many an amount had no value that it may be.
    pub lacking: u64,
}

impl Scoring<'_> {
    /// Scores a list: its own columns untouched, then probability and what else there is to say.
    /// Probabilities are those among the population of a policy; its limits are those of the list.
    /// Columns that an earlier scoring added are left out.
    ///
    /// `matched` is what [`super::match_list`] made of the same list, and `known` says of each
    /// customer whether the model was fitted to them; nothing, if that is not known.
    ///
    /// # Errors
    /// A sentence if columns that the model or the policy needs are missing.
    pub fn of(&self, list: &Table, matched: &Table, known: &[bool]) -> Result<Scored, String> {
        let rows: Vec<usize> = (0..list.rows()).collect();
        let mut probability = self.model.probabilities(matched, &rows).map_err(|e| e.to_string())?;
        if let Some(By::Policy { population, .. }) = self.by {
            let shift = population.shift();
            probability.iter_mut().for_each(|p| *p = shift.there(*p));
        }
        let mut columns: Vec<Column> = list.columns().to_vec();
        columns.retain(|column| !column.name.starts_with(ADDED));
        columns.push(numbers(PROBABILITY, probability.iter().copied()));
        let (mut acted, mut gain, mut lacking) = (0, None, 0);
        if let Some(by) = self.by {
            let decided = by.decided(matched, &probability)?;
            lacking = decided.lacking;
            acted = decided.actions.iter().filter(|action| **action == Action::Act).count() as u64;
            columns.push(words(DECISION, decided.actions.iter().map(|action| Some(Cow::from(action.word())))));
            columns.extend(decided.offers(by));
            if let Some(gains) = decided.gains(&probability) {
                let those = gains.iter().zip(&decided.actions).filter(|(_, action)| **action == Action::Act);
                gain = Some(those.map(|(gain, _)| gain).sum());
                if self.extras.gain {
                    columns.push(numbers(GAIN, gains.into_iter()));
                }
            }
        }
        if self.extras.other_probability {
            columns.push(numbers(OTHER_PROBABILITY, probability.iter().map(|p| 1.0 - p)));
        }
        if self.extras.band && !self.tenths.is_empty() {
            let band = |p: f64| 1.0 + self.tenths.partition_point(|least| p < *least) as f64;
            columns.push(numbers(BAND, probability.iter().map(|&p| band(p))));
        }
        if self.extras.reasons > 0 && !rows.is_empty() {
            columns.push(words(REASONS, self.reasons(matched, &rows)?.into_iter().map(|said| Some(Cow::from(said)))));
        }
        if self.extras.remarks {
            let said = remarks::of_rows(self.model, matched, known);
            columns
                .push(words(REMARK, said.into_iter().map(|said| Some(said).filter(|s| !s.is_empty()).map(Cow::from))));
        }
        Ok(Scored { table: Table::new(columns)?, acted, gain, lacking })
    }

    /// The greatest reasons of every customer: the column, its value, and what it adds to the score
    /// compared with the customers of this list on average, or for trees with their training rows.
    fn reasons(&self, matched: &Table, rows: &[usize]) -> Result<Vec<String>, String> {
        let step = rows.len().div_ceil(BACKGROUND).max(1);
        let background: Vec<usize> = rows.iter().copied().step_by(step).collect();
        let customers = |rows| Customers { table: matched, rows };
        let found = Reasons::of(self.model, customers(rows), customers(&background), self.model.seed)
            .map_err(|e| e.to_string())?;
        // A column that a step makes has no value on the list.
        let values: Vec<Option<&Column>> = found.columns.iter().map(|name| matched.column(name)).collect();
        let most = self.extras.reasons.min(MOST_REASONS);
        let said = rows.iter().zip(&found.of).map(|(&row, adds)| {
            let mut order: Vec<usize> = (0..adds.len()).filter(|&at| adds[at] != 0.0).collect();
            order.sort_by(|&a, &b| adds[b].abs().total_cmp(&adds[a].abs()));
            let reason = |&at: &usize| {
                let value = values[at].map_or(String::new(), |column| {
                    format!(" = {}", column.text(row).unwrap_or_else(|| "missing".into()))
                });
                format!(
                    "{}{value} ({}{:.2})",
                    found.columns[at],
                    if adds[at] < 0.0 { "-" } else { "+" },
                    adds[at].abs()
                )
            };
            order.iter().take(most).map(reason).collect::<Vec<_>>().join("; ")
        });
        Ok(said.collect())
    }
}

/// The columns of the records that the amounts of a policy are worked out from, also by way of
/// columns that steps make.
///
/// # Errors
/// [`PrepareError`] if a step cannot be taken on columns of these kinds.
pub fn columns_of_policy(policy: &Policy, all: &[Step], kinds: &[(String, Kind)]) -> Result<Vec<String>, PrepareError> {
    let inputs = policy.inputs();
    if inputs.is_empty() {
        return Ok(inputs);
    }
    steps::needed(all, &inputs, kinds).map(|(_, read)| read)
}

/// What is done about each customer of a list.
struct Decided {
    actions: Vec<Action>,
    /// Their amounts and offers, where anything is said to be worth anything.
    given: Option<Given>,
    lacking: u64,
}

impl By<'_> {
    fn decided(&self, matched: &Table, probability: &[f64]) -> Result<Decided, String> {
        let size = probability.len() as f64;
        match self {
            Self::CutOff(cut_off) => {
                let actions = Rule::cut_off(*cut_off).actions(probability, |_| Payoffs::default(), size);
                Ok(Decided { actions, given: None, lacking: 0 })
            }
            Self::Policy { policy, steps, .. } => {
                let made = with_made_columns(matched, steps)?;
                let (offered, lacking) = policy.applied(&made).map_err(|e| e.to_string())?;
                let given = offered.given(policy.rule.by, probability);
                let actions = policy.rule.actions(probability, |row| given.payoffs_of(row), size);
                Ok(Decided { actions, given: Some(given), lacking })
            }
        }
    }
}

/// The columns of a list with those that steps make; nobody is filtered out.
fn with_made_columns(matched: &Table, all: &[Step]) -> Result<Table, String> {
    let making: Vec<Step> =
        all.iter().filter(|step| !matches!(step.action, StepAction::Filter { .. })).cloned().collect();
    steps::population(&making, matched).map(|(made, _)| made).map_err(|e| e.to_string())
}

impl Decided {
    /// What acting is expected to gain, by customer.
    fn gains(&self, probability: &[f64]) -> Option<Vec<f64>> {
        let given = self.given.as_ref()?;
        Some(probability.iter().enumerate().map(|(row, &p)| given.payoffs_of(row).gain().expected(p)).collect())
    }

    /// What those who are acted on are offered, where there are several offers.
    fn offers(&self, by: By) -> Option<Column> {
        let By::Policy { policy, .. } = by else { return None };
        let given = self.given.as_ref().filter(|_| !policy.offers.is_single())?;
        let names = policy.offers.names();
        let offer = |(row, action): (usize, &Action)| match action {
            Action::Act => names.get(given.offer_of(row)).cloned().map(Cow::from),
            _ => None,
        };
        Some(words(OFFER, self.actions.iter().enumerate().map(offer)))
    }
}

fn numbers(name: &str, values: impl Iterator<Item = f64>) -> Column {
    let mut column = ColumnBuilder::new(name, Kind::Number);
    values.for_each(|value| column.push_number(value));
    column.finish()
}

fn words<'w>(name: &str, values: impl Iterator<Item = Option<Cow<'w, str>>>) -> Column {
    let mut column = ColumnBuilder::new(name, Kind::Category);
    for value in values {
        match value {
            Some(word) => column.push_word(&word),
            None => column.push_missing(),
        }
    }
    column.finish()
}
