//! Sources to coded tables.
//!
//! * [`sources`]: which files, and whether they have changed; [`partitions`]: what of them has to be read
//! * `read`: a source of whatever kind
//! * [`csv`], [`dialect`]: delimited text, and how it is written; `lines`: its pieces; [`infer`]: its types;
//!   `header`: the names of columns; `written`: numbers as people write them
//! * [`columnar`]: Parquet and Arrow; [`jsonl`]: JSON Lines
//! * `workbook`: sheets of workbooks
//! * [`database`]: databases; [`sqlite`], `postgres`: the two kinds
//! * [`bytes`]: files, packed or not
//! * `staging`: values of a piece; `time_zone`: times in the time of a place; `row_transform`: what is computed of each row;
//!   [`doubles`]: rows that stand twice; `assembler`: pieces to coded segments
//! * [`tables`]: a table from its sources

#![cfg_attr(test, allow(clippy::unwrap_used))]

mod assembler;
pub mod bytes;
pub mod columnar;
pub mod csv;
pub mod database;
pub mod dialect;
pub mod doubles;
mod failure;
mod field_parser;
mod fields;
pub mod fingerprint;
mod guarded;
mod header;
pub mod infer;
mod interner;
pub mod jsonl;
mod lines;
pub mod loaded;
mod nested;
mod numerals;
pub mod partitions;
mod pipe;
mod pipeline;
#[cfg(feature = "postgres")]
pub mod postgres;
mod quotes;
mod read;
mod report;
mod row_transform;
mod settings;
pub mod sources;
pub mod sqlite;
mod staging;
pub mod stored;
pub mod tables;
mod time_zone;
mod unpivot;
#[cfg(feature = "workbook")]
pub mod workbook;
mod written;

pub use failure::LoadError;
pub use guarded::is_guarded;
pub use lines::opened;
pub use report::{ComputedColumn, NO_UTF8, Observer, Silent, TableReport};
