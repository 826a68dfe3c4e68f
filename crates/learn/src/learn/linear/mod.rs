//! Families that add up what each feature says: the loss, its sums over all rows, and two ways to
//! the coefficients of least loss.

mod columns;
mod descent;
mod matrix;
mod newton;
mod products;
mod sums;

pub(super) use newton::{Fault, Solution, solve};

/// A convex loss of one row, by what the features add up to.
pub(super) trait Loss: Sync {
    /// The loss of a row, less its derivative, and its second derivative, for
    /// a sum `eta` of features and an outcome.
    fn of(eta: f64, event: bool) -> [f64; 3];

    /// The intercept to begin with, by the weighted event rate.
    fn start(rate: f64) -> f64;
}

/// What coefficients cost by themselves; the intercept is free.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) struct Penalty {
    /// Half of it times the sum of squares.
    pub ridge: f64,
    /// Times the sum of absolute values.
    pub lasso: f64,
}

impl Penalty {
    /// What coefficients cost; the intercept, which comes first, is free.
    fn of(self, beta: &[f64]) -> f64 {
        beta.iter().skip(1).map(|b| 0.5 * self.ridge * b * b + self.lasso * b.abs()).sum()
    }
}
