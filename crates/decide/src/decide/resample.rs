//! The judged customers drawn anew, for how sure a profit is.

use rand::{Rng, RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

use super::payoff::Payoff;
use super::sums::OutcomeSums;

/// Resamples behind a band.
pub(super) const RESAMPLES: u64 = 200;

/// From so many on, a Poisson number is drawn as a normal one.
const MANY: f64 = 40.0;

/// What one resample comes to, for the population.
#[derive(Debug, Clone)]
pub(super) struct Resample {
    /// Leaving everybody alone.
    pub leave: f64,
    /// At every share, acting instead.
    pub gain: Vec<f64>,
    /// At every share, referring instead.
    pub refer: Vec<f64>,
}

impl Resample {
    /// Draws the customers of every group anew; shares acted on are kept as they are.
    ///
    /// Each customer is drawn a Poisson(1) number of times, which is the bootstrap for many
    /// customers (Hanley & MacGibbon 2006): of `n` customers together a Poisson(n) number. Where
    /// gains differ within a group, their sum is spread as that of as many single draws would be.
    pub fn draw(sums: &[OutcomeSums], weights: Payoff, shares: &[f64], (seed, resample): (u64, u64)) -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(seed.wrapping_mul(0x9e37_79b9).wrapping_add(resample));
        let drawn: Vec<[f64; 4]> = sums
            .iter()
            .map(|sum| {
                let times = Payoff {
                    event: weights.event * fold(sum.customers.event, &mut rng),
                    other: weights.other * fold(sum.customers.other, &mut rng),
                };
                let apart = Payoff {
                    event: weights.event * sum.spread.event.sqrt(),
                    other: weights.other * sum.spread.other.sqrt(),
                };
                let (a, b) = if apart == Payoff::default() { (0.0, 0.0) } else { normals(&mut rng) };
                let gain = sum.gain.weighed(times) + apart.event * a + apart.other * b;
                [sum.customers.weighed(times), gain, sum.refer.weighed(times), sum.leave.weighed(times)]
            })
            .collect();
        let size: f64 = sums.iter().map(|sum| sum.customers.weighed(weights)).sum();
        let total: f64 = drawn.iter().map(|group| group[0]).sum();
        // As many customers as there are, whatever number was drawn.
        let scale = if total > 0.0 { size / total } else { 0.0 };
        let leave = drawn.iter().map(|group| group[3]).sum::<f64>() * scale;
        let (mut gain, mut refer) = (Vec::with_capacity(shares.len()), Vec::with_capacity(shares.len()));
        let (mut group, mut before) = (0, [0.0; 3]);
        for &share in shares {
            let wanted = share * total;
            while group < drawn.len() && before[0] + drawn[group][0] <= wanted {
                (0..3).for_each(|i| before[i] += drawn[group][i]);
                group += 1;
            }
            // The part of the group in which the share ends.
            let part = drawn.get(group).map_or(0.0, |g| (wanted - before[0]) / g[0]);
            let at = |i: usize| (before[i] + drawn.get(group).map_or(0.0, |g| g[i] * part)) * scale;
            gain.push(at(1));
            refer.push(at(2));
        }
        Self { leave, gain, refer }
    }
}

/// How often on average each of so many customers is drawn.
fn fold(customers: f64, rng: &mut impl Rng) -> f64 {
    if customers > 0.0 { poisson(customers, rng) / customers } else { 0.0 }
}

/// A draw from the Poisson distribution.
fn poisson(mean: f64, rng: &mut impl Rng) -> f64 {
    if mean >= MANY {
        return (mean + mean.sqrt() * normals(rng).0).round().max(0.0);
    }
    // By inversion; what is left after so many terms is below any probability that is drawn.
    let u: f64 = rng.random();
    let (mut k, mut p) = (0.0, (-mean).exp());
    let mut below = p;
    while u >= below && k < 200.0 {
        k += 1.0;
        p *= mean / k;
        below += p;
    }
    k
}

/// Two draws from the standard normal distribution (Box & Muller 1958).
fn normals(rng: &mut impl Rng) -> (f64, f64) {
    let (u, v): (f64, f64) = (1.0 - rng.random::<f64>(), rng.random());
    let (radius, angle) = ((-2.0 * u.ln()).sqrt(), std::f64::consts::TAU * v);
    (radius * angle.cos(), radius * angle.sin())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn draws_have_the_mean_and_the_variance_of_a_poisson_number() {
        let mut rng = ChaCha8Rng::seed_from_u64(5);
        for mean in [0.7, 12.0, 39.0, 500.0] {
            let drawn: Vec<f64> = (0..40_000).map(|_| poisson(mean, &mut rng)).collect();
            let n = drawn.len() as f64;
            let m = drawn.iter().sum::<f64>() / n;
            let v = drawn.iter().map(|x| (x - m).powi(2)).sum::<f64>() / n;
            assert!((m - mean).abs() < 4.0 * (mean / n).sqrt(), "{m} {mean}");
            assert!((v / mean - 1.0).abs() < 0.05, "{v} {mean}");
        }
    }
}
