//! Columns as codes: bit-packed segments, dictionaries, lookups, and how many bytes each takes.
//!
//! * [`bits`]: packed whole numbers
//! * [`dictionary`]: distinct texts
//! * [`column`]: codes and what they stand for
//! * [`lookup`]: relationships as arrays
//! * [`raw`]: values on their way in
//! * [`disk`]: the store on disk

pub mod bits;
pub mod column;
pub mod dictionary;
pub mod disk;
pub mod lookup;
pub mod raw;

use std::sync::Arc;

pub use bits::PackedInts;
pub use column::{Coding, Column, SEGMENT_ROWS, Segment};
pub use lookup::{Lookup, NO_ROW, Target};
pub use raw::{RawColumn, RawData};

/// The columns of a table, shared with every other role of it.
#[derive(Clone, Debug, Default)]
pub struct TableData {
    /// How many rows.
    pub rows: usize,
    /// By place in the schema's table.
    pub columns: Vec<Arc<Column>>,
    /// By row, whether who asks may see it; all when there is nothing.
    pub allowed: Option<Arc<Vec<bool>>>,
}

/// All data of a model: tables and relationships, by the schema's numbers.
#[derive(Clone, Debug, Default)]
pub struct Store {
    /// By table.
    pub tables: Vec<TableData>,
    /// By relationship.
    pub lookups: Vec<Arc<Lookup>>,
}
