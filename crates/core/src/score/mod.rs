//! A list of customers: matched to the model, then scored.

mod ahead;
mod customers;
mod known;
mod matching;
mod pairing;
mod remarks;
mod scored;

pub use ahead::{Ahead, Settled};
pub use customers::table_of;
pub use known::{Known, Roll};
pub use matching::{InputMatch, MatchReport, Matching, match_list};
pub use pairing::{Answer, Answers, Paired, pair};
pub use scored::{
    Account, BAND, By, DECISION, Extras, GAIN, MOST_REASONS, OFFER, OTHER_PROBABILITY, PROBABILITY, Part, REASONS,
    REMARK, Scored, Scoring, columns_of_policy,
};
