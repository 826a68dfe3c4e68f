//! The computation behind Pronoia: from customer records to a scored list.
//!
//! The folders follow the analyst's order of work. One way leads through them:
//!
//! ```text
//! bytes -> Table -> Preparation (fitted on training rows) -> Design -> Estimator
//!       -> Model -> Evaluation -> Policy -> scored list
//! ```
//!
//! Nothing in here knows of a web server, a database, the place of a file or
//! an account. Whatever takes long takes a [`Progress`] and nothing else from
//! outside.

pub mod cautions;
pub mod explain;
pub mod export;
pub mod model;
pub mod score;
pub mod study;
pub mod tune;
pub mod validation;
pub mod watch;

pub use model::Model;
pub use pronoia_data::{
    Cancelled, Column, Kind, Progress, Table, drivers, evaluate, expression, formulas, number, profile, progress,
    sentence, split, stack, stats, table, value,
};
pub use pronoia_decide::{campaign, decide, question};
pub use pronoia_files::{intake, write};
pub use pronoia_learn::{balance, calibrate, learn, prepare};
pub use validation::EvaluatedModel;
