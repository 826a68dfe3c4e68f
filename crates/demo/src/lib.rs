//! Osier Vale: an invented company that sells pet-care plans, and its records.
//!
//! Everything is made up from a seed. The generator knows the truth that it
//! plants, so that tests can check whether it is found again.

mod files;
mod members;

pub use files::{cancellations_csv, damaged_csv, members_csv, outcome_csv, renewals_csv};
pub use members::{Member, members, true_log_odds};

/// The seed of the records that every demonstration shows.
pub const SEED: u64 = 1847;

/// Members in the demonstration.
pub const MEMBERS: usize = 24_000;

/// Number of the first member.
pub const FIRST_MEMBER: u32 = 100_001;

/// Number of the first customer on the list to be scored; none of them is in the records.
pub const FIRST_RENEWAL: u32 = 400_001;

/// Customers on the list to be scored.
pub const RENEWALS: usize = 3_000;

/// Every file of the demonstration with its name.
pub fn files() -> Vec<(&'static str, Vec<u8>)> {
    let people = members(MEMBERS, SEED, FIRST_MEMBER);
    let renewals = members(RENEWALS, SEED + 1, FIRST_RENEWAL);
    vec![
        ("members_with_outcome.csv", outcome_csv(&people)),
        ("members.csv", members_csv(&people)),
        ("cancellations.csv", cancellations_csv(&people)),
        ("renewals_next_quarter.csv", renewals_csv(&renewals)),
        ("members_damaged.csv", damaged_csv(&people[..2_000])),
    ]
}
