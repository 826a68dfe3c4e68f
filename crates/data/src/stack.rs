//! Room for deep recursion.

use std::panic::resume_unwind;
use std::thread::{Builder, scope};

/// Bytes of stack: the parser of SQL takes some hundred kilobytes for a bracket within a bracket where it is not
/// optimised. What is not touched takes no memory.
const ROOM: usize = 64 << 20;

/// Runs something on a stack of its own, which is large; on the present one where the system gives no thread.
pub fn with_room<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    let mut work = Some(work);
    let mut done = None;
    scope(|scope| {
        let (work, done) = (&mut work, &mut done);
        let thread = Builder::new().stack_size(ROOM).spawn_scoped(scope, || *done = work.take().map(|work| work()));
        if let Ok(Err(panic)) = thread.map(std::thread::ScopedJoinHandle::join) {
            resume_unwind(panic);
        }
    });
    match (done, work) {
        (Some(done), _) => done,
        (None, Some(work)) => work(),
        (None, None) => unreachable!("work that was taken was done, or its panic went on"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_done_there_comes_back_and_so_does_a_panic() {
        fn deep(n: usize) -> usize {
            let place = std::hint::black_box([n; 512]);
            if n == 0 { 0 } else { 1 + deep(place[1] - 1) }
        }
        assert_eq!(with_room(|| deep(6_000)), 6_000);
        assert!(std::panic::catch_unwind(|| with_room(|| panic!("inside"))).is_err());
    }
}
