//! Linear support vector machine with the squared hinge loss.
//!
//! Minimises half the squared length of the coefficients plus `cost` times the
//! sum of squared shortfalls from a margin of 1 (Chang, Hsieh & Lin 2008, L2
//! loss; the intercept is free), by Newton's method on the rows that fall
//! short (Keerthi & DeCoste 2005). What the features add up to is a distance,
//! not log-odds; a model makes probabilities of it by calibration.

use serde::{Deserialize, Serialize};

use super::linear::{self, Loss, Penalty};
use super::setting::{CheckedSettings, Range, Setting, Tunable};
use super::{FitError, Target};
use crate::prepare::{Design, Feature};
use pronoia_data::Progress;

/// Settings as the analyst gives them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SvmSettings {
    /// What falling short of the margin costs, against the size of the coefficients.
    pub cost: f64,
}

impl Default for SvmSettings {
    fn default() -> Self {
        Self { cost: 0.01 }
    }
}

impl Tunable for SvmSettings {
    const FAMILY: &'static str = "support vector machine";
    const SETTINGS: &'static [Setting] = &[Setting::new(
        "cost",
        "Cost (C)",
        Range::Above(0.0, 1e6),
        "Penalty of a row on the wrong side of its margin; smaller shrinks all coefficients towards zero.",
    )];
}

/// A fitted support vector machine.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Svm {
    /// Distance of a row whose features are all 0.
    pub intercept: f64,
    /// What each feature of the design adds per unit.
    pub coefficients: Vec<(String, f64)>,
    /// Rows that fall short of their margin.
    pub support: u64,
    /// Newton steps taken.
    pub steps: usize,
}

/// The squared hinge.
struct SquaredHinge;

impl Loss for SquaredHinge {
    fn of(eta: f64, event: bool) -> [f64; 3] {
        let side = if event { 1.0 } else { -1.0 };
        let short = 1.0 - side * eta;
        if short > 0.0 { [short * short, 2.0 * side * short, 2.0] } else { [0.0; 3] }
    }

    fn start(rate: f64) -> f64 {
        2.0 * rate - 1.0
    }
}

impl CheckedSettings<SvmSettings> {
    /// Fits to a design without gaps.
    ///
    /// # Errors
    /// [`FitError::Unstable`] if the equations cannot be solved,
    /// [`FitError::Cancelled`].
    pub fn fit(&self, design: &Design, target: &Target, progress: &dyn Progress) -> Result<Svm, FitError> {
        let penalty = Penalty { ridge: 1.0 / self.cost, lasso: 0.0 };
        let solution =
            linear::solve::<SquaredHinge>(design, target, penalty, progress)?.map_err(|_| FitError::Unstable)?;
        let named = design.features().iter().zip(solution.beta.iter().skip(1));
        let mut svm = Svm {
            intercept: solution.beta[0],
            coefficients: named.map(|(feature, value)| (feature.name.clone(), *value)).collect(),
            support: 0,
            steps: solution.steps,
        };
        let short = |(distance, &event): (f64, &bool)| if event { distance < 1.0 } else { distance > -1.0 };
        svm.support = svm.log_odds(design).into_iter().zip(&target.event).filter(|row| short(*row)).count() as u64;
        Ok(svm)
    }
}

impl Svm {
    /// What each feature adds, by the column that it was made of.
    pub fn contributions(&self, design: &Design) -> Vec<(String, Vec<f64>)> {
        let says = |(feature, (_, value)): (&Feature, &(String, f64))| {
            (feature.column.clone(), feature.numbers().iter().map(|x| value * x).collect())
        };
        design.features().iter().zip(&self.coefficients).map(says).collect()
    }

    /// Distance from the boundary for every row of the design, positive on the
    /// side of the event; log-odds only after calibration.
    pub fn log_odds(&self, design: &Design) -> Vec<f64> {
        let mut eta = vec![self.intercept; design.rows()];
        for (feature, (_, coefficient)) in design.features().iter().zip(&self.coefficients) {
            eta.iter_mut().zip(feature.numbers()).for_each(|(e, x)| *e += coefficient * x);
        }
        eta
    }
}
