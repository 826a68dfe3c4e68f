//! Rows of our own tables.

pub mod account;
pub mod campaign;
pub mod finding;
pub mod job;
pub mod judgement;
pub mod ledger_entry;
pub mod list;
pub mod meaning;
pub mod membership;
pub mod model;
pub mod program_key;
pub mod record_table;
pub mod release;
pub mod release_key;
pub mod release_promise;
pub mod release_tally;
pub mod release_use;
pub mod release_version;
pub mod rule_tried;
pub mod search;
pub mod session;
pub mod sign_in_attempt;
pub mod source;
pub mod study;
pub mod upload;
pub mod workspace;
