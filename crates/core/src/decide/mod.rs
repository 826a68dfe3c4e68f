//! What acting is worth, for how many, and on whom.

mod difference;
mod economics;
mod fixed_rule;
mod ranking;
mod sensitivity;
mod thousand;

pub use difference::Difference;
pub use economics::{Assumption, ChurnAmounts, Economics, EconomicsError, PlainAmounts, Prices, Unit};
pub use fixed_rule::{Expected, FixedRule};
pub use ranking::{Best, CurveError, Policy, ProfitPoint, Ranking, Stand};
pub use sensitivity::Sensitivity;
pub use thousand::{COLUMNS, ROWS, Thousand};
