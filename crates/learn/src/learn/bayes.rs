//! Naive Bayes on columns of mixed kinds.
//!
//! Columns are taken as independent of each other among the customers with the
//! event and among the others; each adds the logarithm of how much likelier
//! its value is among the former (Hand & Yu 2001). Numbers are cut into bands
//! of about equally many customers (Dougherty, Kohavi & Sahami 1995) or taken
//! as normally distributed, whichever tells more. A missing value is a value of its own. Columns are
//! never quite independent, which makes the sums too extreme; a model makes
//! probabilities of them by calibration.

use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use super::setting::{CheckedSettings, Range, Setting, Tunable};
use super::{FitError, Target};
use crate::prepare::{Design, Feature, FeatureValues};
use pronoia_data::Progress;
use pronoia_data::drivers::band_edges;
use pronoia_data::stats::{log_loss_of_log_odds, logit};

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct BayesSettings {
    /// How numbers are described: `bands`, `normal`, or `either`.
    pub numbers: String,
    /// Bands per number at most.
    pub bands: usize,
    /// Rows added to every value of either class.
    pub smoothing: f64,
}

impl Default for BayesSettings {
    fn default() -> Self {
        Self { numbers: "either".into(), bands: 12, smoothing: 2.0 }
    }
}

impl Tunable for BayesSettings {
    const FAMILY: &'static str = "naive Bayes";
    const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "numbers",
            "Numbers as",
            Range::OneOf(&["either", "bands", "normal"]),
            "Bins follow any shape; normal assumes a normal density in either class. Either: for each number the one with the lower cross-validated log loss.",
        ),
        Setting::new("bands", "Bins per number", Range::Count(2, 100), "Each holds about equally many customers."),
        Setting::new(
            "smoothing",
            "Smoothing",
            Range::Above(0.0, 10_000.0),
            "Rows that are added to every value, so that a rare one does not decide alone (Laplace smoothing).",
        ),
    ];
}

/// What bands must tell more than a normal curve to be worth their many rates, in
/// log loss summed over all rows.
const WORTH_BANDS: f64 = 4.0;

/// A fitted naive Bayes classifier.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Bayes {
    /// Log-odds of the event before anything is known.
    pub prior: f64,
    /// One entry per feature of the design.
    pub evidence: Vec<Evidence>,
}

/// What the values of a feature say.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Evidence {
    /// By band.
    Bands {
        /// Upper ends, included, of all bands but the last.
        edges: Vec<f64>,
        /// What each band adds to the log-odds.
        adds: Vec<f64>,
        /// What a missing value adds.
        missing: f64,
    },
    /// By two normal densities.
    Normal {
        /// Mean and variance among customers with the event.
        events: [f64; 2],
        /// Mean and variance among the others.
        others: [f64; 2],
        /// What a missing value adds.
        missing: f64,
    },
    /// By level.
    Levels {
        /// What each level adds.
        adds: Vec<f64>,
        /// What a missing value adds.
        missing: f64,
    },
}

impl CheckedSettings<BayesSettings> {
    /// Fits to a design with its gaps.
    ///
    /// # Errors
    /// [`FitError::Cancelled`].
    pub fn fit(&self, design: &Design, target: &Target, progress: &dyn Progress) -> Result<Bayes, FitError> {
        progress.go_on()?;
        progress.tell("Counting the values of every column", 0.1);
        let evidence = design.features().par_iter().map(|feature| self.evidence(feature, target)).collect();
        let rate = target.rate();
        Ok(Bayes { prior: logit(rate), evidence })
    }

    fn evidence(&self, feature: &Feature, target: &Target) -> Evidence {
        match &feature.values {
            FeatureValues::Levels { count, codes } => {
                let slot = |row: usize| match codes[row] {
                    Feature::MISSING => Some(*count),
                    code => Some(code as usize).filter(|code| code < count),
                };
                let mut adds = self.adds(target, count + 1, slot);
                let missing = adds.pop().unwrap_or(0.0);
                Evidence::Levels { adds, missing }
            }
            FeatureValues::Number(values) => match self.numbers.as_str() {
                "bands" => self.banded(values, target),
                "normal" => self.normal(values, target),
                _ => {
                    let loss = |of: &dyn Fn(&[f64], &Target) -> Evidence| loss_on_halves(values, target, of);
                    let banded = loss(&|values, target| self.banded(values, target));
                    let normal = loss(&|values, target| self.normal(values, target));
                    if normal < banded + WORTH_BANDS {
                        self.normal(values, target)
                    } else {
                        self.banded(values, target)
                    }
                }
            },
        }
    }

    fn banded(&self, values: &[f64], target: &Target) -> Evidence {
        let edges = band_edges(values.iter().copied().filter(|x| !x.is_nan()), self.bands);
        let slot = |row: usize| match values[row] {
            x if x.is_nan() => Some(edges.len() + 1),
            x => Some(edges.partition_point(|&edge| edge < x)),
        };
        let mut adds = self.adds(target, edges.len() + 2, slot);
        let missing = adds.pop().unwrap_or(0.0);
        Evidence::Bands { edges, adds, missing }
    }

    fn normal(&self, values: &[f64], target: &Target) -> Evidence {
        let mut adds = self.adds(target, 2, |row| Some(usize::from(values[row].is_nan())));
        let missing = adds.pop().unwrap_or(0.0);
        let overall = moments(values, |row| target.weight(row))[1];
        let of = |event: bool| {
            let side = |row: usize| if target.event[row] == event { target.weight(row) } else { 0.0 };
            let [mean, variance] = moments(values, side);
            // A spread that happens to be nothing would decide alone.
            [mean, variance.max(1e-9 * overall.max(f64::MIN_POSITIVE))]
        };
        Evidence::Normal { events: of(true), others: of(false), missing }
    }

    /// The logarithm of how much likelier each slot is with the event; rows
    /// without a slot are passed over. A slot that no row fell into says nothing.
    fn adds(&self, target: &Target, slots: usize, slot: impl Fn(usize) -> Option<usize>) -> Vec<f64> {
        let mut counts = vec![[0.0f64; 2]; slots];
        for row in 0..target.rows() {
            if let Some(slot) = slot(row) {
                counts[slot][usize::from(target.event[row])] += target.weight(row);
            }
        }
        let used = counts.iter().filter(|c| c[0] + c[1] > 0.0).count() as f64;
        let total = |side: usize| counts.iter().map(|c| c[side]).sum::<f64>();
        let (others, events) = (total(0), total(1));
        let rate = events / (events + others).max(f64::MIN_POSITIVE);
        // Rows are added in the proportion of the classes, so that they say nothing by themselves.
        let share =
            |count: f64, prior: f64, all: f64| (count + self.smoothing * prior) / (all + self.smoothing * prior * used);
        let add = |[other, event]: [f64; 2]| {
            if other + event == 0.0 {
                return 0.0;
            }
            (share(event, rate, events) / share(other, 1.0 - rate, others)).ln()
        };
        counts.into_iter().map(add).collect()
    }
}

/// How badly a number by itself tells the outcome of the half of the rows that its
/// evidence was not counted in, both halves together; rows are dealt by turns.
fn loss_on_halves(values: &[f64], target: &Target, evidence: &dyn Fn(&[f64], &Target) -> Evidence) -> f64 {
    let half = |which: usize| -> Vec<usize> { (which..values.len()).step_by(2).collect() };
    let mut loss = 0.0;
    for (counted, judged) in [(half(0), half(1)), (half(1), half(0))] {
        let learned = target.take(&counted);
        if learned.total(true) <= 0.0 || learned.total(false) <= 0.0 {
            continue;
        }
        let there: Vec<f64> = counted.iter().map(|&row| values[row]).collect();
        let evidence = evidence(&there, &learned);
        let prior = logit(learned.rate());
        let told = FeatureValues::Number(judged.iter().map(|&row| values[row]).collect());
        for (at, &row) in judged.iter().enumerate() {
            loss += target.weight(row) * log_loss_of_log_odds(prior + evidence.adds(&told, at), target.event[row]);
        }
    }
    loss
}

/// Weighted mean and variance of the values that are there.
fn moments(values: &[f64], weight: impl Fn(usize) -> f64) -> [f64; 2] {
    let there = || values.iter().enumerate().filter(|(_, x)| !x.is_nan()).map(|(row, x)| (weight(row), *x));
    let total: f64 = there().map(|(w, _)| w).sum();
    if total <= 0.0 {
        return [0.0, 1.0];
    }
    let mean = there().map(|(w, x)| w * x).sum::<f64>() / total;
    [mean, there().map(|(w, x)| w * (x - mean).powi(2)).sum::<f64>() / total]
}

impl Evidence {
    /// What the value of a row adds.
    fn adds(&self, values: &FeatureValues, row: usize) -> f64 {
        match (self, values) {
            (Self::Bands { edges, adds, missing }, FeatureValues::Number(v)) => {
                if v[row].is_nan() {
                    *missing
                } else {
                    adds[edges.partition_point(|&edge| edge < v[row])]
                }
            }
            (Self::Normal { events, others, missing }, FeatureValues::Number(v)) => {
                let density = |[mean, variance]: [f64; 2]| -0.5 * (variance.ln() + (v[row] - mean).powi(2) / variance);
                if v[row].is_nan() { *missing } else { density(*events) - density(*others) }
            }
            (Self::Levels { adds, missing }, FeatureValues::Levels { codes, .. }) => match codes[row] {
                Feature::MISSING => *missing,
                code => adds.get(code as usize).copied().unwrap_or(0.0),
            },
            _ => 0.0,
        }
    }
}

impl Bayes {
    /// What each feature adds, by the column that it was made of.
    pub fn contributions(&self, design: &Design) -> Vec<(String, Vec<f64>)> {
        let says = |(feature, evidence): (&Feature, &Evidence)| {
            (feature.column.clone(), (0..design.rows()).map(|row| evidence.adds(&feature.values, row)).collect())
        };
        design.features().iter().zip(&self.evidence).map(says).collect()
    }

    /// Log-odds of the event for every row of the design, as if columns were independent.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut scores = vec![self.prior; design.rows()];
        for (feature, evidence) in design.features().iter().zip(&self.evidence) {
            let add = |(row, score): (usize, &mut f64)| *score += evidence.adds(&feature.values, row);
            scores.par_iter_mut().enumerate().with_min_len(4_096).for_each(add);
        }
        scores
    }
}
