//! What somebody does in Pronoia: every action as a value that is performed in one transaction, the jobs that follow
//! from actions, and the values that pages and programs are answered with. Nothing here knows of HTTP or HTML.

pub mod action;
pub mod actions;
pub mod app;
pub mod budget;
pub mod cache;
pub mod call_limits;
pub mod candidate_profit;
pub mod choices;
pub mod compare;
pub mod decide;
pub mod demonstration;
pub mod error;
pub mod evaluation_cache;
pub mod jobs;
pub mod ledger;
pub mod lists;
pub mod live;
pub mod prediction_cache;
pub mod prepare;
pub mod records;
pub mod release_calls;
pub mod scored_list;
pub mod studies;
pub mod study_view;
pub mod text;
pub mod train;

pub use action::{Action, ActionScope, Actor, Created, Declaration, Queued};
pub use app::{App, FileSettings};
pub use budget::Budget;
pub use error::ServiceError;
