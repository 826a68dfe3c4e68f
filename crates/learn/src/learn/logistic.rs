//! Logistic regression, plain or with a ridge or lasso penalty or both.
//!
//! Maximises the log likelihood less `ridge / 2` times the sum of squared
//! coefficients and `lasso` times the sum of their absolute values (the
//! intercept is free) by iteratively reweighted least squares (McCullagh &
//! Nelder 1989, section 4.4; with a lasso penalty Friedman, Hastie &
//! Tibshirani 2010).

use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, Normal};

use super::linear::{self, Fault, Loss, Penalty, Solution};
use super::setting::{CheckedSettings, Range, Setting, Tunable};
use super::{FitError, Target};
use crate::prepare::{Design, Feature};
use pronoia_data::Progress;
use pronoia_data::stats::{log_loss_of_log_odds, logit, sigmoid};

/// The penalty that steps in where the plain fit has no finite answer.
const RESCUE_RIDGE: f64 = 1.0;

/// Events, or other rows if they are rarer, that a coefficient needs before it
/// is fitted without a penalty (about Peduzzi et al. 1996, who ask for ten).
const EVENTS_PER_COEFFICIENT: f64 = 5.0;

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct LogisticSettings {
    /// Ridge penalty on standardised columns; 0 for none.
    pub ridge: f64,
    /// Lasso penalty on standardised columns; 0 for none.
    pub lasso: f64,
}

impl Tunable for LogisticSettings {
    const FAMILY: &'static str = "logistic regression";
    const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "ridge",
            "Ridge penalty",
            Range::Number(0.0, f64::INFINITY),
            "Shrinks all coefficients towards zero (L2); stabilises collinear columns.",
        ),
        Setting::new(
            "lasso",
            "Lasso penalty",
            Range::Number(0.0, f64::INFINITY),
            "Sets the coefficients of columns that add little to exactly zero (L1).",
        ),
    ];
}

/// Why a penalty was used although none was asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Rescue {
    /// Some columns tell the outcome of some rows with certainty, so that the
    /// likelihood has no maximum.
    Separated,
    /// Some columns are sums of others.
    Collinear,
    /// There are too few events for so many coefficients.
    FewEvents,
}

/// A fitted logistic regression.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Logistic {
    /// Log-odds of a row whose features are all 0.
    pub intercept: f64,
    /// One entry per feature of the design.
    pub coefficients: Vec<Coefficient>,
    /// Standard error of the intercept; none for penalised fits.
    pub intercept_se: Option<f64>,
    /// Log likelihood at the solution, without the penalty.
    pub log_likelihood: f64,
    /// Newton steps taken.
    pub steps: usize,
    /// The ridge penalty in force.
    pub ridge: f64,
    /// The lasso penalty in force.
    #[serde(default)]
    pub lasso: f64,
    /// Why there is a penalty that was not asked for, if so.
    pub rescue: Option<Rescue>,
}

/// One coefficient, per unit of the feature as the estimator receives it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Coefficient {
    /// The feature.
    pub feature: String,
    /// The column it was made of.
    pub column: String,
    /// Change of the log-odds per unit.
    pub value: f64,
    /// Standard error from the inverse of the information matrix; only for
    /// unpenalised fits to rows that were not balanced. Weights count as
    /// repetitions of a row.
    pub se: Option<f64>,
    /// Two-sided Wald p-value; only for unpenalised fits.
    pub p: Option<f64>,
}

/// Less the log likelihood.
struct LogLoss;

impl Loss for LogLoss {
    fn of(eta: f64, event: bool) -> [f64; 3] {
        let (y, mu) = (f64::from(u8::from(event)), sigmoid(eta));
        [log_loss_of_log_odds(eta, event), y - mu, mu * (1.0 - mu)]
    }

    fn start(rate: f64) -> f64 {
        logit(rate)
    }
}

impl CheckedSettings<LogisticSettings> {
    /// Fits to a design without gaps.
    ///
    /// # Errors
    /// [`FitError::Unstable`] if even the penalised equations cannot be
    /// solved, [`FitError::Cancelled`].
    pub fn fit(&self, design: &Design, target: &Target, progress: &dyn Progress) -> Result<Logistic, FitError> {
        let asked = Penalty { ridge: self.ridge, lasso: self.lasso };
        let few = target.total(true).min(target.total(false)) < EVENTS_PER_COEFFICIENT * design.features().len() as f64;
        let rescue = if asked == Penalty::default() && few {
            Rescue::FewEvents
        } else {
            match linear::solve::<LogLoss>(design, target, asked, progress)? {
                Ok(solution) => return Ok(model(solution, design, target, asked, None)),
                Err(Fault::RunsAway) => Rescue::Separated,
                Err(Fault::Collinear) => Rescue::Collinear,
            }
        };
        let penalty = Penalty { ridge: self.ridge.max(RESCUE_RIDGE), ..asked };
        match linear::solve::<LogLoss>(design, target, penalty, progress)? {
            Ok(solution) => Ok(model(solution, design, target, penalty, Some(rescue))),
            Err(_) => Err(FitError::Unstable),
        }
    }
}

fn model(solution: Solution, design: &Design, target: &Target, penalty: Penalty, rescue: Option<Rescue>) -> Logistic {
    let errors = (penalty == Penalty::default() && !target.balanced)
        .then(|| solution.curvature.cholesky())
        .flatten()
        .map(|factor| factor.inverse_diagonal().into_iter().map(f64::sqrt).collect::<Vec<_>>());
    let normal = Normal::standard();
    let coefficients = design
        .features()
        .iter()
        .enumerate()
        .map(|(j, feature)| {
            let value = solution.beta[j + 1];
            let se = errors.as_ref().map(|e| e[j + 1]);
            Coefficient {
                feature: feature.name.clone(),
                column: feature.column.clone(),
                value,
                se,
                p: se.map(|se| 2.0 * normal.sf((value / se).abs())),
            }
        })
        .collect();
    Logistic {
        intercept: solution.beta[0],
        coefficients,
        intercept_se: errors.map(|e| e[0]),
        log_likelihood: -solution.loss,
        steps: solution.steps,
        ridge: penalty.ridge,
        lasso: penalty.lasso,
        rescue,
    }
}

impl Logistic {
    /// What each feature adds, by the column that it was made of.
    pub fn contributions(&self, design: &Design) -> Vec<(String, Vec<f64>)> {
        let says = |(feature, c): (&Feature, &Coefficient)| {
            (c.column.clone(), feature.numbers().iter().map(|x| c.value * x).collect())
        };
        design.features().iter().zip(&self.coefficients).map(says).collect()
    }

    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut eta = vec![self.intercept; design.rows()];
        for (feature, coefficient) in design.features().iter().zip(&self.coefficients) {
            eta.iter_mut().zip(feature.numbers()).for_each(|(e, x)| *e += coefficient.value * x);
        }
        eta
    }
}
