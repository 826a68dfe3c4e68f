//! A list of customers: matched to the model, then scored.

mod customers;
mod first_pass;
mod known_customers;
mod list_part;
mod matching;
mod pairing;
mod remarks;
mod scored;
mod settled;

pub use customers::table_of;
pub use first_pass::Ahead;
pub use known_customers::{KnownCustomers, Roll};
pub use list_part::ListPart;
pub use matching::{InputMatch, MatchReport, Matching, match_list};
pub use pairing::{ColumnAnswer, ColumnAnswers, ColumnPairing, pair};
pub use scored::{
    BAND, By, DECISION, Extras, GAIN, MOST_REASONS, OFFER, OTHER_PROBABILITY, PROBABILITY, REASONS, REMARK,
    ScoredCustomers, Scoring, ScoringSummary, columns_of_policy,
};
pub use settled::Settled;
