//! A list acted on with a control group held back, and what came of it.

mod assign;
mod learned_assumption;
mod outcome;
mod power;
mod results;

pub use assign::{Arms, assign};
pub use learned_assumption::Learned;
pub use outcome::CampaignOutcome;
pub use power::{Power, control_needed};
pub use results::{Effect, EffectStratum, Happened, Results};
