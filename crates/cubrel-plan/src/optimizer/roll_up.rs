//! Reads that can be put together from the groups of another one: a total from its lines, a month from its days.

use super::super::tree::{Read, ReadAggregate, RollUp};
use crate::identity::is_told_by;
use crate::ids::{AggregateId, KeyId, ReadId};
use cubrel_formula::schema::Schema;
use cubrel_formula::typed::AggregateKind;
use cubrel_value::Type;

/// Tells each read which others have all that it needs, those with the fewest keys first. Whether one of them is used is
/// seen when it has been done, and how many groups it has.
pub(super) fn apply(schema: &Schema, reads: &mut [Read]) {
    let found: Vec<Vec<RollUp>> = reads.iter().map(|read| roll_ups(schema, read, reads)).collect();
    for (read, mut finer) in reads.iter_mut().zip(found) {
        finer.sort_by_key(|f| f.width);
        read.roll_ups = finer;
    }
}

fn roll_ups(schema: &Schema, read: &Read, reads: &[Read]) -> Vec<RollUp> {
    if !read.bridges.is_empty() || !read.aggregates.iter().all(adds_up) {
        return Vec::new();
    }
    let rows = read.rows();
    let roll_up = |(place, finer): (usize, &Read)| {
        let fits = finer.table == read.table && finer.keys.len() > read.keys.len() && finer.bridges.is_empty();
        if !fits || finer.rows() != rows {
            return None;
        }
        let keys = read
            .keys
            .iter()
            .map(|key| finer.keys.iter().position(|k| is_told_by(schema, *key, *k)).map(KeyId::new))
            .collect::<Option<_>>()?;
        let same = |a: &ReadAggregate| finer.aggregates.iter().position(|f| f == a).map(AggregateId::new);
        let aggregates = read.aggregates.iter().map(same).collect::<Option<_>>()?;
        Some(RollUp { read: ReadId::new(place), keys, aggregates, width: finer.keys.len() })
    };
    reads.iter().enumerate().filter_map(roll_up).collect()
}

/// Whether the value of many rows follows from the values of some of them, to the last digit: sums of doubles do not.
pub(super) fn adds_up(aggregate: &ReadAggregate) -> bool {
    match aggregate.kind {
        AggregateKind::Rows | AggregateKind::Count | AggregateKind::Min | AggregateKind::Max => true,
        AggregateKind::Sum => aggregate.args.first().is_some_and(|a| a.scalar.ty != Type::Float),
        _ => false,
    }
}
