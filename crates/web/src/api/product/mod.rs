//! The work of a workspace, done by a program: tables, studies, fits, lists.

pub mod fits;
pub mod jobs;
pub mod lists;
mod program;
pub mod studies;
pub mod tables;

pub use program::Program;
