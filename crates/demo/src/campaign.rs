//! What came of offering a fee holiday to members who come up for renewal, and a dental check to customers.

use std::collections::HashSet;
use std::fmt::Write;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::{Contact, Member};

/// Share of those who would cancel whom the fee holiday keeps.
pub const TRUE_SAVE_RATE: f64 = 0.22;

/// Share of those who would stay who take it.
const STAYERS_TAKE: f64 = 0.35;

/// What a member who stays brings in a year.
const VALUE_KEPT: f64 = 146.0;

/// What the holiday costs when it is taken.
const HOLIDAY: f64 = 24.0;

/// What it costs to offer it.
const CONTACT: f64 = 2.4;

/// Share of those who would answer the dental offer who book a check without it, too.
pub const TRUE_ANYWAY: f64 = 0.3;

/// What a dental check brings.
const CHECK: f64 = 28.0;

/// What it costs to offer one.
const LETTER: f64 = 1.1;

/// A member once the renewal is over.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Renewed {
    /// Identifier.
    pub id: u32,
    /// Whether the plan was cancelled.
    pub cancelled: bool,
    /// What the member brought, all costs taken off.
    pub brought: f64,
}

/// What became of every member, of whom some were offered a fee holiday.
pub fn renewed(members: &[Member], offered: &[u32], seed: u64) -> Vec<Renewed> {
    let offered: HashSet<u32> = offered.iter().copied().collect();
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let one = |m: &Member| {
        // Drawn for everybody, so that one member's luck does not depend on another's offer.
        let (saved, takes) = (rng.random::<f64>() < TRUE_SAVE_RATE, rng.random::<f64>() < STAYERS_TAKE);
        let acted = offered.contains(&m.id);
        let kept = m.cancelled && acted && saved;
        let cancelled = m.cancelled && !kept;
        let took = acted && (kept || (!m.cancelled && takes));
        let costs = if acted { CONTACT } else { 0.0 } + if took { HOLIDAY } else { 0.0 };
        Renewed { id: m.id, cancelled, brought: if cancelled { 0.0 } else { VALUE_KEPT } - costs }
    };
    members.iter().map(one).collect()
}

/// The same as a file: commas, decimal points.
pub fn renewed_csv(renewed: &[Renewed]) -> Vec<u8> {
    let mut out = String::from("member_id,cancelled,brought\n");
    for r in renewed {
        let _ = writeln!(out, "{},{},{:.2}", r.id, if r.cancelled { "yes" } else { "no" }, r.brought);
    }
    out.into_bytes()
}

/// A customer once the dental offer is over.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Booked {
    /// Identifier.
    pub customer: u32,
    /// Whether a check was booked.
    pub booked: bool,
    /// What the customer brought, the cost of the offer taken off.
    pub brought: f64,
}

/// What became of every customer, of whom some were offered a dental check.
pub fn booked(customers: &[Contact], offered: &[u32], seed: u64) -> Vec<Booked> {
    let offered: HashSet<u32> = offered.iter().copied().collect();
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let one = |c: &Contact| {
        let anyway = rng.random::<f64>() < TRUE_ANYWAY;
        let acted = offered.contains(&c.customer);
        let booked = c.answered && (acted || anyway);
        let brought = if booked { CHECK } else { 0.0 } - if acted { LETTER } else { 0.0 };
        Booked { customer: c.customer, booked, brought }
    };
    customers.iter().map(one).collect()
}

/// The same as a file: commas, decimal points.
pub fn booked_csv(booked: &[Booked]) -> Vec<u8> {
    let mut out = String::from("customer,booked,brought\n");
    for b in booked {
        let _ = writeln!(out, "{},{},{:.2}", b.customer, if b.booked { "yes" } else { "no" }, b.brought);
    }
    out.into_bytes()
}
