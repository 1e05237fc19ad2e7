//! Operators on batches. Exact numbers are computed in 64 bits and again in 128 where that overflows.

use std::cmp::Ordering;

use super::functions::Function;
use super::scalar::{Scalar, ScalarKind, SlotError};
use super::typed::Op;
use crate::value::{Data, Type, Value, Vector, VectorBuilder, date, exact, parse};

/// Runs one operator over whole vectors; `args` tells the types, and which arguments are constants.
pub(super) fn call(op: Op, vectors: &[Vector], args: &[Scalar], ty: Type, n: usize) -> Result<Vector, SlotError> {
    match op {
        Op::Add => arithmetic(vectors, i64::checked_add, i128::checked_add, |a, b| a + b),
        Op::Sub => arithmetic(vectors, i64::checked_sub, i128::checked_sub, |a, b| a - b),
        Op::Mul => arithmetic(vectors, i64::checked_mul, i128::checked_mul, |a, b| a * b),
        Op::Div => Ok(divide(&vectors[0], &vectors[1])),
        Op::Rem => Ok(remainder(&vectors[0], &vectors[1])),
        Op::Negate => negate(&vectors[0]),
        Op::Eq => Ok(compare(vectors, Ordering::is_eq)),
        Op::Ne => Ok(compare(vectors, Ordering::is_ne)),
        Op::Lt => Ok(compare(vectors, Ordering::is_lt)),
        Op::Le => Ok(compare(vectors, Ordering::is_le)),
        Op::Gt => Ok(compare(vectors, Ordering::is_gt)),
        Op::Ge => Ok(compare(vectors, Ordering::is_ge)),
        Op::Not => Ok(not(&vectors[0])),
        Op::IsNull => Ok(Vector::new(Data::Bool((0..n).map(|i| !vectors[0].is_valid(i)).collect()))),
        Op::ToFloat => Ok(to_float(&vectors[0], args[0].ty)),
        Op::Rescale { from, to } => rescale(&vectors[0], from, to),
        Op::ToTimestamp => Ok(to_timestamp(&vectors[0])),
        Op::Concat => Ok(concat(vectors, args, n)),
        Op::Like => Ok(like(vectors)),
        Op::In => Ok(member(vectors, args, n)),
        Op::Cast { from, to, lenient } => cast(&vectors[0], from, to, lenient),
        Op::Function(function) => call_function(function, vectors, args, ty, n),
    }
}

/// Both valid, slot by slot.
fn both_valid(a: &Vector, b: &Vector) -> Option<Vec<bool>> {
    match (&a.valid, &b.valid) {
        (None, None) => None,
        (Some(v), None) | (None, Some(v)) => Some(v.clone()),
        (Some(x), Some(y)) => Some(x.iter().zip(y).map(|(x, y)| *x && *y).collect()),
    }
}

fn valid_at(valid: Option<&Vec<bool>>, i: usize) -> bool {
    valid.is_none_or(|v| v[i])
}

fn arithmetic(
    vectors: &[Vector],
    small: fn(i64, i64) -> Option<i64>,
    wide: fn(i128, i128) -> Option<i128>,
    float: fn(f64, f64) -> f64,
) -> Result<Vector, SlotError> {
    let (a, b) = (&vectors[0], &vectors[1]);
    let valid = both_valid(a, b);
    if let (Data::F64(x), Data::F64(y)) = (&a.data, &b.data) {
        let values = x.iter().zip(y).map(|(x, y)| float(*x, *y)).collect();
        return Ok(finite(values, valid));
    }
    if let (Data::I64(x), Data::I64(y)) = (&a.data, &b.data) {
        let mut fits = true;
        let values: Vec<i64> = x
            .iter()
            .zip(y)
            .map(|(x, y)| {
                small(*x, *y).unwrap_or_else(|| {
                    fits = false;
                    0
                })
            })
            .collect();
        if fits {
            return Ok(Vector { data: Data::I64(values), valid });
        }
    }
    let (x, y) = (a.to_i128(), b.to_i128());
    let mut values = Vec::with_capacity(x.len());
    for (i, (x, y)) in x.iter().zip(&y).enumerate() {
        match exact::checked(wide(*x, *y)) {
            Some(v) => values.push(v),
            None if valid_at(valid.as_ref(), i) => {
                return Err((i, "the result has more than 38 digits".into()));
            }
            None => values.push(0),
        }
    }
    Ok(Vector { data: Data::I128(values), valid })
}

/// Doubles with null for what is infinite or undefined.
fn finite(values: Vec<f64>, valid: Option<Vec<bool>>) -> Vector {
    if values.iter().all(|v| v.is_finite()) {
        return Vector { data: Data::F64(values), valid };
    }
    let valid = values.iter().enumerate().map(|(i, v)| v.is_finite() && valid_at(valid.as_ref(), i)).collect();
    Vector::with_validity(Data::F64(values), valid)
}

fn floats(v: &Vector) -> &[f64] {
    match &v.data {
        Data::F64(v) => v,
        _ => &[],
    }
}

/// Always safe: by zero or null it is null. Both sides are doubles.
fn divide(a: &Vector, b: &Vector) -> Vector {
    let values = floats(a).iter().zip(floats(b)).map(|(x, y)| x / y).collect();
    finite(values, both_valid(a, b))
}

fn remainder(a: &Vector, b: &Vector) -> Vector {
    let valid = both_valid(a, b);
    if let (Data::F64(x), Data::F64(y)) = (&a.data, &b.data) {
        return finite(x.iter().zip(y).map(|(x, y)| x % y).collect(), valid);
    }
    let (x, y) = (a.to_i128(), b.to_i128());
    let ok = y.iter().enumerate().map(|(i, y)| *y != 0 && valid_at(valid.as_ref(), i)).collect();
    let values: Vec<i128> = x.iter().zip(&y).map(|(x, y)| if *y == 0 { 0 } else { x % y }).collect();
    Vector::with_validity(narrow(values), ok)
}

/// 64 bits where all fit.
fn narrow(values: Vec<i128>) -> Data {
    match values.iter().map(|v| i64::try_from(*v)).collect::<Result<Vec<_>, _>>() {
        Ok(small) => Data::I64(small),
        Err(_) => Data::I128(values),
    }
}

fn negate(a: &Vector) -> Result<Vector, SlotError> {
    let data = match &a.data {
        Data::F64(v) => Data::F64(v.iter().map(|v| 0.0 - v).collect()),
        _ => narrow(a.to_i128().into_iter().map(|v| -v).collect()),
    };
    Ok(Vector { data, valid: a.valid.clone() })
}

fn compare(vectors: &[Vector], holds: fn(Ordering) -> bool) -> Vector {
    let (a, b) = (&vectors[0], &vectors[1]);
    let values = match (&a.data, &b.data) {
        (Data::I64(x), Data::I64(y)) => x.iter().zip(y).map(|(x, y)| holds(x.cmp(y))).collect(),
        // Zeros of both signs are equal, and no vector holds NaN.
        (Data::F64(x), Data::F64(y)) => {
            x.iter().zip(y).map(|(x, y)| holds(x.partial_cmp(y).unwrap_or(Ordering::Equal))).collect()
        }
        (Data::Text(x), Data::Text(y)) => x.iter().zip(y).map(|(x, y)| holds(x.cmp(y))).collect(),
        (Data::Bool(x), Data::Bool(y)) => x.iter().zip(y).map(|(x, y)| holds(x.cmp(y))).collect(),
        _ => a.to_i128().iter().zip(b.to_i128()).map(|(x, y)| holds(x.cmp(&y))).collect(),
    };
    Vector { data: Data::Bool(values), valid: both_valid(a, b) }
}

fn not(a: &Vector) -> Vector {
    let Data::Bool(values) = &a.data else {
        return a.clone();
    };
    Vector { data: Data::Bool(values.iter().map(|v| !v).collect()), valid: a.valid.clone() }
}

fn to_float(a: &Vector, ty: Type) -> Vector {
    Vector { data: Data::F64(a.to_f64(ty)), valid: a.valid.clone() }
}

fn rescale(a: &Vector, from: u8, to: u8) -> Result<Vector, SlotError> {
    if let (Data::I64(v), true) = (&a.data, to >= from && to - from <= 18) {
        let factor = exact::pow10(to - from) as i64;
        if let Some(values) = v.iter().map(|v| v.checked_mul(factor)).collect::<Option<Vec<_>>>() {
            return Ok(Vector { data: Data::I64(values), valid: a.valid.clone() });
        }
    }
    let mut values = Vec::with_capacity(a.len());
    for (i, v) in a.to_i128().into_iter().enumerate() {
        match exact::rescale(v, from, to) {
            Some(v) => values.push(v),
            None if a.is_valid(i) => return Err((i, "the result has more than 38 digits".into())),
            None => values.push(0),
        }
    }
    Ok(Vector { data: narrow(values), valid: a.valid.clone() })
}

fn to_timestamp(a: &Vector) -> Vector {
    let values = match &a.data {
        Data::I64(v) => v.iter().map(|d| d.saturating_mul(date::DAY_MICROS)).collect(),
        _ => vec![0; a.len()],
    };
    Vector { data: Data::I64(values), valid: a.valid.clone() }
}

fn concat(vectors: &[Vector], args: &[Scalar], n: usize) -> Vector {
    let mut builder = VectorBuilder::new(Type::Text, n);
    for i in 0..n {
        let (a, b) = (vectors[0].get(i, args[0].ty), vectors[1].get(i, args[1].ty));
        builder.push(if a.is_null() || b.is_null() { Value::Null } else { Value::text(format!("{a}{b}")) });
    }
    builder.finish()
}

fn like(vectors: &[Vector]) -> Vector {
    let (Data::Text(texts), Data::Text(patterns)) = (&vectors[0].data, &vectors[1].data) else {
        return Vector::nulls(Type::Bool, vectors[0].len());
    };
    let values = texts.iter().zip(patterns).map(|(t, p)| super::functions::like(t, p)).collect();
    Vector { data: Data::Bool(values), valid: both_valid(&vectors[0], &vectors[1]) }
}

/// SQL's `in`: true where one is equal, else null where one is null, else false.
fn member(vectors: &[Vector], args: &[Scalar], n: usize) -> Vector {
    let ty = args[0].ty;
    let constants: Option<Vec<&Value>> = args[1..]
        .iter()
        .map(|a| match &a.kind {
            ScalarKind::Constant(v) => Some(v),
            _ => None,
        })
        .collect();
    let mut builder = VectorBuilder::new(Type::Bool, n);
    if let Some(constants) = constants {
        let some_null = constants.iter().any(|v| v.is_null());
        let mut sorted: Vec<&Value> = constants.into_iter().filter(|v| !v.is_null()).collect();
        sorted.sort_by(|a, b| a.total_cmp(b));
        for i in 0..n {
            let v = vectors[0].get(i, ty);
            builder.push(if v.is_null() {
                Value::Null
            } else if sorted.binary_search_by(|c| c.total_cmp(&v)).is_ok() {
                Value::Bool(true)
            } else if some_null {
                Value::Null
            } else {
                Value::Bool(false)
            });
        }
        return builder.finish();
    }
    for i in 0..n {
        let v = vectors[0].get(i, ty);
        let (mut equal, mut null) = (false, v.is_null());
        for (other, arg) in vectors[1..].iter().zip(&args[1..]) {
            let other = other.get(i, arg.ty);
            null |= other.is_null();
            equal |= !other.is_null() && !v.is_null() && other == v;
        }
        builder.push(if equal {
            Value::Bool(true)
        } else if null {
            Value::Null
        } else {
            Value::Bool(false)
        });
    }
    builder.finish()
}

fn cast(a: &Vector, from: Type, to: Type, lenient: bool) -> Result<Vector, SlotError> {
    let mut builder = VectorBuilder::new(to, a.len());
    for i in 0..a.len() {
        let value = a.get(i, from);
        match cast_value(&value, to) {
            Some(v) => builder.push(v),
            None if lenient => builder.push(Value::Null),
            None => {
                return Err((i, format!("`{value}` cannot be turned into {to}: use `try_cast` to get null instead")));
            }
        }
    }
    Ok(builder.finish())
}

/// One value as another type; `None` where it does not fit.
pub fn cast_value(value: &Value, to: Type) -> Option<Value> {
    Some(match (value, to) {
        (Value::Null, _) => Value::Null,
        (v, Type::Text) => Value::text(v.to_string()),
        (Value::Text(t), _) => parse::value(t.trim(), to)?,
        (v @ (Value::Int(_) | Value::Decimal { .. }), Type::Int) => Value::Int(i64::try_from(v.as_exact(0)?).ok()?),
        (v @ (Value::Int(_) | Value::Decimal { .. }), Type::Decimal { precision, scale }) => {
            decimal_of(v.as_exact(scale)?, precision, scale)?
        }
        (Value::Float(x), Type::Int) => {
            let r = x.round();
            if r.abs() < 9.2e18 {
                Value::Int(r as i64)
            } else {
                return None;
            }
        }
        (Value::Float(x), Type::Decimal { precision, scale }) => {
            let r = (x * 10f64.powi(i32::from(scale))).round();
            if r.abs() < 1.7e38 {
                decimal_of(r as i128, precision, scale)?
            } else {
                return None;
            }
        }
        (v, Type::Float) => match v {
            Value::Bool(b) => Value::Float(f64::from(u8::from(*b))),
            _ => Value::Float(v.as_f64()?),
        },
        (Value::Bool(b), Type::Int) => Value::Int(i64::from(*b)),
        (Value::Bool(_), Type::Bool) => value.clone(),
        (Value::Date(_), Type::Date) | (Value::Timestamp(_), Type::Timestamp) => value.clone(),
        (Value::Date(d), Type::Timestamp) => Value::Timestamp(i64::from(*d) * date::DAY_MICROS),
        (Value::Timestamp(t), Type::Date) => Value::Date(i32::try_from(t.div_euclid(date::DAY_MICROS)).ok()?),
        _ => return None,
    })
}

fn decimal_of(unscaled: i128, precision: u8, scale: u8) -> Option<Value> {
    (unscaled.unsigned_abs() < exact::pow10(precision).unsigned_abs()).then_some(Value::Decimal { unscaled, scale })
}

fn call_function(
    function: &Function,
    vectors: &[Vector],
    args: &[Scalar],
    ty: Type,
    n: usize,
) -> Result<Vector, SlotError> {
    let mut builder = VectorBuilder::new(ty, n);
    let mut row: Vec<Value> = Vec::with_capacity(args.len());
    for i in 0..n {
        row.clear();
        row.extend(vectors.iter().zip(args).map(|(v, a)| v.get(i, a.ty)));
        if !function.sees_nulls && row.iter().any(Value::is_null) {
            builder.push(Value::Null);
            continue;
        }
        let value = (function.run)(&row, ty).map_err(|message| (i, message))?;
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
