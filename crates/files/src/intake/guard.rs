//! Around readers of other formats that panic on some damaged files.

use std::cell::Cell;
use std::panic::{AssertUnwindSafe, catch_unwind};

use super::IntakeError;

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// Whether this thread runs a reader whose panic means a damaged file. A panic
/// hook may keep silent about it: it becomes an [`IntakeError::Damaged`].
pub fn is_guarded() -> bool {
    GUARDED.get()
}

/// Runs a reader of damaged bytes. What it was working on must not be used
/// again after an error.
pub(super) fn guarded<T>(work: impl FnOnce() -> Result<T, IntakeError>) -> Result<T, IntakeError> {
    GUARDED.set(true);
    let done = catch_unwind(AssertUnwindSafe(work));
    GUARDED.set(false);
    done.unwrap_or_else(|_| {
        Err(IntakeError::Damaged { what: "its parts do not fit together, so that it cannot be read".into() })
    })
}
