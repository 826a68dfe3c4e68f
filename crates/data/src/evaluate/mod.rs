//! Measures of a model on rows that it has not seen.

mod calibration;
mod curves;
pub mod delong;
mod measures;

pub use calibration::{CalibrationGroup, ScoreDistribution, calibration_groups, score_distribution};
pub use curves::descending;
pub use curves::{CurvePoint, gain_curve, precision_recall_curve, roc_curve};
pub use measures::{area_under_roc, average_precision, brier, kolmogorov_smirnov, log_loss};

use serde::{Deserialize, Serialize};

/// Points kept of a curve, at most.
const CURVE_POINTS: usize = 200;

/// How a model did on the rows of one part.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Evaluation {
    /// Rows judged.
    pub rows: u64,
    /// Events among them.
    pub events: u64,
    /// Area under the ROC curve.
    pub area_under_roc: f64,
    /// Average precision, the area under the precision–recall curve.
    pub average_precision: f64,
    /// Mean log loss, natural logarithm.
    pub log_loss: f64,
    /// Mean squared difference between probability and outcome.
    pub brier: f64,
    /// Mean probability.
    pub mean_probability: f64,
    /// Standard error of the area under the ROC curve (DeLong et al. 1988).
    #[serde(default)]
    pub area_error: Option<f64>,
    /// Greatest gap between the shares of events and of others found.
    #[serde(default)]
    pub kolmogorov_smirnov: Option<f64>,
    /// What was said against what happened.
    #[serde(default)]
    pub calibration: Vec<CalibrationGroup>,
    /// How probabilities are spread.
    #[serde(default)]
    pub distribution: ScoreDistribution,
    /// Precision over recall.
    #[serde(default)]
    pub precision_recall: Vec<CurvePoint>,
    /// Recall over the false-alarm rate.
    pub roc: Vec<CurvePoint>,
    /// Share of events found over the share of customers acted on.
    pub gain: Vec<CurvePoint>,
}

impl Evaluation {
    /// Judges probabilities against what happened, row by row.
    pub fn of(probability: &[f64], event: &[bool]) -> Self {
        let n = probability.len().max(1) as f64;
        Self {
            rows: probability.len() as u64,
            events: event.iter().filter(|&&e| e).count() as u64,
            area_under_roc: area_under_roc(probability, event, None),
            average_precision: average_precision(probability, event, None),
            log_loss: log_loss(probability, event, None),
            brier: brier(probability, event, None),
            mean_probability: probability.iter().sum::<f64>() / n,
            area_error: delong::area(probability, event).map(|area| area.se),
            kolmogorov_smirnov: Some(kolmogorov_smirnov(probability, event, None)).filter(|gap| gap.is_finite()),
            calibration: calibration_groups(probability, event),
            distribution: score_distribution(probability, event),
            precision_recall: curves::thinned(precision_recall_curve(probability, event), CURVE_POINTS),
            roc: curves::thinned(roc_curve(probability, event), CURVE_POINTS),
            gain: curves::thinned(gain_curve(probability, event), CURVE_POINTS),
        }
    }

    /// The area under the ROC curve with its standard error, if it has one.
    pub fn area(&self) -> Option<delong::Area> {
        self.area_error.map(|se| delong::Area { value: self.area_under_roc, se })
    }

    /// The share of events found by acting on this share of customers.
    pub fn recall_at(&self, share: f64) -> f64 {
        let after = self.gain.partition_point(|p| p.x < share);
        match (after.checked_sub(1).map(|at| self.gain[at]), self.gain.get(after)) {
            (Some(a), Some(b)) => a.y + (b.y - a.y) * (share - a.x) / (b.x - a.x),
            (None, Some(b)) => b.y,
            (_, None) => 1.0,
        }
    }

    /// Accuracy of saying "no" to everyone.
    pub fn accuracy_of_no(&self) -> f64 {
        1.0 - self.events as f64 / self.rows.max(1) as f64
    }
}

/// Counts at a cut-off.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Confusion {
    /// Acted on, and it would have happened.
    pub hits: u64,
    /// Acted on, and it would not.
    pub false_alarms: u64,
    /// Left alone, and it happened.
    pub missed: u64,
    /// Left alone, rightly.
    pub left_alone: u64,
}

impl Confusion {
    /// Counts rows with a probability of at least `cut_off` as acted on.
    pub fn at(probability: &[f64], event: &[bool], cut_off: f64) -> Self {
        let mut counts = Self::default();
        probability.iter().zip(event).for_each(|(&p, &event)| counts.add(p >= cut_off, event));
        counts
    }

    /// Counts one row more.
    pub fn add(&mut self, acted: bool, event: bool) {
        *match (acted, event) {
            (true, true) => &mut self.hits,
            (true, false) => &mut self.false_alarms,
            (false, true) => &mut self.missed,
            (false, false) => &mut self.left_alone,
        } += 1;
    }

    /// Rows acted on.
    pub fn acted(&self) -> u64 {
        self.hits + self.false_alarms
    }

    /// All rows.
    pub fn rows(&self) -> u64 {
        self.acted() + self.missed + self.left_alone
    }

    /// Share of rows called rightly.
    pub fn accuracy(&self) -> f64 {
        (self.hits + self.left_alone) as f64 / self.rows().max(1) as f64
    }

    /// Share of those acted on to whom it would have happened.
    pub fn precision(&self) -> f64 {
        self.hits as f64 / self.acted().max(1) as f64
    }

    /// Share of events that were acted on.
    pub fn recall(&self) -> f64 {
        self.hits as f64 / (self.hits + self.missed).max(1) as f64
    }

    /// Harmonic mean of precision and recall (van Rijsbergen 1979); 0 without hits.
    pub fn f1(&self) -> f64 {
        2.0 * self.hits as f64 / (self.acted() + self.hits + self.missed).max(1) as f64
    }

    /// Correlation of acting with what would have happened (Matthews 1975); 0
    /// where one of them never varies.
    pub fn matthews(&self) -> f64 {
        let [h, f, m, l] = [self.hits, self.false_alarms, self.missed, self.left_alone].map(|n| n as f64);
        let spread = ((h + f) * (h + m) * (l + f) * (l + m)).sqrt();
        if spread > 0.0 { (h * l - f * m) / spread } else { 0.0 }
    }
}
