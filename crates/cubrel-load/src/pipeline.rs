//! The pieces of a source through all threads: whoever is free codes a segment that is full, or reads the next piece.

use std::collections::BTreeMap;
use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Duration;

use super::failure::{Failure, LoadError};
use cubrel_value::threads::{each_part, lock};

/// Pieces for each thread that may be on their way; some of them wait for one that came earlier. (Fewer where others are at work.)
const PIECES_AHEAD: usize = 2;
/// After so long a thread that waits looks whether all has been cancelled: nobody tells it.
const LOOKED: Duration = Duration::from_millis(10);

/// What takes the pieces of a source in their order, and gives away segments that are full to whoever is free to code them.
pub(super) trait Assembler: Send {
    /// A piece that has been read.
    type Piece: Send;
    /// A segment that waits to be coded.
    type Full: Send;
    /// A segment that has been coded.
    type Coded: Send;

    /// Takes the next piece.
    fn add(&mut self, piece: Result<Self::Piece, Failure>) -> Result<(), Failure>;
    /// A segment that can be coded now.
    fn next_full(&mut self) -> Option<Self::Full>;
    /// Whether segments wait to be coded.
    fn has_full(&self) -> bool;
    /// Whether a segment is being coded.
    fn is_coding(&self) -> bool;
    /// Whether somebody else keeps the processors busy meanwhile.
    fn is_shared(&self) -> bool;
    /// Codes one.
    fn code(full: Self::Full) -> Self::Coded;
    /// Takes one back.
    fn keep(&mut self, coded: Self::Coded) -> Result<(), LoadError>;
    /// Whether it is to end.
    fn is_cancelled(&self) -> bool;
}

/// Gives `assembler` what `read` makes of all pieces that `next` gives, in their order.
pub(super) fn run<A: Assembler, P: Send>(
    assembler: &mut A,
    next: &mut (impl FnMut() -> Result<Option<P>, LoadError> + Send),
    read: &(impl Fn(P) -> Result<A::Piece, Failure> + Sync),
) -> Result<(), Failure> {
    let threads = rayon::current_num_threads();
    let queue = Queue { assembler, threads, given: 0, added: 0, ended: false, early: BTreeMap::new(), failure: None };
    let (queue, input) = (Mutex::new(queue), Mutex::new((0, next)));
    let changed = Condvar::new();
    let step = || {
        let job = lock(&queue).job();
        match job {
            Job::Leave => return false,
            Job::Wait => {
                // Other work of the pool comes first; without any, until somebody has changed something.
                if rayon::yield_now() != Some(rayon::Yield::Executed) {
                    let waiting = lock(&queue);
                    if waiting.has_to_wait() {
                        drop(changed.wait_timeout(waiting, LOOKED));
                    }
                }
                return true;
            }
            Job::Code(full) => {
                let coded = A::code(full);
                lock(&queue).keep(coded);
            }
            Job::Read => {
                let (number, piece) = {
                    let (count, next) = &mut *lock(&input);
                    *count += 1;
                    (*count - 1, next())
                };
                match piece.transpose() {
                    None => lock(&queue).end(),
                    Some(Err(e)) => lock(&queue).end_with(number, e),
                    Some(Ok(piece)) => {
                        let read = read(piece);
                        lock(&queue).put(number, read);
                    }
                }
            }
        }
        changed.notify_all();
        true
    };
    each_part(threads, &|_| while step() {});
    let queue = queue.into_inner().unwrap_or_else(PoisonError::into_inner);
    queue.failure.map_or(Ok(()), Err)
}

/// What is on its way.
struct Queue<'q, A: Assembler> {
    assembler: &'q mut A,
    threads: usize,
    /// Pieces that threads were told to read, and those of them that the table has.
    given: usize,
    added: usize,
    ended: bool,
    /// Pieces that were read before an earlier one was.
    early: BTreeMap<usize, Result<A::Piece, Failure>>,
    /// Why nothing more is read.
    failure: Option<Failure>,
}

/// What a thread does next.
enum Job<F> {
    Code(F),
    Read,
    Wait,
    Leave,
}

impl<A: Assembler> Queue<'_, A> {
    fn job(&mut self) -> Job<A::Full> {
        if self.assembler.is_cancelled() {
            self.fail(LoadError::Cancelled.into());
        }
        if self.failure.is_some() {
            return Job::Leave;
        }
        if let Some(full) = self.assembler.next_full() {
            return Job::Code(full);
        }
        if self.has_to_wait() {
            return Job::Wait;
        }
        if self.ended {
            return Job::Leave;
        }
        self.given += 1;
        Job::Read
    }

    /// Whether enough is on its way. What is still full waits until it is known how to sort it.
    fn has_to_wait(&self) -> bool {
        // The processors have other work: a piece for each thread will do, or a segment that is coded.
        let is_shared = self.assembler.is_shared();
        let most = if is_shared { self.threads } else { PIECES_AHEAD * self.threads };
        let is_enough = self.given - self.added >= most || self.assembler.has_full();
        self.failure.is_none() && (is_enough || is_shared && self.assembler.is_coding())
    }

    fn keep(&mut self, coded: A::Coded) {
        if let Err(e) = self.assembler.keep(coded) {
            self.fail(e.into());
        }
    }

    /// There are no more pieces, and this is why.
    fn end_with(&mut self, number: usize, why: LoadError) {
        self.ended = true;
        self.put(number, Err(why.into()));
    }

    /// There was no piece for who was told to read one.
    fn end(&mut self) {
        self.ended = true;
        self.given -= 1;
    }

    fn put(&mut self, number: usize, read: Result<A::Piece, Failure>) {
        if self.failure.is_some() {
            return;
        }
        self.early.insert(number, read);
        while let Some(read) = self.early.remove(&self.added) {
            self.added += 1;
            if let Err(failure) = self.assembler.add(read) {
                return self.fail(failure);
            }
        }
    }

    fn fail(&mut self, failure: Failure) {
        self.failure.get_or_insert(failure);
        self.early.clear();
    }
}
