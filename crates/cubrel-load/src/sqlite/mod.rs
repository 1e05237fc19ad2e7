//! Tables and queries of SQLite databases. Rows become delimited text, whose types are then found as everywhere.

#[cfg(not(feature = "sqlite"))]
mod absent;
#[cfg(feature = "sqlite")]
mod reading;

#[cfg(not(feature = "sqlite"))]
pub use absent::{ends, look, tables, write};
#[cfg(feature = "sqlite")]
pub use reading::{ends, look, tables, write};

use super::database::DatabaseQuery;
use cubrel_formula::source::Diagnostic;

/// The database and the query of `sqlite:file.db?table=…` or `sqlite:file.db?query=…`.
///
/// # Errors
/// When it says neither.
pub fn parse(source: &str) -> Result<DatabaseQuery, Diagnostic> {
    DatabaseQuery::parse(source, source.strip_prefix("sqlite:").unwrap_or(source))
}
