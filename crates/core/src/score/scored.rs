//! A list with what the model says and what the policy does.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};

use super::list_part::ListPart;
use super::remarks;
use super::settled::Settled;
use crate::Model;
use crate::explain::{ExplainedCustomers, Reasons};
use pronoia_data::table::ColumnBuilder;
use pronoia_data::{Column, Kind, Table};
use pronoia_decide::decide::{Given, LeastKey, Payoffs, Policy, PolicyAction, Population, Rule};
use pronoia_learn::prepare::{PreparationStep, PrepareError, StepAction, steps};

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
        steps: &'p [PreparationStep],
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

/// A list, or a part of one, with what was added.
#[derive(Debug, Clone)]
pub struct ScoredCustomers {
    /// The columns of the list untouched, then what was added.
    pub table: Table,
    /// What came of it.
    pub account: ScoringSummary,
}

/// What came of scoring customers.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct ScoringSummary {
    /// How many there are.
    pub rows: u64,
    /// How many are to be acted on.
    pub acted: u64,
    /// What acting on them is expected to gain in all; none where nothing is said to be worth
    /// anything.
    pub gain: Option<f64>,
    /// For how many an amount had no value that it may be.
    pub lacking: u64,
    /// How many are left alone because they are not to be contacted.
    pub suppressed: u64,
}

impl ScoringSummary {
    /// Adds another part of the same list.
    pub fn add(&mut self, part: &Self) {
        self.rows += part.rows;
        self.acted += part.acted;
        self.lacking += part.lacking;
        self.suppressed += part.suppressed;
        self.gain = match (self.gain, part.gain) {
            (Some(so_far), Some(more)) => Some(so_far + more),
            (so_far, more) => so_far.or(more),
        };
    }
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
    pub fn of(&self, list: &Table, matched: &Table, known: &[bool]) -> Result<ScoredCustomers, String> {
        let told = self.probabilities(matched)?;
        let mut ahead = self.ahead(list.rows());
        ahead.meet_told(self, matched, &[], &told)?;
        self.told(ListPart { list, matched, before: 0, known, suppressed: &[] }, &told, &ahead.settled())
    }

    /// Scores a part of a list, by what was settled when the whole of it was met.
    ///
    /// # Errors
    /// As [`Scoring::of`].
    pub fn part(&self, part: ListPart, settled: &Settled) -> Result<ScoredCustomers, String> {
        self.told(part, &self.probabilities(part.matched)?, settled)
    }

    /// Probabilities among the population.
    pub(super) fn probabilities(&self, matched: &Table) -> Result<Vec<f64>, String> {
        let rows: Vec<usize> = (0..matched.rows()).collect();
        let mut told = self.model.probabilities(matched, &rows).map_err(|e| e.to_string())?;
        if let Some(By::Policy { population, .. }) = self.by {
            let shift = population.shift();
            told.iter_mut().for_each(|p| *p = shift.there(*p));
        }
        Ok(told)
    }

    fn told(&self, part: ListPart, probability: &[f64], settled: &Settled) -> Result<ScoredCustomers, String> {
        let mut columns: Vec<Column> = part.list.columns().to_vec();
        columns.retain(|column| !column.name.starts_with(ADDED));
        columns.push(numbers(PROBABILITY, probability.iter().copied()));
        let mut account = ScoringSummary { rows: probability.len() as u64, ..ScoringSummary::default() };
        if let (Some(by), Some(cut)) = (self.by, settled.cut) {
            let decided = by.decided(&part, probability, cut)?;
            account.suppressed = part.suppressed.iter().filter(|suppressed| **suppressed).count() as u64;
            account.lacking = decided.weighed.lacking;
            account.acted = decided.actions.iter().filter(|action| **action == PolicyAction::Act).count() as u64;
            columns.push(words(DECISION, decided.actions.iter().map(|action| Some(Cow::from(action.word())))));
            columns.extend(decided.offers(by));
            if let Some(gains) = decided.weighed.gains(probability) {
                let those = gains.iter().zip(&decided.actions).filter(|(_, action)| **action == PolicyAction::Act);
                account.gain = Some(those.map(|(gain, _)| gain).sum());
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
        if self.extras.reasons > 0 {
            let reasons = self.reasons(&part, &settled.background)?;
            columns.push(words(REASONS, reasons.into_iter().map(|said| Some(Cow::from(said)))));
        }
        // Whoever is left alone by wish is told from whoever is left alone by the rule.
        if self.extras.remarks || !part.suppressed.is_empty() {
            let said = remarks::of_rows(self.model, &part);
            columns
                .push(words(REMARK, said.into_iter().map(|said| Some(said).filter(|s| !s.is_empty()).map(Cow::from))));
        }
        Ok(ScoredCustomers { table: Table::new(columns)?, account })
    }

    /// The greatest reasons of every customer: the column, its value, and what it adds to the score
    /// compared with the customers of this list on average, or for trees with their training rows.
    fn reasons(&self, part: &ListPart, background: &Table) -> Result<Vec<String>, String> {
        let matched = part.matched;
        let (rows, others): (Vec<usize>, Vec<usize>) =
            ((0..matched.rows()).collect(), (0..background.rows()).collect());
        if rows.is_empty() {
            return Ok(Vec::new());
        }
        let customers = ExplainedCustomers { table: matched, rows: &rows };
        let usual = ExplainedCustomers { table: background, rows: &others };
        // A customer's lots are theirs, wherever the list is parted.
        let seed = self.model.seed.wrapping_add(part.before);
        let found = Reasons::of(self.model, customers, usual, seed).map_err(|e| e.to_string())?;
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
pub fn columns_of_policy(
    policy: &Policy,
    all: &[PreparationStep],
    kinds: &[(String, Kind)],
) -> Result<Vec<String>, PrepareError> {
    let inputs = policy.inputs();
    if inputs.is_empty() {
        return Ok(inputs);
    }
    steps::needed(all, &inputs, kinds).map(|(_, read)| read)
}

/// What customers are worth.
pub(super) struct CustomerProfits {
    /// Their amounts and offers, where anything is said to be worth anything.
    given: Option<Given>,
    lacking: u64,
}

/// What is done about each of some customers.
struct ListDecisions {
    actions: Vec<PolicyAction>,
    weighed: CustomerProfits,
}

impl By<'_> {
    pub(super) fn rule(&self) -> Cow<'_, Rule> {
        match self {
            Self::CutOff(cut_off) => Cow::Owned(Rule::cut_off(*cut_off)),
            Self::Policy { policy, .. } => Cow::Borrowed(&policy.rule),
        }
    }

    pub(super) fn weighed(&self, matched: &Table, probability: &[f64]) -> Result<CustomerProfits, String> {
        let Self::Policy { policy, steps, .. } = self else { return Ok(CustomerProfits { given: None, lacking: 0 }) };
        let made = with_made_columns(matched, steps)?;
        let (offered, lacking) = policy.applied(&made).map_err(|e| e.to_string())?;
        Ok(CustomerProfits { given: Some(offered.given(policy.rule.by, probability)), lacking })
    }

    fn decided(&self, part: &ListPart, probability: &[f64], cut: LeastKey) -> Result<ListDecisions, String> {
        let (rule, weighed) = (self.rule(), self.weighed(part.matched, probability)?);
        let action = |(row, &p): (usize, &f64)| match part.suppressed.get(row) {
            Some(true) => PolicyAction::Leave,
            _ => rule.action(cut, rule.by.key(p, &weighed.payoffs_of(row)), p),
        };
        let actions = probability.iter().enumerate().map(action).collect();
        Ok(ListDecisions { actions, weighed })
    }
}

/// The columns of a list with those that steps make; nobody is filtered out.
fn with_made_columns(matched: &Table, all: &[PreparationStep]) -> Result<Table, String> {
    let making: Vec<PreparationStep> =
        all.iter().filter(|step| !matches!(step.action, StepAction::Filter { .. })).cloned().collect();
    steps::population(&making, matched).map(|(made, _)| made).map_err(|e| e.to_string())
}

impl CustomerProfits {
    pub(super) fn payoffs_of(&self, row: usize) -> Payoffs {
        self.given.as_ref().map_or_else(Payoffs::default, |given| given.payoffs_of(row))
    }

    /// What acting is expected to gain, by customer.
    fn gains(&self, probability: &[f64]) -> Option<Vec<f64>> {
        let given = self.given.as_ref()?;
        Some(probability.iter().enumerate().map(|(row, &p)| given.payoffs_of(row).gain().expected(p)).collect())
    }
}

impl ListDecisions {
    /// What those who are acted on are offered, where there are several offers.
    fn offers(&self, by: By) -> Option<Column> {
        let By::Policy { policy, .. } = by else { return None };
        let given = self.weighed.given.as_ref().filter(|_| !policy.offers.is_single())?;
        let names = policy.offers.names();
        let offer = |(row, action): (usize, &PolicyAction)| match action {
            PolicyAction::Act => names.get(given.offer_of(row)).cloned().map(Cow::from),
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
