//! The keys of a read.

use super::super::tables::Tables;
use cubrel_formula::schema::RelationshipId;
use cubrel_plan::{Key, Read};
use cubrel_store::NO_ROW;

/// Keys that are taken row by row, because their anchor has too many codes for an array.
pub(super) struct UnindexedKey {
    pub(super) key: Key,
    pub(super) stride: u128,
    pub(super) path: Vec<RelationshipId>,
}

/// Set in a group's number when the row does not pass.
pub(super) const DROPPED: u32 = 1 << 31;

/// How many codes each key of a read has, null among them.
pub(super) fn key_sizes(tables: Tables<'_>, read: &Read) -> Vec<u64> {
    let size = |key: &Key| match key {
        Key::Column(column) => tables.column(*column).domain().saturating_add(1),
        Key::Row(table) => tables.rows(*table) as u64 + 1,
        Key::Value(_) => 1,
    };
    read.keys.iter().map(size).collect()
}

/// A key's code in some rows, and the one of null.
pub(super) fn codes_of(tables: Tables<'_>, key: Key, path: &[RelationshipId], rows: Vec<u32>) -> (Vec<u64>, u64) {
    match key {
        Key::Column(column) => {
            let data = tables.column(column);
            (tables.far_codes(data, path, rows), data.null_code())
        }
        Key::Row(table) => {
            let null = tables.rows(table) as u64;
            let code = |row: u32| if row == NO_ROW { null } else { u64::from(row) };
            (tables.follow_path(path, rows).into_iter().map(code).collect(), null)
        }
        Key::Value(_) => (vec![0; rows.len()], 0),
    }
}
