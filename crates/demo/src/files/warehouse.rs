//! What Osier Vale's warehouse holds: tables of PostgreSQL, with types.

use super::delimited::plain_rows;
use crate::{Member, Visit};

/// A table of the warehouse.
#[derive(Debug, Clone)]
pub struct WarehouseTable {
    /// Its name.
    pub name: &'static str,
    /// What it holds, in words.
    pub comment: &'static str,
    /// Its columns, as they stand in CREATE TABLE.
    pub columns: &'static str,
    /// Its rows as comma-separated text with names on top; nothing between two
    /// commas is missing.
    pub csv: String,
}

const MEMBERS: &str = "member_id bigint PRIMARY KEY, legacy_ref text, species text, plan_tier text, \
    tenure_months integer, months_since_visit integer, declined_claims integer, fee_rise_pct numeric(5, 1), \
    annual_fee numeric(8, 2), pets smallint, payment_method text, district text, clinic text, newsletter boolean, \
    joined_on date, renewal_on date, household_income numeric(9), owner_age_band text, retired_discount boolean, \
    weekend_visits boolean, moved_home boolean, newsletter_opens integer, call_minutes numeric(6, 1), currency char(3), \
    note_code text, sample_weight real, days_since_last_login integer, exit_survey_sent boolean, cancelled text";

const VISITS: &str = "visit_id bigint PRIMARY KEY, member_id bigint, visited_on date, reason text, \
    cost numeric(8, 2), clinic text";

/// The tables of the warehouse: members with their outcome, and their visits.
pub fn warehouse(members: &[Member], visits: &[Visit]) -> [WarehouseTable; 2] {
    let mut seen = String::from("visit_id,member_id,visited_on,reason,cost,clinic\n");
    for (at, v) in visits.iter().enumerate() {
        let day = pronoia_core::table::written_date(v.day);
        seen += &format!("{},{},{day},{},{:.2},{}\n", at + 1, v.member, v.reason, v.cost, v.clinic);
    }
    [
        WarehouseTable {
            name: "members",
            comment: "Everybody whose plan came up for renewal, and what became of it",
            columns: MEMBERS,
            csv: plain_rows(members).replace(",NA,", ",,"),
        },
        WarehouseTable { name: "visits", comment: "Visits to a clinic", columns: VISITS, csv: seen },
    ]
}
