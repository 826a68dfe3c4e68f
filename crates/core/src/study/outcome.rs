//! The outcome column and the value of interest.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::Table;
use crate::profile::ColumnProfile;

/// Which column says what happened, and which of its values is the event.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Outcome {
    /// The column.
    pub column: String,
    /// The value of interest, as written.
    pub event: String,
}

/// Why a column cannot be the outcome, and what to do.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum OutcomeError {
    /// No such column.
    #[error("There is no column called “{0}” in the table.")]
    NoColumn(String),
    /// One value only.
    #[error(
        "“{column}” has only one value ({value}), so that nothing can be learned from it. Choose another column, or bring records of customers to whom it happened and of others."
    )]
    OneValue {
        /// The column.
        column: String,
        /// Its only value, or "all missing".
        value: String,
    },
    /// More than two values.
    #[error("“{column}” has {found} different values ({values}); an outcome has two. Choose a column with two values.")]
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
}

impl Outcome {
    /// Checks that a column with these figures can be the outcome with this event.
    ///
    /// Missing values are allowed; such rows take no part in the study.
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
            0 => Err(OutcomeError::OneValue { column, value: "all missing".into() }),
            1 => Err(OutcomeError::OneValue { column, value: values() }),
            2 if profile.top.iter().any(|(v, _)| *v == self.event) => Ok(()),
            2 => Err(OutcomeError::NoEvent { column, event: self.event.clone(), values: values() }),
            found => Err(OutcomeError::ManyValues { column, found, values: values() }),
        }
    }

    /// What happened, row by row; none where the outcome is missing.
    ///
    /// # Errors
    /// [`OutcomeError::NoColumn`].
    pub fn read(&self, table: &Table) -> Result<Vec<Option<bool>>, OutcomeError> {
        let column = table.column(&self.column).ok_or_else(|| OutcomeError::NoColumn(self.column.clone()))?;
        Ok((0..column.len()).map(|row| column.text(row).map(|v| v == self.event)).collect())
    }
}
