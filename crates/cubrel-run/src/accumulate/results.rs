//! What states give in the end, and what they order by.

use std::cmp::Ordering;

use super::spec::Spec;
use cubrel_value::{Data, Type, Value, Vector, VectorBuilder};

/// No code yet.
pub(super) const NONE: u64 = u64::MAX;
/// Several codes where one was wanted. No column has this many codes.
pub(super) const SEVERAL: u64 = u64::MAX - 1;

/// Counts, and none for no rows.
pub(super) fn counted(counts: Vec<u64>) -> Vector {
    let mut values: Vec<i64> = counts.into_iter().map(|n| n as i64).collect();
    values.push(0);
    Vector::new(Data::I64(values))
}

/// How often each group comes.
pub(super) fn tally(groups: impl Iterator<Item = u32>, count: usize) -> Vec<u64> {
    let mut counts = vec![0; count];
    groups.for_each(|g| counts[g as usize] += 1);
    counts
}

/// Values, and null for no rows.
pub(super) fn collected(values: impl Iterator<Item = Value>, ty: Type) -> Vector {
    let mut builder = VectorBuilder::new(ty, values.size_hint().0 + 1);
    values.for_each(|v| builder.push(v));
    builder.push(Value::Null);
    builder.finish()
}

/// The values of codes, and null for no rows and where there is none or several.
pub(super) fn decoded(spec: &Spec, mut codes: Vec<u64>) -> Vector {
    codes.push(NONE);
    match &spec.coded {
        Some(column) => {
            let null = column.null_code();
            let codes: Vec<u64> = codes.into_iter().map(|c| if c >= SEVERAL { null } else { c }).collect();
            column.vector_of(&codes)
        }
        None => Vector::nulls(spec.ty, codes.len()),
    }
}

/// The values that an entry is ordered by.
pub(super) fn order_values(vectors: &[Vector], order: &[(Type, bool)], i: usize) -> Vec<Value> {
    vectors.iter().zip(order).map(|(v, (ty, _))| v.get(i, *ty)).collect()
}

/// By each part of the order, null last whichever way it goes.
pub(super) fn compare_order(a: &[Value], b: &[Value], order: &[(Type, bool)]) -> Ordering {
    let parts = a.iter().zip(b).zip(order);
    first_unequal(parts.map(|((x, y), (_, descending))| compare_part(x, y, *descending)))
}

/// The same of a row and what is kept of another one.
pub(super) fn compare_row(vectors: &[Vector], i: usize, b: &[Value], order: &[(Type, bool)]) -> Ordering {
    let parts = vectors.iter().zip(b).zip(order);
    first_unequal(parts.map(|((v, y), (ty, descending))| compare_part(&v.get(i, *ty), y, *descending)))
}

fn compare_part(x: &Value, y: &Value, descending: bool) -> Ordering {
    let compared = x.total_cmp(y);
    if descending && !x.is_null() && !y.is_null() { compared.reverse() } else { compared }
}

fn first_unequal(mut parts: impl Iterator<Item = Ordering>) -> Ordering {
    parts.find(|part| part.is_ne()).unwrap_or(Ordering::Equal)
}
