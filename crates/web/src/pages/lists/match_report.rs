//! How a list matches the model: what needs an answer, what is worth a look, and what fits.

use std::collections::HashMap;

use pronoia_core::score::{ColumnAnswer, ColumnAnswers, ColumnPairing, InputMatch, KnownCustomers, MatchReport};
use pronoia_store::{list, record_table};

use pronoia_service::ServiceError;
use pronoia_service::text;

/// The value of a choice that says that nobody has a value.
const NOTHING: &str = "nothing";

/// What the value of a choice of a column begins with.
const COLUMN: &str = "column:";

/// The match, by verdict.
pub struct MatchView {
    /// Columns about which something has to be said.
    pub open: Vec<Need>,
    /// Those about which something was said.
    pub said: Vec<Need>,
    /// Columns with something out of the ordinary.
    pub remarkable: Vec<(String, Vec<String>)>,
    /// Customers who are in the records already.
    pub known: Option<String>,
    /// The rest, in a sentence.
    pub fits: String,
    pub unused: String,
    /// The list whose answers were taken over.
    pub remembered: Option<String>,
    /// Whether every open column has a column that may be meant.
    pub all_suggested: bool,
}

/// A column that is needed, with what it may be read from.
pub struct Need {
    pub field: String,
    pub name: String,
    pub kind: &'static str,
    pub remarks: String,
    /// Value, words, and whether it is the one that stands.
    pub choices: Vec<(String, String, bool)>,
}

/// How many things are out of the ordinary.
pub fn remarkable(report: &MatchReport) -> usize {
    let columns = report.inputs.iter().filter(|input| !input.is_open() && !remarks(input).is_empty()).count();
    columns + usize::from(report.known.as_ref().is_some_and(|known| known.in_records > 0))
}

/// What is worth saying, beyond what somebody said themselves.
fn remarks(input: &InputMatch) -> Vec<String> {
    let said = matches!(input.paired, ColumnPairing::Said(_) | ColumnPairing::Nothing);
    input.remarks().into_iter().skip(usize::from(said)).collect()
}

impl MatchView {
    pub fn of(report: &MatchReport, list: &list::Model, source: &record_table::Model) -> Result<Self, ServiceError> {
        let columns = source.names()?;
        let answers = list.said()?;
        let need = |(at, input): (usize, &InputMatch)| Need::of(at, input, &columns, &answers);
        let inputs = || report.inputs.iter().enumerate();
        let is_said = |input: &InputMatch| matches!(input.paired, ColumnPairing::Said(_) | ColumnPairing::Nothing);
        let fitting: Vec<&str> = report
            .inputs
            .iter()
            .filter(|input| !input.is_open() && input.remarks().is_empty())
            .map(|input| input.name.as_str())
            .collect();
        Ok(Self {
            open: inputs().filter(|(_, input)| input.is_open()).map(need).collect(),
            said: inputs().filter(|(_, input)| is_said(input)).map(need).collect(),
            remarkable: report
                .inputs
                .iter()
                .filter(|input| !input.is_open())
                .map(|input| (input.name.clone(), remarks(input)))
                .filter(|(_, remarks)| !remarks.is_empty())
                .collect(),
            known: report.known.as_ref().filter(|known| known.in_records > 0).map(known_said),
            fits: match fitting.len() {
                0 => String::new(),
                n if n == report.inputs.len() => {
                    format!("All {n} columns that are needed are there, by name and kind.")
                }
                n => format!("{} of {} columns: {}.", n, report.inputs.len(), text::listed(&fitting)),
            },
            unused: text::listed(
                &report
                    .unused
                    .iter()
                    .filter(|name| !report.inputs.iter().any(|input| input.suggestion() == Some(name.as_str())))
                    .collect::<Vec<_>>(),
            ),
            remembered: report.remembered.clone(),
            all_suggested: inputs().all(|(_, input)| !input.is_open() || input.suggestion().is_some()),
        })
    }
}

fn known_said(known: &KnownCustomers) -> String {
    let customers = text::counted(known.in_records as usize, "customer", "customers");
    let are = if known.in_records == 1 { "is" } else { "are" };
    let by = if known.is_identifier {
        format!("by {}", text::listed(&known.by))
    } else {
        "identical in every column that the model reads".into()
    };
    let fitted = match known.fitted_to {
        0 => "The model was not fitted to them, but they may have been acted on before.".to_owned(),
        n => format!(
            "The model was fitted to {} of them, so that their probabilities are not predictions. They are marked in the scored list.",
            text::count(n)
        ),
    };
    format!("{customers} {are} in the records already, {by}. {fitted}")
}

impl Need {
    fn of(at: usize, input: &InputMatch, columns: &[String], answers: &ColumnAnswers) -> Self {
        let stands = match answers.get(&input.name) {
            Some(ColumnAnswer::Column(column)) => Some(format!("{COLUMN}{column}")),
            Some(ColumnAnswer::Nothing) => Some(NOTHING.to_owned()),
            None => input.suggestion().map(|column| format!("{COLUMN}{column}")),
        };
        let choice = |value: String, words: String| {
            let chosen = stands.as_ref() == Some(&value);
            (value, words, chosen)
        };
        let mut choices = vec![choice(String::new(), "choose its column".into())];
        choices.push(choice(NOTHING.into(), "missing for everybody".into()));
        choices.extend(columns.iter().map(|column| choice(format!("{COLUMN}{column}"), column.clone())));
        Self {
            field: format!("a{at}"),
            name: input.name.clone(),
            kind: input.kind.word(),
            remarks: input.remarks().join("; "),
            choices,
        }
    }
}

/// What a form says about the columns.
pub fn answers(
    fields: &HashMap<String, String>,
    report: &MatchReport,
    source: &record_table::Model,
) -> Result<ColumnAnswers, ServiceError> {
    let columns = source.names()?;
    let mut answers = ColumnAnswers::new();
    for (at, input) in report.inputs.iter().enumerate() {
        let answer = match fields.get(&format!("a{at}")).map(String::as_str) {
            None | Some("") => continue,
            Some(NOTHING) => ColumnAnswer::Nothing,
            Some(column) => {
                let named = column.strip_prefix(COLUMN).filter(|name| columns.iter().any(|c| c == name));
                let name = named.ok_or_else(|| ServiceError::Refused("The list has no such column.".into()))?;
                ColumnAnswer::Column(name.to_owned())
            }
        };
        let taken = answers.iter().find(|(_, other)| **other == answer && answer != ColumnAnswer::Nothing);
        if let (Some((other, _)), ColumnAnswer::Column(column)) = (taken, &answer) {
            return Err(ServiceError::Refused(format!(
                "“{column}” cannot be read as both “{other}” and “{}”. Choose another column for one of them.",
                input.name
            )));
        }
        answers.insert(input.name.clone(), answer);
    }
    Ok(answers)
}
