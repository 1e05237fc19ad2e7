//! Comparing, and being one of several.

use super::super::scalar::{Scalar, ScalarKind};
use super::super::typed::Op;
use super::shared::both_valid;
use cubrel_value::{Data, Type, Value, Vector, VectorBuilder, wide};

/// `=`, `<>`, `<`, `<=`, `>` and `>=`.
pub(super) fn compare(op: Op, a: &Vector, b: &Vector) -> Vector {
    // One loop for each operator and kind of value, so that none asks row by row which it is.
    macro_rules! with {
        ($op:tt) => {
            match (&a.data, &b.data) {
                (Data::I64(x), Data::I64(y)) => wide(#[inline(always)] || x.iter().zip(y).map(|(x, y)| x $op y).collect()),
                // Zeros of both signs are equal, and no vector holds NaN.
                (Data::F64(x), Data::F64(y)) => wide(#[inline(always)] || x.iter().zip(y).map(|(x, y)| x $op y).collect()),
                (Data::Text(x), Data::Text(y)) => x.iter().zip(y).map(|(x, y)| x $op y).collect(),
                (Data::Bool(x), Data::Bool(y)) => x.iter().zip(y).map(|(x, y)| x $op y).collect(),
                _ => a.to_i128().iter().zip(&b.to_i128()).map(|(x, y)| x $op y).collect(),
            }
        };
    }
    let values = match op {
        Op::Ne => with!(!=),
        Op::Lt => with!(<),
        Op::Le => with!(<=),
        Op::Gt => with!(>),
        Op::Ge => with!(>=),
        _ => with!(==),
    };
    Vector { data: Data::Bool(values), valid: both_valid(a.valid.as_deref(), b.valid.as_deref()) }
}

/// SQL's `in`: true where one is equal, else null where one is null, else false.
pub(super) fn member(vectors: &[Vector], args: &[Scalar], n: usize) -> Vector {
    let constant = |a: &Scalar| match &a.kind {
        ScalarKind::Constant(v) => Some(v.clone()),
        _ => None,
    };
    if let Some(constants) = args[1..].iter().map(constant).collect::<Option<Vec<Value>>>() {
        return one_of(&vectors[0], args[0].ty, constants);
    }
    let mut builder = VectorBuilder::new(Type::Bool, n);
    for i in 0..n {
        let v = vectors[0].get(i, args[0].ty);
        let (mut equal, mut null) = (false, v.is_null());
        for (other, arg) in vectors[1..].iter().zip(&args[1..]) {
            let other = other.get(i, arg.ty);
            null |= other.is_null();
            equal |= !other.is_null() && !v.is_null() && other == v;
        }
        builder.push(if !equal && null { Value::Null } else { Value::Bool(equal) });
    }
    builder.finish()
}

/// Whether values of type `ty` are among some that are the same for all.
fn one_of(vector: &Vector, ty: Type, mut constants: Vec<Value>) -> Vector {
    let count = constants.len();
    constants.retain(|v| !v.is_null());
    let some_null = constants.len() < count;
    let found: Vec<bool> = if let Data::I64(values) = &vector.data {
        let mut listed: Vec<i64> = constants.iter().filter_map(|v| v.as_stored(ty)).collect();
        listed.sort_unstable();
        values.iter().map(|v| listed.binary_search(v).is_ok()).collect()
    } else {
        constants.sort_by(Value::total_cmp);
        let found = |v: Value| constants.binary_search_by(|c| c.total_cmp(&v)).is_ok();
        (0..vector.len()).map(|i| found(vector.get(i, ty))).collect()
    };
    if !some_null {
        return Vector { data: Data::Bool(found), valid: vector.valid.clone() };
    }
    let valid = found.iter().enumerate().map(|(i, found)| *found && vector.is_valid(i)).collect();
    Vector::with_validity(Data::Bool(found), valid)
}
