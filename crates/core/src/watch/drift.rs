//! How far the values of a column have moved since a model was fitted.

use serde::{Deserialize, Serialize};
use statrs::distribution::{ChiSquared, ContinuousCDF};

use pronoia_learn::prepare::Spread;

/// The index from which a column counts as moved, by the rule of thumb of credit scoring
/// (Siddiqi 2006, chapter 9).
const MOVED: f64 = 0.1;

/// From which as moved far.
const FAR: f64 = 0.25;

/// How seldom chance alone may look like a move.
const BY_CHANCE: f64 = 1e-3;

/// The population stability index of a column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Drift {
    /// The sum over parts of `(share now − share then) × ln(share now / share then)`.
    pub psi: f64,
    /// What it exceeds once in a thousand times where nothing has moved.
    pub by_chance: f64,
    /// The part that adds most: what it is, and its share then and now.
    pub part: (String, f64, f64),
}

impl Drift {
    /// Compares the rows of a column, counted by the parts of a spread, with those that a model was
    /// fitted to. Empty parts count as half a row, so that no logarithm is infinite.
    ///
    /// Where nothing moved, the index over `1/rows then + 1/rows now` follows a χ² distribution with
    /// one degree of freedom less than there are parts (Yurdakul & Naranjo 2020, section 3).
    ///
    /// None if either has no rows, or there is only one part.
    pub fn between(then: &Spread, now: &[u64]) -> Option<Self> {
        // A part that nobody is in, then and now, says nothing.
        let parts: Vec<(usize, f64, f64)> = then
            .counts
            .iter()
            .zip(now)
            .enumerate()
            .filter(|(_, (then, now))| **then + **now > 0)
            .map(|(at, (then, now))| (at, *then as f64, *now as f64))
            .collect();
        let rows = [parts.iter().map(|p| p.1).sum::<f64>(), parts.iter().map(|p| p.2).sum::<f64>()];
        if parts.len() < 2 || rows.contains(&0.0) {
            return None;
        }
        let share = |count: f64, rows: f64| (count + 0.5) / (rows + 0.5 * parts.len() as f64);
        let term = |&(_, then, now): &(usize, f64, f64)| {
            let (then, now) = (share(then, rows[0]), share(now, rows[1]));
            (now - then) * (now / then).ln()
        };
        let most = parts.iter().max_by(|a, b| term(a).total_cmp(&term(b)))?;
        let chance = ChiSquared::new(parts.len() as f64 - 1.0).ok()?.inverse_cdf(1.0 - BY_CHANCE);
        Some(Self {
            psi: parts.iter().map(term).sum(),
            by_chance: chance * (1.0 / rows[0] + 1.0 / rows[1]),
            part: (then.part(most.0), most.1 / rows[0], most.2 / rows[1]),
        })
    }

    /// Whether the column has moved, by more than chance.
    pub fn has_moved(&self) -> bool {
        self.psi >= MOVED && self.psi > self.by_chance
    }

    /// Whether it has moved far.
    pub fn is_far(&self) -> bool {
        self.has_moved() && self.psi >= FAR
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use pronoia_data::table::ColumnBuilder;
    use pronoia_data::{Column, Kind};
    use rand::{RngExt, SeedableRng};
    use rand_chacha::ChaCha8Rng;

    fn column(values: impl Iterator<Item = f64>) -> Column {
        let mut column = ColumnBuilder::new("x", Kind::Number);
        values.for_each(|x| column.push_number(x));
        column.finish()
    }

    fn moved(then: &Spread, now: &Column) -> Option<Drift> {
        Drift::between(then, &then.count(now))
    }

    fn spread(column: &Column) -> Spread {
        Spread::of(column, &(0..column.len()).collect::<Vec<_>>())
    }

    #[test]
    fn the_index_is_that_of_the_formula() {
        let then = spread(&column((0..1_000).map(|i| f64::from(u8::from(i < 200)))));
        let now = column((0..500).map(|i| f64::from(u8::from(i < 200))));
        let drift = moved(&then, &now).expect("rows");
        let [p, q] = [[800.5 / 1_001.0, 200.5 / 1_001.0], [300.5 / 501.0, 200.5 / 501.0]];
        let by_hand: f64 = (0..2).map(|i| (q[i] - p[i]) * f64::ln(q[i] / p[i])).sum();
        assert!((drift.psi - by_hand).abs() < 1e-12 && drift.has_moved(), "{drift:?} {by_hand}");
        assert_eq!(drift.part, ("above 0".into(), 0.2, 0.4));
        // χ² with one degree of freedom exceeds 10.828 once in a thousand times.
        assert!((drift.by_chance - 10.828 * (1.0 / 1_000.0 + 1.0 / 500.0)).abs() < 1e-5, "{drift:?}");
    }

    #[test]
    fn chance_is_seldom_taken_for_a_move_and_a_move_is_found() {
        let mut rng = ChaCha8Rng::seed_from_u64(5);
        let then = spread(&column((0..5_000).map(|_| rng.random::<f64>())));
        let (mut beyond, mut psi) = (0, 0.0);
        for _ in 0..2_000 {
            let drift = moved(&then, &column((0..400).map(|_| rng.random::<f64>()))).expect("rows");
            beyond += u32::from(drift.psi > drift.by_chance);
            psi += drift.psi / 2_000.0;
        }
        assert!(beyond <= 10, "once in a thousand times: {beyond} of 2000");
        let expected = 9.0 * (1.0 / 400.0 + 1.0 / 5_000.0);
        assert!((psi / expected - 1.0).abs() < 0.1, "{psi} {expected}");
        let shifted = column((0..400).map(|_| 0.15 + rng.random::<f64>()));
        let drift = moved(&then, &shifted).expect("rows");
        assert!(drift.has_moved() && (drift.part.2 - drift.part.1).abs() > 0.05, "{drift:?}");
        assert!(moved(&then, &column(std::iter::empty())).is_none());
    }
}
