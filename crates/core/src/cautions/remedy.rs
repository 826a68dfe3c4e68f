//! What mends a mistake, as a change of the study's choices.

use serde::{Deserialize, Serialize};

use crate::study::{ColumnRole, EventRule, StudyState};
use pronoia_data::split::SplitMethod;
use pronoia_learn::prepare::{PreparationStep, StepAction};

/// What mends a mistake.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "do")]
pub enum Remedy {
    /// Leave a column out.
    LeaveOut {
        /// The column.
        column: String,
    },
    /// Read a number as the name of something.
    ReadAsCode {
        /// The column.
        column: String,
    },
    /// Judge on the newest customers.
    SplitByTime {
        /// The column that says when.
        column: String,
    },
    /// Keep the rows of a customer in one part.
    KeepTogether {
        /// The column that names the customer.
        column: String,
    },
    /// Take the other value of the outcome as the event.
    OtherEvent {
        /// The value.
        event: String,
    },
    /// Judge every row by models fitted to the others.
    CrossValidate,
    /// Fit the candidate again, and calibrate it.
    Calibrate,
    /// Fit many trees beside the one.
    FitForest,
    /// Take the candidate off the list.
    Retire,
}

impl Remedy {
    /// What it does, on a button.
    pub fn words(&self) -> String {
        match self {
            Self::LeaveOut { .. } => "Exclude it".into(),
            Self::ReadAsCode { .. } => "Read it as a code".into(),
            Self::SplitByTime { .. } => "Split by time".into(),
            Self::KeepTogether { .. } => "Keep them together".into(),
            Self::OtherEvent { event } => format!("Make “{event}” the event"),
            Self::CrossValidate => "Use cross-validation".into(),
            Self::Calibrate => "Fit it again, calibrated".into(),
            Self::FitForest => "Fit a forest".into(),
            Self::Retire => "Remove it".into(),
        }
    }

    /// Changes the choices as it says. After a change of the event the roles
    /// are to be guessed anew, which needs the records: a caller that has them
    /// chooses the outcome again instead. What is done
    /// to candidates is no choice: it changes nothing here.
    pub fn apply(&self, state: &mut StudyState) {
        match self {
            Self::LeaveOut { column } => {
                state.columns.iter_mut().filter(|c| c.name == *column).for_each(|c| c.role = ColumnRole::LeftOut);
            }
            Self::ReadAsCode { column } => {
                // Before any other step, since those see what the column is then.
                let action = StepAction::AsCode { column: column.clone() };
                state.steps.insert(0, PreparationStep { action, off: false });
            }
            Self::SplitByTime { column } => state.split.by = SplitMethod::Newest { column: column.clone() },
            Self::KeepTogether { column } => state.split.together = Some(column.clone()),
            Self::CrossValidate => state.split.folds = Some(super::few_events::FOLDS),
            Self::Calibrate | Self::FitForest | Self::Retire => {}
            Self::OtherEvent { event } => {
                if let Some(outcome) = &mut state.outcome {
                    outcome.event = EventRule::Value(event.clone());
                }
            }
        }
    }

    /// Whether the choices are already as it would make them.
    pub fn is_taken(&self, state: &StudyState) -> bool {
        let mut after = state.clone();
        match self {
            Self::ReadAsCode { column } => state
                .steps
                .iter()
                .any(|s| !s.off && matches!(&s.action, StepAction::AsCode { column: read } if read == column)),
            Self::SplitByTime { .. } => state.split.by != SplitMethod::AtRandom,
            _ => {
                self.apply(&mut after);
                after == *state
            }
        }
    }
}
