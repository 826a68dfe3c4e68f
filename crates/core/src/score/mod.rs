//! A list of customers: matched to the model, then scored.

mod customers;
mod file;
mod known;
mod matching;
mod pairing;
mod remarks;
mod scored;

pub use customers::table_of;
pub use file::{FileError, Form};
pub use known::{Known, same_rows};
pub use matching::{InputMatch, MatchReport, match_list};
pub use pairing::{Answer, Answers, Paired, pair};
pub use scored::{
    BAND, By, DECISION, Extras, GAIN, MOST_REASONS, OFFER, OTHER_PROBABILITY, PROBABILITY, REASONS, REMARK, Scored,
    Scoring, columns_of_policy,
};
