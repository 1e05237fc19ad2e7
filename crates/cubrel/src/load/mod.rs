//! Sources to coded tables.
//!
//! * [`sources`]: which files, and whether they have changed; [`partitions`]: what of them has to be read
//! * `read`: a source of whatever kind
//! * [`csv`], [`dialect`]: delimited text, and how it is written; `lines`: its pieces; [`infer`]: its types
//! * [`columnar`]: Parquet and Arrow; [`jsonl`]: JSON Lines
//! * [`database`]: databases; [`sqlite`], `postgres`: the two kinds
//! * [`bytes`]: files, packed or not
//! * `staging`: values of a piece; `own_row`: what is computed of each row; `pieces`: pieces to coded segments
//! * [`tables`]: one table after the other

pub mod bytes;
pub mod columnar;
pub mod csv;
pub mod database;
pub mod dialect;
mod fields;
pub mod fingerprint;
mod guarded;
pub mod infer;
mod interner;
pub mod jsonl;
mod lines;
mod numerals;
mod own_row;
pub mod partitions;
mod pieces;
mod pipeline;
#[cfg(feature = "postgres")]
pub mod postgres;
mod quotes;
mod read;
mod sent;
pub mod sources;
pub mod sqlite;
mod staging;
pub mod tables;
mod way;

use crate::formula::source::Diagnostic;

pub use guarded::is_guarded;

/// What is said of text that cannot be read as it is written.
pub const NO_UTF8: &str = "is not UTF-8 text";

/// Is told how far loading has come.
pub trait Observer: Sync {
    /// A table begins, with the bytes of its source.
    fn table(&self, _name: &str, _bytes: u64) {}
    /// More bytes of a table have been read.
    fn progress(&self, _name: &str, _bytes: u64) {}
    /// More rows of a table are there.
    fn rows(&self, _name: &str, _rows: u64) {}
    /// A table is done.
    fn done(&self, _report: &TableReport) {}
}

/// Tells nobody.
#[derive(Debug)]
pub struct Silent;

impl Observer for Silent {}

/// How loading a table went.
#[derive(Clone, Debug, Default, serde::Serialize, serde::Deserialize)]
pub struct TableReport {
    /// The table.
    pub table: String,
    /// Rows that it has now.
    pub rows: u64,
    /// Rows that could not be read.
    pub bad_rows: u64,
    /// Some of them: where, and what is wrong.
    pub bad_examples: Vec<String>,
    /// Rows that the load filter left out.
    pub filtered_rows: u64,
    /// Bytes of the source.
    pub source_bytes: u64,
    /// Columns whose type was found to be another one than before.
    #[serde(default)]
    pub changed_types: Vec<String>,
    /// Parts that a refresh can read by themselves: groups of files, or periods of a database's table.
    #[serde(default)]
    pub parts: u64,
    /// Parts that were read.
    #[serde(default)]
    pub parts_read: u64,
    /// How long it took.
    pub milliseconds: u64,
    /// Columns that were computed now from other rows and tables.
    #[serde(default)]
    pub computed: Vec<ComputedColumn>,
    /// Where the rows come from: `source`, `generated`, `query`, or `shared` with another table.
    #[serde(default)]
    pub origin: String,
    /// Whether the source was read, and not the store.
    pub read: bool,
}

/// A calculated column, and what it took.
#[derive(Clone, Debug, Default, serde::Serialize, serde::Deserialize)]
pub struct ComputedColumn {
    /// The column.
    pub column: String,
    /// How long it took.
    pub milliseconds: f64,
}

impl TableReport {
    /// Counts what came of a partition.
    fn add(&mut self, partition: &partitions::Partition) {
        self.parts += 1;
        self.bad_rows += partition.bad_rows;
        self.bad_examples.extend(partition.bad_examples.iter().cloned());
        self.bad_examples.truncate(staging::EXAMPLES);
        self.filtered_rows += partition.filtered_rows;
    }
}

/// Why a refresh has not replaced anything.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
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
        error: std::io::Error,
    },
    /// It was ended from outside.
    #[error("it was cancelled")]
    Cancelled,
}

impl LoadError {
    /// A file could not be read or written.
    pub fn io(path: &std::path::Path, error: std::io::Error) -> LoadError {
        LoadError::Io { path: path.display().to_string(), error }
    }
}

impl From<Diagnostic> for LoadError {
    fn from(problem: Diagnostic) -> LoadError {
        LoadError::Problems(vec![problem])
    }
}
