//! The profit of a candidate by the amounts of a policy.

use pronoia_core::decide::ProfitPoint;

/// What a candidate brings by the amounts of a policy, on the rows that it is evaluated on.
#[derive(Debug, Clone, Copy)]
pub struct CandidateProfit {
    /// Its best point.
    pub best: ProfitPoint,
    /// Expected maximum profit, where an assumption is uncertain.
    pub maximum: Option<f64>,
    /// Profit of acting on nobody.
    pub none: f64,
    /// Profit of acting on everybody.
    pub all: f64,
}
