//! Files: from bytes to a table, and from a table to bytes.

pub mod intake;
pub mod write;
