//! Where a job is, shared between the computing thread and the one that reports.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Instant;

use pronoia_core::Progress;
use pronoia_store::jobs::{Heard, Stage};

/// Stages kept of a job at most.
const MOST_STAGES: usize = 200;

/// Points kept of a learning curve at most; of more, every other one is dropped.
const MOST_POINTS: usize = 400;

/// Where a job is, and whether it should stop.
#[derive(Debug, Clone)]
pub struct Watch(Arc<SharedProgress>);

#[derive(Debug)]
struct SharedProgress {
    begun: Instant,
    heard: Mutex<Heard>,
    cancelled: AtomicBool,
}

impl Default for Watch {
    fn default() -> Self {
        let cancelled = AtomicBool::new(false);
        Self(Arc::new(SharedProgress { begun: Instant::now(), heard: Mutex::default(), cancelled }))
    }
}

impl Watch {
    /// What it has reported. A stage that only counts on, tree by tree, say, is in
    /// the log once; the curve is that of the part that is being fitted.
    pub fn heard(&self) -> Heard {
        self.0.heard.lock().map(|heard| heard.clone()).unwrap_or_default()
    }

    /// Asks the computation to stop.
    pub fn cancel(&self) {
        self.0.cancelled.store(true, Ordering::Relaxed);
    }
}

impl Progress for Watch {
    fn tell(&self, stage: &str, share: f64) {
        let Ok(mut heard) = self.0.heard.lock() else { return };
        let counts_on = heard.log.last().is_some_and(|last| without_digits(&last.stage).eq(without_digits(stage)));
        if !counts_on && heard.log.len() < MOST_STAGES {
            let at = self.0.begun.elapsed().as_secs_f64();
            heard.log.push(Stage { at, stage: stage.to_owned() });
        }
        heard.stage = stage.to_owned();
        heard.share = share.clamp(0.0, 1.0);
    }

    fn learned(&self, step: usize, (fitted, held_back): (f64, f64)) {
        let Ok(mut heard) = self.0.heard.lock() else { return };
        // Another part begins its own.
        if heard.curve.last().is_some_and(|last| last.0 >= step) {
            heard.curve.clear();
        }
        if heard.curve.len() == MOST_POINTS {
            heard.curve = heard.curve.iter().skip(1).step_by(2).copied().collect();
        }
        heard.curve.push((step, fitted, held_back));
    }

    fn is_cancelled(&self) -> bool {
        self.0.cancelled.load(Ordering::Relaxed)
    }
}

fn without_digits(stage: &str) -> impl Iterator<Item = char> {
    stage.chars().filter(|c| !c.is_ascii_digit())
}
