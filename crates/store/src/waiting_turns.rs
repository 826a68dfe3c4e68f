//! Work that many may ask for at once and few get at the same time: others wait their turn, up to a number and a time.

use std::sync::Arc;
use std::time::Duration;

use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::{Result, StoreError};

/// Turns at work of one kind; cheap to clone.
#[derive(Debug, Clone)]
pub struct Turns {
    turn: Arc<Semaphore>,
    place: Arc<Semaphore>,
    longest_wait: Duration,
    busy: &'static str,
}

/// A turn, and the place that was held while it was waited for.
#[derive(Debug)]
pub struct WaitingTurn {
    _turn: OwnedSemaphorePermit,
    _place: OwnedSemaphorePermit,
}

impl Turns {
    /// So many at a time, and so many who wait, for so long; whoever comes after them is told so.
    pub fn new(at_once: usize, waiting: usize, longest_wait: Duration, busy: &'static str) -> Self {
        Self {
            turn: Arc::new(Semaphore::new(at_once)),
            place: Arc::new(Semaphore::new(at_once + waiting)),
            longest_wait,
            busy,
        }
    }

    /// Waits for a turn; nothing may be held meanwhile that others need.
    ///
    /// # Errors
    /// [`StoreError::Busy`] if too many wait, or it takes too long.
    pub async fn take(&self) -> Result<WaitingTurn> {
        let busy = || StoreError::Busy(self.busy);
        let place = Arc::clone(&self.place).try_acquire_owned().map_err(|_| busy())?;
        let turn = tokio::time::timeout(self.longest_wait, Arc::clone(&self.turn).acquire_owned()).await;
        let Ok(Ok(turn)) = turn else { return Err(busy()) };
        Ok(WaitingTurn { _turn: turn, _place: place })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn few_at_once_some_wait_and_the_rest_are_told() {
        let turns = Turns::new(1, 1, Duration::from_secs(20), "Others are served.");
        let first = turns.take().await.expect("a turn");
        let waiting = tokio::spawn({
            let turns = turns.clone();
            async move { turns.take().await.map(|_| ()) }
        });
        while turns.place.available_permits() > 0 {
            tokio::task::yield_now().await;
        }
        let refused = turns.take().await.expect_err("full").to_string();
        assert_eq!(refused, "Others are served. Try again in a moment.");
        drop(first);
        waiting.await.expect("it ends").expect("its turn comes");
        assert!(turns.take().await.is_ok());
    }
}
