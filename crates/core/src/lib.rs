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

pub mod balance;
pub mod calibrate;
pub mod campaign;
pub mod cautions;
pub mod decide;
pub mod drivers;
pub mod evaluate;
pub mod explain;
pub mod export;
pub mod expression;
pub mod formulas;
pub mod intake;
pub mod judged;
pub mod learn;
pub mod model;
pub mod number;
pub mod prepare;
pub mod profile;
pub mod progress;
pub mod question;
pub mod score;
pub mod sentence;
pub mod split;
pub mod stats;
pub mod study;
pub mod table;
pub mod tune;
pub mod watch;

pub use judged::Judged;
pub use model::Model;
pub use progress::{Cancelled, Progress};
pub use table::{Column, Kind, Table};
