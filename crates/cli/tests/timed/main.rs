//! What is measured by the clock, with nothing beside it; and what breaks servers, databases and disks.

#[path = "../support/mod.rs"]
mod support;

mod analysts;
mod crowds;
mod faults;
mod killed_server;
mod long_lists;
mod sources;

/// Whoever measures holds it for writing: nothing runs beside it. Whoever breaks something holds it for reading.
static ALONE: tokio::sync::RwLock<()> = tokio::sync::RwLock::const_new(());
