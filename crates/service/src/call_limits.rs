//! How often a key may call.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The time that calls are counted over.
const WINDOW: Duration = Duration::from_secs(60);

/// Calls by key since the window began.
#[derive(Debug, Clone, Default)]
pub struct CallLimits(Arc<Mutex<HashMap<i64, (Instant, u32)>>>);

impl CallLimits {
    /// Counts a call; how many seconds to wait, if the key was used too often.
    pub fn count(&self, key: i64, per_minute: u32) -> Result<(), u64> {
        self.count_at(key, per_minute, Instant::now())
    }

    fn count_at(&self, key: i64, per_minute: u32, now: Instant) -> Result<(), u64> {
        let mut calls = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let (began, so_far) = calls.entry(key).or_insert((now, 0));
        if now.duration_since(*began) >= WINDOW {
            (*began, *so_far) = (now, 0);
        }
        if *so_far >= per_minute {
            return Err((WINDOW - now.duration_since(*began)).as_secs() + 1);
        }
        *so_far += 1;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_key_has_its_own_minute() {
        let (limits, now) = (CallLimits::default(), Instant::now());
        assert!(limits.count_at(1, 2, now).is_ok() && limits.count_at(1, 2, now).is_ok());
        assert_eq!(limits.count_at(1, 2, now + Duration::from_secs(20)), Err(41));
        assert!(limits.count_at(2, 2, now).is_ok());
        assert!(limits.count_at(1, 2, now + WINDOW).is_ok());
        assert_eq!(limits.count_at(3, 0, now), Err(61));
    }
}
