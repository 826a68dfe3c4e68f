//! The outcome column and the event: what happened, and to whom.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::OutcomeWindow;
use pronoia_data::number::plain;
use pronoia_data::profile::ColumnProfile;
use pronoia_data::{Column, Table};

/// Which column says what happened, and what of it is the event.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Outcome {
    /// The column.
    pub column: String,
    /// What of it is the event.
    pub event: EventRule,
    /// For how long it counts, where some customers were not watched for long enough.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub window: Option<OutcomeWindow>,
}

/// What of an outcome column is the event.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum EventRule {
    /// One value, as written.
    Value(String),
    /// One of several values, under a name of their own.
    AnyOf {
        /// The values, as written.
        any_of: Vec<String>,
        /// What they are called together.
        name: String,
    },
    /// A number of at least this.
    AtLeast {
        /// The least number that is the event.
        at_least: f64,
    },
    /// A number below this.
    Below {
        /// The least number that is not the event.
        below: f64,
    },
}

/// Why a column cannot be the outcome, and what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum OutcomeError {
    /// No such column.
    #[error("There is no column called “{0}” in the table.")]
    NoColumn(String),
    /// One value only.
    #[error(
        "“{column}” has only one value ({value}), so that nothing can be learned from it. Choose another column, or import records of customers with the event and without."
    )]
    OneValue {
        /// The column.
        column: String,
        /// Its only value, or "all missing".
        value: String,
    },
    /// More than two values, and nobody has said which of them are the event.
    #[error(
        "“{column}” has {found} different values ({values}); an outcome has two. Choose a column with two values, or group the values that are the event."
    )]
    ManyValues {
        /// The column.
        column: String,
        /// How many.
        found: u64,
        /// Some of them.
        values: String,
    },
    /// The event does not occur.
    #[error("“{event}” does not occur in “{column}”; its values are {values}.")]
    NoEvent {
        /// The column.
        column: String,
        /// The value asked for.
        event: String,
        /// What occurs.
        values: String,
    },
    /// Nothing but the event occurs.
    #[error(
        "Every customer with a value in “{column}” would have the event ({event}). Nobody would be left without the event."
    )]
    Everybody {
        /// The column.
        column: String,
        /// The event in words.
        event: String,
    },
    /// A number is cut that is none.
    #[error("“{0}” holds no numbers that could be dichotomised; say which of its values are the event.")]
    NoNumber(String),
    /// A name or a figure that makes no sense.
    #[error("{0}")]
    Field(String),
}

impl Outcome {
    /// The outcome whose event is one value.
    pub fn is(column: impl Into<String>, value: impl Into<String>) -> Self {
        Self { column: column.into(), event: EventRule::Value(value.into()), window: None }
    }

    /// The event in words: “cancelled is ‘yes’”.
    pub fn words(&self) -> String {
        let event = format!("{} is {}", self.column, self.event.words());
        self.window.as_ref().map_or(event.clone(), |window| format!("{event}, {}", window.words()))
    }

    /// The columns that it is read from.
    pub fn columns(&self) -> impl Iterator<Item = &str> {
        std::iter::once(self.column.as_str()).chain(self.window.as_ref().map(|window| window.from.as_str()))
    }

    /// Checks that a column with these figures can be the outcome with this event.
    ///
    /// Missing values are allowed; such rows take no part in the study. What
    /// the figures cannot tell is told when the rows are dealt out.
    ///
    /// # Errors
    /// [`OutcomeError`] in words for the analyst.
    pub fn check(&self, profile: Option<&ColumnProfile>) -> Result<(), OutcomeError> {
        let column = self.column.clone();
        let profile = profile.ok_or_else(|| OutcomeError::NoColumn(column.clone()))?;
        let values = || {
            let named: Vec<&str> = profile.top.iter().take(4).map(|(v, _)| v.as_str()).collect();
            named.join(", ") + if profile.distinct > 4 { ", …" } else { "" }
        };
        match profile.distinct {
            0 => return Err(OutcomeError::OneValue { column, value: "all missing".into() }),
            1 => return Err(OutcomeError::OneValue { column, value: values() }),
            _ => {}
        }
        let listed = profile.top.len() as u64 == profile.distinct;
        let occurs = |value: &String| profile.top.iter().any(|(v, _)| v == value);
        match &self.event {
            EventRule::AnyOf { any_of, name } => {
                if any_of.is_empty() || name.trim().is_empty() || name.chars().count() > 60 {
                    return Err(OutcomeError::Field(
                        "Tick the values that are the event, and give them a name of at most 60 letters.".into(),
                    ));
                }
                if let Some(unknown) = any_of.iter().find(|v| listed && !occurs(v)) {
                    return Err(OutcomeError::NoEvent { column, event: unknown.clone(), values: values() });
                }
                if listed && profile.top.iter().all(|(v, _)| any_of.contains(v)) {
                    return Err(OutcomeError::Everybody { column, event: self.event.words() });
                }
            }
            EventRule::Value(_) if profile.distinct > 2 => {
                return Err(OutcomeError::ManyValues { column, found: profile.distinct, values: values() });
            }
            EventRule::Value(value) if listed && !occurs(value) => {
                return Err(OutcomeError::NoEvent { column, event: value.clone(), values: values() });
            }
            EventRule::Value(_) => {}
            EventRule::AtLeast { at_least: cut } | EventRule::Below { below: cut } => {
                let Some(numbers) = &profile.numbers else { return Err(OutcomeError::NoNumber(column)) };
                if !cut.is_finite() || *cut <= numbers.min || *cut > numbers.max {
                    return Err(OutcomeError::Field(format!(
                        "“{column}” lies between {} and {}; choose a cut point between them.",
                        plain(numbers.min),
                        plain(numbers.max)
                    )));
                }
            }
        }
        Ok(())
    }

    /// What happened, row by row; none where the outcome is missing, or not known yet.
    ///
    /// # Errors
    /// [`OutcomeError::NoColumn`].
    pub fn read(&self, table: &Table) -> Result<Vec<Option<bool>>, OutcomeError> {
        let find = |name: &String| table.column(name).ok_or_else(|| OutcomeError::NoColumn(name.clone()));
        let column = find(&self.column)?;
        let window = self.window.as_ref().map(|window| Ok((window, find(&window.from)?))).transpose()?;
        let is_known = |row: &usize| window.is_none_or(|(window, from)| window.has_ended(from, *row));
        let happened = |row: usize| Some(row).filter(is_known).and_then(|row| self.event.happened(column, row));
        Ok((0..column.len()).map(happened).collect())
    }
}

impl EventRule {
    /// The event in words, after “is”.
    pub fn words(&self) -> String {
        match self {
            Self::Value(value) => format!("“{value}”"),
            Self::AnyOf { any_of, name } => {
                let values: Vec<String> = any_of.iter().map(|v| format!("“{v}”")).collect();
                format!("{name} ({})", values.join(" or "))
            }
            Self::AtLeast { at_least } => format!("{} or more", plain(*at_least)),
            Self::Below { below } => format!("below {}", plain(*below)),
        }
    }

    /// The one value that is the event, if it is one.
    pub fn value(&self) -> Option<&str> {
        match self {
            Self::Value(value) => Some(value),
            _ => None,
        }
    }

    fn happened(&self, column: &Column, row: usize) -> Option<bool> {
        match self {
            Self::Value(value) => column.text(row).map(|v| v == *value),
            Self::AnyOf { any_of, .. } => column.text(row).map(|v| any_of.contains(&v)),
            Self::AtLeast { at_least } => column.number(row).map(|x| x >= *at_least),
            Self::Below { below } => column.number(row).map(|x| x < *below),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pronoia_data::profile::TableProfile;
    use pronoia_data::progress::Unwatched;
    use pronoia_files::intake::read_table;

    fn table() -> Table {
        let csv = "state,days,left\nopen,0,no\nlapsed,35,no\ngone,90,yes\nopen,,no\n,30,no\n";
        read_table(csv.as_bytes(), &Unwatched).expect("a table").0
    }

    fn checked(event: EventRule, column: &str) -> Result<Vec<Option<bool>>, String> {
        let table = table();
        let outcome = Outcome { column: column.into(), event, window: None };
        outcome.check(TableProfile::of(&table).column(column)).map_err(|e| e.to_string())?;
        outcome.read(&table).map_err(|e| e.to_string())
    }

    #[test]
    fn several_values_are_one_event_under_a_name() {
        let any = |values: &[&str], name: &str| EventRule::AnyOf {
            any_of: values.iter().map(|v| (*v).to_owned()).collect(),
            name: name.into(),
        };
        let read = checked(any(&["lapsed", "gone"], "left us"), "state").expect("an outcome");
        assert_eq!(read, [Some(false), Some(true), Some(true), Some(false), None]);
        assert_eq!(any(&["lapsed", "gone"], "left us").words(), "left us (“lapsed” or “gone”)");
        assert!(checked(any(&[], "left us"), "state").expect_err("none ticked").contains("Tick the values"));
        assert!(checked(any(&["moved"], "left us"), "state").expect_err("unknown").contains("“moved” does not occur"));
        let all = checked(any(&["open", "lapsed", "gone"], "all"), "state").expect_err("everybody");
        assert!(all.contains("Nobody would be left"), "{all}");
    }

    #[test]
    fn a_number_is_cut_in_two() {
        let at_least = |at_least: f64| EventRule::AtLeast { at_least };
        let read = checked(at_least(35.0), "days").expect("an outcome");
        assert_eq!(read, [Some(false), Some(true), Some(true), None, Some(false)]);
        let below = checked(EventRule::Below { below: 35.0 }, "days").expect("an outcome");
        assert_eq!(below[0], Some(true));
        for wrong in [0.0, 91.0, f64::NAN] {
            assert!(checked(at_least(wrong), "days").expect_err("no cut").contains("between 0 and 90"));
        }
        assert!(checked(at_least(1.0), "state").expect_err("words").contains("no numbers"));
    }

    #[test]
    fn one_value_is_stored_as_it_always_was() {
        let plain: Outcome = serde_json::from_str(r#"{"column":"left","event":"yes"}"#).expect("an outcome");
        assert_eq!(plain, Outcome::is("left", "yes"));
        let cut = Outcome { column: "days".into(), event: EventRule::AtLeast { at_least: 30.0 }, window: None };
        let stored = serde_json::to_string(&cut).expect("text");
        assert_eq!(serde_json::from_str::<Outcome>(&stored).expect("an outcome"), cut);
    }
}
