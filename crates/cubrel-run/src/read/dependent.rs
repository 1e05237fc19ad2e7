//! How the keys of a read count: what follows from another key (a customer's island from the customer) counts nothing, so
//! that a list with many details of one thing has as many groups as there are things; and what tells the rows of its table
//! apart counts by row, however far apart its values lie.

use std::collections::HashMap;
use std::sync::Arc;

use super::super::tables::Tables;
use super::combined::Combined;
use super::keys::codes_of;
use cubrel_formula::schema::{ColumnId, RelationshipId, TableId};
use cubrel_plan::{Key, Read};
use cubrel_store::NO_ROW;

/// How a key counts in the number of a group.
#[derive(Clone, Debug)]
pub(super) enum Counting {
    /// By its code.
    ByCode,
    /// By the row of its table, which it tells from all others.
    ByRow,
    /// By the combination that it has with others, which follow from it.
    Together(Arc<Combined>),
    /// Not at all.
    Follows(Dependence),
}

impl Counting {
    pub(super) fn follows(&self) -> bool {
        matches!(self, Counting::Follows(_))
    }

    /// That of a key whose codes are known for each combination of it with another one that counts for both.
    pub(super) fn follows_combination(on: usize, codes: Vec<u64>) -> Counting {
        Counting::Follows(Dependence { on, from: Derivation::Codes(codes) })
    }
}

/// No code yet.
const NONE: u64 = u64::MAX;

/// What a key follows from.
#[derive(Clone, Debug)]
pub(super) struct Dependence {
    /// The other key.
    pub(super) on: usize,
    from: Derivation,
}

#[derive(Clone, Debug)]
enum Derivation {
    /// By code of the other key, this one's: no two rows with one code have two.
    Codes(Vec<u64>),
    /// The other key counts by row, and this is how one gets from there to this key. Only those of the groups that there turn
    /// out to be are looked at.
    Rows(TableId, Vec<RelationshipId>),
}

impl Dependence {
    /// The codes of a key that come with some codes of the other one, which are rows where that counts by row.
    pub(super) fn codes(&self, tables: Tables<'_>, key: Key, on: &[u64]) -> Vec<u64> {
        match &self.from {
            Derivation::Codes(follows) => on.iter().map(|code| follows[*code as usize]).collect(),
            Derivation::Rows(table, path) => codes_of(tables, key, path, as_rows(tables, *table, on)).0,
        }
    }
}

/// The codes of a key that counts by row, in some rows of its table; one more than there are stands for none.
pub(super) fn codes_of_rows(tables: Tables<'_>, key: Key, rows: &[u64]) -> Vec<u64> {
    let (Key::Column(ColumnId { table, .. }) | Key::Row(table)) = key else { return rows.to_vec() };
    codes_of(tables, key, &[], as_rows(tables, table, rows)).0
}

fn as_rows(tables: Tables<'_>, table: TableId, rows: &[u64]) -> Vec<u32> {
    let count = tables.rows(table) as u64;
    rows.iter().map(|row| if *row < count { *row as u32 } else { NO_ROW }).collect()
}

/// The row that a code of a key tells, or one more than there are.
pub(super) fn row_of_code(tables: Tables<'_>, key: Key, code: u64) -> u64 {
    let Key::Column(column) = key else { return code };
    let codes = tables.column(column).codes();
    codes.iter().position(|c| *c == code).unwrap_or(codes.len()) as u64
}

/// For each key of a read how it counts.
///
/// What follows from others is looked for where the keys could have more combinations than the table has rows that one of
/// them stands in.
pub(super) fn counting(tables: Tables<'_>, read: &Read, sizes: &[u64]) -> Vec<Counting> {
    let mut found: Vec<Counting> = vec![Counting::ByCode; read.keys.len()];
    if !read.bridges.is_empty() {
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
    let mut deciding: Vec<Deciding> = places
        .iter()
        .enumerate()
        .filter_map(|(key, place)| {
            let (table, path) = place.as_ref()?;
            Some(Deciding { key, table: *table, path, tells: tells_rows_apart(tables, read.keys[key]) })
        })
        .filter(|d| room > tables.rows(d.table) as u128 && (d.tells || d.table != read.table))
        .collect();
    deciding.sort_by_key(|d| (d.path.len(), !d.tells));
    for (key, at) in places.iter().enumerate() {
        let Some((table, path)) = at else { continue };
        // What another key follows from stays a key.
        let decides = found.iter().any(|c| matches!(c, Counting::Follows(d) if d.on == key));
        if decides {
            continue;
        }
        let tells = deciding.iter().any(|d| d.key == key && d.tells);
        let from = deciding.iter().find_map(|d| {
            let mine = d.key == key || found[d.key].follows() || !path.starts_with(d.path);
            // What has the same in two rows does not tell what differs in all.
            if mine || tells && !d.tells && d.table == *table {
                return None;
            }
            d.from(tables, read, key, path).map(|from| Dependence { on: d.key, from })
        });
        if let Some(dependence) = from {
            let is_column = matches!(read.keys[dependence.on], Key::Column(_));
            if is_column && deciding.iter().any(|d| d.key == dependence.on && d.tells) {
                found[dependence.on] = Counting::ByRow;
            }
            found[key] = Counting::Follows(dependence);
        }
    }
    // What nothing follows from counts by row, too, where its codes are many more than there are rows.
    for d in &deciding {
        let is_wide = sizes[d.key] / CODES_PER_ROW > tables.rows(d.table) as u64;
        if d.tells && is_wide && matches!(found[d.key], Counting::ByCode) {
            found[d.key] = Counting::ByRow;
        }
    }
    found
}

/// So many codes for each row are many.
const CODES_PER_ROW: u64 = 2;

/// A key that others may follow from.
struct Deciding<'p> {
    key: usize,
    table: TableId,
    path: &'p [RelationshipId],
    /// Whether it tells the rows of its table apart.
    tells: bool,
}

impl Deciding<'_> {
    /// How a key at the end of a path follows from this one, if it does.
    fn from(&self, tables: Tables<'_>, read: &Read, key: usize, path: &[RelationshipId]) -> Option<Derivation> {
        let (own, other, way) = (read.keys[self.key], read.keys[key], &path[self.path.len()..]);
        if self.tells {
            return Some(Derivation::Rows(self.table, way.to_vec()));
        }
        let rows = tables.rows(self.table);
        // Nearly always the first rows tell that it does not.
        let mut sample = codes_of_first(tables, own, other, way, rows.min(SAMPLE));
        let mut known: HashMap<u64, u64> = HashMap::new();
        if sample.any(|(own, other)| *known.entry(own).or_insert(other) != other) {
            return None;
        }
        follows(tables, own, other, way, rows).map(Derivation::Codes)
    }
}

/// Rows that are looked at before all are.
const SAMPLE: usize = 1 << 12;

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

/// The codes of two keys, the second of which is reached over a path, in the first rows and in a row of nulls.
fn codes_of_first(
    tables: Tables<'_>,
    of: Key,
    key: Key,
    path: &[RelationshipId],
    rows: usize,
) -> impl Iterator<Item = (u64, u64)> + use<> {
    let rows: Vec<u32> = (0..rows as u32).collect();
    let theirs = codes_of(tables, of, &[], rows.clone());
    let mine = codes_of(tables, key, path, rows);
    theirs.0.into_iter().zip(mine.0).chain([(theirs.1, mine.1)])
}

/// For each code of `of` the one of `key`, which is reached from its table over `path`; `None` when there are two.
fn follows(tables: Tables<'_>, of: Key, key: Key, path: &[RelationshipId], rows: usize) -> Option<Vec<u64>> {
    let null = codes_of(tables, of, &[], Vec::new()).1;
    let mut codes = vec![NONE; null as usize + 1];
    for (other, code) in codes_of_first(tables, of, key, path, rows) {
        let slot = &mut codes[other as usize];
        if *slot != NONE && *slot != code {
            return None;
        }
        *slot = code;
    }
    Some(codes)
}
