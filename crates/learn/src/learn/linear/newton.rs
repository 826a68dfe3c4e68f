//! Newton's method, halving a step that would make things worse.

use super::columns::DesignColumns;
use super::descent;
use super::matrix::Symmetric;
use super::products::dot;
use super::sums::LossSums;
use super::{Loss, Penalty};
use crate::learn::{FitError, Target};
use crate::prepare::Design;
use pronoia_data::Progress;

/// Newton steps at most.
const MOST_STEPS: usize = 60;

/// Sums of features beyond which an unpenalised fit runs away.
const AWAY: f64 = 25.0;

/// Rows from which on the first steps are taken on a part of them.
const MANY_ROWS: usize = 50_000;

/// Of so many rows one is in that part.
const ONE_OF: usize = 16;

/// The coefficients of least loss and penalty.
pub struct Solution {
    /// Intercept first.
    pub beta: Vec<f64>,
    /// Second derivatives of loss and ridge penalty there.
    pub curvature: Symmetric,
    /// The loss there, without the penalty.
    pub loss: f64,
    /// Steps taken.
    pub steps: usize,
}

/// Why there is no finite, unique answer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The loss falls for ever as coefficients grow.
    RunsAway,
    /// Some features are sums of others.
    Collinear,
}

/// Finds the coefficients. The inner error says why there is no answer.
pub fn solve<L: Loss>(
    design: &Design,
    target: &Target,
    penalty: Penalty,
    progress: &dyn Progress,
) -> Result<Result<Solution, Fault>, FitError> {
    let mut beta = begun::<L>(design, target, penalty, progress)?;
    let weight = target.total(true) + target.total(false);
    let columns = DesignColumns::of(design);
    let mut state = LossSums::at::<L>(&columns, target, &beta);
    let mut objective = state.loss + penalty.of(&beta);
    let is_free = penalty == Penalty::default();
    for step in 1..=MOST_STEPS {
        progress.go_on()?;
        progress.tell(&format!("Newton step {step}, mean loss {:.5}", state.loss / weight), step as f64 / 10.0);
        let Some(mut move_by) = direction(&state, &beta, penalty) else {
            return Ok(Err(if state.farthest > AWAY { Fault::RunsAway } else { Fault::Collinear }));
        };
        // Half of what the quadratic model promises is the distance left to the least.
        let promised = dot(&state.descent, &move_by) + penalty.of(&beta) - penalty.of(&moved(&beta, &move_by));
        let mut halvings = 0;
        loop {
            let candidate = moved(&beta, &move_by);
            let next = LossSums::at::<L>(&columns, target, &candidate);
            let next_objective = next.loss + penalty.of(&candidate);
            if next_objective <= objective + 1e-12 * objective.abs() || halvings == 30 {
                (beta, state, objective) = (candidate, next, next_objective);
                break;
            }
            move_by.iter_mut().for_each(|by| *by *= 0.5);
            halvings += 1;
        }
        if is_free && state.farthest > AWAY {
            return Ok(Err(Fault::RunsAway));
        }
        if promised * 0.5 < 1e-12 * (1.0 + objective.abs()) && halvings == 0 {
            let curvature = with_ridge(&state.curvature, penalty.ridge);
            return Ok(Ok(Solution { beta, curvature, loss: state.loss, steps: step }));
        }
    }
    Ok(Err(Fault::RunsAway))
}

/// Where the search begins: without any feature, or, among many rows, where a part of
/// them has its least. That is about a standard error of the part away from the
/// whole, from where few steps over all rows are left.
fn begun<L: Loss>(
    design: &Design,
    target: &Target,
    penalty: Penalty,
    progress: &dyn Progress,
) -> Result<Vec<f64>, FitError> {
    let mut beta = vec![0.0; design.features().len() + 1];
    beta[0] = L::start(target.rate());
    if target.rows() < MANY_ROWS {
        return Ok(beta);
    }
    let part: Vec<usize> = (0..target.rows()).step_by(ONE_OF).collect();
    let learned = target.take(&part);
    if learned.total(true) <= 0.0 || learned.total(false) <= 0.0 {
        return Ok(beta);
    }
    let share = part.len() as f64 / target.rows() as f64;
    let penalty = Penalty { ridge: penalty.ridge * share, lasso: penalty.lasso * share };
    // A part that has no answer of its own says nothing of the whole.
    Ok(solve::<L>(&design.take(&part), &learned, penalty, progress)?.map_or(beta, |solution| solution.beta))
}

/// The step to the least of the quadratic model; none where that is not unique.
fn direction(state: &LossSums, beta: &[f64], penalty: Penalty) -> Option<Vec<f64>> {
    if penalty.lasso > 0.0 {
        return Some(descent::direction(state, beta, penalty));
    }
    let curvature = with_ridge(&state.curvature, penalty.ridge);
    let mut down = state.descent.clone();
    (1..beta.len()).for_each(|j| down[j] -= penalty.ridge * beta[j]);
    let factor = curvature.cholesky().filter(|_| is_well_posed(&curvature))?;
    Some(factor.solve(&down))
}

fn moved(beta: &[f64], by: &[f64]) -> Vec<f64> {
    beta.iter().zip(by).map(|(b, by)| b + by).collect()
}

fn with_ridge(curvature: &Symmetric, ridge: f64) -> Symmetric {
    let mut curvature = curvature.clone();
    (1..curvature.side()).for_each(|j| curvature[(j, j)] += ridge);
    curvature
}

/// Whether no feature is, to rounding, a sum of others: the pivots of the
/// scaled matrix stay clear of zero.
fn is_well_posed(curvature: &Symmetric) -> bool {
    let scale: Vec<f64> = curvature.diagonal().map(f64::sqrt).collect();
    if !scale.iter().all(|s| *s > 0.0) {
        return false;
    }
    let scaled = Symmetric::from_fn(curvature.side(), |i, j| curvature[(i, j)] / (scale[i] * scale[j]));
    scaled.cholesky().is_some_and(|factor| factor.diagonal().all(|pivot| pivot > 1e-6))
}
