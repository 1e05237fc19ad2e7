//! Rows of a file that one thread reads.

use std::path::Path;

use arrow_array::RecordBatch;

use super::super::LoadError;
use super::super::failure::Failure;
use cubrel_formula::source::{Diagnostic, Problem};

/// Some rows of a row group, and what reads them.
pub(super) struct GroupRows {
    /// Which row group.
    pub(super) group: usize,
    /// Gives their batches, one after the other.
    pub(super) read: RowBatches,
}

/// Gives batches of a file's rows.
pub(super) type RowBatches =
    Box<dyn FnOnce(&Path, &mut dyn FnMut(&RecordBatch) -> Result<(), Failure>) -> Result<(), Failure> + Send>;

pub(super) fn data_problem(path: &Path, error: impl std::fmt::Display) -> LoadError {
    let message = format!("{} cannot be read: {error}", path.display());
    Diagnostic::general(Problem::Data, message).help("the file is damaged, or not what its name says").into()
}
