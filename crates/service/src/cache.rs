//! The last few things that were worked out, by what they were worked out from.

use std::collections::VecDeque;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

/// Things with what they were worked out from, the one asked for last first.
type Things<K, T> = VecDeque<(K, Arc<T>)>;

/// What was asked for last, as far as there is room.
pub struct PolicyCache<K, T> {
    things: Arc<Mutex<Things<K, T>>>,
    /// For how much in all; the one that was put last is kept whatever it takes.
    room: usize,
    takes: fn(&T) -> usize,
}

impl<K: PartialEq, T> PolicyCache<K, T> {
    /// For so many things.
    pub fn most(things: usize) -> Self {
        Self::within(things, |_| 1)
    }

    /// For as many as have room, by what each takes of it.
    pub fn within(room: usize, takes: fn(&T) -> usize) -> Self {
        Self { things: Arc::default(), room, takes }
    }

    /// What was worked out from the same.
    pub fn get(&self, from: &K) -> Option<Arc<T>> {
        // What was broken off in another thread has left whole things.
        let mut things = self.things.lock().unwrap_or_else(PoisonError::into_inner);
        let at = things.iter().position(|(there, _)| there == from)?;
        let found = things.remove(at)?;
        let thing = Arc::clone(&found.1);
        things.push_front(found);
        Some(thing)
    }

    /// What was worked out from the same, or else what comes of the work, which is kept.
    ///
    /// # Errors
    /// If the work fails; then nothing is kept.
    pub async fn or_put<E>(&self, from: K, work: impl Future<Output = Result<T, E>>) -> Result<Arc<T>, E> {
        match self.get(&from) {
            Some(kept) => Ok(kept),
            None => Ok(self.put(from, work.await?)),
        }
    }

    /// Forgets everything.
    pub fn clear(&self) {
        self.things.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    /// Keeps what was worked out, in the place of what was not asked for longest.
    pub fn put(&self, from: K, thing: T) -> Arc<T> {
        let thing = Arc::new(thing);
        let mut things = self.things.lock().unwrap_or_else(PoisonError::into_inner);
        things.retain(|(there, _)| *there != from);
        things.push_front((from, Arc::clone(&thing)));
        let mut taken = 0;
        let within = things.iter().take_while(|(_, thing)| {
            taken += (self.takes)(thing);
            taken <= self.room
        });
        let within = within.count().max(1);
        things.truncate(within);
        thing
    }
}

impl<K, T> fmt::Debug for PolicyCache<K, T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Kept")
    }
}

impl<K, T> Clone for PolicyCache<K, T> {
    fn clone(&self) -> Self {
        Self { things: Arc::clone(&self.things), room: self.room, takes: self.takes }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_asked_for_last_is_kept() {
        let kept = PolicyCache::most(12);
        (0..12).for_each(|at| drop(kept.put(at.to_string(), at)));
        assert_eq!(kept.get(&"0".into()).as_deref(), Some(&0));
        kept.put("new".into(), 99);
        assert_eq!((kept.get(&"0".into()).as_deref(), kept.get(&"1".into()).as_deref()), (Some(&0), None));
    }

    #[test]
    fn as_many_are_kept_as_have_room_and_the_last_always() {
        let kept = PolicyCache::within(10, |size: &usize| *size);
        [4, 5, 3].into_iter().for_each(|size| drop(kept.put(size, size)));
        assert_eq!([4, 5, 3].map(|size| kept.get(&size).is_some()), [false, true, true]);
        kept.put(50, 50);
        assert_eq!([5, 3, 50].map(|size| kept.get(&size).is_some()), [false, false, true]);
    }

    #[test]
    fn what_is_put_again_takes_the_place_of_what_was_there() {
        let kept = PolicyCache::most(2);
        kept.put("a", 1);
        (0..5).for_each(|at| drop(kept.put("b", at)));
        assert_eq!([kept.get(&"a"), kept.get(&"b")].map(|found| found.as_deref().copied()), [Some(1), Some(4)]);
    }
}
