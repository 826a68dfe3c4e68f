//! Means, standard errors and quantiles.

/// The mean; NaN if there are no values.
pub fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len() as f64
}

/// The standard error of the mean: the standard deviation (divisor n − 1) over the root of n; NaN below two values.
pub fn standard_error(values: &[f64]) -> f64 {
    let (n, middle) = (values.len() as f64, mean(values));
    (values.iter().map(|value| (value - middle).powi(2)).sum::<f64>() / (n - 1.0) / n).sqrt()
}

/// The quantile of sorted values by linear interpolation between order
/// statistics (Hyndman & Fan 1996, type 7). `share` is 0 to 1; NaN if empty.
pub fn quantile(sorted: &[f64], share: f64) -> f64 {
    let Some(last) = sorted.len().checked_sub(1) else { return f64::NAN };
    let at = share.clamp(0.0, 1.0) * last as f64;
    let (below, above) = (at.floor() as usize, at.ceil() as usize);
    let (low, high, share) = (sorted[below], sorted[above], at - below as f64);
    if (high - low).is_finite() { low + (high - low) * share } else { low * (1.0 - share) + high * share }
}
