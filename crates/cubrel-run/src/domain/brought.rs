//! Combinations that reads brought and that are known to be among those that the tables have, so that nobody need go through the
//! tables for it: rows that meet all filters of a table, and point at one of its rows, point at one that meets them.

use super::groups::{InnerCells, Outside, ParentCells, null_code, shared};
use super::sides::{in_outer_cells, keys_of, of_rows};
use super::sparse::in_order;
use crate::RunError;
use crate::cells::Support;
use crate::frame::{Frame, SharedCodes};
use crate::reads::PlanReads;
use cubrel_plan::{Domain, DomainGroup, Filter, Read};

/// Whether a domain has so many combinations that going through its table is worth sparing.
pub(super) fn is_worth_it(reads: &PlanReads<'_>, domain: &Domain) -> bool {
    let [group] = domain.groups.as_slice() else { return false };
    let read = reads.read_plan(group.read.read);
    group.keys.len() == domain.keys.len()
        && group.read.outer.is_empty()
        && reads.tables().rows(read.table) > reads.options().sparse_above
}

/// The cells, where every support has a code for all that tells combinations apart, and is within the domain.
pub(super) fn cells(
    reads: &PlanReads<'_>,
    domain: &Domain,
    outer: &Frame,
    supports: &[Support],
) -> Result<Option<InnerCells>, RunError> {
    let [group] = domain.groups.as_slice() else { return Ok(None) };
    let keys = |support: &Support| {
        let known = support.read.is_some_and(|read| is_within(reads, reads.read_plan(read), group));
        // What combinations there are for an outer cell is told by the outer keys of the group's read.
        let mut outer_keys = group.read.dims.iter().filter(|dim| dim.is_below(domain.outer_dims));
        let tells_outer = outer_keys.all(|dim| support.dims.contains(dim));
        let keys = keys_of(domain, support)?;
        (known && tells_outer && !has_nothing(reads, domain, &keys)).then_some(keys)
    };
    let Some(all) = supports.iter().map(keys).collect::<Option<Vec<Vec<SharedCodes>>>>() else { return Ok(None) };
    if let ([support], [keys]) = (supports, all.as_slice()) {
        let outside = Outside::of_support(outer, domain, support);
        return of_rows(reads, &outside, (support, keys)).map(Some);
    }
    // What no item has a row for, no line has.
    let mut cells: ParentCells = (Vec::new(), vec![Vec::new(); domain.keys.len()]);
    for (support, keys) in supports.iter().zip(&all) {
        let (parents, rows) = in_outer_cells(reads, &Outside::of_support(outer, domain, support), support.rows())?;
        cells.0.extend(parents);
        for (all, codes) in cells.1.iter_mut().zip(keys) {
            all.extend(rows.iter().map(|row| codes[*row as usize]));
        }
    }
    Ok(Some(shared(in_order(cells, true))))
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
