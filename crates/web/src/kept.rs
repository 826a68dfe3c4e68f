//! The last few things that were worked out, by what they were worked out from.

use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

/// Things kept of one kind.
const MOST: usize = 12;

/// Things with what they were worked out from.
type Things<T> = VecDeque<(String, Arc<T>)>;

/// What was worked out last, the newest first.
pub struct Kept<T>(Arc<Mutex<Things<T>>>);

impl<T> Kept<T> {
    /// What was worked out from the same.
    pub fn get(&self, from: &str) -> Option<Arc<T>> {
        // What was broken off in another thread has left whole things.
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let at = kept.iter().position(|(there, _)| there == from)?;
        let found = kept.remove(at)?;
        let thing = Arc::clone(&found.1);
        kept.push_front(found);
        Some(thing)
    }

    /// Keeps what was worked out, in the place of what was not asked for longest.
    pub fn put(&self, from: String, thing: T) -> Arc<T> {
        let thing = Arc::new(thing);
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.push_front((from, Arc::clone(&thing)));
        kept.truncate(MOST);
        thing
    }
}

impl<T> std::fmt::Debug for Kept<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Kept")
    }
}

impl<T> Clone for Kept<T> {
    fn clone(&self) -> Self {
        Self(Arc::clone(&self.0))
    }
}

impl<T> Default for Kept<T> {
    fn default() -> Self {
        Self(Arc::default())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_asked_for_last_is_kept() {
        let kept = Kept::default();
        (0..MOST).for_each(|at| drop(kept.put(at.to_string(), at)));
        assert_eq!(kept.get("0").as_deref(), Some(&0));
        kept.put("new".into(), 99);
        assert_eq!((kept.get("0").as_deref(), kept.get("1").as_deref()), (Some(&0), None));
    }
}
