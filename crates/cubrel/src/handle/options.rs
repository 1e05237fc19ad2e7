//! What a query is asked with.

use std::collections::HashMap;
use std::time::{Duration, Instant};

use super::error::Error;
use cubrel_formula::check::Settings;
use cubrel_run::Options;
use cubrel_value::Value;
use cubrel_value::cancel::{Cancel, Ending};

/// What a query is asked with.
#[derive(Clone, Debug, Default)]
pub struct QueryOptions {
    /// The values of `$name`.
    pub parameters: HashMap<String, Vec<Value>>,
    /// The day that `today()` is; by default the one that the model was opened with.
    pub today: Option<i32>,
    /// Who asks: what `user()` gives in a whole model. Who sees a [`View`](crate::View) is who it was made for.
    pub user: Option<String>,
    /// When to give up.
    pub limits: Limits,
    /// Ends it from outside.
    pub cancel: Cancel,
}

impl QueryOptions {
    /// How runs go under its limits; time counts from now.
    pub(crate) fn run_options(&self) -> Options {
        self.limits.options(&self.cancel)
    }

    /// When planning has to end; its time, too, counts from now.
    pub(super) fn ending(&self) -> Ending {
        Ending { deadline: self.limits.deadline(), cancel: self.cancel.clone() }
    }
}

/// What a query may take; whatever is not said is not limited, but for cells.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Limits {
    /// How long planning may take, and each run.
    pub time: Option<Duration>,
    /// How many cells it may have, those inside a `per` included; by default fifty million.
    pub cells: Option<usize>,
    /// How many bytes the groups of one read, or the cells of one grid, may take.
    pub memory: Option<u64>,
}

impl Limits {
    /// As a run takes them; time counts from now.
    pub(super) fn options(&self, cancel: &Cancel) -> Options {
        let mut options = Options { max_bytes: self.memory, cancel: cancel.clone(), ..Options::default() };
        options.deadline = self.deadline();
        options.max_cells = self.cells.unwrap_or(options.max_cells);
        options
    }

    fn deadline(&self) -> Option<Instant> {
        self.time.and_then(|time| Instant::now().checked_add(time))
    }
}

/// Whether whoever asked still waits for a plan.
///
/// # Errors
/// When it has been cancelled or has run out of time.
pub(crate) fn not_ended(settings: &Settings) -> Result<(), Error> {
    let Ending { deadline, cancel } = settings.ending.clone();
    Ok(Options { deadline, cancel, ..Options::default() }.check()?)
}
