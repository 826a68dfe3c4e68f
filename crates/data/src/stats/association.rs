//! Measures of association between groups of customers and a yes/no outcome.

use statrs::distribution::{ChiSquared, ContinuousCDF};

use super::counts::{Count, total};

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

/// The p-value of the likelihood-ratio test (Wilks 1938) that group and outcome are independent, by their mutual
/// information; `freedom` is one fewer than there are groups.
pub fn likelihood_ratio_p_value(bits: f64, rows: u64, freedom: usize) -> f64 {
    if freedom == 0 {
        return 1.0;
    }
    let statistic = 2.0 * rows as f64 * bits * std::f64::consts::LN_2;
    ChiSquared::new(freedom as f64).map_or(1.0, |law| law.sf(statistic))
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
    fn a_group_that_tells_everything_takes_all_uncertainty() {
        let counts = [Count { rows: 30, events: 30 }, Count { rows: 70, events: 0 }];
        assert!((mutual_information(&counts) - entropy(total(&counts))).abs() < 1e-12);
        let same = [Count { rows: 50, events: 5 }, Count { rows: 100, events: 10 }];
        assert!(mutual_information(&same) < 1e-12 && information_value(&same) < 1e-12);
        assert!(likelihood_ratio_p_value(0.0, 150, 1) > 0.99);
    }
}
