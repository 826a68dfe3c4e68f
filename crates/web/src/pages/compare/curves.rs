//! Candidates laid over each other, one kind of curve at a time.

use pronoia_core::evaluate::{CurvePoint, Evaluation};
use pronoia_core::question::Question;
use pronoia_service::text;
use serde_json::{Value, json};

use super::measures::ComparedCandidate;

/// Candidates that a picture holds.
pub const MOST: usize = 4;

/// A kind of curve.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum CurveKind {
    Gain,
    Lift,
    Roc,
    PrecisionRecall,
    Calibration,
    Spread,
}

/// A curve as a page shows it.
pub struct CurveChart {
    pub finding: String,
    pub data: String,
    pub label: &'static str,
}

impl CurveKind {
    pub const ALL: [CurveKind; 6] =
        [Self::Gain, Self::Lift, Self::Roc, Self::PrecisionRecall, Self::Calibration, Self::Spread];

    pub fn word(self) -> &'static str {
        match self {
            Self::Gain => "gain",
            Self::Lift => "lift",
            Self::Roc => "roc",
            Self::PrecisionRecall => "precision-recall",
            Self::Calibration => "calibration",
            Self::Spread => "spread",
        }
    }

    pub fn label(self) -> &'static str {
        match self {
            Self::Gain => "gain",
            Self::Lift => "lift",
            Self::Roc => "ROC",
            Self::PrecisionRecall => "precision–recall",
            Self::Calibration => "calibration",
            Self::Spread => "spread of probabilities",
        }
    }

    /// Draws the candidates; the sentence is about the first.
    pub fn of(self, candidates: &[&ComparedCandidate], question: Question) -> Option<CurveChart> {
        let first = candidates.first()?;
        let (e, name) = (&first.evaluation, first.model.name.to_lowercase());
        let (events, rate) = (question.events_noun(), super::measures::rate(e));
        let finding = match self {
            Self::Gain => format!(
                "Cumulative gains: the first 20 % by {name} hold {} of the {events}",
                text::percent(e.recall_at(super::measures::FIRST))
            ),
            Self::Lift => format!("Lift in the first 10 % by {name}: {}", text::fixed(e.recall_at(0.1) / 0.1, 1)),
            Self::Roc => {
                let others = e.roc.iter().find(|p| p.y >= 0.5).map_or(1.0, |p| p.x);
                format!(
                    "ROC of {name}: at a true positive rate of one half the false positive rate is {}",
                    text::percent(others)
                )
            }
            Self::PrecisionRecall => {
                let half = e.precision_recall.iter().find(|p| p.x >= 0.5).map_or(rate, |p| p.y);
                format!("Precision of {name} at a recall of one half: {}", text::percent(half))
            }
            Self::Calibration => calibration_finding(e, &name),
            Self::Spread => format!(
                "Mean predicted probability of {}: {events} {}, others {}",
                first.model.name,
                text::percent(mean_of(e, true)),
                text::percent(mean_of(e, false))
            ),
        };
        let lines: Vec<Value> = match self {
            Self::Spread => {
                let (up_to, spread) = (e.distribution.up_to, &e.distribution);
                let line = |name: &str, counts: &[u64]| {
                    let (all, bars) = (counts.iter().sum::<u64>().max(1) as f64, counts.len() as f64);
                    let middle = |at: usize| (at as f64 + 0.5) / bars * up_to * 100.0;
                    let points = counts.iter().enumerate().map(|(at, n)| [middle(at), *n as f64 / all * 100.0]);
                    json!({ "name": name, "points": points.collect::<Vec<_>>() })
                };
                vec![line(question.event_verb(), &spread.events), line(question.other_verb(), &spread.others)]
            }
            kind => candidates
                .iter()
                .take(MOST)
                .map(|c| json!({ "name": c.model.name, "points": kind.points(&c.evaluation) }))
                .collect(),
        };
        let (x, y) = self.axes(question);
        let is_share = !matches!(self, Self::Spread | Self::Lift);
        let diagonal = matches!(self, Self::Gain | Self::Roc | Self::Calibration);
        // Probabilities rarely reach far: the axes end where they do.
        let most = (self == Self::Calibration).then(|| {
            let ends = candidates.iter().take(MOST).flat_map(|c| &c.evaluation.calibration);
            let most = ends.map(|g| g.mean_probability.max(g.rate())).fold(0.0, f64::max);
            ((most * 10.0).ceil() / 10.0).clamp(0.1, 1.0)
        });
        let data = json!({ "x": x, "y": y, "percent": is_share, "diagonal": diagonal, "most": most, "lines": lines });
        (!e.roc.is_empty()).then(|| CurveChart { finding, data: data.to_string(), label: self.label() })
    }

    fn axes(self, question: Question) -> (String, String) {
        let events = question.events_noun();
        let acted = "share of customers acted on".to_owned();
        match self {
            Self::Gain => (acted, format!("share of {events} found (recall)")),
            Self::Lift => ("share of customers acted on, %".into(), "lift".into()),
            Self::Roc => ("false positive rate".into(), format!("share of {events} found (recall)")),
            Self::PrecisionRecall => (format!("share of {events} found (recall)"), "precision".into()),
            Self::Calibration => (
                "mean predicted probability of a group".into(),
                format!("observed rate: share who {}", question.event_verb()),
            ),
            Self::Spread => ("probability, %".into(), "share of customers, %".into()),
        }
    }

    fn points(self, e: &Evaluation) -> Vec<[f64; 2]> {
        let plain = |points: &[CurvePoint]| points.iter().map(|p| [p.x, p.y]).collect();
        match self {
            Self::Gain => plain(&e.gain),
            // The very first customers make any figure.
            Self::Lift => e.gain.iter().filter(|p| p.x >= 0.01).map(|p| [p.x * 100.0, p.y / p.x]).collect(),
            Self::Roc => plain(&e.roc),
            Self::PrecisionRecall => plain(&e.precision_recall),
            Self::Calibration => e.calibration.iter().map(|g| [g.mean_probability, g.rate()]).collect(),
            Self::Spread => Vec::new(),
        }
    }
}

fn calibration_finding(e: &Evaluation, name: &str) -> String {
    let groups = &e.calibration;
    let off: Vec<_> = groups.iter().filter(|g| !g.holds()).collect();
    let worst = off.iter().max_by(|a, b| {
        let apart = |g: &pronoia_core::evaluate::CalibrationGroup| (g.mean_probability - g.rate()).abs();
        apart(a).total_cmp(&apart(b))
    });
    match worst {
        None => format!("Calibration of {name}: within the 95 % CI in all {} groups", groups.len()),
        Some(worst) => format!(
            "Calibration of {name}: within the 95 % CI in {} of {} groups; largest deviation: predicted {}, observed {}",
            groups.len() - off.len(),
            groups.len(),
            text::percent(worst.mean_probability),
            text::percent(worst.rate())
        ),
    }
}

/// Mean probability of the customers with the event, or of the others, by the
/// middles of the bars they are in.
fn mean_of(e: &Evaluation, event: bool) -> f64 {
    let counts = if event { &e.distribution.events } else { &e.distribution.others };
    let bars = counts.len().max(1) as f64;
    let sum: f64 =
        counts.iter().enumerate().map(|(at, n)| (at as f64 + 0.5) / bars * e.distribution.up_to * *n as f64).sum();
    sum / counts.iter().sum::<u64>().max(1) as f64
}
