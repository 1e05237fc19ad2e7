//! Functions over whole vectors.

use super::super::functions::Function;
use super::super::scalar::{Scalar, SlotError};
use super::shared::{TextRoom, both_valid};
use cubrel_value::{Type, Value, Vector, VectorBuilder};

/// Runs a function over whole vectors: at once where it knows how, else row by row.
pub(super) fn call(
    function: &Function,
    vectors: &[Vector],
    args: &[Scalar],
    ty: Type,
    n: usize,
) -> Result<Vector, SlotError> {
    if let Some(batch) = function.batch {
        let types: Vec<Type> = args.iter().map(|a| a.ty).collect();
        if let Some(results) = batch(vectors, &types, ty) {
            let valid = both_valid(all_valid(vectors).as_deref(), results.valid.as_deref());
            return Ok(Vector { valid, ..results });
        }
    }
    let (mut builder, mut room) = (VectorBuilder::new(ty, n), TextRoom::default());
    let mut row: Vec<Value> = Vec::with_capacity(args.len());
    // What is the same in all rows may have come once.
    let at = |vector: &Vector, i: usize| if vector.len() == 1 { 0 } else { i };
    for i in 0..n {
        row.clear();
        row.extend(vectors.iter().zip(args).map(|(v, a)| v.get(at(v, i), a.ty)));
        if !function.sees_nulls && row.iter().any(Value::is_null) {
            builder.push(Value::Null);
            continue;
        }
        let value = (function.run)(&row, ty).map_err(|message| (i, message))?;
        room.take(&value).map_err(|message| (i, message))?;
        builder.push(fit(value, ty));
    }
    Ok(builder.finish())
}

/// Brings an exact result to the scale that its type says.
fn fit(value: Value, ty: Type) -> Value {
    match (&value, ty) {
        (Value::Int(_) | Value::Decimal { .. }, Type::Decimal { scale, .. }) => {
            value.as_exact(scale).map_or(Value::Null, |unscaled| Value::Decimal { unscaled, scale })
        }
        _ => value,
    }
}

/// Which slots are not null in any vector; `None` when all are.
fn all_valid(vectors: &[Vector]) -> Option<Vec<bool>> {
    let mut vectors = vectors.iter();
    let first = vectors.next()?.valid.clone();
    vectors.fold(first, |valid, vector| both_valid(valid.as_deref(), vector.valid.as_deref()))
}
