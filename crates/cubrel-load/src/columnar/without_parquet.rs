//! Where the library was built without Parquet.

use std::fs::File;
use std::path::Path;

use arrow_schema::SchemaRef;

use super::super::LoadError;
use super::group::GroupRows;
use cubrel_formula::source::{Diagnostic, Problem};

/// The rows of a file.
pub(super) fn row_groups(path: &Path, _: &File) -> Result<(SchemaRef, Vec<GroupRows>), LoadError> {
    let message = format!("{} cannot be read: this library was built without Parquet", path.display());
    Err(Diagnostic::general(Problem::Unsupported, message).help("build it with the feature `parquet`").into())
}
