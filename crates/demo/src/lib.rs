//! Osier Vale: an invented company that sells pet-care plans, and its records.
//!
//! Everything is made up from a seed. The generator knows the truth that it
//! plants, so that tests can check whether it is found again.

mod campaign;
mod dental;
mod draw;
mod files;
mod instalments;
mod members;
mod visits;

pub use campaign::{Booked, Renewed, TRUE_ANYWAY, TRUE_SAVE_RATE, booked, booked_csv, renewed, renewed_csv};
pub use dental::{Contact, dental_log_odds, dental_offer};
pub use files::{
    WarehouseTable, cancellations_csv, damaged_csv, dental_customers_jsonl, dental_offer_jsonl, instalments_xlsx,
    members_csv, outcome_csv, renewals_as_sent_csv, renewals_csv, visits_parquet, warehouse,
};
pub use instalments::{Agreement, instalment_log_odds, instalments};
pub use members::{Member, members, true_log_odds};
pub use visits::{Visit, visits};

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

/// Customers of the records who are on the list that a branch sent.
pub const KNOWN: usize = 200;

/// Instalment agreements in the demonstration.
pub const AGREEMENTS: usize = 9_000;

/// Customers contacted with the dental offer.
pub const CONTACTS: usize = 15_000;

/// The number of the first of them.
pub const FIRST_CONTACT: u32 = 700_001;

/// Customers who may be offered a dental check next.
pub const CUSTOMERS: usize = 6_000;

/// The number of the first of them.
pub const FIRST_CUSTOMER: u32 = 800_001;

/// Every file of the demonstration with its name.
///
/// # Errors
/// A sentence if a writer refuses, which none does for these records.
pub fn files() -> Result<Vec<(&'static str, Vec<u8>)>, String> {
    let people = members(MEMBERS, SEED, FIRST_MEMBER);
    let renewals = members(RENEWALS, SEED + 1, FIRST_RENEWAL);
    let seen = visits(&people, SEED + 2);
    let agreements = instalments(AGREEMENTS, SEED + 3);
    let contacts = dental_offer(CONTACTS, SEED + 4, FIRST_CONTACT);
    let customers = dental_offer(CUSTOMERS, SEED + 6, FIRST_CUSTOMER);
    Ok(vec![
        ("members_with_outcome.csv", outcome_csv(&people)),
        ("members.csv", members_csv(&people)),
        ("cancellations.csv", cancellations_csv(&people)),
        ("visits.parquet", visits_parquet(&seen).map_err(|e| e.to_string())?),
        ("instalments.xlsx", instalments_xlsx(&agreements).map_err(|e| e.to_string())?),
        ("dental_offer.jsonl", dental_offer_jsonl(&contacts)),
        ("dental_customers.jsonl", dental_customers_jsonl(&customers)),
        ("renewals_next_quarter.csv", renewals_csv(&renewals)),
        ("renewals_from_the_branch.csv", renewals_as_sent_csv(&renewals[KNOWN..], &people[..KNOWN])),
        ("members_damaged.csv", damaged_csv(&people[..2_000])),
    ])
}
