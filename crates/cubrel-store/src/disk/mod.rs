//! The store on disk: one file, written beside the old one ([`generations`]), and read column by column as they are used.
//!
//! ```text
//! file     = preamble block* header
//! preamble = magic version header-at header-length header-hash     40 bytes
//! magic    = "CUBREL" 0 0                                          8 bytes
//! version, header-at, header-length, header-hash                   8 bytes each, little endian
//! block    = little-endian numbers of 8, 4 or 1 bytes, padded with zeros to a multiple of 8 bytes
//! header   = JSON
//! ```
//!
//! The header says what the tables, columns, segments and lookups are (see [`layout`]), and for each of their parts at
//! which byte its block begins, how long it is, and its XXH3 hash. The preamble is written last. A header whose hash
//! differs makes the file unreadable when it is opened; a block whose hash differs is noticed when its column is used
//! for the first time. Both are made again from the sources.

pub mod generations;
mod layout;
mod read;
mod write;

use std::io;
use std::sync::Arc;

use super::checksum::Damage;
use super::column::CodedColumn;
use super::lookup::Lookup;
use cubrel_value::threads::each_part;

pub use read::read;
pub use write::write_to;

const MAGIC: &[u8; 8] = b"CUBREL\0\0";
/// Changes with every change of the format.
const VERSION: u64 = 6;
/// Magic, version, place, length and hash of the header.
const PREAMBLE: usize = 40;

/// What a store file holds.
#[derive(Clone, Debug, Default)]
pub struct Stored {
    /// Tables.
    pub tables: Vec<StoredTable>,
    /// Relationships.
    pub lookups: Vec<Arc<Lookup>>,
    /// Whatever the layers above want to find again.
    pub notes: serde_json::Value,
    /// What is found to be damaged while it is used.
    pub damage: Arc<Damage>,
}

/// A table of a store file.
#[derive(Clone, Debug, Default)]
pub struct StoredTable {
    /// Its name.
    pub name: String,
    /// An earlier table whose columns it shares.
    pub shares: Option<usize>,
    /// How many rows.
    pub rows: usize,
    /// Names and values.
    pub columns: Vec<(String, Arc<CodedColumn>)>,
}

impl Stored {
    /// Reads everything that has not been read yet; says what is damaged, if anything is.
    pub fn verify(&self) -> Result<(), ReadError> {
        let columns: Vec<&Arc<CodedColumn>> = self.tables.iter().flat_map(|t| &t.columns).map(|(_, c)| c).collect();
        each_part(columns.len(), &|column| {
            columns[column].verified();
        });
        each_part(self.lookups.len(), &|lookup| {
            self.lookups[lookup].verified();
        });
        self.damage.found().map_or(Ok(()), |what| Err(damaged(what)))
    }
}

/// Why a store file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// It cannot be read.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// It was written by another version.
    #[error("it was written by another version")]
    Version,
    /// What it says does not agree with itself.
    #[error("it is damaged: {0}")]
    Damaged(String),
}

fn damaged(what: impl Into<String>) -> ReadError {
    ReadError::Damaged(what.into())
}

#[cfg(test)]
mod tests;
