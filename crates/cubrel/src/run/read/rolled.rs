//! Reads put together from the groups of another one: a total from its lines, a month from its days.

use crate::plan::AggregateId;
use std::sync::OnceLock;

use super::super::RunError;
use super::super::accumulate::{Accumulator, Groups, Input, Spec};
use super::super::tables::Tables;
use super::keys::key_sizes;
use super::result::{Numbering, ReadResult, ReadStats, strides};
use crate::formula::typed::AggregateKind;
use crate::plan::{Read, ReadAggregate, RollUp};
use crate::value::{Type, Vector};

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
    read: &Read,
    finer: &RollUp,
    from: &ReadResult,
) -> Result<Option<ReadResult>, RunError> {
    let sizes = key_sizes(tables, read);
    let room = sizes.iter().fold(1u128, |room, size| room.saturating_mul(u128::from(*size)));
    let many = from.present_count().saturating_mul(ROWS_PER_GROUP) > tables.rows(read.table);
    if many || room > DENSE_GROUPS.max(DENSE_PER_GROUP * from.present_count() as u128) {
        return Ok(None);
    }
    let (strides, groups) = (strides(&sizes), room as usize);
    let present = from.present();
    let mut group_of = vec![0u32; present.groups.len()];
    for (key, stride) in finer.keys.iter().zip(&strides) {
        let codes = present.codes[*key].iter();
        group_of.iter_mut().zip(codes).for_each(|(group, code)| *group += *code as u32 * *stride as u32);
    }
    let mut seen = vec![false; groups + 1];
    group_of.iter().for_each(|group| seen[*group as usize] = true);
    let column = |(aggregate, place): (&ReadAggregate, &AggregateId)| {
        summed(aggregate, &from.columns[place.index()].gather(&present.groups), &group_of, groups)
            .map_err(|message| RunError::in_argument(message, aggregate.args.first().map(|a| &a.scalar)))
    };
    let columns = read.aggregates.iter().zip(&finer.aggregates).map(column).collect::<Result<_, _>>()?;
    let left = seen.iter().filter(|s| **s).count();
    Ok(Some(ReadResult {
        left,
        follows: vec![false; sizes.len()],
        by_row: false,
        counted: sizes.clone(),
        sizes,
        strides,
        numbering: Numbering::Dense,
        present: OnceLock::new(),
        stats: ReadStats { groups: left as u64, ..ReadStats::default() },
        seen,
        columns,
    }))
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
        nullable: true,
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
