//! How a long computation tells where it is, and learns that nobody wants it any more.

use std::fmt;

/// The only thing from outside that a long computation is handed.
///
/// `tell` is called from the computing thread a few hundred times at the most;
/// an implementation may drop calls but must not block for long.
pub trait Progress: Sync {
    /// Reports the stage in words and the share done of the whole work, 0 to 1.
    fn tell(&self, stage: &str, share: f64);

    /// Reports a point of a learning curve: after so many steps, counted from 1, the
    /// mean loss of the rows fitted to and of rows held back.
    fn learned(&self, _step: usize, _losses: (f64, f64)) {}

    /// Whether the work should stop at the next convenient point.
    fn is_cancelled(&self) -> bool {
        false
    }

    /// `Err(Cancelled)` once the work should stop; made for `?`.
    fn go_on(&self) -> Result<(), Cancelled> {
        if self.is_cancelled() { Err(Cancelled) } else { Ok(()) }
    }
}

/// Somebody asked for the work to stop; nothing of it is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cancelled;

impl fmt::Display for Cancelled {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("stopped on request")
    }
}

impl std::error::Error for Cancelled {}

/// A listener for callers that do not care to watch.
#[derive(Debug, Clone, Copy, Default)]
pub struct Unwatched;

impl Progress for Unwatched {
    fn tell(&self, _stage: &str, _share: f64) {}
}

/// Lets a computation be stopped from outside without letting it tell where it is.
pub struct Quiet<'a>(pub &'a dyn Progress);

impl Progress for Quiet<'_> {
    fn tell(&self, _stage: &str, _share: f64) {}

    fn is_cancelled(&self) -> bool {
        self.0.is_cancelled()
    }
}

/// A window onto part of a longer work: shares 0 to 1 are mapped to `from..to`.
pub struct ProgressPart<'a> {
    whole: &'a dyn Progress,
    from: f64,
    to: f64,
}

impl<'a> ProgressPart<'a> {
    /// The part of `whole` that runs between the shares `from` and `to`.
    pub fn of(whole: &'a dyn Progress, from: f64, to: f64) -> Self {
        Self { whole, from, to }
    }
}

impl Progress for ProgressPart<'_> {
    fn tell(&self, stage: &str, share: f64) {
        self.whole.tell(stage, self.from + share.clamp(0.0, 1.0) * (self.to - self.from));
    }

    fn learned(&self, step: usize, losses: (f64, f64)) {
        self.whole.learned(step, losses);
    }

    fn is_cancelled(&self) -> bool {
        self.whole.is_cancelled()
    }
}
