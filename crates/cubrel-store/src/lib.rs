//! Columns as codes in segments, dictionaries, lookups, and how many bytes each takes.
//!
//! * [`buffer`]: numbers on the heap or in a mapped file
//! * [`bits`]: packed whole numbers, `unpack`: blocks of them at once; [`sorted`]: ascending ones; [`places`]: some rows of all
//! * [`codes`]: the codes of a segment: packed, run-length, sparse, or a sequence; [`forms`]: which of them takes the least
//! * [`divide`]: many divisions by one number
//! * [`numbers`], [`dictionary`], [`texts`]: distinct values
//! * [`column`]: codes and what they stand for; `totals`: what all rows of a segment come to;
//!   [`spans`]: between which codes some rows lie
//! * [`encode`]: values to codes; [`order`]: the order of rows in a segment; [`join`]: columns of parts to one;
//!   `cut`: columns without some rows, [`deferred`] until they are used
//! * [`lookup`]: relationships as arrays; `key_rows`: which row a key points at; `chains`: what several of them lead to
//! * [`raw`]: values on their way in; [`waiting`]: those that wait to be coded
//! * [`disk`]: the store on disk; [`checksum`]: whether it is what was written

#![cfg_attr(test, allow(clippy::unwrap_used))]

pub mod bits;
pub mod buffer;
mod chains;
pub mod checksum;
pub mod codes;
pub mod column;
mod cut;
pub mod deferred;
pub mod dictionary;
pub mod disk;
pub mod divide;
pub mod encode;
mod floats;
pub mod forms;
pub mod join;
mod key_rows;
pub mod lookup;
pub mod numbers;
pub mod order;
pub mod places;
mod rank;
pub mod raw;
pub mod sorted;
pub mod spans;
pub mod texts;
mod totals;
mod unpack;
pub mod waiting;

use std::sync::Arc;

pub use chains::{ChainCodes, ChainEnd, ChainSource, Chains};
pub use codes::{Codes, Segment};
pub use column::{CodedColumn, Encoding, FloatLine, NO_ROW, SEGMENT_ROWS, SegmentBounds};
pub use cut::KeptRows;
pub use floats::{float_key, float_of};
pub use key_rows::{DuplicateKeys, check_unique};
pub use lookup::{Lookup, LookupRows};
pub use rank::{Ranks, order_of};
pub use raw::{RawColumn, RawData};
pub use texts::TextList;
pub use totals::{SegmentTotal, TotalSum};

/// The columns of a table, shared with every other role of it.
#[derive(Clone, Debug, Default)]
pub struct TableData {
    /// How many rows.
    pub rows: usize,
    /// By place in the schema's table.
    pub columns: Vec<Arc<CodedColumn>>,
}

/// All data of a model: tables and relationships, by the schema's numbers.
#[derive(Clone, Debug, Default)]
pub struct Store {
    /// By table.
    pub tables: Vec<TableData>,
    /// By relationship.
    pub lookups: Vec<Arc<Lookup>>,
    /// What was found at the end of several of them.
    pub chains: Chains,
}
