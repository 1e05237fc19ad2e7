//! Why something could not be done.

use std::sync::Arc;

use serde::Serialize;

use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_load::LoadError;
use cubrel_run::RunError;

/// Why something could not be done.
#[derive(Clone, Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The model, its data or a formula is wrong; every problem is listed.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
    Problems(Vec<Diagnostic>),
    /// A file could not be read or written.
    #[error("{path}: {error}")]
    Io {
        /// Which one.
        path: String,
        /// Why.
        error: Arc<std::io::Error>,
    },
    /// A query could not be run.
    #[error(transparent)]
    Run(RunError),
    /// It was ended from outside; see [`crate::Cancel`].
    #[error("it was cancelled")]
    Cancelled,
    /// A part of the store that was used is not what was written. A refresh reads the sources again.
    #[error("the store is damaged: {0}")]
    Damaged(String),
    /// A mistake of this library, found before it could become a wrong number.
    #[error("a fault of the library, and not of the model: {0}. Please report it, with the formulas that it was given")]
    Internal(String),
    /// A result cannot be given in the form asked for.
    #[error("{0}")]
    Form(String),
    /// Something is asked for by a name that nothing has.
    #[error("{0}")]
    Unknown(String),
}

/// What an [`Error`] is about, for callers that want to act on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum ErrorKind {
    /// The model, its data or a formula is wrong: mend it.
    Problems,
    /// A file could not be read or written.
    Io,
    /// It would take more time, memory or cells than it may.
    Limit,
    /// It was ended from outside.
    Cancelled,
    /// The store is not what was written: a refresh reads the sources again.
    Damaged,
    /// Something is asked for by a name that nothing has.
    Unknown,
    /// A result cannot be given in the form asked for.
    Form,
    /// A mistake of this library.
    Internal,
}

impl Error {
    /// A file could not be read or written.
    pub fn io(path: impl Into<String>, error: std::io::Error) -> Error {
        Error::Io { path: path.into(), error: Arc::new(error) }
    }

    /// What it is about.
    pub fn kind(&self) -> ErrorKind {
        match self {
            Error::Problems(_) => ErrorKind::Problems,
            Error::Io { .. } => ErrorKind::Io,
            Error::Run(RunError::Limit(_)) => ErrorKind::Limit,
            Error::Run(RunError::Cancelled) | Error::Cancelled => ErrorKind::Cancelled,
            Error::Run(RunError::Form(_)) | Error::Form(_) => ErrorKind::Form,
            Error::Run(RunError::Eval(_)) => ErrorKind::Problems,
            Error::Damaged(_) => ErrorKind::Damaged,
            Error::Internal(_) => ErrorKind::Internal,
            Error::Unknown(_) => ErrorKind::Unknown,
        }
    }

    /// Where the first problem stands: the file, the line and the column, both counted from one.
    pub fn place(&self) -> Option<(&str, usize, usize)> {
        self.problems().iter().find_map(Diagnostic::place)
    }

    /// The problems, if that is what is wrong.
    pub fn problems(&self) -> &[Diagnostic] {
        match self {
            Error::Problems(list) => list,
            _ => &[],
        }
    }
}

/// What cannot be computed is a problem of a formula, with its place; the rest is about the run.
impl From<RunError> for Error {
    fn from(e: RunError) -> Error {
        match e {
            RunError::Eval(e) => {
                let problem = Diagnostic::error(Problem::Data, &e.place.source, e.place.span, e.text());
                Error::Problems(vec![problem])
            }
            RunError::Cancelled => Error::Cancelled,
            RunError::Form(why) => Error::Form(why),
            other => Error::Run(other),
        }
    }
}

impl From<LoadError> for Error {
    fn from(e: LoadError) -> Error {
        match e {
            LoadError::Problems(list) => Error::Problems(list),
            LoadError::Io { path, error } => Error::io(path, error),
            LoadError::Cancelled => Error::Cancelled,
        }
    }
}

impl From<Vec<Diagnostic>> for Error {
    fn from(list: Vec<Diagnostic>) -> Error {
        Error::Problems(list)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Cancel, Limits, Model, QueryOptions, Type, Value};

    #[test]
    fn what_went_wrong_is_told_by_kind_and_place() {
        let rows = [vec![Value::text("r1"), Value::Int(10)], vec![Value::text("r2"), Value::Int(0)]];
        let model = Model::builder()
            .rows("booking", &[("route", Type::Text), ("net", Type::Int)], &rows)
            .measure("net", "sum(booking.net)")
            .build()
            .unwrap();
        let cells = QueryOptions { limits: Limits { cells: Some(1), ..Limits::default() }, ..QueryOptions::default() };
        let cancelled = QueryOptions::default();
        cancelled.cancel.cancel();
        let plain = QueryOptions { cancel: Cancel::default(), ..QueryOptions::default() };
        let cases = [
            ("grid nett", &plain, ErrorKind::Problems, Some((1, 6))),
            ("grid net by\n  booking.rout", &plain, ErrorKind::Problems, Some((2, 3))),
            ("grid cast(max(booking.route) as int)", &plain, ErrorKind::Problems, Some((1, 6))),
            ("grid net by booking.route", &cells, ErrorKind::Limit, None),
            ("grid net by booking.route", &cancelled, ErrorKind::Cancelled, None),
        ];
        for (text, options, kind, place) in cases {
            let error = model.query_with(text, options).and_then(|query| query.run()).unwrap_err();
            assert_eq!(error.kind(), kind, "{text}: {error}");
            let found = error.place();
            assert_eq!(found.map(|(_, line, column)| (line, column)), place, "{text}: {error}");
            assert_eq!(found.map(|(name, ..)| name), place.map(|_| "query"), "{text}");
        }
    }
}
