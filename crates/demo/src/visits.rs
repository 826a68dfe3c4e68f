//! Visits to a clinic: many rows for one member.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::Member;
use crate::draw::pick;

/// One visit.
#[derive(Debug, Clone, PartialEq)]
pub struct Visit {
    /// Whose pet was seen.
    pub member: u32,
    /// Day of the visit, days since 1970-01-01.
    pub day: i32,
    /// What for.
    pub reason: &'static str,
    /// What it cost.
    pub cost: f64,
    /// The clinic.
    pub clinic: &'static str,
}

/// The visits of these members, in order of day. The last one of each lies as
/// many months before the renewal as the member's record says; a member without
/// that figure has none.
pub fn visits(members: &[Member], seed: u64) -> Vec<Visit> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut all = Vec::new();
    for m in members {
        let Some(months) = m.months_since_visit else { continue };
        let mut day = m.renewal - months as i32 * 30 - rng.random_range(0..30);
        for _ in 0..=(f64::from(m.tenure) / 9.0).min(12.0 * rng.random::<f64>()) as u32 {
            all.push(Visit {
                member: m.id,
                day,
                reason: pick(&mut rng, &[("check-up", 46), ("vaccination", 30), ("treatment", 18), ("emergency", 6)]),
                cost: ((12.0 + 160.0 * rng.random::<f64>().powi(3)) * 100.0).round() / 100.0,
                clinic: m.clinic,
            });
            day -= 20 + rng.random_range(0..160);
        }
    }
    all.sort_by_key(|v| (v.day, v.member));
    all
}
