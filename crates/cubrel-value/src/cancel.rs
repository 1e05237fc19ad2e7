//! Ending work from outside.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Instant;

/// Ends what was started with it: queries, explanations, profiles, comparisons, builds and refreshes. Clones end the same
/// work; it can be cancelled from any thread, and stays cancelled.
///
/// ```
/// # fn main() -> Result<(), cubrel::Error> {
/// use cubrel::{Cancel, Error, Model, QueryOptions};
///
/// let model = Model::builder().measure("answer", "6 * 7").build()?;
/// let cancel = Cancel::default();
/// let options = QueryOptions { cancel: cancel.clone(), ..QueryOptions::default() };
/// let query = model.query_with("grid answer", &options)?;
/// assert!(query.run().is_ok());
/// cancel.cancel();
/// assert!(matches!(query.run(), Err(Error::Cancelled)));
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug, Default)]
pub struct Cancel(Arc<AtomicBool>);

impl Cancel {
    /// Ends the work, as soon as it looks.
    pub fn cancel(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether the work is to end.
    pub fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// When work has to end before it is done.
#[derive(Clone, Debug, Default)]
pub struct Ending {
    /// When its time is up.
    pub deadline: Option<Instant>,
    /// Ends it from outside.
    pub cancel: Cancel,
}

impl Ending {
    /// Whether it has come.
    pub fn has_come(&self) -> bool {
        self.cancel.is_cancelled() || self.deadline.is_some_and(|deadline| Instant::now() > deadline)
    }
}
