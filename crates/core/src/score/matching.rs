//! A list of customers beside the model that is to score it.

use serde::{Deserialize, Serialize};

use super::known::Known;
use super::pairing::{Answers, Paired, pair};
use crate::prepare::{Input, Seen};
use crate::table::{ColumnBuilder, Storage, Values};
use crate::watch::Drift;
use crate::{Column, Kind, Model, Table};

/// Unseen values named per column.
const NAMED: usize = 5;

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
    pub known: Option<Known>,
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
    pub paired: Paired,
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
        matches!(self.paired, Paired::Open(_))
    }

    /// The column of the list that may be meant.
    pub fn suggestion(&self) -> Option<&str> {
        match &self.paired {
            Paired::Open(suggestion) => suggestion.as_deref(),
            _ => None,
        }
    }

    /// What is worth saying about this column, in sentences; empty if it fits.
    pub fn remarks(&self) -> Vec<String> {
        use crate::number::{percent, plain};
        let mut out = Vec::new();
        match &self.paired {
            Paired::Name => {}
            Paired::Spelling(found) => out.push(format!("read from “{found}”, which differs only in case or spacing")),
            Paired::Said(found) => out.push(format!("read from “{found}”, as was said")),
            Paired::Nothing => out.push("nobody has a value, as was said".into()),
            Paired::Open(suggestion) => {
                let needs = if self.of_policy { "the policy’s amounts need it" } else { "the model needs it" };
                let perhaps = suggestion.as_ref().map_or(String::new(), |s| format!("; perhaps it is “{s}”"));
                out.push(format!("not in the list, and {needs}{perhaps}"));
            }
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
            let rows = some(self.out_of_range, ["row lies well", "rows lie well"]);
            let written =
                |x: f64| if self.kind == Kind::Date { crate::table::written_date(x as i32) } else { plain(x) };
            out.push(format!("{rows} outside the {} to {} seen in training", written(low), written(high)));
        }
        // That new values are new was said already.
        let is_news = |drift: &&Drift| self.unseen_rows == 0 || drift.part.1 > 0.0;
        if let Some(drift) = self.drift.as_ref().filter(|drift| drift.has_moved()).filter(is_news) {
            let (part, then, now) = &drift.part;
            out.push(format!(
                "{} since training: {} of the rows are {part}, {} were (stability index {})",
                if drift.is_far() { "moved far" } else { "moved" },
                percent(*now),
                percent(*then),
                crate::number::fixed(drift.psi, 2)
            ));
        }
        out
    }
}

/// A count, with the words for one or for several.
fn some(n: u64, [one, several]: [&str; 2]) -> String {
    format!("{} {}", crate::number::count(n), if n == 1 { one } else { several })
}

/// Matches a list to a model, and to other columns that a policy needs, by names and by what
/// somebody said.
///
/// Gives the report, and the columns needed under the names of the records and in the model's
/// kinds; the table lacks columns about which nothing is known.
pub fn match_list(model: &Model, policy: &[String], list: &Table, answers: &Answers) -> (MatchReport, Table) {
    let inputs: Vec<&Input> = model.inputs().collect();
    let more: Vec<&String> = policy.iter().filter(|name| !inputs.iter().any(|input| input.name == **name)).collect();
    let needed: Vec<&str> =
        inputs.iter().map(|input| input.name.as_str()).chain(more.iter().map(|name| name.as_str())).collect();
    let names: Vec<&str> = list.columns().iter().map(|c| c.name.as_str()).collect();
    let (mut found, mut columns, mut used) = (Vec::new(), Vec::new(), Vec::new());
    for (at, paired) in pair(&needed, &names, answers).into_iter().enumerate() {
        let name = needed[at];
        let input = inputs.get(at).copied();
        let source = paired.source(name).and_then(|column| list.column(column));
        let kind = input.map(|input| input.kind).or(source.map(|column| column.kind)).unwrap_or(Kind::Number);
        used.extend(source.map(|column| column.name.clone()));
        let column = match (&paired, source) {
            (_, Some(source)) => Some(read_as(source, name, kind)),
            (Paired::Nothing, None) => Some(nothing(name, kind, list.rows())),
            _ => None,
        };
        let missing = source.map_or(0, |source| source.missing() as u64);
        let mut one = InputMatch {
            name: name.to_owned(),
            kind,
            of_policy: input.is_none(),
            missing,
            unreadable: source.zip(column.as_ref()).map_or(0, |(_, column)| column.missing() as u64 - missing),
            unseen: Vec::new(),
            unseen_rows: 0,
            out_of_range: 0,
            range: None,
            drift: None,
            paired,
        };
        if let (Some(input), Some(column), Some(_)) = (input, &column, source) {
            one.look_at(input, column);
        }
        columns.extend(column);
        found.push(one);
    }
    let unused = list.columns().iter().filter(|c| !used.contains(&c.name)).map(|c| c.name.clone()).collect();
    let report = MatchReport { rows: list.rows() as u64, inputs: found, unused, known: None, remembered: None };
    // Names come from the model and the policy, each once; lengths from one list.
    (report, Table::new(columns).unwrap_or_default())
}

impl InputMatch {
    /// Counts what training had not seen.
    fn look_at(&mut self, input: &Input, column: &Column) {
        match (&input.seen, &column.values) {
            (_, Values::Words(words)) => {
                let mut unseen: Vec<(String, u64)> = words
                    .levels()
                    .zip(words.counts())
                    .filter(|(level, n)| *n > 0 && input.is_unseen(level))
                    .map(|(level, n)| (level.to_owned(), n))
                    .collect();
                unseen.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
                self.unseen_rows = unseen.iter().map(|u| u.1).sum();
                unseen.truncate(NAMED);
                self.unseen = unseen;
            }
            (&Seen::Between(min, max), _) => {
                self.range = Some((min, max));
                let outside = |row: &usize| column.number(*row).is_some_and(|x| input.is_beyond(x));
                self.out_of_range = (0..column.len()).filter(outside).count() as u64;
            }
            _ => {}
        }
        // Days go on by themselves.
        if self.kind != Kind::Date {
            self.drift = input.spread.as_ref().and_then(|spread| Drift::of(spread, column));
        }
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
