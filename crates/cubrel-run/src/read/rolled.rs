//! Reads put together from the groups of another one: a total from its lines, a month from its days.

use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

use super::super::RunError;
use super::super::accumulate::{Accumulator, Groups, Input, Spec};
use super::super::tables::Tables;
use super::group_keys::GroupKeys;
use super::keys::key_sizes;
use super::result::{Numbering, PassGroups, ReadResult, ReadStats, strides};
use cubrel_formula::typed::AggregateKind;
use cubrel_plan::{AggregateId, Key, Read, ReadAggregate, RollUp};
use cubrel_value::{Type, Vector};

/// Groups are put together where there is at most one for so many rows.
const ROWS_PER_GROUP: usize = 4;
/// Groups are numbered by place in an array up to this many,
const DENSE_GROUPS: u128 = 1 << 16;
/// or so many for each of the finer ones.
const DENSE_PER_GROUP: u128 = 4;

/// The result of a read from that of a finer one; `None` where going through the rows is as good.
///
/// # Errors
/// When a sum has more than 38 digits.
pub fn rolled_up(
    tables: Tables<'_>,
    (read, finer_read): (&Read, &Read),
    finer: &RollUp,
    from: &ReadResult,
) -> Result<Option<ReadResult>, RunError> {
    let sizes = key_sizes(tables, read);
    let room = sizes.iter().try_fold(1u128, |room, size| room.checked_mul(u128::from(*size)));
    let many = from.present_count().saturating_mul(ROWS_PER_GROUP) > tables.rows(read.table);
    let Some(room) = room.filter(|_| !many) else { return Ok(None) };
    let present = from.present();
    let mut codes: Vec<Cow<'_, [u64]>> = Vec::new();
    for (key, told_by) in read.keys.iter().zip(&finer.keys) {
        let found = present.codes[*told_by].as_slice();
        let Some(found) = codes_of(tables, *key, finer_read.keys[*told_by], found) else { return Ok(None) };
        codes.push(found);
    }
    let strides = strides(&sizes);
    let number = |i: usize| codes.iter().zip(&strides).map(|(codes, stride)| u128::from(codes[i]) * stride).sum();
    let numbers: Vec<u128> = (0..present.groups.len()).map(number).collect();
    let (group_of, groups, numbering) = match room <= DENSE_GROUPS.max(DENSE_PER_GROUP * numbers.len() as u128) {
        true => (numbers.iter().map(|number| *number as u32).collect(), room as usize, Numbering::Dense),
        false => numbered(&numbers),
    };
    let mut seen = vec![false; groups + 1];
    group_of.iter().for_each(|group| seen[*group as usize] = true);
    let column = |(aggregate, place): (&ReadAggregate, &AggregateId)| {
        summed(aggregate, &from.columns[place.index()].gather(&present.groups), &group_of, groups)
            .map_err(|message| RunError::in_argument(message, aggregate.args.first().map(|a| &a.scalar)))
    };
    let columns = read.aggregates.iter().zip(&finer.aggregates).map(column).collect::<Result<_, _>>()?;
    let left = seen.iter().filter(|s| **s).count();
    Ok(Some(ReadResult {
        of_pass: Arc::new(PassGroups::by_code(sizes, numbering)),
        left,
        present: OnceLock::new(),
        stats: ReadStats { groups: left as u64, ..ReadStats::default() },
        seen,
        columns,
    }))
}

/// The codes of a key from those of the one that tells it; nothing where it does not.
fn codes_of<'c>(tables: Tables<'_>, key: Key, told_by: Key, codes: &'c [u64]) -> Option<Cow<'c, [u64]>> {
    let (Key::Row(table), Key::Column(column)) = (key, told_by) else { return Some(Cow::Borrowed(codes)) };
    let (data, rows) = (tables.column(column), tables.rows(table));
    // Whether a column tells rows apart is what a relationship says of it; here it is seen.
    if data.distinct() + data.nulls() != rows as u64 {
        return None;
    }
    // Groups are few, and rows can be many: the rows of those codes alone are noted that there are groups of.
    let (null, none) = (data.null_code(), rows as u64);
    let mut row_of: HashMap<u64, u64, foldhash::fast::RandomState> =
        codes.iter().filter(|code| **code != null).map(|code| (*code, none)).collect();
    for (row, code) in data.codes().into_iter().enumerate() {
        if let Some(of_code) = row_of.get_mut(&code) {
            *of_code = row as u64;
        }
    }
    Some(Cow::Owned(codes.iter().map(|code| row_of.get(code).copied().unwrap_or(none)).collect()))
}

/// A number for each different one of some numbers, in their order, and how many these are.
fn numbered(numbers: &[u128]) -> (Vec<u32>, usize, Numbering) {
    let (keys, mut group_of) = GroupKeys::of_parts(&[numbers]);
    (group_of.pop().unwrap_or_default(), keys.len(), Numbering::Ranked(Arc::new(keys)))
}

/// An aggregate of groups from its values in the finer ones.
fn summed(aggregate: &ReadAggregate, values: &Vector, group_of: &[u32], groups: usize) -> Result<Vector, String> {
    let counts = matches!(aggregate.kind, AggregateKind::Rows | AggregateKind::Count);
    let spec = Spec {
        kind: if counts { AggregateKind::Sum } else { aggregate.kind },
        input: aggregate.ty,
        inputs: vec![aggregate.ty],
        order: Vec::new(),
        constant: None,
        ty: if counts { Type::Int } else { aggregate.ty },
        coded: None,
        combined: None,
        nullable: true,
        counted_by: None,
    };
    let mut accumulator = Accumulator::new(&spec, groups);
    accumulator.add(Groups::Many(group_of), &Input::Values(std::slice::from_ref(values)));
    let mut result = accumulator.finish(&[])?;
    if counts {
        // No rows are none, not null.
        result.valid = None;
    }
    Ok(result)
}
