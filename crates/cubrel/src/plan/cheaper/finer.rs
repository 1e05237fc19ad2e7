//! Reads that can be put together from the groups of another one: a total from its lines, a month from its days.

use super::super::{Read, ReadAggregate, RollUp, print};
use crate::formula::schema::Schema;
use crate::formula::typed::AggregateKind;
use crate::value::Type;

/// Tells each read which others have all that it needs, those with the fewest keys first. Whether one of them is used is
/// seen when it has been done, and how many groups it has.
pub(super) fn apply(schema: &Schema, reads: &mut [Read]) {
    let found: Vec<Vec<RollUp>> = reads.iter().map(|read| roll_ups(schema, read, reads)).collect();
    for (read, mut finer) in reads.iter_mut().zip(found) {
        finer.sort_by_key(|f| f.width);
        read.finer = finer;
    }
}

fn roll_ups(schema: &Schema, read: &Read, reads: &[Read]) -> Vec<RollUp> {
    if !read.bridges.is_empty() || !read.aggregates.iter().all(adds_up) {
        return Vec::new();
    }
    let rows = rows_of(schema, read);
    let roll_up = |(place, finer): (usize, &Read)| {
        let fits = finer.table == read.table && finer.keys.len() > read.keys.len() && finer.bridges.is_empty();
        if !fits || rows_of(schema, finer) != rows {
            return None;
        }
        let keys = read.keys.iter().map(|key| finer.keys.iter().position(|k| k == key)).collect::<Option<_>>()?;
        let same = |a: &ReadAggregate| {
            let text = print::aggregate(schema, a);
            finer.aggregates.iter().position(|f| print::aggregate(schema, f) == text)
        };
        let aggregates = read.aggregates.iter().map(same).collect::<Option<_>>()?;
        Some(RollUp { read: place, keys, aggregates, width: finer.keys.len() })
    };
    reads.iter().enumerate().filter_map(roll_up).collect()
}

/// The rows that a read goes through, as text.
fn rows_of(schema: &Schema, read: &Read) -> String {
    print::signature(schema, &Read { keys: Vec::new(), ..read.clone() })
}

/// Whether the value of many rows follows from the values of some of them, to the last digit: sums of doubles do not.
pub(super) fn adds_up(aggregate: &ReadAggregate) -> bool {
    match aggregate.kind {
        AggregateKind::Rows | AggregateKind::Count | AggregateKind::Min | AggregateKind::Max => true,
        AggregateKind::Sum => aggregate.args.first().is_some_and(|a| a.scalar.ty != Type::Float),
        _ => false,
    }
}
