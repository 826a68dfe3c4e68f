//! The work of a workspace, done by a program: tables, studies, fits, lists.

pub mod fits;
pub mod jobs;
mod key;
pub mod lists;
pub mod studies;
pub mod tables;

pub use key::Program;
