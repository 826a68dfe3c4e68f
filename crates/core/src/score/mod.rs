//! A list of customers: matched to the model, then scored.

mod file;

pub use file::to_csv;

use serde::{Deserialize, Serialize};

use crate::decide::{Action, Given, Payoffs, Policy, Population, Rule};
use crate::prepare::Seen;
use crate::table::{ColumnBuilder, Storage, Values};
use crate::{Column, Kind, Model, Table};

/// Unseen values named per column.
const NAMED: usize = 5;

/// How a list fits a model, column by column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MatchReport {
    /// Rows of the list.
    pub rows: u64,
    /// One entry per column that the model needs.
    pub inputs: Vec<InputMatch>,
    /// Columns of the list that the model does not use.
    pub unused: Vec<String>,
}

/// How one column that the model needs was found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct InputMatch {
    /// The column as the model knows it.
    pub name: String,
    /// Its kind in training.
    pub kind: Kind,
    /// The column of the list it is read from.
    pub found: Option<String>,
    /// Rows without a value.
    pub missing: u64,
    /// Values that do not read as the kind needed.
    pub unreadable: u64,
    /// Values never seen in training, with their rows; the first few.
    pub unseen: Vec<(String, u64)>,
    /// Rows with a value never seen in training.
    pub unseen_rows: u64,
    /// Rows below or above the range seen in training.
    pub out_of_range: u64,
    /// That range.
    pub range: Option<(f64, f64)>,
}

impl MatchReport {
    /// Names of needed columns that are not in the list.
    pub fn lacking(&self) -> Vec<&str> {
        self.inputs.iter().filter(|i| i.found.is_none()).map(|i| i.name.as_str()).collect()
    }

    /// Whether the list can be scored.
    pub fn is_complete(&self) -> bool {
        self.inputs.iter().all(|i| i.found.is_some())
    }
}

impl InputMatch {
    /// What is worth saying about this column, in sentences; empty if it fits.
    pub fn remarks(&self) -> Vec<String> {
        use crate::number::plain;
        let mut out = Vec::new();
        match &self.found {
            None => out.push("not in the list, and the model needs it".into()),
            Some(found) if *found != self.name => {
                out.push(format!("read from “{found}”, which differs only in case or spacing"))
            }
            Some(_) => {}
        }
        if self.unreadable > 0 {
            let values = some(self.unreadable, ["value is not", "values are not"]);
            out.push(format!("{values} a {}; taken as missing", self.kind));
        }
        if self.unseen_rows > 0 {
            let named: Vec<String> = self.unseen.iter().map(|(v, _)| format!("“{v}”")).collect();
            let rows = some(self.unseen_rows, ["row holds", "rows hold"]);
            out.push(format!("{rows} a value never seen in training: {}", named.join(", ")));
        }
        if let (Some((low, high)), true) = (self.range, self.out_of_range > 0) {
            let rows = some(self.out_of_range, ["row lies", "rows lie"]);
            out.push(format!("{rows} outside the {} to {} seen in training", plain(low), plain(high)));
        }
        out
    }
}

/// A count, with the words for one or for several.
fn some(n: u64, [one, several]: [&str; 2]) -> String {
    format!("{} {}", crate::number::count(n), if n == 1 { one } else { several })
}

/// Matches a list to a model by the names of its columns.
///
/// Gives the report, and the columns needed under the model's names and in the
/// model's kinds; the table lacks columns that were not found.
pub fn match_list(model: &Model, list: &Table) -> (MatchReport, Table) {
    let mut inputs = Vec::new();
    let mut columns = Vec::new();
    let mut used = Vec::new();
    for prepared in model.inputs() {
        let found = list.column(&prepared.name).or_else(|| {
            let wanted = folded(&prepared.name);
            list.columns()
                .iter()
                .find(|c| folded(&c.name) == wanted && !model.inputs().any(|input| input.name == c.name))
        });
        let mut input = InputMatch {
            name: prepared.name.clone(),
            kind: prepared.kind,
            found: found.map(|c| c.name.clone()),
            missing: 0,
            unreadable: 0,
            unseen: Vec::new(),
            unseen_rows: 0,
            out_of_range: 0,
            range: None,
        };
        if let Some(source) = found {
            used.push(source.name.clone());
            let column = read_as(source, &prepared.name, prepared.kind);
            input.missing = source.missing() as u64;
            input.unreadable = column.missing() as u64 - input.missing;
            match (&prepared.seen, &column.values) {
                (_, Values::Words(words)) => {
                    let mut unseen: Vec<(String, u64)> = words
                        .levels()
                        .zip(words.counts())
                        .filter(|(level, n)| *n > 0 && prepared.is_unseen(level))
                        .map(|(level, n)| (level.to_owned(), n))
                        .collect();
                    unseen.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
                    input.unseen_rows = unseen.iter().map(|u| u.1).sum();
                    unseen.truncate(NAMED);
                    input.unseen = unseen;
                }
                (&Seen::Between(min, max), _) => {
                    input.range = Some((min, max));
                    let outside = |row: &usize| column.number(*row).is_some_and(|x| x < min || x > max);
                    input.out_of_range = (0..column.len()).filter(outside).count() as u64;
                }
                _ => {}
            }
            columns.push(column);
        }
        inputs.push(input);
    }
    let unused = list.columns().iter().filter(|c| !used.contains(&c.name)).map(|c| c.name.clone()).collect();
    let report = MatchReport { rows: list.rows() as u64, inputs, unused };
    // Names come from the model, which has each once; lengths from one list.
    (report, Table::new(columns).unwrap_or_default())
}

/// The column that holds the probability.
pub const PROBABILITY: &str = "pronoia_probability";

/// The column that holds the decision: `act`, `refer` or `leave`.
pub const DECISION: &str = "pronoia_decision";

/// The column that holds what customers who are acted on are offered, where there are several offers.
pub const OFFER: &str = "pronoia_offer";

/// By what a list is decided on.
#[derive(Debug, Clone, Copy)]
pub enum By<'p> {
    /// A probability alone.
    CutOff(f64),
    /// A policy, for a population.
    Policy(&'p Policy, &'p Population),
}

impl By<'_> {
    /// What is done about each customer of a list, and where there are several offers which one
    /// each would be given.
    fn decided(&self, list: &Table, probability: &[f64]) -> Result<(Vec<Action>, Option<Given>), String> {
        let size = probability.len() as f64;
        match self {
            Self::CutOff(cut_off) => {
                Ok((Rule::cut_off(*cut_off).actions(probability, |_| Payoffs::default(), size), None))
            }
            Self::Policy(policy, _) => {
                let rows: Vec<usize> = (0..list.rows()).collect();
                let mut policy = Policy::clone(policy);
                let (offered, _) = policy.worked_out(list, &rows).map_err(|e| e.to_string())?;
                let given = offered.given(policy.rule.by, probability);
                let actions = policy.rule.actions(probability, |row| given.payoffs_of(row), size);
                Ok((actions, (!policy.offers.is_single()).then_some(given)))
            }
        }
    }

    /// What is offered, in order.
    fn names(&self) -> Vec<String> {
        match self {
            Self::CutOff(_) => Vec::new(),
            Self::Policy(policy, _) => policy.offers.names(),
        }
    }
}

/// Scores a list: its own columns untouched, then probability and, if there is anything to decide
/// by, decision and offer; and how many are to be acted on. Probabilities are those among the population of a
/// policy; its limits are those of the list.
///
/// `matched` is what [`match_list`] made of the same list.
///
/// # Errors
/// A sentence if columns that the model or the policy needs are missing.
pub fn scored(model: &Model, list: &Table, matched: &Table, by: Option<By>) -> Result<(Table, u64), String> {
    let all: Vec<usize> = (0..list.rows()).collect();
    let mut probabilities = model.probabilities(matched, &all).map_err(|e| e.to_string())?;
    if let Some(By::Policy(_, population)) = by {
        let shift = population.shift();
        probabilities.iter_mut().for_each(|p| *p = shift.there(*p));
    }
    let mut columns = list.columns().to_vec();
    columns.retain(|c| ![PROBABILITY, DECISION, OFFER].contains(&c.name.as_str()));
    let mut probability = ColumnBuilder::new(PROBABILITY, Kind::Number);
    probabilities.iter().for_each(|&p| probability.push_number(p));
    columns.push(probability.finish());
    let mut acted = 0;
    if let Some(by) = by {
        let (actions, given) = by.decided(list, &probabilities)?;
        let mut decision = ColumnBuilder::new(DECISION, Kind::Category);
        for action in &actions {
            acted += u64::from(*action == Action::Act);
            decision.push_word(action.word());
        }
        columns.push(decision.finish());
        if let Some(given) = given {
            columns.push(offers(&actions, &given, &by.names()));
        }
    }
    Ok((Table::new(columns)?, acted))
}

/// What those who are acted on are offered.
fn offers(actions: &[Action], given: &Given, names: &[String]) -> Column {
    let mut offer = ColumnBuilder::new(OFFER, Kind::Category);
    for (customer, action) in actions.iter().enumerate() {
        match (action, names.get(given.offer_of(customer))) {
            (Action::Act, Some(name)) => offer.push_word(name),
            _ => offer.push_missing(),
        }
    }
    offer.finish()
}

/// The column under another name, its values read as another kind.
fn read_as(source: &Column, name: &str, kind: Kind) -> Column {
    if source.kind.storage() == kind.storage() {
        return Column { name: name.into(), kind, values: source.values.clone() };
    }
    let mut builder = ColumnBuilder::new(name, kind);
    for row in 0..source.len() {
        match (source.text(row), kind.storage()) {
            (None, _) => builder.push_missing(),
            (Some(text), Storage::Words) => builder.push_word(&text),
            (Some(text), Storage::Numbers) => {
                match crate::intake::parse_number(&text, crate::intake::DecimalMark::Point) {
                    Some(x) => builder.push_number(x),
                    None => builder.push_missing(),
                }
            }
            (Some(text), Storage::Dates) => {
                match crate::intake::parse_date(&text, crate::intake::DateOrder::YearMonthDay) {
                    Some(d) => builder.push_date(d),
                    None => builder.push_missing(),
                }
            }
        }
    }
    builder.finish()
}

/// A name without case, spaces and punctuation.
fn folded(name: &str) -> String {
    name.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect()
}
