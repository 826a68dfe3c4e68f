//! What came of offering a fee holiday to members who come up for renewal.

use std::collections::HashSet;
use std::fmt::Write;

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::Member;

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
