//! What acting is worth, for how many, and on whom.

mod difference;
mod economics;
mod fixed_rule;
mod ranking;
mod thousand;

pub use difference::Difference;
pub use economics::{ChurnAmounts, Economics, EconomicsError, PlainAmounts, Prices};
pub use fixed_rule::{Expected, FixedRule};
pub use ranking::{Best, CurveError, Policy, ProfitPoint, Ranking, Stand};
pub use thousand::{COLUMNS, ROWS, Thousand};
