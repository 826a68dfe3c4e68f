//! What everything else stands on: tables and their profiles, expressions over their columns, the split of their rows,
//! statistics, and measures of probabilities.

pub mod drivers;
pub mod evaluate;
pub mod expression;
pub mod formulas;
pub mod number;
pub mod profile;
pub mod progress;
pub mod sentence;
pub mod split;
pub mod stack;
pub mod stats;
pub mod table;
pub mod value;

pub use progress::{Cancelled, Progress};
pub use table::{Column, Kind, Table};
