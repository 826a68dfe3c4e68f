//! The step of Newton's method under a lasso penalty, by coordinate descent.
//!
//! The quadratic model of the loss is minimised one coefficient after another,
//! each in closed form by soft thresholding (Friedman, Hastie & Tibshirani
//! 2010, section 2, with the cross products of all features at hand).

use super::Penalty;
use super::sums::LossSums;

/// Rounds over all coefficients at most.
const MOST_ROUNDS: usize = 10_000;

/// Changes below this share of the greatest change so far end the search.
const STILL: f64 = 1e-13;

/// The step from `beta` to the least of the quadratic model with its penalties.
pub fn direction(state: &LossSums, beta: &[f64], penalty: Penalty) -> Vec<f64> {
    let (down, bend) = (&state.descent, &state.curvature);
    let p = beta.len();
    let mut step = vec![0.0; p];
    // bend · step, kept up to date.
    let mut bent = vec![0.0; p];
    let mut greatest = 0.0f64;
    for _ in 0..MOST_ROUNDS {
        let mut moved = 0.0f64;
        for j in 0..p {
            let own = bend[(j, j)];
            let (ridge, lasso) = if j == 0 { (0.0, 0.0) } else { (penalty.ridge, penalty.lasso) };
            if own + ridge <= 0.0 {
                continue;
            }
            let present = beta[j] + step[j];
            let pull = down[j] - bent[j] + own * present;
            let next = (pull.abs() - lasso).max(0.0).copysign(pull) / (own + ridge);
            let change = next - present;
            if change != 0.0 {
                step[j] += change;
                bent.iter_mut().zip(bend.row(j)).for_each(|(bent, b)| *bent += change * b);
                moved = moved.max(own * change * change);
            }
        }
        greatest = greatest.max(moved);
        if moved <= STILL * STILL * greatest || moved == 0.0 {
            break;
        }
    }
    step
}
