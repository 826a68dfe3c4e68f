//! Logistic regression by Newton's method, with an optional ridge penalty.
//!
//! Maximises the log likelihood less `ridge / 2` times the sum of squared
//! coefficients (the intercept is free) by iteratively reweighted least
//! squares (McCullagh & Nelder 1989, section 4.4), halving a step that would
//! make things worse.

use nalgebra::{DMatrix, DVector};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, Normal};

use super::{FitError, Target, parse_setting, sigmoid};
use crate::Progress;
use crate::prepare::Design;

/// Rows that are summed up together; fixed, so that sums do not depend on threads.
const BLOCK: usize = 4_096;

/// Newton steps at most.
const MOST_STEPS: usize = 60;

/// Log-odds beyond which a fitted row counts as told with certainty.
const CERTAIN: f64 = 25.0;

/// The penalty that steps in where the plain fit has no finite answer.
const RESCUE_RIDGE: f64 = 1.0;

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct LogisticSettings {
    /// Ridge penalty on standardised columns; 0 for the plain fit.
    pub ridge: f64,
}

impl Default for LogisticSettings {
    fn default() -> Self {
        Self { ridge: 0.0 }
    }
}

/// Settings that were checked.
#[derive(Debug, Clone, Copy)]
pub struct LogisticParams {
    ridge: f64,
}

impl LogisticSettings {
    /// Changes one setting by name.
    ///
    /// # Errors
    /// [`FitError`] if there is none of that name or the value is no number.
    pub fn set(&mut self, name: &str, value: &str) -> Result<(), FitError> {
        match name {
            "ridge" => self.ridge = parse_setting("ridge", "a number of 0 or more", value)?,
            _ => {
                return Err(FitError::UnknownSetting {
                    setting: name.into(),
                    family: "logistic regression",
                    known: "ridge",
                });
            }
        }
        self.check().map(|_| ())
    }

    /// Checks the ranges.
    ///
    /// # Errors
    /// [`FitError::Setting`].
    pub fn check(&self) -> Result<LogisticParams, FitError> {
        if self.ridge.is_finite() && self.ridge >= 0.0 {
            return Ok(LogisticParams { ridge: self.ridge });
        }
        Err(FitError::Setting { setting: "ridge", range: "a number of 0 or more", value: self.ridge.to_string() })
    }
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
    /// The penalty in force.
    pub ridge: f64,
    /// Why the penalty is not the one asked for, if so.
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

impl LogisticParams {
    /// Fits to a design without gaps.
    ///
    /// # Errors
    /// [`FitError::Unstable`] if even the penalised equations cannot be
    /// solved, [`FitError::Cancelled`].
    pub fn fit(self, design: &Design, target: &Target, progress: &dyn Progress) -> Result<Logistic, FitError> {
        let outcome = match solve(design, target, self.ridge, progress)? {
            Ok(solution) => return Ok(solution.into_model(design, target, self.ridge, None)),
            Err(rescue) => rescue,
        };
        let ridge = self.ridge.max(RESCUE_RIDGE);
        match solve(design, target, ridge, progress)? {
            Ok(solution) => Ok(solution.into_model(design, target, ridge, Some(outcome))),
            Err(_) => Err(FitError::Unstable),
        }
    }
}

struct Solution {
    /// Intercept first.
    beta: DVector<f64>,
    information: DMatrix<f64>,
    log_likelihood: f64,
    steps: usize,
}

/// Newton's method. The inner error says why there is no finite, unique answer.
fn solve(
    design: &Design,
    target: &Target,
    ridge: f64,
    progress: &dyn Progress,
) -> Result<Result<Solution, Rescue>, FitError> {
    let p = design.features().len() + 1;
    let mut beta = DVector::zeros(p);
    let (rate, weight) = (target.rate(), target.total(true) + target.total(false));
    beta[0] = (rate / (1.0 - rate)).ln();
    let mut state = Sums::at(design, target, &beta);
    let mut objective = state.penalised(&beta, ridge);
    for step in 1..=MOST_STEPS {
        progress.go_on()?;
        progress
            .tell(&format!("Newton step {step}, log loss {:.5}", -state.log_likelihood / weight), step as f64 / 10.0);
        let (gradient, information) = state.equations(&beta, ridge);
        let Some(factor) = information.clone().cholesky().filter(|_| is_well_posed(&information)) else {
            return Ok(Err(if state.most_certain > CERTAIN { Rescue::Separated } else { Rescue::Collinear }));
        };
        let mut move_by = factor.solve(&gradient);
        let decrement = gradient.dot(&move_by);
        let mut halvings = 0;
        loop {
            let candidate = &beta + &move_by;
            let next = Sums::at(design, target, &candidate);
            let next_objective = next.penalised(&candidate, ridge);
            if next_objective >= objective - 1e-12 * objective.abs() || halvings == 30 {
                (beta, state, objective) = (candidate, next, next_objective);
                break;
            }
            move_by *= 0.5;
            halvings += 1;
        }
        if ridge == 0.0 && state.most_certain > CERTAIN {
            return Ok(Err(Rescue::Separated));
        }
        // Half the squared Newton decrement is the distance left to the maximum.
        if decrement * 0.5 < 1e-12 * (1.0 + objective.abs()) && halvings == 0 {
            let (_, information) = state.equations(&beta, ridge);
            return Ok(Ok(Solution { beta, information, log_likelihood: state.log_likelihood, steps: step }));
        }
    }
    Ok(Err(Rescue::Separated))
}

/// Whether no column is, to rounding, a sum of others: the pivots of the
/// scaled matrix stay clear of zero.
fn is_well_posed(information: &DMatrix<f64>) -> bool {
    let scale: Vec<f64> = information.diagonal().iter().map(|d| d.sqrt()).collect();
    if !scale.iter().all(|s| *s > 0.0) {
        return false;
    }
    let scaled =
        DMatrix::from_fn(information.nrows(), information.ncols(), |i, j| information[(i, j)] / (scale[i] * scale[j]));
    scaled.cholesky().is_some_and(|c| c.l().diagonal().iter().all(|d| *d > 1e-6))
}

/// Sums over all rows at given coefficients, added up in a fixed order.
struct Sums {
    gradient: DVector<f64>,
    information: DMatrix<f64>,
    log_likelihood: f64,
    most_certain: f64,
}

impl Sums {
    fn at(design: &Design, target: &Target, beta: &DVector<f64>) -> Self {
        let p = beta.len();
        let blocks: Vec<Sums> = (0..target.rows().div_ceil(BLOCK))
            .into_par_iter()
            .map(|b| Self::of_block(design, target, beta, b * BLOCK))
            .collect();
        let mut sums = Self {
            gradient: DVector::zeros(p),
            information: DMatrix::zeros(p, p),
            log_likelihood: 0.0,
            most_certain: 0.0,
        };
        for block in blocks {
            sums.gradient += block.gradient;
            sums.information += block.information;
            sums.log_likelihood += block.log_likelihood;
            sums.most_certain = sums.most_certain.max(block.most_certain);
        }
        sums
    }

    fn of_block(design: &Design, target: &Target, beta: &DVector<f64>, start: usize) -> Self {
        let end = (start + BLOCK).min(target.rows());
        let n = end - start;
        let p = beta.len();
        let columns: Vec<&[f64]> = design.features().iter().map(|f| &f.numbers()[start..end]).collect();
        let mut eta = vec![beta[0]; n];
        for (column, b) in columns.iter().zip(beta.iter().skip(1)) {
            eta.iter_mut().zip(*column).for_each(|(e, x)| *e += b * x);
        }
        let mut log_likelihood = 0.0;
        let mut most_certain = 0.0f64;
        let mut residual = vec![0.0; n];
        let mut weight = vec![0.0; n];
        for i in 0..n {
            let y = f64::from(u8::from(target.event[start + i]));
            let counts = target.weight(start + i);
            let mu = sigmoid(eta[i]);
            // ln p(y) = y·eta − ln(1 + exp(eta)), written so that it cannot overflow.
            log_likelihood += counts * (y * eta[i] - eta[i].max(0.0) - (-eta[i].abs()).exp().ln_1p());
            most_certain = most_certain.max(eta[i].abs());
            residual[i] = counts * (y - mu);
            weight[i] = counts * mu * (1.0 - mu);
        }
        let mut gradient = DVector::zeros(p);
        let mut information = DMatrix::zeros(p, p);
        gradient[0] = sum(&residual);
        information[(0, 0)] = sum(&weight);
        let mut weighted = vec![0.0; n];
        for (j, x) in columns.iter().enumerate() {
            gradient[j + 1] = dot(&residual, x);
            weighted.iter_mut().zip(&weight).zip(*x).for_each(|((wx, w), x)| *wx = w * x);
            information[(j + 1, 0)] = sum(&weighted);
            for (k, z) in columns.iter().enumerate().take(j + 1) {
                information[(j + 1, k + 1)] = dot(&weighted, z);
            }
        }
        information.fill_upper_triangle_with_lower_triangle();
        Self { gradient, information, log_likelihood, most_certain }
    }

    fn penalised(&self, beta: &DVector<f64>, ridge: f64) -> f64 {
        self.log_likelihood - 0.5 * ridge * beta.iter().skip(1).map(|b| b * b).sum::<f64>()
    }

    fn equations(&self, beta: &DVector<f64>, ridge: f64) -> (DVector<f64>, DMatrix<f64>) {
        let (mut gradient, mut information) = (self.gradient.clone(), self.information.clone());
        for j in 1..beta.len() {
            gradient[j] -= ridge * beta[j];
            information[(j, j)] += ridge;
        }
        (gradient, information)
    }
}

/// Eight running sums keep the processor's lanes busy; their order is fixed.
fn dot(a: &[f64], b: &[f64]) -> f64 {
    let mut lanes = [0.0; 8];
    let (a8, b8) = (a.chunks_exact(8), b.chunks_exact(8));
    let rest: f64 = a8.remainder().iter().zip(b8.remainder()).map(|(x, y)| x * y).sum();
    for (x, y) in a8.zip(b8) {
        for lane in 0..8 {
            lanes[lane] += x[lane] * y[lane];
        }
    }
    lanes.iter().sum::<f64>() + rest
}

fn sum(a: &[f64]) -> f64 {
    a.iter().sum()
}

impl Solution {
    fn into_model(self, design: &Design, target: &Target, ridge: f64, rescue: Option<Rescue>) -> Logistic {
        let errors = (ridge == 0.0 && !target.balanced)
            .then(|| self.information.cholesky())
            .flatten()
            .map(|c| c.inverse().diagonal().map(f64::sqrt));
        let normal = Normal::standard();
        let coefficients = design
            .features()
            .iter()
            .enumerate()
            .map(|(j, feature)| {
                let value = self.beta[j + 1];
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
            intercept: self.beta[0],
            coefficients,
            intercept_se: errors.map(|e| e[0]),
            log_likelihood: self.log_likelihood,
            steps: self.steps,
            ridge,
            rescue,
        }
    }
}

impl Logistic {
    /// Log-odds of the event for every row of the design.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut eta = vec![self.intercept; design.rows()];
        for (feature, coefficient) in design.features().iter().zip(&self.coefficients) {
            eta.iter_mut().zip(feature.numbers()).for_each(|(e, x)| *e += coefficient.value * x);
        }
        eta
    }
}
