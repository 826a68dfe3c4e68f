//! Customers counted with the event and without, and what a count says of a rate.

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
}
