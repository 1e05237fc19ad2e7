//! The pieces of a source through all threads: whoever is free codes a segment that is full, or reads the next piece.

use std::collections::BTreeMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use rayon::prelude::*;

use super::LoadError;
use super::pieces::{Failure, Full, Gatherer, Read};

/// Pieces for each thread that may be on their way; some of them wait for one that came earlier.
const PIECES_AHEAD: usize = 3;
/// How long a thread that has nothing to do waits before it looks again.
const PAUSE: Duration = Duration::from_micros(100);

/// Gives `gatherer` what `read` makes of all pieces that `next` gives, in their order.
pub(super) fn run<P: Send>(
    gatherer: &mut Gatherer<'_>,
    next: &mut (impl FnMut() -> Result<Option<P>, LoadError> + Send),
    read: &(impl Fn(P) -> Result<Read, Failure> + Sync),
) -> Result<(), Failure> {
    let threads = rayon::current_num_threads();
    let most = PIECES_AHEAD * threads;
    let queue = Queue { gatherer, most, given: 0, added: 0, ended: false, early: BTreeMap::new(), failure: None };
    let (queue, input) = (Mutex::new(queue), Mutex::new((0, next)));
    let step = || {
        let job = lock(&queue).job();
        match job {
            Job::Leave => return false,
            Job::Wait => {
                if rayon::yield_now() != Some(rayon::Yield::Executed) {
                    std::thread::sleep(PAUSE);
                }
            }
            Job::Code(full) => {
                let coded = full.coded();
                let mut queue = lock(&queue);
                let kept = queue.gatherer.keep(coded);
                kept.unwrap_or_else(|e| queue.fail(e.into()));
            }
            Job::Read => {
                let (number, piece) = {
                    let (count, next) = &mut *lock(&input);
                    *count += 1;
                    (*count - 1, next())
                };
                match piece.transpose() {
                    None => lock(&queue).end(),
                    Some(Err(e)) => {
                        let mut queue = lock(&queue);
                        queue.ended = true;
                        queue.put(number, Err(e.into()));
                    }
                    Some(Ok(piece)) => {
                        let read = read(piece);
                        lock(&queue).put(number, read);
                    }
                }
            }
        }
        true
    };
    (0..threads).into_par_iter().with_max_len(1).for_each(|_| while step() {});
    let queue = queue.into_inner().unwrap_or_else(PoisonError::into_inner);
    queue.failure.map_or(Ok(()), Err)
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What is on its way.
struct Queue<'q, 'g> {
    gatherer: &'q mut Gatherer<'g>,
    /// Pieces that may be.
    most: usize,
    /// Pieces that threads were told to read, and those of them that the table has.
    given: usize,
    added: usize,
    ended: bool,
    /// Pieces that were read before an earlier one was.
    early: BTreeMap<usize, Result<Read, Failure>>,
    /// Why nothing more is read.
    failure: Option<Failure>,
}

/// What a thread does next.
enum Job {
    Code(Full),
    Read,
    Wait,
    Leave,
}

impl Queue<'_, '_> {
    fn job(&mut self) -> Job {
        if self.gatherer.is_cancelled() {
            self.fail(LoadError::Cancelled.into());
        }
        if self.failure.is_some() {
            return Job::Leave;
        }
        if let Some(full) = self.gatherer.next_full() {
            return Job::Code(full);
        }
        // What is still full waits until it is known how to sort it.
        if self.given - self.added >= self.most || self.gatherer.has_full() {
            return Job::Wait;
        }
        if self.ended {
            return Job::Leave;
        }
        self.given += 1;
        Job::Read
    }

    /// There was no piece for who was told to read one.
    fn end(&mut self) {
        self.ended = true;
        self.given -= 1;
    }

    fn put(&mut self, number: usize, read: Result<Read, Failure>) {
        if self.failure.is_some() {
            return;
        }
        self.early.insert(number, read);
        while let Some(read) = self.early.remove(&self.added) {
            self.added += 1;
            if let Err(failure) = self.gatherer.add(read) {
                return self.fail(failure);
            }
        }
    }

    fn fail(&mut self, failure: Failure) {
        self.failure.get_or_insert(failure);
        self.early.clear();
    }
}
