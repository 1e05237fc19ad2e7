//! Where the library was built without SQLite.

use std::io::{self, Write};
use std::path::Path;

use super::super::LoadError;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::Type;

const WITHOUT: &str = "this library was built without SQLite";

fn absent() -> LoadError {
    Diagnostic::general(Problem::Unsupported, WITHOUT).help("build it with the feature `sqlite`").into()
}

/// The first and last value of a query's two columns.
///
/// # Errors
/// Always.
pub fn ends(_: &Path, _: &str) -> Result<Option<(String, String)>, LoadError> {
    Err(absent())
}

/// The types of a query's values.
///
/// # Errors
/// Always.
pub fn look(_: &Path, _: &str) -> Result<Vec<(String, Option<Type>)>, LoadError> {
    Err(absent())
}

/// The rows of a query.
///
/// # Errors
/// Always.
pub fn write(_: &Path, _: &str, _: impl Write) -> io::Result<()> {
    Err(io::Error::other(WITHOUT))
}

/// The tables of a database.
pub fn tables(_: &Path) -> Vec<String> {
    Vec::new()
}
