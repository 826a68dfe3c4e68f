//! What somebody does in Pronoia: every action as a value that is performed in one transaction, the jobs that follow
//! from actions, and the values that pages and programs are answered with. Nothing here knows of HTTP or HTML.

pub mod app;
pub mod budget;
pub mod cache;
pub mod call_limits;
pub mod candidate_profit;
pub mod error;
pub mod evaluation_cache;
pub mod jobs;
pub mod prediction_cache;
pub mod release_calls;
pub mod scored_list;
pub mod study_view;
pub mod text;

pub use app::{App, Files};
pub use budget::Budget;
pub use error::ServiceError;
