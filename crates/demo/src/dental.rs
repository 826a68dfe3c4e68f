//! The offer of a dental check, and who answered it.

use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use crate::draw::{constant_for, logistic, pick};

/// One contacted customer, and whether they answered.
#[derive(Debug, Clone)]
pub struct Contact {
    /// Identifier.
    pub customer: u32,
    /// How the offer came.
    pub channel: &'static str,
    /// Day of the contact, days since 1970-01-01.
    pub contacted: i32,
    /// dog, cat or rabbit.
    pub species: &'static str,
    /// Age of the pet in years.
    pub pet_age: u32,
    /// Months since the last dental check; none if there was none.
    pub last_dental: Option<u32>,
    /// Price of the check in the offer.
    pub price: f64,
    /// Letters opened in the last quarter.
    pub opens: u32,
    /// Visits in the last year.
    pub visits: u32,
    /// Matters not at all.
    pub coat: &'static str,
    /// Probability of answering, known to the generator only.
    pub true_probability: f64,
    /// Whether they answered.
    pub answered: bool,
}

/// Share that answers, in expectation.
const RATE: f64 = 0.07;

/// Log-odds of answering, up to a constant: middle-aged dogs, a check long ago,
/// a low price, a call rather than a letter, and customers who open letters.
pub fn dental_log_odds(c: &Contact) -> f64 {
    let channel = match c.channel {
        "phone" => 0.9,
        "email" => 0.2,
        _ => 0.0,
    };
    let age = -0.05 * (f64::from(c.pet_age) - 7.0).powi(2);
    let due = 0.04 * f64::from(c.last_dental.unwrap_or(30).min(36));
    let species = if c.species == "dog" { 0.4 } else { 0.0 };
    channel + age + due + species + 0.22 * f64::from(c.opens.min(6)) - 0.04 * c.price + 0.1 * f64::from(c.visits)
}

/// Makes `n` contacts, numbered from `first` on. The same seed makes the same ones.
pub fn dental_offer(n: usize, seed: u64, first: u32) -> Vec<Contact> {
    let mut rng = ChaCha8Rng::seed_from_u64(seed);
    let mut all: Vec<Contact> = (0..n as u32).map(|i| draw(first + i, &mut rng)).collect();
    let odds: Vec<f64> = all.iter().map(dental_log_odds).collect();
    let constant = constant_for(&odds, RATE);
    for (contact, eta) in all.iter_mut().zip(odds) {
        contact.true_probability = logistic(eta + constant);
        contact.answered = rng.random::<f64>() < contact.true_probability;
    }
    all
}

fn draw(customer: u32, rng: &mut impl Rng) -> Contact {
    Contact {
        customer,
        channel: pick(rng, &[("email", 60), ("post", 28), ("phone", 12)]),
        contacted: 20_040 + rng.random_range(0..28),
        species: pick(rng, &[("dog", 57), ("cat", 35), ("rabbit", 8)]),
        pet_age: rng.random_range(0..15),
        last_dental: (rng.random::<f64>() > 0.37).then(|| rng.random_range(1..60)),
        price: pick(rng, &[(19.0, 33), (29.0, 34), (39.0, 33)]),
        opens: pick(rng, &[(0, 40), (1, 22), (2, 15), (3, 10), (4, 7), (5, 4), (6, 2)]),
        visits: pick(rng, &[(0, 20), (1, 30), (2, 25), (3, 15), (4, 7), (5, 3)]),
        coat: pick(rng, &[("short", 55), ("long", 33), ("wire", 12)]),
        true_probability: 0.0,
        answered: false,
    }
}
