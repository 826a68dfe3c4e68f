//! Members of the pet-care plan, and why they cancel.

use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::draw::{constant_for, logistic, pick};

/// One member, as known before the renewal, and what happened at it.
#[derive(Debug, Clone)]
pub struct Member {
    /// Identifier.
    pub id: u32,
    /// A second reference, different for every member.
    pub legacy_ref: u64,
    /// dog, cat or rabbit.
    pub species: &'static str,
    /// Basic, Plus or Complete.
    pub tier: &'static str,
    /// Months since the plan began.
    pub tenure: u32,
    /// Months since the last visit to a clinic; none if never recorded.
    pub months_since_visit: Option<u32>,
    /// Claims refused in the last year.
    pub declined_claims: u32,
    /// Rise of the fee at the last renewal, per cent.
    pub fee_rise: Option<f64>,
    /// Fee of a year.
    pub annual_fee: f64,
    /// Pets on the plan.
    pub pets: u32,
    /// How the fee is paid.
    pub payment: &'static str,
    /// Digits that name a district.
    pub district: u32,
    /// The clinic, with letters beyond ASCII.
    pub clinic: &'static str,
    /// Whether the newsletter is taken.
    pub newsletter: bool,
    /// Day on which the plan began, days since 1970-01-01.
    pub joined: i32,
    /// Day of the renewal.
    pub renewal: i32,
    /// Income of the household; missing more often where it is low.
    pub income: Option<f64>,
    /// Age band of the owner.
    pub age_band: &'static str,
    /// A discount that goes with age.
    pub retired_discount: bool,
    /// Matters only together with `moved_home`.
    pub weekend_visits: bool,
    /// Matters only together with `weekend_visits`.
    pub moved_home: bool,
    /// Matters not at all.
    pub newsletter_opens: u32,
    /// Matters not at all.
    pub call_minutes: f64,
    /// Days since the last login, measured when the extract was made.
    pub days_since_login: u32,
    /// Set after a cancellation.
    pub exit_survey: bool,
    /// Weight from the sampling of the extract.
    pub weight: f64,
    /// Probability of cancelling, known to the generator only.
    pub true_probability: f64,
    /// What happened.
    pub cancelled: bool,
}

/// Share of members who cancel, in expectation.
const RATE: f64 = 0.18;

/// Log-odds of cancelling, up to a constant.
///
/// Longer without a visit, more refused claims and a steeper rise go with
/// leaving. New and very old members leave more often than those in between.
/// Cats on Basic and dogs on Complete leave more often than tier and species
/// by themselves would say; weekend visits and a move matter only together.
pub fn true_log_odds(m: &Member) -> f64 {
    let visit = 0.085 * f64::from(m.months_since_visit.unwrap_or(9));
    let claims = 0.55 * f64::from(m.declined_claims.min(4));
    let rise = 0.13 * m.fee_rise.unwrap_or(4.0);
    let tenure = 0.9 * ((f64::from(m.tenure) - 60.0) / 60.0).powi(2);
    let plan = match (m.species, m.tier) {
        ("cat", "Basic") => 0.7,
        ("dog", "Complete") => 0.5,
        ("cat", "Complete") => -0.6,
        ("rabbit", _) => 0.15,
        _ => 0.0,
    };
    let together = if m.weekend_visits != m.moved_home { 0.65 } else { 0.0 };
    let payment = if m.payment == "invoice" { 0.35 } else { 0.0 };
    visit + claims + rise + tenure + plan + together + payment
}

/// Makes `n` members, numbered from `first`. The same seed makes the same members.
pub fn members(n: usize, seed: u64, first: u32) -> Vec<Member> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut all: Vec<Member> = (0..n as u32).map(|i| draw(first + i, &mut rng)).collect();
    let odds: Vec<f64> = all.iter().map(true_log_odds).collect();
    let constant = constant_for(&odds, RATE);
    for (m, eta) in all.iter_mut().zip(odds) {
        m.true_probability = logistic(eta + constant);
        m.cancelled = rng.random::<f64>() < m.true_probability;
        // Known only afterwards: the survey goes to those who left, and those
        // who left have stopped logging in by the time of the extract.
        m.exit_survey = rng.random::<f64>() < if m.cancelled { 0.96 } else { 0.01 };
        let base = -25.0 * rng.random::<f64>().max(1e-9).ln();
        let silence = if m.cancelled { 30.0 * rng.random::<f64>() } else { 0.0 };
        m.days_since_login = (base + silence) as u32;
    }
    all
}

fn draw(id: u32, rng: &mut impl Rng) -> Member {
    let species = pick(rng, &[("dog", 55), ("cat", 35), ("rabbit", 10)]);
    let tier = pick(rng, &[("Basic", 40), ("Plus", 38), ("Complete", 22)]);
    let tenure = (rng.random::<f64>().powf(1.4) * 140.0) as u32 + 1;
    let base = match tier {
        "Basic" => 118.0,
        "Plus" => 214.0,
        _ => 342.0,
    };
    let pets = 1 + u32::from(rng.random::<f64>() < 0.24) + u32::from(rng.random::<f64>() < 0.07);
    // Three uniform draws make a bell; a fee seldom falls.
    let rise = (rng.random::<f64>() + rng.random::<f64>() + rng.random::<f64>()) * 5.6 - 3.4;
    let age = pick(rng, &[("18–29", 14), ("30–44", 31), ("45–59", 28), ("60–74", 20), ("75+", 7)]);
    let retired = matches!(age, "60–74" | "75+");
    let income = 21_000.0 + 60_000.0 * rng.random::<f64>().powf(1.5);
    let hidden = rng.random::<f64>() < if income < 38_000.0 { 0.46 } else { 0.13 };
    let renewal = 19_800 + rng.random_range(0..365);
    let visit = (-7.0 * rng.random::<f64>().max(1e-9).ln()).min(40.0) as u32;
    Member {
        id,
        legacy_ref: 10_000_000_000 + (u64::from(id) * 7_919 + 13) % 89_999_999_977,
        species,
        tier,
        tenure,
        months_since_visit: (rng.random::<f64>() > 0.033).then_some(visit),
        declined_claims: pick(rng, &[(0, 71), (1, 19), (2, 7), (3, 2), (4, 1)]),
        fee_rise: (rng.random::<f64>() > 0.05).then_some((rise * 10.0).round() / 10.0),
        annual_fee: (base * f64::from(pets).powf(0.85) * (0.9 + 0.2 * rng.random::<f64>()) * 100.0).round() / 100.0,
        pets,
        payment: pick(rng, &[("direct debit", 62), ("card", 27), ("invoice", 11)]),
        district: 100 + rng.random_range(0..86) * 7,
        clinic: pick(
            rng,
            &[("Osier Vale", 30), ("Château-Grenat", 18), ("Müllerwiese", 21), ("Saint-Éloi", 16), ("Åsby", 15)],
        ),
        newsletter: rng.random::<f64>() < 0.44,
        joined: renewal - tenure as i32 * 30 - rng.random_range(0..30),
        renewal,
        income: (!hidden).then_some((income / 100.0).round() * 100.0),
        age_band: age,
        retired_discount: retired && rng.random::<f64>() < 0.85,
        weekend_visits: rng.random::<f64>() < 0.5,
        moved_home: rng.random::<f64>() < 0.5,
        newsletter_opens: rng.random_range(0..24),
        call_minutes: (rng.random::<f64>().powi(3) * 600.0).round() / 10.0,
        days_since_login: 0,
        exit_survey: false,
        weight: (80.0 + 40.0 * rng.random::<f64>()).round() / 100.0,
        true_probability: 0.0,
        cancelled: false,
    }
}
