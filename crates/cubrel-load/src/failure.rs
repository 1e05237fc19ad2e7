//! Why something is not loaded.

use std::io;
use std::path::Path;

use cubrel_formula::scalar::EvalError;
use cubrel_formula::source::Diagnostic;

/// Why a refresh has not replaced anything.
#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    /// The model or its data is wrong.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
    Problems(Vec<Diagnostic>),
    /// A file could not be read or written.
    #[error("{path}: {error}")]
    Io {
        /// Which one.
        path: String,
        /// Why.
        error: io::Error,
    },
    /// It was ended from outside.
    #[error("it was cancelled")]
    Cancelled,
}

impl LoadError {
    /// A file could not be read or written.
    pub fn io(path: &Path, error: io::Error) -> LoadError {
        LoadError::Io { path: path.display().to_string(), error }
    }
}

impl From<Diagnostic> for LoadError {
    fn from(problem: Diagnostic) -> LoadError {
        LoadError::Problems(vec![problem])
    }
}

/// Why a piece cannot be taken.
pub(super) enum Failure {
    Load(LoadError),
    /// A formula fails in a row of the piece; the batch that it stands in begins at this row.
    Row(Box<EvalError>, usize),
    /// A value is not of the type that the column was taken to have.
    TypeMismatch,
}

impl From<LoadError> for Failure {
    fn from(e: LoadError) -> Failure {
        Failure::Load(e)
    }
}
