//! Keys that follow from another one: a customer's island from the customer. Groups are numbered without them, so that
//! a list with many details of one thing has as many groups as there are things.

use super::super::tables::Tables;
use crate::formula::schema::{ColumnId, RelationshipId, TableId};
use crate::plan::{Key, Read};
use crate::store::{Codes, NO_ROW};

/// No code yet.
const NONE: u64 = u64::MAX;

/// What a key follows from.
#[derive(Clone, Debug)]
pub(super) struct Dependence {
    /// The other key.
    pub(super) on: usize,
    from: From,
}

#[derive(Clone, Debug)]
enum From {
    /// By code of the other key, this one's: no two rows with one code have two.
    Codes(Vec<u64>),
    /// The other key tells rows of a table apart, and this is how one gets from them to this key. Only those of the groups that
    /// there turn out to be are looked at.
    Rows(TableId, Vec<RelationshipId>),
}

impl Dependence {
    /// The codes of `key` that come with some codes of `on`.
    pub(super) fn codes(&self, tables: Tables<'_>, key: Key, on: Key, codes: &[u64]) -> Vec<u64> {
        match &self.from {
            From::Codes(follows) => codes.iter().map(|code| follows[*code as usize]).collect(),
            From::Rows(table, path) => {
                let rows = rows_told_by(tables, *table, on, codes);
                codes_of(tables, key, path, rows).0
            }
        }
    }
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
        let (Key::Column(ColumnId { table, .. }) | Key::Row(table)) = *key else { return None };
        Some((table, reach.get(&table).cloned().unwrap_or_default()))
    };
    let places: Vec<Option<(TableId, Vec<RelationshipId>)>> = read.keys.iter().map(place).collect();
    // What is nearest to the rows decides most, and what tells rows apart decides it without a look at them.
    let mut deciding: Vec<(usize, TableId, &[RelationshipId], bool)> = places
        .iter()
        .enumerate()
        .filter_map(|(key, place)| {
            let (table, path) = place.as_ref()?;
            Some((key, *table, path.as_slice(), tells_rows_apart(tables, read.keys[key])))
        })
        .filter(|(_, table, _, tells)| room > tables.rows(*table) as u128 && (*tells || *table != read.table))
        .collect();
    deciding.sort_by_key(|(_, _, path, tells)| (path.len(), !tells));
    for (key, at) in places.iter().enumerate() {
        let Some((_, path)) = at else { continue };
        let from = deciding.iter().find_map(|(other, table, start, tells)| {
            if *other == key || found[*other].is_some() || !path.starts_with(start) {
                return None;
            }
            let path = &path[start.len()..];
            let from = match tells {
                true => From::Rows(*table, path.to_vec()),
                false => From::Codes(follows(tables, *table, read.keys[*other], read.keys[key], path)?),
            };
            Some(Dependence { on: *other, from })
        });
        // What another key follows from stays a key.
        if !found.iter().flatten().any(|d| d.on == key) {
            found[key] = from;
        }
    }
    found
}

/// Whether no two rows of the key's table have the same, and none has nothing.
fn tells_rows_apart(tables: Tables<'_>, key: Key) -> bool {
    match key {
        Key::Row(_) => true,
        Key::Column(column) => {
            let data = tables.column(column);
            data.nulls() == 0 && data.distinct() == tables.rows(column.table) as u64
        }
        Key::Value(_) => false,
    }
}

/// The rows of a table that some codes of a key tell, which tells all of them apart.
fn rows_told_by(tables: Tables<'_>, table: TableId, key: Key, codes: &[u64]) -> Vec<u32> {
    let count = tables.rows(table);
    let row = |row: u64| if row < count as u64 { row as u32 } else { NO_ROW };
    let Key::Column(column) = key else { return codes.iter().map(|code| row(*code)).collect() };
    let data = tables.column(column);
    if let [segment] = data.segments()
        && let Codes::Sequence(_) = segment.codes
    {
        return codes.iter().map(|code| row(code.wrapping_sub(segment.base))).collect();
    }
    let mut row_of = vec![NO_ROW; data.domain() as usize + 1];
    data.codes().into_iter().zip(0..).for_each(|(code, row)| row_of[code as usize] = row);
    codes.iter().map(|code| row_of[*code as usize]).collect()
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
