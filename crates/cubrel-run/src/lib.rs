//! Plans to results: reads over the store, assembly, grids.
//!
//! * `frame`: many cells at once; `one_cell`: one of them, looked at from inside
//! * `tables`: the data, and what a row's values hang off; `compiled`: expressions over rows, made ready;
//!   `by_code`: once for each code of what they hang off; `coded_numbers`: numbers that follow from codes
//! * `read`, `accumulate`: one grouped pass over a table
//! * `domain`: the combinations that cells and `per` go through
//! * `assemble`: operators over the results of reads
//! * `combinations`: combinations of codes, numbered; `cells`: values of many cells; `by_value`: those for many values
//! * `reads`: the reads of a plan, each done once; `remembered`: what they find out alike
//! * `current`: columns of bound rows
//! * `first`: the first of many
//! * `located`: where something cannot be computed, in words
//! * `periods`: days under period edits, and aggregates over them
//! * `sets`: what `top` and `bottom` choose
//! * `outside`: what a `where` takes from outside
//! * `grid`: lines, order, limits, totals
//!
//! Other layers use what stands in this file, and nothing else.

#![cfg_attr(test, allow(clippy::unwrap_used))]

mod accumulate;
mod assemble;
mod by_code;
mod by_value;
mod cells;
mod coded_numbers;
mod combinations;
mod compiled;
mod current;
mod domain;
mod first;
mod frame;
mod fused;
mod grid;
mod located;
mod one_cell;
mod outside;
mod pairs;
mod periods;
mod read;
mod reads;
mod remembered;
mod sets;
mod tables;

// Queries.
pub use grid::{
    Grid, GridColumn, GridColumnKind, GridLayout, GridLine, GridReading, LaidOutColumn, LineKind, RunProfile,
    arrow_schema, columns_of, marks_of, run,
};
#[cfg(any(test, feature = "internals"))]
pub use {read::ReadStats, reads::ReadProfile};
// Formulas by themselves: for all rows of a table, or in one cell.
pub use assemble::Executor;
pub use frame::{BoundValue, Frame, KeyColumn, Members};
#[cfg(any(test, feature = "internals"))]
pub use one_cell::CellCombinations;
pub use one_cell::OneCell;
pub use outside::{base_frame, outer_values};
pub use tables::Tables;
// Rows of tables.
pub use read::{alike_rows, filter_rows};

use std::time::Instant;

use cubrel_formula::scalar::{EvalError, Place, Scalar};
use cubrel_value::cancel::Cancel;
use cubrel_value::units;

/// How queries are run. The defaults are right for users; tests run every configuration against the others.
#[derive(Clone, Debug)]
pub struct Options {
    /// Run the plan that its cheaper passes have left, not the one that formulas say.
    pub optimize: bool,
    /// Work out what hangs off a key once for each of its codes.
    pub hoist: bool,
    /// Keep what chains of relationships lead to, for the next query.
    pub keep_chains: bool,
    /// Tell segments of which every row is wanted by what is known of all their rows together.
    pub totals: bool,
    /// Pass over stretches of rows of which no filter on an own column lets any through.
    pub spans: bool,
    /// Leave out combinations for which nothing can be read, when there are more than this many.
    pub sparse_above: usize,
    /// Read once for each set of days, never by day.
    pub days_by_set: bool,
    /// Number groups by hash, always.
    pub hash_groups: bool,
    /// Of more rows than this, of which nearly each has a group of its own, the groups are numbered by sorting the keys of all rows.
    pub sorted_above: usize,
    /// Keys reached over one relationship count together where at least so many rows pass for each row at its end; always for none.
    pub rows_per_combined: u64,
    /// Of more groups than this, of which only few rows' are wanted, those alone are kept that come.
    pub thin_above: usize,
    /// In reads of more rows than this, rows whose groups no cell asks for are not looked at where a key has more codes than this,
    /// and groups that `having` or a limit drop are dropped before they are cells.
    pub wanted_above: usize,
    /// Of a column with more codes than this, conditions are told by several ranges of codes, or by a bit for each, not by an array over
    /// them: one that stays in the nearest cache is as fast. What is one range of codes is told by that, however few they are. And what
    /// they add to the numbers of groups has a byte each where that is enough.
    pub many_codes: usize,
    /// Rows of a part that one thread works on.
    pub part_rows: Option<usize>,
    /// Do not use several threads.
    pub one_thread: bool,
    /// When rows that are alike in all that a read needs are taken together.
    pub runs: Runs,
    /// Cells that a query may have, those inside a `per` included.
    pub max_cells: usize,
    /// Bytes that one read's groups, or one set of cells, may take; by default as much as there is.
    pub max_bytes: Option<u64>,
    /// When a query has to give up.
    pub deadline: Option<Instant>,
    /// Set from outside to end a query.
    pub cancel: Cancel,
}

/// When rows that are alike in all that a read needs are taken together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Runs {
    /// Where the columns say that there are far fewer runs than rows.
    WhereShort,
    /// Wherever rows can be told apart by the columns alone.
    #[cfg_attr(not(feature = "internals"), allow(dead_code, reason = "only tests want that"))]
    Always,
    /// Never.
    Never,
}

impl Default for Options {
    fn default() -> Options {
        Options {
            optimize: true,
            hoist: true,
            keep_chains: true,
            totals: true,
            spans: true,
            sparse_above: 1 << 14,
            days_by_set: false,
            hash_groups: false,
            sorted_above: 1 << 19,
            rows_per_combined: 4,
            thin_above: 1 << 16,
            wanted_above: 1 << 16,
            many_codes: 1 << 12,
            part_rows: None,
            one_thread: false,
            runs: Runs::WhereShort,
            max_cells: 50_000_000,
            max_bytes: None,
            deadline: None,
            cancel: Cancel::default(),
        }
    }
}

impl Options {
    /// Whether to go on.
    ///
    /// # Errors
    /// When the query was cancelled or has run out of time.
    pub fn check(&self) -> Result<(), RunError> {
        if self.cancel.is_cancelled() {
            return Err(RunError::Cancelled);
        }
        match self.deadline {
            Some(deadline) if Instant::now() > deadline => {
                Err(RunError::Limit("the time limit was reached: filter, or use fewer axes".into()))
            }
            _ => Ok(()),
        }
    }

    /// Whether so many bytes are allowed for what is named.
    ///
    /// # Errors
    /// When they are not.
    pub fn check_bytes(&self, bytes: u64, what: impl FnOnce() -> String) -> Result<(), RunError> {
        match self.max_bytes {
            Some(most) if bytes > most => Err(RunError::Limit(format!(
                "{} take {}, more than the memory limit of {}: filter, or group by fewer columns",
                what(),
                units::bytes(bytes),
                units::bytes(most)
            ))),
            _ => Ok(()),
        }
    }
}

/// Why a query has no result.
#[derive(Clone, Debug, thiserror::Error)]
pub enum RunError {
    /// Part of a formula cannot be computed for some row or cell.
    #[error("{}", .0.text())]
    Eval(Box<EvalError>),
    /// A limit was reached.
    #[error("{0}")]
    Limit(String),
    /// Someone ended the query.
    #[error("it was cancelled")]
    Cancelled,
    /// A result cannot be given in the form asked for.
    #[error("{0}")]
    Form(String),
}

impl RunError {
    /// An aggregate that could not be computed, by its argument.
    pub(crate) fn in_argument(message: String, arg: Option<&Scalar>) -> RunError {
        match arg {
            Some(arg) => RunError::in_formula(message, &arg.place),
            None => RunError::Limit(message),
        }
    }

    /// An error in a formula, of which it is not known where.
    pub fn in_formula(message: impl Into<String>, place: &Place) -> RunError {
        let at = Some(String::new());
        RunError::Eval(Box::new(EvalError { message: message.into(), place: place.clone(), slot: 0, at }))
    }
}

impl From<EvalError> for RunError {
    fn from(e: EvalError) -> RunError {
        RunError::Eval(Box::new(e))
    }
}
