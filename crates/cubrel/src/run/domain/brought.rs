//! Combinations that reads brought and that are known to be among those that the tables have, so that nobody need go through the
//! tables for it: rows that meet all filters of a table, and point at one of its rows, point at one that meets them.

use super::groups::{ParentCells, null_code, shared};
use super::sparse::keep_distinct;
use crate::plan::{DimId, Domain, DomainGroup, Filter, KeyId, Read, ReadRef};
use crate::run::cells::Support;
use crate::run::frame::{Frame, SharedCodes};
use crate::run::reads::PlanReads;

/// Whether a domain has so many combinations that going through its table is worth sparing.
pub(super) fn is_worth_it(reads: &PlanReads<'_>, domain: &Domain, outer: &Frame) -> bool {
    let [group] = domain.groups.as_slice() else { return false };
    let read = reads.read_plan(group.read.read);
    outer.cells == 1
        && group.keys.len() == domain.keys.len()
        && has_no_outside(domain, &group.read)
        && reads.tables().rows(read.table) > reads.options().sparse_above
}

/// Whether the combinations do not depend on the outer cell.
fn has_no_outside(domain: &Domain, read: &ReadRef) -> bool {
    read.outer.is_empty() && read.dims.iter().all(|dim| !dim.is_below(domain.outer_dims))
}

/// The codes of each key, where every support has all of them and is within the domain.
pub(super) fn cells(reads: &PlanReads<'_>, domain: &Domain, supports: &[Support]) -> Option<Vec<SharedCodes>> {
    let [group] = domain.groups.as_slice() else { return None };
    let keys = |support: &Support| {
        let known = support.read.is_some_and(|read| is_within(reads, reads.read_plan(read), group));
        let place = |key: usize| {
            let dim = DimId::of_key(domain.outer_dims, KeyId::new(key));
            support.dims.iter().position(|d| *d == dim)
        };
        let keys = (0..domain.keys.len()).map(|key| Some(support.keys[place(key)?].clone()));
        let keys = keys.collect::<Option<Vec<SharedCodes>>>()?;
        (known && support.has_no(domain.outer_dims) && !has_nothing(reads, domain, &keys)).then_some(keys)
    };
    let all: Vec<Vec<SharedCodes>> = supports.iter().map(keys).collect::<Option<_>>()?;
    match all.as_slice() {
        // What no item has a row for, no line has.
        [] => Some(vec![SharedCodes::default(); domain.keys.len()]),
        [only] => Some(only.clone()),
        several => {
            let joined = |key: usize| several.iter().flat_map(|keys| keys[key].iter().copied()).collect::<Vec<u64>>();
            let columns: Vec<Vec<u64>> = (0..domain.keys.len()).map(joined).collect();
            let mut cells: ParentCells = (vec![0; columns.first().map_or(0, Vec::len)], columns);
            keep_distinct(&mut cells);
            Some(shared(cells).1)
        }
    }
}

/// Whether there is the combination of nulls: that of rows which point at no row of the table, which a `per` does not go through.
fn has_nothing(reads: &PlanReads<'_>, domain: &Domain, keys: &[SharedCodes]) -> bool {
    let Some((first, rest)) = keys.split_first() else { return true };
    let nulls: Vec<u64> = domain.keys.iter().map(|key| null_code(reads, *key)).collect();
    let others = |row: usize| rest.iter().zip(&nulls[1..]).all(|(codes, null)| codes[row] == *null);
    first.iter().enumerate().any(|(row, code)| *code == nulls[0] && others(row))
}

/// Whether the groups of a read are all among those of a group's: its rows reach the group's table over default paths, and meet
/// whatever rows of that table have to.
fn is_within(reads: &PlanReads<'_>, read: &Read, group: &DomainGroup) -> bool {
    let of_group = reads.read_plan(group.read.read);
    let plain = |read: &Read| read.bridges.is_empty() && read.outer.is_empty() && read.detours.is_empty();
    let reaches = read.table == of_group.table
        || reads.tables().schema.reach(read.table, &read.detours).contains_key(&of_group.table);
    let meets = |filter: &Filter| read.filters.iter().any(|own| own.test == filter.test);
    plain(read) && plain(of_group) && reaches && of_group.filters.iter().all(meets)
}
