//! From scores to probabilities that hold.
//!
//! Three maps compete, each fitted to what models said of rows that they had
//! not seen; the one that tells the outcome of still other rows best is kept.

mod isotonic;

use serde::{Deserialize, Serialize};

use crate::learn::logistic::LogisticSettings;
use crate::learn::setting::Tunable;
use crate::learn::{FitError, Target};
use crate::prepare::{Design, Feature};
pub use isotonic::IsotonicSteps;
use pronoia_data::progress::Unwatched;
use pronoia_data::split::Fold;
use pronoia_data::stats::{log_loss_of_log_odds, logit};

/// Events, or other rows if they are rarer, from which on more than a straight
/// line is believed.
const ENOUGH: f64 = 50.0;

/// A map from the log-odds that a classifier gives to those that hold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Calibration {
    /// A straight line (Cox 1958; Platt 1999).
    Line {
        /// Added at the end.
        intercept: f64,
        /// What the classifier's log-odds are multiplied by.
        slope: f64,
    },
    /// `a ln p − b ln(1 − p) + c`, which may bend at both ends apart (Kull,
    /// Silva Filho & Flach 2017).
    Beta {
        /// By the logarithm of the probability.
        a: f64,
        /// By the logarithm of one less the probability.
        b: f64,
        /// Added at the end.
        c: f64,
    },
    /// Whatever never falls.
    Steps(IsotonicSteps),
}

/// A kind of map.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CalibrationMap {
    /// The scores as they are.
    AsTheyAre,
    /// A straight line in log-odds.
    Sigmoid,
    /// A beta curve.
    Beta,
    /// A curve that never falls.
    Isotonic,
}

impl CalibrationMap {
    /// Its name within a sentence.
    pub fn word(self) -> &'static str {
        match self {
            Self::AsTheyAre => "as they are",
            Self::Sigmoid => "sigmoid",
            Self::Beta => "beta",
            Self::Isotonic => "isotonic",
        }
    }
}

/// How the map was chosen.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Calibrated {
    /// The map that was kept.
    pub kind: CalibrationMap,
    /// Mean log loss of every map that was tried, and of the scores as they
    /// are, on rows that neither the classifier nor the map was fitted to.
    pub losses: Vec<(CalibrationMap, f64)>,
    /// Rows judged.
    pub rows: u64,
}

impl Calibrated {
    /// Log loss under a map, if it was tried.
    pub fn loss(&self, kind: CalibrationMap) -> Option<f64> {
        self.losses.iter().find(|l| l.0 == kind).map(|l| l.1)
    }
}

impl Calibration {
    /// The map of greatest likelihood; `log_odds[i]` belongs to row `i` of the
    /// target, which the classifier has not seen and nobody has balanced. None
    /// for the scores as they are.
    ///
    /// Scores that tell nothing all become the rate of the rows, and so do those that tell the opposite
    /// by a straight line or a beta curve; steps stay near it.
    ///
    /// # Errors
    /// [`FitError::OneSided`] if all rows have the same outcome.
    pub fn fit(kind: CalibrationMap, log_odds: &[f64], target: &Target) -> Result<Option<Self>, FitError> {
        if target.total(true) <= 0.0 || target.total(false) <= 0.0 {
            return Err(FitError::OneSided { rows: target.rows() });
        }
        let rate = target.rate();
        let flat = Self::Line { intercept: logit(rate), slope: 0.0 };
        let varies = log_odds.iter().any(|x| x.to_bits() != log_odds[0].to_bits());
        Ok(match kind {
            CalibrationMap::AsTheyAre => None,
            _ if !varies => Some(flat),
            CalibrationMap::Sigmoid => Some(line(log_odds, target)?.unwrap_or(flat)),
            CalibrationMap::Beta => Some(match beta(log_odds, target)? {
                Some(beta) => beta,
                None => line(log_odds, target)?.unwrap_or(flat),
            }),
            CalibrationMap::Isotonic => Some(Self::Steps(IsotonicSteps::fit(log_odds, target))),
        })
    }

    /// The map that tells best what happened to rows it was not fitted to, then
    /// fitted to all of them; `of_row` says which fold each is in.
    ///
    /// # Errors
    /// [`FitError::OneSided`] if all rows have the same outcome.
    pub fn choose(log_odds: &[f64], target: &Target, of_row: &[usize]) -> Result<(Option<Self>, Calibrated), FitError> {
        let enough = target.total(true).min(target.total(false)) >= ENOUGH;
        let tried: &[CalibrationMap] = match enough {
            true => {
                &[CalibrationMap::AsTheyAre, CalibrationMap::Sigmoid, CalibrationMap::Beta, CalibrationMap::Isotonic]
            }
            false => &[CalibrationMap::AsTheyAre, CalibrationMap::Sigmoid],
        };
        let mut losses: Vec<(CalibrationMap, f64)> = Vec::new();
        for &kind in tried {
            let (mut loss, mut weight) = (0.0, 0.0);
            for turn in Fold::of(of_row) {
                let scores = turn.of_learned(log_odds);
                let learned = target.take(&turn.learned);
                if learned.total(true) <= 0.0 || learned.total(false) <= 0.0 {
                    continue;
                }
                let map = Self::fit(kind, &scores, &learned)?;
                for at in turn.judged {
                    let eta = map.as_ref().map_or(log_odds[at], |map| map.apply(log_odds[at]));
                    loss += target.weight(at) * log_loss_of_log_odds(eta, target.event[at]);
                    weight += target.weight(at);
                }
            }
            losses.push((kind, loss / weight));
        }
        // Of equals the simplest, which come first.
        let best = losses.iter().min_by(|a, b| a.1.total_cmp(&b.1)).map_or(CalibrationMap::Sigmoid, |l| l.0);
        let calibrated = Calibrated { kind: best, losses, rows: target.rows() as u64 };
        Ok((Self::fit(best, log_odds, target)?, calibrated))
    }

    /// The log-odds that hold.
    pub fn apply(&self, log_odds: f64) -> f64 {
        match self {
            Self::Line { intercept, slope } => intercept + slope * log_odds,
            Self::Beta { a, b, c } => {
                let [event, other] = logarithms(log_odds);
                a * event - b * other + c
            }
            Self::Steps(steps) => steps.apply(log_odds),
        }
    }
}

/// Logarithms of the probability that belongs to log-odds, and of one less it.
fn logarithms(log_odds: f64) -> [f64; 2] {
    let rest = (-log_odds.abs()).exp().ln_1p();
    [log_odds.min(0.0) - rest, -log_odds.max(0.0) - rest]
}

/// Intercept and coefficients of a logistic regression on these columns.
pub fn regression(columns: &[Vec<f64>], target: &Target) -> Result<Vec<f64>, FitError> {
    let features = columns.iter().map(|column| Feature::number("score", "score", column.clone())).collect();
    let fitted = LogisticSettings::default().check()?.fit(&Design::new(features, target.rows()), target, &Unwatched)?;
    Ok(std::iter::once(fitted.intercept).chain(fitted.coefficients.iter().map(|c| c.value)).collect())
}

/// None where the scores would have to be turned round.
fn line(log_odds: &[f64], target: &Target) -> Result<Option<Calibration>, FitError> {
    let found = regression(&[log_odds.to_vec()], target)?;
    Ok((found[1] > 0.0).then(|| Calibration::Line { intercept: found[0], slope: found[1] }))
}

/// None where no such curve rises everywhere.
fn beta(log_odds: &[f64], target: &Target) -> Result<Option<Calibration>, FitError> {
    let event: Vec<f64> = log_odds.iter().map(|&x| logarithms(x)[0]).collect();
    let other: Vec<f64> = log_odds.iter().map(|&x| -logarithms(x)[1]).collect();
    let found = regression(&[event.clone(), other.clone()], target)?;
    let (a, b) = (found[1], found[2]);
    // Where one side would fall, it is left out (as Kull et al. do).
    let (a, b, c) = match (a >= 0.0, b >= 0.0) {
        (true, true) => (a, b, found[0]),
        (false, _) => {
            let found = regression(&[other], target)?;
            (0.0, found[1], found[0])
        }
        (_, false) => {
            let found = regression(&[event], target)?;
            (found[1], 0.0, found[0])
        }
    };
    Ok((a >= 0.0 && b >= 0.0 && a + b > 0.0).then_some(Calibration::Beta { a, b, c }))
}
