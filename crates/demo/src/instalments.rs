//! Instalment agreements for treatments, and which of them fell behind.

use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::draw::{constant_for, logistic, pick};

/// One agreement, as known when it was signed, and what became of it.
#[derive(Debug, Clone)]
pub struct Agreement {
    /// Identifier.
    pub number: u32,
    /// Day of signing, days since 1970-01-01.
    pub signed: i32,
    /// What is treated.
    pub treatment: &'static str,
    /// Money lent.
    pub amount: f64,
    /// Share paid at once.
    pub deposit: f64,
    /// Instalments.
    pub months: u32,
    /// Agreements before this one.
    pub earlier: u32,
    /// Instalments paid late in earlier agreements.
    pub late_before: u32,
    /// Income of the household; none if not given.
    pub income: Option<f64>,
    /// How the owner earns a living.
    pub employment: &'static str,
    /// Digits that name a district.
    pub district: u32,
    /// Age band of the owner.
    pub age_band: &'static str,
    /// Matters not at all.
    pub pet_weight: f64,
    /// Probability of falling behind, known to the generator only.
    pub true_probability: f64,
    /// Whether it fell behind.
    pub fell_behind: bool,
}

/// Share of agreements that fall behind, in expectation.
const RATE: f64 = 0.09;

/// Log-odds of falling behind, up to a constant: a large amount against the
/// income, a small deposit, late payments before and a long term go with it.
pub fn instalment_log_odds(a: &Agreement) -> f64 {
    let burden = 12.0 * a.amount / f64::from(a.months) / a.income.unwrap_or(34_000.0);
    let employment = match a.employment {
        "self-employed" => 0.35,
        "between jobs" => 0.9,
        _ => 0.0,
    };
    7.0 * burden + 0.6 * f64::from(a.late_before.min(5)) - 2.2 * a.deposit + 0.02 * f64::from(a.months) + employment
}

/// Makes `n` agreements. The same seed makes the same ones.
pub fn instalments(n: usize, seed: u64) -> Vec<Agreement> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut all: Vec<Agreement> = (0..n as u32).map(|i| draw(500_001 + i, &mut rng)).collect();
    let odds: Vec<f64> = all.iter().map(instalment_log_odds).collect();
    let constant = constant_for(&odds, RATE);
    for (agreement, eta) in all.iter_mut().zip(odds) {
        agreement.true_probability = logistic(eta + constant);
        agreement.fell_behind = rng.random::<f64>() < agreement.true_probability;
    }
    all
}

fn draw(number: u32, rng: &mut impl Rng) -> Agreement {
    let treatment = pick(rng, &[("dental", 34), ("surgery", 27), ("long-term", 21), ("diagnostics", 18)]);
    let typical = match treatment {
        "surgery" => 1_900.0,
        "long-term" => 1_200.0,
        "dental" => 640.0,
        _ => 480.0,
    };
    let earlier = pick(rng, &[(0, 58), (1, 24), (2, 12), (3, 6)]);
    let income = 19_000.0 + 62_000.0 * rng.random::<f64>().powf(1.6);
    Agreement {
        number,
        signed: 19_000 + rng.random_range(0..730),
        treatment,
        amount: (typical * (0.5 + rng.random::<f64>() + rng.random::<f64>()) * 100.0).round() / 100.0,
        deposit: pick(rng, &[(0.0, 40), (0.1, 25), (0.2, 20), (0.3, 10), (0.5, 5)]),
        months: pick(rng, &[(6, 22), (12, 41), (18, 14), (24, 23)]),
        earlier,
        late_before: (0..earlier * 2).filter(|_| rng.random::<f64>() < 0.22).count() as u32,
        income: (rng.random::<f64>() > 0.12).then_some((income / 100.0).round() * 100.0),
        employment: pick(rng, &[("employed", 66), ("self-employed", 15), ("retired", 14), ("between jobs", 5)]),
        district: 100 + rng.random_range(0..86) * 7,
        age_band: pick(rng, &[("18–29", 18), ("30–44", 34), ("45–59", 27), ("60–74", 16), ("75+", 5)]),
        pet_weight: (20.0 + 380.0 * rng.random::<f64>().powi(2)).round() / 10.0,
        true_probability: 0.0,
        fell_behind: false,
    }
}
