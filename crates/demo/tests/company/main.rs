//! The made-up company: what was planted in it is found.

mod balancing;
mod campaigns;
mod drivers;
mod files;
mod judged;
mod planted;
mod traps;
mod worth;
