//! What is measured by the clock: one at a time, with nothing beside it.

#[path = "../support/mod.rs"]
mod support;

mod analysts;
mod crowds;
mod faults;
mod killed_server;
mod long_lists;
mod sources;

/// Whoever measures holds it: nothing runs beside it.
static ALONE: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());
