//! A list acted on with a control group held back, and what came of it.

mod assign;
mod learned;
mod outcome;
mod power;
mod results;

pub use assign::{Arms, assign};
pub use learned::Learned;
pub use outcome::Outcome;
pub use power::{Power, control_needed};
pub use results::{Band, Effect, Happened, Results};
