//! How many customers have to be held back for the effect of acting to be seen.

use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, Normal};

/// How seldom an effect may be seen that is not there.
const LEVEL: f64 = 0.05;

/// How often an effect that is there has to be seen.
const WANTED: f64 = 0.8;

/// The chance that a campaign shows the effect that it is made for.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Power {
    /// Customers held back.
    pub control: u64,
    /// Customers acted on.
    pub acted: u64,
    /// The chance that the 95 % interval of the effect leaves out nothing.
    pub power: f64,
}

impl Power {
    /// For two proportions that differ as expected, by the normal approximation with separate
    /// variances (Fleiss, Levin & Paik 2003, section 4.2).
    pub fn of(control: u64, acted: u64, [without, with]: [f64; 2]) -> Self {
        let normal = Normal::standard();
        let variance = |rate: f64, n: u64| rate * (1.0 - rate) / n as f64;
        let spread = (variance(without, control) + variance(with, acted)).sqrt();
        let bound = normal.inverse_cdf(1.0 - LEVEL / 2.0);
        let distance = (without - with).abs() / spread;
        let power = if control == 0 || acted == 0 || without == with {
            0.0
        } else if spread == 0.0 {
            1.0
        } else {
            normal.cdf(distance - bound) + normal.cdf(-distance - bound)
        };
        Self { control, acted, power }
    }

    /// Whether that is as often as one wants.
    pub fn is_enough(&self) -> bool {
        self.power >= WANTED
    }
}

/// The fewest of `customers` that have to be held back so that the effect is seen in four of five
/// campaigns, where events are as frequent `without` and `with` the action; where even half of them
/// are too few, half.
pub fn control_needed(customers: u64, [without, with]: [f64; 2]) -> Power {
    let at = |control: u64| Power::of(control, customers - control, [without, with]);
    let half = customers / 2;
    if half == 0 || !at(half).is_enough() {
        return at(half);
    }
    // Power rises with the smaller group up to half.
    let (mut too_few, mut enough) = (0, half);
    while enough - too_few > 1 {
        let middle = (too_few + enough) / 2;
        if at(middle).is_enough() { enough = middle } else { too_few = middle }
    }
    at(enough)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn power_is_that_of_the_books() {
        // 0.05 against 0.10 with 435 each: 80 % (separate variances, no continuity correction: 432).
        let power = Power::of(432, 432, [0.10, 0.05]);
        assert!((power.power - 0.80).abs() < 0.005, "{power:?}");
        assert_eq!(Power::of(0, 400, [0.1, 0.2]).power, 0.0);
        assert_eq!(Power::of(400, 400, [0.1, 0.1]).power, 0.0);
    }

    #[test]
    fn no_more_are_held_back_than_needed() {
        let needed = control_needed(5_000, [0.30, 0.22]);
        assert!(needed.is_enough() && needed.control + needed.acted == 5_000, "{needed:?}");
        assert!(!Power::of(needed.control - 1, needed.acted + 1, [0.30, 0.22]).is_enough());
        let few = control_needed(100, [0.30, 0.28]);
        assert!(!few.is_enough() && few.control == 50, "{few:?}");
        assert_eq!(control_needed(0, [0.3, 0.2]).control, 0);
    }
}
