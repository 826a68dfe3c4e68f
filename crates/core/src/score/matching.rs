//! A list of customers beside the model that is to score it.

use std::collections::HashMap;

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::known_customers::KnownCustomers;
use super::pairing::{ColumnAnswers, ColumnPairing, pair};
use crate::Model;
use crate::watch::Drift;
use pronoia_data::table::{ColumnBuilder, ColumnValues, Storage};
use pronoia_data::{Column, Kind, Table};
use pronoia_learn::prepare::{ModelInput, ObservedValues};

/// Unseen values named per column.
const NAMED: usize = 5;

/// Unseen values of a column that are told apart; the rows of further ones are counted and they are
/// not named.
const TOLD_APART: usize = 100_000;

/// How a list fits a model, column by column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MatchReport {
    /// Rows of the list.
    pub rows: u64,
    /// One entry per column that the model or the policy needs.
    pub inputs: Vec<InputMatch>,
    /// Columns of the list that are not needed.
    pub unused: Vec<String>,
    /// Customers who are in the records already, where that was looked for.
    #[serde(default)]
    pub known: Option<KnownCustomers>,
    /// The list whose answers were taken over.
    #[serde(default)]
    pub remembered: Option<String>,
}

/// How one column that is needed was found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct InputMatch {
    /// The column as the model knows it.
    pub name: String,
    /// Its kind in training.
    pub kind: Kind,
    /// What it is read from.
    pub paired: ColumnPairing,
    /// Whether only the policy's amounts need it.
    #[serde(default)]
    pub of_policy: bool,
    /// Rows without a value.
    pub missing: u64,
    /// Values that do not read as the kind needed.
    pub unreadable: u64,
    /// Values never seen in training, with their rows; the first few.
    pub unseen: Vec<(String, u64)>,
    /// Rows with a value never seen in training.
    pub unseen_rows: u64,
    /// Rows well below or above the range seen in training.
    pub out_of_range: u64,
    /// That range.
    pub range: Option<(f64, f64)>,
    /// How far its values have moved since the fit.
    #[serde(default)]
    pub drift: Option<Drift>,
}

impl MatchReport {
    /// Names of needed columns about which nothing is known.
    pub fn lacking(&self) -> Vec<&str> {
        self.inputs.iter().filter(|i| i.is_open()).map(|i| i.name.as_str()).collect()
    }

    /// Whether the list can be scored.
    pub fn is_complete(&self) -> bool {
        !self.inputs.iter().any(InputMatch::is_open)
    }

    /// Whether nothing at all is worth saying.
    pub fn is_clean(&self) -> bool {
        self.inputs.iter().all(|i| i.remarks().is_empty())
            && self.known.as_ref().is_none_or(|known| known.in_records == 0)
    }
}

impl InputMatch {
    /// Whether somebody has to say what it is read from.
    pub fn is_open(&self) -> bool {
        matches!(self.paired, ColumnPairing::Open(_))
    }

    /// The column of the list that may be meant.
    pub fn suggestion(&self) -> Option<&str> {
        match &self.paired {
            ColumnPairing::Open(suggestion) => suggestion.as_deref(),
            _ => None,
        }
    }

    /// What is worth saying about this column, in sentences; empty if it fits.
    pub fn remarks(&self) -> Vec<String> {
        use pronoia_data::number::{percent, plain};
        let mut out = Vec::new();
        match &self.paired {
            ColumnPairing::Name => {}
            ColumnPairing::Spelling(found) => {
                out.push(format!("read from “{found}”, which differs only in case or spacing"))
            }
            ColumnPairing::Said(found) => out.push(format!("read from “{found}”, as confirmed")),
            ColumnPairing::Nothing => out.push("missing for everybody, as confirmed".into()),
            ColumnPairing::Open(suggestion) => {
                let needs = if self.of_policy { "the policy’s amounts need it" } else { "the model needs it" };
                let perhaps = suggestion.as_ref().map_or(String::new(), |s| format!("; perhaps it is “{s}”"));
                out.push(format!("not in the list, and {needs}{perhaps}"));
            }
        }
        if self.unreadable > 0 {
            let values = some(self.unreadable, ["value is not", "values are not"]);
            out.push(format!("{values} a {}; read as missing", self.kind));
        }
        if self.unseen_rows > 0 {
            let named: Vec<String> = self.unseen.iter().map(|(v, _)| format!("“{v}”")).collect();
            let rows = some(self.unseen_rows, ["row holds", "rows hold"]);
            out.push(format!("{rows} a value never seen in training: {}", named.join(", ")));
        }
        if let (Some((low, high)), true) = (self.range, self.out_of_range > 0) {
            let rows = some(self.out_of_range, ["row lies far", "rows lie far"]);
            let written =
                |x: f64| if self.kind == Kind::Date { pronoia_data::table::written_date(x as i32) } else { plain(x) };
            out.push(format!("{rows} outside the {} to {} seen in training", written(low), written(high)));
        }
        // That new values are new was said already.
        let is_news = |drift: &&Drift| self.unseen_rows == 0 || drift.part.1 > 0.0;
        if let Some(drift) = self.drift.as_ref().filter(|drift| drift.has_moved()).filter(is_news) {
            let (part, then, now) = &drift.part;
            out.push(format!(
                "{} since training: {} of the rows are {part}, {} were (population stability index {})",
                if drift.is_far() { "strong drift" } else { "drift" },
                percent(*now),
                percent(*then),
                pronoia_data::number::fixed(drift.psi, 2)
            ));
        }
        out
    }
}

/// A count, with the words for one or for several.
fn some(n: u64, [one, several]: [&str; 2]) -> String {
    format!("{} {}", pronoia_data::number::count(n), if n == 1 { one } else { several })
}

/// A list beside the model that is to score it: what each column needed is read from, and what was
/// met in the parts of the list so far.
#[derive(Debug)]
pub struct Matching {
    rows: u64,
    needed: Vec<Needed>,
    unused: Vec<String>,
}

/// A column that is needed, and what was met in it.
#[derive(Debug)]
struct Needed {
    found: InputMatch,
    /// What the model knows of it; nothing where only the policy needs it.
    input: Option<ModelInput>,
    /// Values never seen in training, with their rows.
    unseen: HashMap<String, u64>,
    /// Rows in every part of what training saw.
    spread: Vec<u64>,
}

impl Matching {
    /// Matches a list with these columns to a model, and to other columns that a policy needs, by
    /// names and by what somebody said.
    pub fn of(model: &Model, policy: &[String], list: &[(String, Kind)], answers: &ColumnAnswers) -> Self {
        let inputs: Vec<&ModelInput> = model.inputs().collect();
        let more = policy.iter().filter(|name| !inputs.iter().any(|input| input.name == **name));
        let needed: Vec<&str> = inputs.iter().map(|i| i.name.as_str()).chain(more.map(String::as_str)).collect();
        let names: Vec<&str> = list.iter().map(|(name, _)| name.as_str()).collect();
        let mut used: Vec<String> = Vec::new();
        let one = |(at, paired): (usize, ColumnPairing)| {
            let (name, input) = (needed[at], inputs.get(at).copied());
            let source = paired.source(name).and_then(|source| list.iter().find(|column| column.0 == source));
            used.extend(source.map(|column| column.0.clone()));
            let kind = input.map(|input| input.kind).or(source.map(|column| column.1)).unwrap_or(Kind::Number);
            let range = match input.map(|input| &input.seen) {
                Some(&ObservedValues::Between(min, max)) if source.is_some() => Some((min, max)),
                _ => None,
            };
            let found = InputMatch {
                name: name.to_owned(),
                kind,
                of_policy: input.is_none(),
                missing: 0,
                unreadable: 0,
                unseen: Vec::new(),
                unseen_rows: 0,
                out_of_range: 0,
                range,
                drift: None,
                paired,
            };
            Needed { found, input: input.cloned(), unseen: HashMap::new(), spread: Vec::new() }
        };
        let needed = pair(&needed, &names, answers).into_iter().enumerate().map(one).collect();
        let unused = names.iter().filter(|name| !used.iter().any(|used| used == *name));
        Self { rows: 0, unused: unused.map(|name| (*name).to_owned()).collect(), needed }
    }

    /// The columns of the list that are read.
    pub fn sources(&self) -> impl Iterator<Item = &str> {
        self.needed.iter().filter_map(|needed| needed.found.source())
    }

    /// Names of needed columns about which nothing is known.
    pub fn lacking(&self) -> impl Iterator<Item = &str> {
        self.needed.iter().filter(|needed| needed.found.is_open()).map(|needed| needed.found.name.as_str())
    }

    /// The columns needed of which something is known.
    pub fn known(&self) -> impl Iterator<Item = &InputMatch> {
        let known = |found: &&InputMatch| !matches!(found.paired, ColumnPairing::Nothing | ColumnPairing::Open(_));
        self.needed.iter().map(|needed| &needed.found).filter(known)
    }

    /// The columns needed of a part of the list, under the names of the records and in the model's
    /// kinds; those about which nothing is known are lacking.
    pub fn read(&self, part: &Table) -> Table {
        let columns = self.needed.iter().filter_map(|needed| needed.found.read(part)).collect();
        // Names come from the model and the policy, each once; lengths from one list.
        Table::new(columns).unwrap_or_default()
    }

    /// Counts what stands in a part of the list, beside the columns of it that were read.
    pub fn meet(&mut self, part: &Table, read: &Table) {
        self.rows += part.rows() as u64;
        self.needed.par_iter_mut().for_each(|needed| {
            let source = needed.found.source().and_then(|source| part.column(source));
            if let (Some(source), Some(column)) = (source, read.column(&needed.found.name)) {
                needed.meet(source, column);
            }
        });
    }

    /// What was met in the whole list.
    pub fn report(self) -> MatchReport {
        let inputs = self.needed.into_iter().map(Needed::report).collect();
        MatchReport { rows: self.rows, inputs, unused: self.unused, known: None, remembered: None }
    }
}

/// Matches a list that is at hand as a whole: the report, and the columns needed as
/// [`Matching::read`] gives them.
pub fn match_list(model: &Model, policy: &[String], list: &Table, answers: &ColumnAnswers) -> (MatchReport, Table) {
    let mut matching = Matching::of(model, policy, &list.kinds(), answers);
    let read = matching.read(list);
    matching.meet(list, &read);
    (matching.report(), read)
}

impl InputMatch {
    /// The column of the list that it is read from.
    fn source(&self) -> Option<&str> {
        self.paired.source(&self.name)
    }

    /// The column in a part of the list; nothing where nobody said what it is read from.
    fn read(&self, part: &Table) -> Option<Column> {
        match (self.source().and_then(|source| part.column(source)), &self.paired) {
            (Some(source), _) => Some(read_as(source, &self.name, self.kind)),
            (None, ColumnPairing::Nothing) => Some(nothing(&self.name, self.kind, part.rows())),
            (None, _) => None,
        }
    }
}

impl Needed {
    fn meet(&mut self, source: &Column, column: &Column) {
        let missing = source.missing() as u64;
        self.found.missing += missing;
        self.found.unreadable += column.missing() as u64 - missing;
        let Some(input) = &self.input else { return };
        match (&input.seen, &column.values) {
            (_, ColumnValues::Words(words)) => {
                let unseen = words.levels().zip(words.counts()).filter(|(level, n)| *n > 0 && input.is_unseen(level));
                for (level, rows) in unseen {
                    self.found.unseen_rows += rows;
                    if let Some(met) = self.unseen.get_mut(level) {
                        *met += rows;
                    } else if self.unseen.len() < TOLD_APART {
                        self.unseen.insert(level.to_owned(), rows);
                    }
                }
            }
            (ObservedValues::Between(..), _) => {
                let outside = |row: &usize| column.number(*row).is_some_and(|x| input.is_beyond(x));
                self.found.out_of_range += (0..column.len()).filter(outside).count() as u64;
            }
            _ => {}
        }
        // Days go on by themselves.
        if let (Some(spread), true) = (&input.spread, self.found.kind != Kind::Date) {
            let counts = spread.count(column);
            self.spread.resize(counts.len(), 0);
            self.spread.iter_mut().zip(counts).for_each(|(all, here)| *all += here);
        }
    }

    fn report(self) -> InputMatch {
        let mut unseen: Vec<(String, u64)> = self.unseen.into_iter().collect();
        unseen.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        unseen.truncate(NAMED);
        let spread = self.input.as_ref().and_then(|input| input.spread.as_ref());
        let drift = spread.and_then(|spread| Drift::between(spread, &self.spread));
        InputMatch { unseen, drift, ..self.found }
    }
}

/// A column in which nobody has a value.
fn nothing(name: &str, kind: Kind, rows: usize) -> Column {
    let mut builder = ColumnBuilder::new(name, kind);
    (0..rows).for_each(|_| builder.push_missing());
    builder.finish()
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
                match pronoia_data::value::parse_number(&text, pronoia_data::value::DecimalMark::Point) {
                    Some(x) => builder.push_number(x),
                    None => builder.push_missing(),
                }
            }
            (Some(text), Storage::Dates) => {
                match pronoia_data::value::parse_date(&text, pronoia_data::value::DateOrder::YearMonthDay) {
                    Some(d) => builder.push_date(d),
                    None => builder.push_missing(),
                }
            }
        }
    }
    builder.finish()
}
