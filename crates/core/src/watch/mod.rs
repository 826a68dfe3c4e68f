//! What became of a model in use: whether customers have changed, and whether it keeps what it promised.

mod drift;
mod performance;
mod tally;

pub use drift::Drift;
pub use performance::Performance;
pub use tally::{CustomerTally, DriftFindings, Moved, TrainingDistribution};
