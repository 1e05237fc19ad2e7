//! How the keys of a read count, and to how many.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::super::tables::Tables;
use super::combined::Combined;
use super::dependent::{Counting, counting};
use super::keys::key_sizes;
use super::wanted::WantedGroups;
use cubrel_formula::schema::{ColumnId, RelationshipId};
use cubrel_plan::{Key, Read};

/// How each key counts, and how many numbers it counts to.
pub(super) fn counted_sizes(
    tables: Tables<'_>,
    read: &Read,
    wanted: Option<&WantedGroups>,
) -> (Vec<Counting>, Vec<u64>) {
    let mut sizes = key_sizes(tables, read);
    let mut counting = counting(tables, read, &sizes);
    // Of the codes of one key few are wanted, however far they lie apart.
    if let (Some(_), [by @ Counting::ByRow]) = (wanted, counting.as_mut_slice()) {
        *by = Counting::ByCode;
    }
    for ((size, key), counts) in sizes.iter_mut().zip(&read.keys).zip(&counting) {
        *size = match (counts, key) {
            (Counting::Follows(_), _) => 1,
            (Counting::ByRow, Key::Column(column)) => tables.rows(column.table) as u64 + 1,
            _ => *size,
        };
    }
    (counting, sizes)
}

/// The keys that are reached over one relationship, each with its way.
type KeysOver = BTreeMap<usize, Vec<RelationshipId>>;

/// Lets keys count together where they could have more combinations than there are rows that bring them, and far more rows than those
/// pass.
pub(super) fn combine(
    tables: Tables<'_>,
    read: &Read,
    (counting, sizes): (&mut [Counting], &mut [u64]),
    (passing, rows_per_row): (u64, u64),
) {
    let reach = tables.schema.reach(read.table, &read.detours);
    let mut found: BTreeMap<RelationshipId, KeysOver> = BTreeMap::new();
    for (at, key) in read.keys.iter().enumerate() {
        let (Key::Column(ColumnId { table, .. }) | Key::Row(table)) = *key else { continue };
        let Some(path) = reach.get(&table) else { continue };
        let Some(relationship) = path.first() else { continue };
        found.entry(*relationship).or_default().insert(at, path.clone());
    }
    for (relationship, over) in found {
        let all: Vec<usize> = over.keys().copied().filter(|key| counts_by_code(counting, &over, *key)).collect();
        let rows = tables.rows(tables.schema.relationship(relationship).one) as u64;
        let product = all.iter().fold(1u128, |product, key| product.saturating_mul(u128::from(sizes[*key])));
        let is_small = tables.is_small(read.table, tables.anchor_of_path(relationship));
        let is_decided = over.keys().any(|key| matches!(counting[*key], Counting::ByRow));
        let pays = rows_per_row == 0 || product > u128::from(rows) + 1 && rows.saturating_mul(rows_per_row) <= passing;
        if all.len() < 2 || !is_small || is_decided || !pays {
            continue;
        }
        let keys = all.into_iter().map(|key| (key, &over[&key][1..])).collect();
        let combined = Arc::new(Combined::of(tables, read, relationship, keys));
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
fn counts_by_code(counting: &[Counting], over: &KeysOver, key: usize) -> bool {
    match &counting[key] {
        Counting::ByCode => true,
        Counting::Follows(dependence) => {
            over.contains_key(&dependence.on) && matches!(counting[dependence.on], Counting::ByCode)
        }
        _ => false,
    }
}
