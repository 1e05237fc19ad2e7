//! How many questions are worked on at once: in all, of one person, and how many may wait.

use std::collections::HashMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// How long a question may wait for its turn.
pub const LONGEST_WAIT: Duration = Duration::from_secs(30);
/// Seconds after which whoever was sent away may try again.
pub const TRY_AGAIN: u32 = 2;

/// Lets so many in.
#[derive(Debug)]
pub struct Gate {
    all: Arc<Semaphore>,
    each: usize,
    by_person: Mutex<HashMap<String, Arc<Semaphore>>>,
    waiting: AtomicUsize,
    queue: usize,
}

/// The right to be worked on, as long as it is kept.
#[derive(Debug)]
pub struct Turn {
    _all: OwnedSemaphorePermit,
    _own: OwnedSemaphorePermit,
}

/// There is no room, and no room to wait in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Full;

/// Counts who waits, also of those that go away while they do.
struct Waiting<'a>(&'a AtomicUsize);

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Gate {
    /// So many at once, so many of one person, and so many that wait.
    pub fn new(at_once: usize, each: usize, queue: usize) -> Gate {
        Gate {
            all: Arc::new(Semaphore::new(at_once)),
            each,
            by_person: Mutex::default(),
            waiting: AtomicUsize::new(0),
            queue,
        }
    }

    /// How many wait.
    pub fn waiting(&self) -> usize {
        self.waiting.load(Ordering::Relaxed)
    }

    fn own(&self, person: &str) -> Arc<Semaphore> {
        let mut people = self.by_person.lock().unwrap_or_else(PoisonError::into_inner);
        // Of people who ask nothing now, nothing need be remembered.
        people.retain(|name, own| name == person || Arc::strong_count(own) > 1);
        people.entry(person.to_string()).or_insert_with(|| Arc::new(Semaphore::new(self.each))).clone()
    }

    /// Waits for a turn.
    ///
    /// # Errors
    /// When too many wait already, or it takes too long.
    pub async fn enter(&self, person: &str) -> Result<Turn, Full> {
        let (own, all) = (self.own(person), self.all.clone());
        if let Ok(own) = own.clone().try_acquire_owned()
            && let Ok(all) = all.clone().try_acquire_owned()
        {
            return Ok(Turn { _all: all, _own: own });
        }
        let before = self.waiting.fetch_add(1, Ordering::Relaxed);
        let _waiting = Waiting(&self.waiting);
        if before >= self.queue {
            return Err(Full);
        }
        let both = async {
            // First what only this person holds up.
            let own = own.acquire_owned().await.map_err(|_| Full)?;
            let all = all.acquire_owned().await.map_err(|_| Full)?;
            Ok(Turn { _all: all, _own: own })
        };
        tokio::time::timeout(LONGEST_WAIT, both).await.unwrap_or(Err(Full))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn one_person_cannot_keep_all_others_out() {
        let gate = Arc::new(Gate::new(3, 2, 1));
        let (a, b) = (gate.enter("ann").await.unwrap(), gate.enter("ann").await.unwrap());
        let waits = tokio::spawn({
            let gate = gate.clone();
            async move { gate.enter("ann").await.map(|_| ()) }
        });
        while gate.waiting() == 0 {
            tokio::task::yield_now().await;
        }
        let ben = gate.enter("ben").await.unwrap();
        assert_eq!(gate.enter("ann").await.map(|_| ()), Err(Full), "the queue has one place");
        drop(a);
        assert_eq!(waits.await.unwrap(), Ok(()));
        assert_eq!(gate.waiting(), 0);
        drop((b, ben));
        assert!(gate.enter("cid").await.is_ok());
    }

    #[tokio::test]
    async fn who_goes_away_while_waiting_leaves_its_place() {
        let gate = Arc::new(Gate::new(1, 1, 1));
        let turn = gate.enter("ann").await.unwrap();
        let waits = tokio::time::timeout(Duration::from_millis(20), gate.enter("ben")).await;
        assert!(waits.is_err());
        assert_eq!(gate.waiting(), 0);
        drop(turn);
        assert!(gate.enter("ben").await.is_ok());
    }
}
