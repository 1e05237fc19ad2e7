//! Keys that are reached over one relationship, and could have far more combinations than there are rows at its end: those that
//! these rows have are numbered, and count together as one key does. Four texts of 18,000 items have some 18,000 combinations, not
//! the product of how many of each there are; a row then finds the number of its group in an array, by the code of its item.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::super::combinations::packed;
use super::super::tables::Tables;
use super::dependent::{Counting, codes_of};
use super::keys::key_sizes;
use crate::formula::schema::{ColumnId, RelationshipId, TableId};
use crate::plan::{Key, Read};
use crate::store::{ChainCodes, Ranks};

/// The combinations that several keys have in the rows of a table.
#[derive(Clone, Debug)]
pub(super) struct Combined {
    /// How one gets to the table.
    pub(super) relationship: RelationshipId,
    /// The keys, in their order.
    keys: Vec<usize>,
    /// The number of the combination of each row, and of no row after them.
    of_rows: Vec<u32>,
    /// Key by key, the codes of each combination.
    codes: Vec<Vec<u64>>,
}

impl Combined {
    fn of(tables: Tables<'_>, read: &Read, to: &To, keys: Vec<usize>) -> Combined {
        let rows: Vec<u32> = (0..tables.rows(to.table) as u32).collect();
        let of_key = |key: &usize| {
            let path = to.paths.get(key).map_or(&[] as &[_], |path| &path[1..]);
            let (mut codes, null) = codes_of(tables, read.keys[*key], path, rows.clone());
            codes.push(null);
            codes
        };
        let columns: Vec<Vec<u64>> = keys.iter().map(of_key).collect();
        let slices: Vec<&[u64]> = columns.iter().map(Vec::as_slice).collect();
        let all = key_sizes(tables, read);
        let sizes: Vec<u64> = keys.iter().map(|key| all[*key]).collect();
        let packed = (0..=rows.len()).map(packed(&slices, &sizes));
        let (firsts, of_rows) = match sizes.iter().try_fold(1u64, |all, size| all.checked_mul(*size)) {
            Some(_) => {
                let Ranks { firsts, places, .. } = Ranks::of(rows.len() + 1, packed.map(|key| key as u64));
                (firsts, places)
            }
            None => {
                let Ranks { firsts, places, .. } = Ranks::of_any(packed);
                (firsts, places)
            }
        };
        let of_combinations = |codes: &Vec<u64>| firsts.iter().map(|row| codes[*row as usize]).collect::<Vec<u64>>();
        let codes = columns.iter().map(of_combinations).collect();
        Combined { relationship: to.relationship, keys, of_rows, codes }
    }

    /// How many combinations there are.
    pub(super) fn count(&self) -> u64 {
        self.codes.first().map_or(0, |codes| codes.len() as u64)
    }

    /// The codes of the first key in some combinations.
    pub(super) fn first_codes(&self, combinations: &[u64]) -> Vec<u64> {
        combinations.iter().map(|combination| self.codes[0][*combination as usize]).collect()
    }

    /// The combination in which keys have certain codes, given for all keys of a read; as many as there are where none has.
    pub(super) fn number_of(&self, codes: &[u64]) -> u64 {
        let is_it = |at: &usize| self.keys.iter().zip(&self.codes).all(|(key, own)| own[*at] == codes[*key]);
        (0..self.count() as usize).find(is_it).map_or(self.count(), |at| at as u64)
    }

    /// The combination of each code of the column that the relationship starts from.
    pub(super) fn by_code(&self, tables: Tables<'_>) -> ChainCodes {
        let table = tables.schema.relationship(self.relationship).one;
        let rows = tables.far_rows_by_code(table, &[self.relationship]);
        ChainCodes::of(rows.map(|row| u64::from(self.of_rows[row as usize])))
    }
}

/// Where a relationship leads, and the ways of the keys that are reached over it.
struct To {
    relationship: RelationshipId,
    table: TableId,
    paths: BTreeMap<usize, Vec<RelationshipId>>,
}

/// Lets keys count together where they have more than `room` combinations otherwise, and far fewer rows bring them than pass.
pub(super) fn combine(
    tables: Tables<'_>,
    read: &Read,
    (counting, sizes): (&mut [Counting], &mut [u64]),
    (passing, rows_per_row): (u64, u64),
) {
    let reach = tables.schema.reach(read.table, &read.detours);
    let mut found: BTreeMap<RelationshipId, To> = BTreeMap::new();
    for (at, key) in read.keys.iter().enumerate() {
        let (Key::Column(ColumnId { table, .. }) | Key::Row(table)) = *key else { continue };
        let Some(path) = reach.get(&table) else { continue };
        let Some(relationship) = path.first() else { continue };
        let table = tables.schema.relationship(*relationship).one;
        let new = || To { relationship: *relationship, table, paths: BTreeMap::new() };
        found.entry(*relationship).or_insert_with(new).paths.insert(at, path.clone());
    }
    for to in found.values() {
        let all: Vec<usize> = to.paths.keys().copied().filter(|key| counts_by_code(counting, to, *key)).collect();
        let rows = tables.rows(to.table) as u64;
        let product = all.iter().fold(1u128, |product, key| product.saturating_mul(u128::from(sizes[*key])));
        let is_small = tables.is_small(read.table, tables.anchor_of_path(to.relationship));
        let is_decided = to.paths.keys().any(|key| matches!(counting[*key], Counting::ByRow));
        let pays = rows_per_row == 0 || product > u128::from(rows) + 1 && rows.saturating_mul(rows_per_row) <= passing;
        if all.len() < 2 || !is_small || is_decided || !pays {
            continue;
        }
        let combined = Arc::new(Combined::of(tables, read, to, all));
        for (place, key) in combined.keys.iter().enumerate() {
            sizes[*key] = if place == 0 { combined.count() } else { 1 };
            counting[*key] = match place {
                0 => Counting::Together(combined.clone()),
                _ => Counting::follows_combination(combined.keys[0], combined.codes[place].clone()),
            };
        }
    }
}

/// Whether a key counts by its code, or follows from one that does and is reached over the same relationship.
fn counts_by_code(counting: &[Counting], to: &To, key: usize) -> bool {
    match &counting[key] {
        Counting::ByCode => true,
        Counting::Follows(dependence) => {
            to.paths.contains_key(&dependence.on) && matches!(counting[dependence.on], Counting::ByCode)
        }
        _ => false,
    }
}
