//! Keys that follow from another one: a customer's island from the customer. Groups are numbered without them, so that
//! a list with many details of one thing has as many groups as there are things.

use super::super::tables::Tables;
use crate::formula::schema::{RelationshipId, TableId};
use crate::plan::{Key, Read};
use crate::store::NO_ROW;

/// No code yet.
const NONE: u64 = u64::MAX;

/// What a key follows from.
#[derive(Clone, Debug)]
pub(super) struct Dependence {
    /// The other key.
    pub(super) on: usize,
    /// By code of the other key, this one's.
    pub(super) codes: Vec<u64>,
}

/// For each key of a read what it follows from, where it does.
///
/// It is looked for where the keys could have more combinations than the table has rows that one of them stands in.
pub(super) fn dependences(tables: Tables<'_>, read: &Read, sizes: &[u64]) -> Vec<Option<Dependence>> {
    let mut found: Vec<Option<Dependence>> = vec![None; read.keys.len()];
    if read.keys.len() < 2 || !read.bridges.is_empty() {
        return found;
    }
    let room = sizes.iter().fold(1u128, |room, size| room.saturating_mul(u128::from(*size)));
    let reach = tables.schema.reach(read.table, &read.detours);
    let place = |key: &Key| {
        let (Key::Column(crate::formula::schema::ColumnId { table, .. }) | Key::Row(table)) = *key else { return None };
        Some((table, reach.get(&table).cloned().unwrap_or_default()))
    };
    let places: Vec<Option<(TableId, Vec<RelationshipId>)>> = read.keys.iter().map(place).collect();
    for (key, at) in places.iter().enumerate() {
        let Some((_, path)) = at else { continue };
        let from = places.iter().enumerate().find_map(|(other, from)| {
            let (table, start) = from.as_ref()?;
            let small = room > tables.rows(*table) as u128;
            let apart = *table != read.table || read.keys[other] == Key::Row(*table);
            if other == key || found[other].is_some() || !small || !apart || !path.starts_with(start) {
                return None;
            }
            let codes = follows(tables, *table, read.keys[other], read.keys[key], &path[start.len()..])?;
            Some(Dependence { on: other, codes })
        });
        // What another key follows from stays a key.
        if !found.iter().flatten().any(|d| d.on == key) {
            found[key] = from;
        }
    }
    found
}

/// For each code of `of` the one of `key`, which is reached from `table` over `path`; `None` when there are two.
fn follows(tables: Tables<'_>, table: TableId, of: Key, key: Key, path: &[RelationshipId]) -> Option<Vec<u64>> {
    let rows: Vec<u32> = (0..tables.rows(table) as u32).collect();
    let theirs = codes_of(tables, of, &[], rows.clone());
    let mine = codes_of(tables, key, path, rows);
    let mut codes = vec![NONE; theirs.1 as usize + 1];
    // A row that points at nothing has null in both.
    for (other, code) in theirs.0.into_iter().zip(mine.0).chain([(theirs.1, mine.1)]) {
        let slot = &mut codes[other as usize];
        if *slot != NONE && *slot != code {
            return None;
        }
        *slot = code;
    }
    Some(codes)
}

/// A key's code in some rows, and the one of null.
fn codes_of(tables: Tables<'_>, key: Key, path: &[RelationshipId], rows: Vec<u32>) -> (Vec<u64>, u64) {
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
