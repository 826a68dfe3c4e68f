//! Where a job is, shared between the computing thread and the one that reports.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use pronoia_core::Progress;

/// Where a job is, and whether it should stop.
#[derive(Debug, Clone, Default)]
pub struct Watch(Arc<Shared>);

#[derive(Debug, Default)]
struct Shared {
    place: Mutex<(String, f64)>,
    cancelled: AtomicBool,
}

impl Watch {
    /// Stage in words and share done.
    pub fn place(&self) -> (String, f64) {
        self.0.place.lock().map(|p| p.clone()).unwrap_or_default()
    }

    /// Asks the computation to stop.
    pub fn cancel(&self) {
        self.0.cancelled.store(true, Ordering::Relaxed);
    }
}

impl Progress for Watch {
    fn tell(&self, stage: &str, share: f64) {
        if let Ok(mut place) = self.0.place.lock() {
            *place = (stage.to_owned(), share.clamp(0.0, 1.0));
        }
    }

    fn is_cancelled(&self) -> bool {
        self.0.cancelled.load(Ordering::Relaxed)
    }
}
