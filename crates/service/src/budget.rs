//! The memory that fits share.

use std::sync::Arc;
use std::time::Duration;

use pronoia_core::model::{Recipe, Width};
use pronoia_core::study::Basis;
use pronoia_core::table::Storage;
use pronoia_core::{Cancelled, Progress};
use pronoia_store::record_table;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::text;

/// What the budget is counted in.
const MEGABYTE: u64 = 1 << 20;

/// How often a fit that waits looks whether somebody wants it stopped.
const LOOK: Duration = Duration::from_millis(200);

/// Share of the machine's memory that fits may take, unless somebody says otherwise.
const SHARE: f64 = 0.6;

/// What is taken for the machine's memory where it does not say.
const UNKNOWN: u64 = 4 << 30;

/// The memory that all fits of this server share.
#[derive(Debug, Clone)]
pub struct Budget {
    megabytes: u32,
    free: Arc<Semaphore>,
}

impl Budget {
    /// So many bytes; without a number, a share of what the machine has.
    pub fn of(bytes: Option<u64>) -> Self {
        let bytes = bytes.unwrap_or_else(|| (of_machine().unwrap_or(UNKNOWN) as f64 * SHARE) as u64);
        let megabytes = (bytes / MEGABYTE).clamp(1, u64::from(u32::MAX / 2)) as u32;
        Self { megabytes, free: Arc::new(Semaphore::new(megabytes as usize)) }
    }

    /// Says in words if so many bytes are more than there ever are.
    ///
    /// # Errors
    /// A sentence with both amounts and what to do.
    pub fn check(&self, bytes: u64) -> Result<(), String> {
        if in_megabytes(bytes) <= self.megabytes {
            return Ok(());
        }
        let gigabytes = |bytes: u64| text::fixed(bytes as f64 / (1u64 << 30) as f64, 1);
        Err(format!(
            "This would take about {} GB of memory, and fits may take {} GB here. Sample the rows or exclude columns, at Prepare; or give the server more with --memory-mb.",
            gigabytes(bytes),
            gigabytes(u64::from(self.megabytes) * MEGABYTE)
        ))
    }

    /// Waits until so many bytes are free, and holds them.
    ///
    /// # Errors
    /// [`Cancelled`] if somebody wants the work stopped meanwhile.
    pub async fn take(&self, bytes: u64, watch: &dyn Progress) -> Result<OwnedSemaphorePermit, Cancelled> {
        let wanted = in_megabytes(bytes).min(self.megabytes);
        loop {
            let waiting = Arc::clone(&self.free).acquire_many_owned(wanted);
            match tokio::time::timeout(LOOK, waiting).await {
                Ok(Ok(held)) => return Ok(held),
                // Nobody ever closes it.
                Ok(Err(_)) => return Err(Cancelled),
                Err(_) => {
                    watch.tell("Waiting for memory used by other fits", 0.0);
                    watch.go_on()?;
                }
            }
        }
    }
}

fn in_megabytes(bytes: u64) -> u32 {
    u32::try_from(bytes.div_ceil(MEGABYTE)).unwrap_or(u32::MAX)
}

/// Bytes that a fit takes, about.
///
/// # Errors
/// If what is known of the table cannot be read.
pub fn bytes_needed(
    table: &record_table::Model,
    basis: &Basis,
    recipe: &Recipe,
) -> Result<u64, pronoia_store::StoreError> {
    let figures = table.figures()?;
    let width = |name: &String| match figures.column(name) {
        Some(column) if column.kind.storage() == Storage::Words => Width::Levels(column.distinct),
        _ => Width::Number,
    };
    let columns: Vec<Width> = basis.predictors.iter().map(width).collect();
    Ok(recipe.bytes_needed(table.rows as u64, &columns))
}

/// The bytes of memory that this machine has, where it says so.
fn of_machine() -> Option<u64> {
    let said = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = said.lines().find_map(|line| line.strip_prefix("MemTotal:"))?;
    line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok().map(|kilobytes| kilobytes << 10)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::jobs::Watch;

    #[tokio::test]
    async fn fits_wait_for_each_other_and_stop_waiting_when_cancelled() {
        let budget = Budget::of(Some(100 * MEGABYTE));
        assert!(budget.check(100 * MEGABYTE).is_ok());
        let refused = budget.check(200 << 30).expect_err("too much");
        assert!(refused.contains("200.0 GB") && refused.contains("Sample the rows"), "{refused}");
        let watch = Watch::default();
        let first = budget.take(70 * MEGABYTE, &watch).await.expect("free");
        let other = Watch::default();
        other.cancel();
        assert!(budget.take(40 * MEGABYTE, &other).await.is_err(), "30 are left");
        assert!(other.heard().stage.starts_with("Waiting"));
        drop(first);
        assert!(budget.take(40 * MEGABYTE, &other).await.is_ok(), "free again");
    }
}
