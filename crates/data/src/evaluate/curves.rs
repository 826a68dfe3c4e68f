//! Curves over all cut-offs.

use serde::{Deserialize, Serialize};

/// A point of a curve and the cut-off that leads to it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CurvePoint {
    /// Along the horizontal axis, 0 to 1.
    pub x: f64,
    /// Along the vertical axis, 0 to 1.
    pub y: f64,
    /// The least probability acted on; above 1 where nobody is.
    pub cut_off: f64,
}

/// Rows from the highest score down; equal scores in the order of the rows.
pub fn descending(score: &[f64]) -> Vec<usize> {
    let mut order: Vec<usize> = (0..score.len()).collect();
    order.sort_by(|&a, &b| score[b].total_cmp(&score[a]));
    order
}

/// Share of events found over the share of other rows acted on, at every distinct score.
pub fn roc_curve(score: &[f64], event: &[bool]) -> Vec<CurvePoint> {
    curve(score, event, |events, others, all_events, all_others| {
        (others / all_others.max(1.0), events / all_events.max(1.0))
    })
}

/// Share of events found over the share of all rows acted on, at every distinct score.
pub fn gain_curve(score: &[f64], event: &[bool]) -> Vec<CurvePoint> {
    curve(score, event, |events, others, all_events, all_others| {
        ((events + others) / (all_events + all_others).max(1.0), events / all_events.max(1.0))
    })
}

/// Share of events among those acted on over the share of events found, at every distinct score.
pub fn precision_recall_curve(score: &[f64], event: &[bool]) -> Vec<CurvePoint> {
    let mut points = curve(score, event, |events, others, all_events, _| {
        (events / all_events.max(1.0), events / (events + others).max(1.0))
    });
    // Nothing can be said of acting on nobody.
    points.remove(0);
    points
}

fn curve(score: &[f64], event: &[bool], place: impl Fn(f64, f64, f64, f64) -> (f64, f64)) -> Vec<CurvePoint> {
    let order = descending(score);
    let all_events = event.iter().filter(|&&e| e).count() as f64;
    let all_others = event.len() as f64 - all_events;
    let mut points = vec![CurvePoint { x: 0.0, y: 0.0, cut_off: 1.0 + f64::EPSILON }];
    let (mut events, mut others) = (0.0, 0.0);
    for (at, &i) in order.iter().enumerate() {
        if event[i] {
            events += 1.0
        } else {
            others += 1.0
        }
        if order.get(at + 1).is_none_or(|&next| score[next] != score[i]) {
            let (x, y) = place(events, others, all_events, all_others);
            points.push(CurvePoint { x, y, cut_off: score[i] });
        }
    }
    points
}

/// At most about `most` points, evenly along the curve, with both ends.
pub(super) fn thinned(points: Vec<CurvePoint>, most: usize) -> Vec<CurvePoint> {
    let Some(last) = points.len().checked_sub(1) else { return points };
    if points.len() <= most {
        return points;
    }
    (0..most).map(|i| points[i * last / (most - 1)]).collect()
}
