//! Expressions over rows, made ready: as much of them as possible is computed once for each code of an anchor (see
//! [`super::tables`] and `by_code`).
//!
//! * [`row`]: an expression that is ready, its leaves, and what it gives for the rows of a batch
//! * [`compiler`]: makes them ready
//! * `numbered`: texts of which only is wanted whether they differ
//! * [`whole`]: leaves that are whole vectors, where no batch is read

mod compiler;
mod numbered;
mod row;
mod whole;

pub use compiler::{Outer, RowCompiler};
pub use row::{BatchCodes, CompiledRow, FloatComparison};
pub use whole::{WholeLeaves, membership};
