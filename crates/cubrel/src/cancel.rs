//! Ending work from outside.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

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
