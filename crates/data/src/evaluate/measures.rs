//! Single figures; each takes optional row weights of 0 or more.

/// Area under the ROC curve: the chance that an event scores above another
/// row, ties counting half (Hanley & McNeil 1982). NaN if one side is empty.
pub fn area_under_roc(score: &[f64], event: &[bool], weight: Option<&[f64]>) -> f64 {
    let mut area = 0.0;
    let (mut events, mut others) = (0.0, 0.0);
    for_each_tie(score, event, weight, |e, o| {
        area += o * (events + 0.5 * e);
        events += e;
        others += o;
    });
    area / (events * others)
}

/// Average precision: precision at each distinct score, weighted by the gain
/// in recall, without interpolation. NaN without events.
pub fn average_precision(score: &[f64], event: &[bool], weight: Option<&[f64]>) -> f64 {
    let mut sum = 0.0;
    let (mut events, mut all) = (0.0, 0.0);
    for_each_tie(score, event, weight, |e, o| {
        events += e;
        all += e + o;
        if e > 0.0 {
            sum += e * events / all;
        }
    });
    sum / events
}

/// Mean log loss, natural logarithm; probabilities are kept one rounding step
/// away from 0 and 1.
pub fn log_loss(probability: &[f64], event: &[bool], weight: Option<&[f64]>) -> f64 {
    weighted_mean(probability, event, weight, |p, e| {
        let p = p.clamp(f64::EPSILON, 1.0 - f64::EPSILON);
        -if e { p.ln() } else { (1.0 - p).ln() }
    })
}

/// Mean squared difference between probability and outcome (Brier 1950).
pub fn brier(probability: &[f64], event: &[bool], weight: Option<&[f64]>) -> f64 {
    weighted_mean(probability, event, weight, |p, e| (p - f64::from(u8::from(e))).powi(2))
}

/// The greatest gap between the share of events and the share of other rows
/// that score at least so much (Kolmogorov & Smirnov). NaN if one side is empty.
pub fn kolmogorov_smirnov(score: &[f64], event: &[bool], weight: Option<&[f64]>) -> f64 {
    let side = |wanted: bool| (0..score.len()).filter(move |&i| event[i] == wanted);
    let total = |wanted: bool| side(wanted).map(|i| weight.map_or(1.0, |w| w[i])).sum::<f64>();
    let (all_events, all_others) = (total(true), total(false));
    let (mut events, mut others, mut gap) = (0.0, 0.0, 0.0f64);
    for_each_tie(score, event, weight, |e, o| {
        events += e;
        others += o;
        gap = gap.max((events / all_events - others / all_others).abs());
    });
    if all_events > 0.0 && all_others > 0.0 { gap } else { f64::NAN }
}

fn weighted_mean(p: &[f64], event: &[bool], weight: Option<&[f64]>, loss: impl Fn(f64, bool) -> f64) -> f64 {
    let of = |i: usize| weight.map_or(1.0, |w| w[i]);
    let total: f64 = (0..p.len()).map(of).sum();
    (0..p.len()).map(|i| of(i) * loss(p[i], event[i])).sum::<f64>() / total
}

/// Runs through the distinct scores from the highest down, with the weight of
/// events and of other rows at each.
fn for_each_tie(score: &[f64], event: &[bool], weight: Option<&[f64]>, mut see: impl FnMut(f64, f64)) {
    let order = super::curves::descending(score);
    let mut at = 0;
    while at < order.len() {
        let here = score[order[at]];
        let (mut events, mut others) = (0.0, 0.0);
        while at < order.len() && score[order[at]] == here {
            let i = order[at];
            let w = weight.map_or(1.0, |w| w[i]);
            if event[i] {
                events += w
            } else {
                others += w
            }
            at += 1;
        }
        see(events, others);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ties_count_half_and_weights_count_as_rows() {
        let score = [0.9, 0.5, 0.5, 0.1];
        let event = [true, true, false, false];
        assert_eq!(area_under_roc(&score, &event, None), 0.875);
        let doubled = area_under_roc(&[0.9, 0.9, 0.5, 0.5, 0.1], &[true, true, true, false, false], None);
        let weighted = area_under_roc(&score, &event, Some(&[2.0, 1.0, 1.0, 1.0]));
        assert!((doubled - weighted).abs() < 1e-15);
    }

    #[test]
    fn certainty_that_is_wrong_costs_much_but_not_everything() {
        assert!(log_loss(&[0.0], &[true], None).is_finite());
        assert_eq!(brier(&[0.0, 1.0], &[true, true], None), 0.5);
    }
}
