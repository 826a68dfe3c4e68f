//! What became of a model in use: whether customers have changed, and whether it keeps what it promised.

mod drift;
mod kept_promise;
mod tally;

pub use drift::Drift;
pub use kept_promise::KeptPromise;
pub use tally::{Expected, Found, Moved, Tally};
