//! What is done at Prepare: outcome, roles of columns, cautions, split, balance, steps.

pub mod cautions;
pub mod columns;
pub mod outcome;
pub mod split;
pub mod steps;
