//! Who is acted on and who is held back, drawn by lot.

use rand::SeedableRng;
use rand::seq::SliceRandom;
use rand_chacha::ChaCha8Rng;
use serde::{Deserialize, Serialize};

/// What may be done about the customers of a campaign.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Arms {
    /// Share of the customers who are held back.
    pub control: f64,
    /// Names of what is done about the others, who are dealt out among them evenly.
    pub acts: Vec<String>,
    /// Governs the lot.
    pub seed: u64,
}

/// Which arm every customer belongs to: nothing for the control group, or a place among the acts.
///
/// Drawn within groups of customers that are alike, one `stratum` per customer, so that every arm
/// has its share of every stratum, as far as customers can be parted; what is left over goes round.
/// The same seed and the same customers give the same arms.
pub fn assign(arms: &Arms, strata: &[usize]) -> Vec<Option<usize>> {
    let mut rng = ChaCha8Rng::seed_from_u64(arms.seed);
    let kinds = strata.iter().copied().max().map_or(0, |most| most + 1);
    let mut of: Vec<Option<usize>> = vec![None; strata.len()];
    // How many have been held back, and acted on, in all strata so far.
    let (mut seen, mut held, mut turn) = (0usize, 0usize, 0usize);
    for stratum in 0..kinds {
        let mut customers: Vec<usize> = (0..strata.len()).filter(|&at| strata[at] == stratum).collect();
        customers.shuffle(&mut rng);
        seen += customers.len();
        let wanted = (arms.control * seen as f64).round() as usize;
        let here = wanted.saturating_sub(held).min(customers.len());
        held += here;
        for &customer in &customers[here..] {
            of[customer] = Some(turn % arms.acts.len().max(1));
            turn += 1;
        }
    }
    of
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_arm_has_its_share_of_every_stratum(
            strata in prop::collection::vec(0usize..5, 0..400), control in 0.0..1.0f64, acts in 1usize..4, seed: u64,
        ) {
            let arms = Arms { control, acts: (0..acts).map(|at| format!("act {at}")).collect(), seed };
            let of = assign(&arms, &strata);
            prop_assert_eq!(&of, &assign(&arms, &strata), "the same again");
            let held = of.iter().filter(|arm| arm.is_none()).count() as f64;
            prop_assert!((held - control * strata.len() as f64).abs() <= 0.5 + 1e-9);
            for stratum in 0..5 {
                let here: Vec<&Option<usize>> = of.iter().zip(&strata).filter(|(_, s)| **s == stratum).map(|(arm, _)| arm).collect();
                let held = here.iter().filter(|arm| arm.is_none()).count() as f64;
                prop_assert!((held - control * here.len() as f64).abs() <= 1.0 + 1e-9, "{} of {}", held, here.len());
                let counts: Vec<usize> = (0..acts).map(|act| here.iter().filter(|arm| ***arm == Some(act)).count()).collect();
                prop_assert!(counts.iter().max() <= counts.iter().min().map(|least| least + 1).as_ref(), "{:?}", counts);
            }
        }
    }
}
