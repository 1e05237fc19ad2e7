//! A filter that compares a column with a value from outside makes a read of its own for each such value. A read grouped
//! by the column instead holds the answers for all of them: for `=` those of one group, for `<`, `<=`, `>` and `>=` those
//! of the groups up to one, where aggregates of several groups can be put together.

use super::super::rows::{ParameterId, Predicate, RowExpr, RowLeaf};
use super::super::scope::{Filter, FilterTest, Key};
use super::super::tree::{ByValue, Read, ReadAggregate};
use super::roll_up;
use crate::ids::{ParameterPlace, ReadId};
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::schema::{ColumnId, Schema};
use cubrel_formula::typed::Op;

/// Tells each read which other one holds its answers for all values from outside. Whether that one is used is decided
/// when it is known how many values there are.
pub(super) fn apply(schema: &Schema, reads: &mut Vec<Read>) {
    let mut next = 0;
    // Reads that are added can have values from outside left.
    while next < reads.len() {
        if let Some((read, by_value)) = grouped(schema, &reads[next]) {
            let wanted = read.identity();
            let same = |r: &Read| r.aggregates == read.aggregates && r.identity() == wanted;
            let place = reads.iter().position(same).unwrap_or_else(|| {
                reads.push(read);
                reads.len() - 1
            });
            reads[next].by_value = Some(ByValue { read: ReadId::new(place), ..by_value });
        }
        next += 1;
    }
}

/// The read with a comparison taken out and its column as one more key, the last.
fn grouped(schema: &Schema, read: &Read) -> Option<(Read, ByValue)> {
    if read.outer.is_empty() || read.aggregates.is_empty() {
        return None;
    }
    let reachable = schema.reach(read.table, &read.detours);
    let reaches = |column: ColumnId| column.table == read.table || reachable.contains_key(&column.table);
    read.filters.iter().enumerate().find_map(|(place, filter)| {
        let Comparison { column, slot, op, as_float } = comparison(filter)?;
        let adds_up = op == Op::Eq || read.aggregates.iter().all(roll_up::adds_up);
        if !read.bridges.is_empty() || !adds_up || !reaches(column) || read.keys.contains(&Key::Column(column)) {
            return None;
        }
        let mut read = Read { roll_ups: Vec::new(), by_value: None, together: Vec::new(), ..read.clone() };
        read.filters.remove(place);
        if takes(&read, slot) {
            return None;
        }
        let outer = read.outer.iter().position(|s| *s == slot)?;
        read.outer.remove(outer);
        read.keys.push(Key::Column(column));
        Some((read, ByValue { read: ReadId::new(0), outer: ParameterPlace::new(outer), column, op, as_float }))
    })
}

/// A column, a value from outside and the operator between them.
struct Comparison {
    column: ColumnId,
    slot: ParameterId,
    op: Op,
    as_float: bool,
}

/// The comparison that a filter is, where that is all that it says.
fn comparison(filter: &Filter) -> Option<Comparison> {
    let FilterTest::Predicate(predicate) = &filter.test else { return None };
    let Predicate { table, test, outer, days: None, .. } = predicate.as_ref() else { return None };
    let (ScalarKind::Call(op, args), [_]) = (&test.scalar.kind, outer.as_slice()) else { return None };
    let [left, right] = args.as_slice() else { return None };
    let ((left, left_float), (right, right_float)) = (side(left, test)?, side(right, test)?);
    let as_float = left_float || right_float;
    let (column, slot, op) = match (left, right) {
        (RowLeaf::Column { column, path }, RowLeaf::Parameter(slot)) if path.is_empty() => (*column, *slot, *op),
        (RowLeaf::Parameter(slot), RowLeaf::Column { column, path }) if path.is_empty() => {
            (*column, *slot, op.mirrored())
        }
        _ => return None,
    };
    // Several large exact numbers can be the same double, but their order stays.
    let compares = matches!(op, Op::Lt | Op::Le | Op::Gt | Op::Ge) || op == Op::Eq && !as_float;
    (compares && column.table == *table).then_some(Comparison { column, slot, op, as_float })
}

/// What one side of a comparison is, and whether it is compared as a double. Exact numbers of different scales are
/// compared by value.
fn side<'a>(scalar: &Scalar, test: &'a RowExpr) -> Option<(&'a RowLeaf, bool)> {
    match &scalar.kind {
        ScalarKind::Leaf(leaf) => Some((test.leaves.get(*leaf)?, false)),
        ScalarKind::Call(Op::Rescale { from, to }, args) if to >= from => side(args.first()?, test),
        ScalarKind::Call(Op::ToFloat, args) => Some((side(args.first()?, test)?.0, true)),
        _ => None,
    }
}

/// Whether a read takes a value from outside.
fn takes(read: &Read, slot: ParameterId) -> bool {
    let in_filter = |filter: &Filter| match &filter.test {
        FilterTest::Predicate(p) | FilterTest::Projected(p, _) => p.outer.contains(&slot) || p.days == Some(slot),
        FilterTest::Lines { slot: lines, .. } => *lines == slot,
    };
    let in_aggregate = |a: &ReadAggregate| a.args.iter().chain(a.order.iter().map(|(e, _)| e)).any(|e| in_row(e, slot));
    read.filters.iter().any(in_filter)
        || read.keys.contains(&Key::Value(slot))
        || read.aggregates.iter().any(in_aggregate)
}

fn in_row(row: &RowExpr, slot: ParameterId) -> bool {
    row.leaves.iter().any(|leaf| match leaf {
        RowLeaf::Parameter(other) => *other == slot,
        RowLeaf::Member { slot: other, of } => *other == slot || in_row(of, slot),
        RowLeaf::Column { .. } => false,
    })
}
