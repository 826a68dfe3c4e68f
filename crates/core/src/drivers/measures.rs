//! Measures of association between groups of customers and a yes/no outcome.

use statrs::distribution::{ChiSquared, ContinuousCDF};

/// Customers of a group, and those of them with the event.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, serde::Serialize, serde::Deserialize)]
pub struct Count {
    /// Customers.
    pub rows: u64,
    /// Of them, with the event.
    pub events: u64,
}

impl Count {
    /// Adds one customer.
    pub fn add(&mut self, event: bool) {
        self.add_times(event, 1);
    }

    /// Adds one customer as often as it was drawn.
    pub fn add_times(&mut self, event: bool, times: u32) {
        self.rows += u64::from(times);
        self.events += u64::from(times) * u64::from(event);
    }

    /// Both counts added.
    pub fn plus(self, other: Self) -> Self {
        Self { rows: self.rows + other.rows, events: self.events + other.events }
    }

    /// Customers without the event.
    pub fn others(self) -> u64 {
        self.rows - self.events
    }

    /// Share with the event; NaN if there is nobody.
    pub fn rate(self) -> f64 {
        self.events as f64 / self.rows as f64
    }

    /// The 95 % interval of the rate (Wilson 1927).
    pub fn interval(self) -> (f64, f64) {
        wilson(self.events, self.rows, Z95)
    }
}

/// The standard normal quantile at 0.975.
pub const Z95: f64 = 1.959_963_984_540_054;

/// The standard normal quantile at 0.95, for intervals of 90 %.
pub const Z90: f64 = 1.644_853_626_951_472_7;

/// All counts added up.
pub fn total(counts: &[Count]) -> Count {
    counts.iter().fold(Count::default(), |sum, &c| sum.plus(c))
}

/// The score interval of a share (Wilson 1927, eq. 4): every share that the
/// count does not contradict at `z` standard errors. (0, 1) if `rows` is 0.
pub fn wilson(events: u64, rows: u64, z: f64) -> (f64, f64) {
    if rows == 0 {
        return (0.0, 1.0);
    }
    let (n, p) = (rows as f64, events as f64 / rows as f64);
    let middle = p + z * z / (2.0 * n);
    let reach = z * (p * (1.0 - p) / n + z * z / (4.0 * n * n)).sqrt();
    let scale = 1.0 + z * z / n;
    (((middle - reach) / scale).max(0.0), ((middle + reach) / scale).min(1.0))
}

/// Entropy in bits of an outcome with this count (Shannon 1948).
pub fn entropy(count: Count) -> f64 {
    [count.events, count.others()].into_iter().map(|k| share_bits(k as f64, count.rows as f64)).sum()
}

fn share_bits(part: f64, whole: f64) -> f64 {
    if part > 0.0 { -(part / whole) * (part / whole).log2() } else { 0.0 }
}

/// Mutual information in bits between group and outcome (Shannon 1948):
/// entropy of the outcome less what is left of it once the group is known.
pub fn mutual_information(counts: &[Count]) -> f64 {
    let all = total(counts);
    let n = all.rows as f64;
    let side = |part: u64, group: u64, whole: u64| {
        if part == 0 {
            return 0.0;
        }
        let joint = part as f64 / n;
        joint * (part as f64 * n / (group as f64 * whole as f64)).log2()
    };
    let sum: f64 =
        counts.iter().map(|c| side(c.events, c.rows, all.events) + side(c.others(), c.rows, all.others())).sum();
    sum.max(0.0)
}

/// Information value: the sum over groups of (share of events − share of
/// others) × weight of evidence (Kullback 1959, the divergence J).
///
/// A group without events, or with nothing else, counts half a customer in the
/// empty cell, without which the sum would be infinite.
pub fn information_value(counts: &[Count]) -> f64 {
    let all = total(counts);
    let share = |part: u64, whole: u64| (part as f64).max(0.5) / whole as f64;
    if all.events == 0 || all.others() == 0 {
        return 0.0;
    }
    counts
        .iter()
        .filter(|c| c.rows > 0)
        .map(|c| {
            let (events, others) = (share(c.events, all.events), share(c.others(), all.others()));
            (events - others) * (events / others).ln()
        })
        .sum()
}

/// The chance of at least this much mutual information if group and outcome had
/// nothing to do with each other: the likelihood-ratio test (Wilks 1938) with
/// one degree of freedom fewer than there are groups.
pub fn chance(bits: f64, rows: u64, freedom: usize) -> f64 {
    if freedom == 0 {
        return 1.0;
    }
    let statistic = 2.0 * rows as f64 * bits * std::f64::consts::LN_2;
    ChiSquared::new(freedom as f64).map_or(1.0, |law| law.sf(statistic))
}

/// Pearson's statistic for two groups having the same rate; 0 if either is empty.
pub fn chi_square(a: Count, b: Count) -> f64 {
    let all = a.plus(b);
    if a.rows == 0 || b.rows == 0 || all.events == 0 || all.others() == 0 {
        return 0.0;
    }
    let (n, gap) = (all.rows as f64, a.rate() - b.rate());
    let p = all.rate();
    gap * gap * (a.rows as f64 * b.rows as f64 / n) / (p * (1.0 - p))
}

/// Correlation of a number with the outcome counted as 1 and 0 (Pearson 1895);
/// none if either never varies.
pub fn correlation(pairs: impl Iterator<Item = (f64, bool)> + Clone) -> Option<f64> {
    let (mut n, mut sum, mut events) = (0.0, 0.0, 0.0);
    for (x, e) in pairs.clone() {
        n += 1.0;
        sum += x;
        events += f64::from(u8::from(e));
    }
    let (mean, rate) = (sum / n, events / n);
    let (mut xx, mut xe) = (0.0, 0.0);
    for (x, e) in pairs {
        xx += (x - mean) * (x - mean);
        xe += (x - mean) * (f64::from(u8::from(e)) - rate);
    }
    let ee = n * rate * (1.0 - rate);
    (xx > 0.0 && ee > 0.0).then(|| xe / (xx * ee).sqrt())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wilson_gives_the_textbook_interval() {
        let (low, high) = wilson(81, 263, Z95);
        assert!((low - 0.255_289).abs() < 1e-5 && (high - 0.366_212).abs() < 1e-5, "{low} {high}");
        assert_eq!(wilson(0, 0, Z95), (0.0, 1.0));
        assert_eq!(wilson(0, 10, Z95).0, 0.0);
    }

    #[test]
    fn a_group_that_tells_everything_takes_all_uncertainty() {
        let counts = [Count { rows: 30, events: 30 }, Count { rows: 70, events: 0 }];
        assert!((mutual_information(&counts) - entropy(total(&counts))).abs() < 1e-12);
        let same = [Count { rows: 50, events: 5 }, Count { rows: 100, events: 10 }];
        assert!(mutual_information(&same) < 1e-12 && information_value(&same) < 1e-12);
        assert!(chance(0.0, 150, 1) > 0.99);
    }
}
