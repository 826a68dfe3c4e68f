//! The power transform of Yeo and Johnson (2000, Biometrika 87, eq. 2.1).

/// Exponents between which the best one is looked for.
const RANGE: (f64, f64) = (-4.0, 6.0);

/// The transformed value.
pub(super) fn transform(x: f64, lambda: f64) -> f64 {
    if x >= 0.0 {
        if lambda.abs() < 1e-12 { x.ln_1p() } else { (lambda * x.ln_1p()).exp_m1() / lambda }
    } else {
        let other = 2.0 - lambda;
        if other.abs() < 1e-12 { -(-x).ln_1p() } else { -(other * (-x).ln_1p()).exp_m1() / other }
    }
}

/// The exponent under which the transformed values are most like a normal
/// sample: the maximum of the profile likelihood (eq. 3.1), by golden section.
/// 1, which changes nothing, for fewer than two different values.
pub(super) fn fit(values: &[f64]) -> f64 {
    if values.first() == values.last() {
        return 1.0;
    }
    let n = values.len() as f64;
    let jacobian: f64 = values.iter().map(|x| x.signum() * x.abs().ln_1p()).sum();
    let likelihood = |lambda: f64| {
        let moved: Vec<f64> = values.iter().map(|&x| transform(x, lambda)).collect();
        let mean = moved.iter().sum::<f64>() / n;
        let variance = moved.iter().map(|y| (y - mean).powi(2)).sum::<f64>() / n;
        if variance > 0.0 && variance.is_finite() {
            (lambda - 1.0) * jacobian - n / 2.0 * variance.ln()
        } else {
            f64::NEG_INFINITY
        }
    };
    let ratio = (5f64.sqrt() - 1.0) / 2.0;
    let (mut low, mut high) = RANGE;
    let mut inner = [high - ratio * (high - low), low + ratio * (high - low)];
    let mut at = inner.map(likelihood);
    while high - low > 1e-9 {
        if at[0] >= at[1] {
            high = inner[1];
            inner = [high - ratio * (high - low), inner[0]];
            at = [likelihood(inner[0]), at[0]];
        } else {
            low = inner[0];
            inner = [inner[1], low + ratio * (high - low)];
            at = [at[1], likelihood(inner[1])];
        }
    }
    (low + high) / 2.0
}
