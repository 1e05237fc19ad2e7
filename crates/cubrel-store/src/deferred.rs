//! What is made when it is used for the first time.

use std::fmt;
use std::sync::{Arc, OnceLock};

/// Something that is made on first use, once, whoever asks.
pub struct Deferred<T> {
    make: Box<dyn Fn() -> T + Send + Sync>,
    made: OnceLock<Arc<T>>,
}

impl<T: Send + Sync> Deferred<T> {
    /// To be made later.
    pub fn new(make: impl Fn() -> T + Send + Sync + 'static) -> Deferred<T> {
        Deferred { make: Box::new(make), made: OnceLock::new() }
    }

    /// What it is.
    pub fn get(&self) -> &Arc<T> {
        self.made.get_or_init(|| Arc::new(apart(&self.make)))
    }
}

impl<T> fmt::Debug for Deferred<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Deferred").field("made", &self.made.get().is_some()).finish()
    }
}

/// Does some work on threads of its own. Whoever waits for it may be one of the threads that share other work: were it
/// done among them, one of them could come to wait for itself.
fn apart<T: Send>(work: &(dyn Fn() -> T + Send + Sync)) -> T {
    let there = || match rayon::ThreadPoolBuilder::new().build() {
        Ok(threads) => threads.install(work),
        // Without threads of its own it is done on this one, which shares no other work.
        Err(_) => work(),
    };
    std::thread::scope(|scope| match scope.spawn(there).join() {
        Ok(done) => done,
        Err(panic) => std::panic::resume_unwind(panic),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rayon::prelude::*;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[test]
    fn it_is_made_once_also_by_threads_that_share_work() {
        let times = Arc::new(AtomicUsize::new(0));
        let counted = times.clone();
        let inner = Arc::new(Deferred::new(move || {
            counted.fetch_add(1, Ordering::Relaxed);
            (0..10_000u64).into_par_iter().sum::<u64>()
        }));
        let outer = Deferred::new(move || (0..100).into_par_iter().map(|_| **inner.get()).max().unwrap());
        let all: Vec<u64> = (0..1000).into_par_iter().map(|_| **outer.get()).collect();
        assert!(all.iter().all(|sum| *sum == 49_995_000));
        assert_eq!(times.load(Ordering::Relaxed), 1);
    }
}
