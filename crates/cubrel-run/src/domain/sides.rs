//! Outer cells beside the rows of a read that say which combinations they have.

use std::sync::Arc;

use super::groups::{InnerCells, Outside, may_miss};
use super::sparse::ROWS_BETWEEN_CHECKS;
use crate::RunError;
use crate::cells::Support;
use crate::frame::{KnownGroups, SharedCodes, gathered};
use crate::reads::PlanReads;
use cubrel_plan::{DimId, Domain, KeyId};
use cubrel_store::order_of;

/// The groups of a domain's read, where these say by themselves which combinations each outer cell has, and differ from cell to cell;
/// with the codes that they have for each key.
pub(super) fn of_domain(
    reads: &PlanReads<'_>,
    domain: &Domain,
    null_group: &[bool],
) -> Result<Option<(Support, Vec<SharedCodes>)>, RunError> {
    let [group] = domain.groups.as_slice() else { return Ok(None) };
    let read = &group.read;
    let by_cell = read.dims.iter().any(|dim| dim.is_below(domain.outer_dims));
    let adds_null =
        null_group.contains(&true) || group.null_reads.iter().any(|(_, path)| path.is_empty() || may_miss(reads, path));
    if !by_cell || adds_null || !read.outer.is_empty() || !reads.options().optimize {
        return Ok(None);
    }
    let keys = reads.result(read.read, &[])?.present().codes.clone();
    let support = Support { read: Some(read.read), dims: read.dims.clone(), keys };
    Ok(keys_of(domain, &support).map(|keys| (support, keys)))
}

/// The codes that a support has for each key of a domain, where it has them for all.
pub(super) fn keys_of(domain: &Domain, support: &Support) -> Option<Vec<SharedCodes>> {
    let place = |key: usize| {
        let dim = DimId::of_key(domain.outer_dims, KeyId::new(key));
        support.dims.iter().position(|d| *d == dim)
    };
    (0..domain.keys.len()).map(|key| Some(support.keys[place(key)?].clone())).collect()
}

/// The cells of a support's rows, with their codes and groups.
pub(super) fn of_rows(
    reads: &PlanReads<'_>,
    outside: &Outside,
    (support, keys): (&Support, &[SharedCodes]),
) -> Result<InnerCells, RunError> {
    let (parents, rows) = in_outer_cells(reads, outside, support.rows())?;
    let is_whole = rows.len() == support.rows() && rows.is_sorted_by(|a, b| a < b);
    let of_rows = |codes: &SharedCodes| if is_whole { codes.clone() } else { gathered(codes, &rows) };
    let groups = groups_of(reads, support, &rows)?;
    Ok(InnerCells { parents, keys: keys.iter().map(of_rows).collect(), groups })
}

/// The outer cells that so many rows are for, in order, and beside each the row.
pub(super) fn in_outer_cells(
    reads: &PlanReads<'_>,
    outside: &Outside,
    count: usize,
) -> Result<(Vec<u32>, Vec<u32>), RunError> {
    let (mut parents, mut rows) = (Vec::with_capacity(count), Vec::with_capacity(count));
    for row in 0..count {
        let of_row = outside.of(row);
        parents.extend_from_slice(of_row);
        rows.resize(parents.len(), row as u32);
        if row % ROWS_BETWEEN_CHECKS == 0 {
            reads.check_cells(parents.len())?;
        }
    }
    if parents.is_sorted() {
        return Ok((parents, rows));
    }
    let order = order_of(&parents.iter().map(|parent| u64::from(*parent)).collect::<Vec<u64>>());
    let at = |list: &[u32]| order.iter().map(|place| list[*place as usize]).collect();
    Ok((at(&parents), at(&rows)))
}

/// The groups that some rows of a support are, where it has those of its read as they stand.
fn groups_of(reads: &PlanReads<'_>, support: &Support, rows: &[u32]) -> Result<Option<KnownGroups>, RunError> {
    let Some(read) = support.read else { return Ok(None) };
    let result = reads.result(read, &[])?;
    let present = result.present();
    let same = |(a, b): (&SharedCodes, &SharedCodes)| Arc::ptr_eq(a, b);
    let as_they_stand = present.codes.len() == support.keys.len() && present.codes.iter().zip(&support.keys).all(same);
    let groups = || Arc::new(rows.iter().map(|row| present.groups[*row as usize]).collect());
    let known = || KnownGroups { pass: result.pass(), dims: support.dims.clone(), groups: groups() };
    Ok(as_they_stand.then(known))
}
