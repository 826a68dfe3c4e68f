//! What of the store needs no database.

mod questions;
