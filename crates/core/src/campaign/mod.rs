//! A list acted on with a control group held back, and what came of it.

mod assign;
mod power;
mod results;

pub use assign::{Arms, assign};
pub use power::{Power, control_needed};
pub use results::{Band, Effect, Happened, Results};
