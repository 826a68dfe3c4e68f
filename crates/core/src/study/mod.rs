//! One question on one table: what happened, to whom, and which columns may know of it.

mod caution;
pub mod history;
mod outcome;
pub mod probe;
mod roles;
mod state;
mod window;

pub use caution::{AcceptedCaution, CautionKind};
pub use outcome::{EventRule, Outcome, OutcomeError};
pub(crate) use roles::has_word;
pub use roles::{ColumnChoice, ColumnRole, KnownWhen, Verdict, guess};
pub use state::{Basis, ChosenPolicy, StudyState};
pub use window::OutcomeWindow;
