//! Computing with numbers: exact ones in 64 bits, and again in 128 where that overflows.

use super::super::scalar::SlotError;
use super::shared::both_valid;
use cubrel_value::{Data, Type, Vector, exact, wide};

pub(super) fn add(vectors: &[Vector]) -> Result<Vector, SlotError> {
    arithmetic(vectors, i64::overflowing_add, i128::checked_add, |a, b| a + b)
}

pub(super) fn subtract(vectors: &[Vector]) -> Result<Vector, SlotError> {
    arithmetic(vectors, i64::overflowing_sub, i128::checked_sub, |a, b| a - b)
}

pub(super) fn multiply(vectors: &[Vector]) -> Result<Vector, SlotError> {
    arithmetic(vectors, i64::overflowing_mul, i128::checked_mul, |a, b| a * b)
}

fn both(a: &Vector, b: &Vector) -> Option<Vec<bool>> {
    both_valid(a.valid.as_deref(), b.valid.as_deref())
}

/// Generic in what it does, so that each operator has loops of its own.
fn arithmetic(
    vectors: &[Vector],
    small: impl Fn(i64, i64) -> (i64, bool),
    large: impl Fn(i128, i128) -> Option<i128>,
    float: impl Fn(f64, f64) -> f64,
) -> Result<Vector, SlotError> {
    let (a, b) = (&vectors[0], &vectors[1]);
    let valid = both(a, b);
    if let (Data::F64(x), Data::F64(y)) = (&a.data, &b.data) {
        return Ok(finite(
            wide(
                #[inline(always)]
                || x.iter().zip(y).map(|(x, y)| float(*x, *y)).collect(),
            ),
            valid,
        ));
    }
    if let (Data::I64(x), Data::I64(y)) = (&a.data, &b.data) {
        let (values, over) = in_64_bits(x.iter().zip(y).map(|(x, y)| small(*x, *y)));
        if !over {
            return Ok(Vector { data: Data::I64(values), valid });
        }
    }
    let (x, y) = (a.to_i128(), b.to_i128());
    let mut values = Vec::with_capacity(x.len());
    for (i, (x, y)) in x.iter().zip(&y).enumerate() {
        match exact::checked(large(*x, *y)) {
            Some(v) => values.push(v),
            None if valid_at(valid.as_deref(), i) => {
                return Err((i, "the result has more than 38 digits".into()));
            }
            None => values.push(0),
        }
    }
    Ok(Vector { data: Data::I128(values), valid })
}

/// Results, and whether any of them left 64 bits. A plain loop: what a closure would note down goes through memory.
fn in_64_bits(results: impl ExactSizeIterator<Item = (i64, bool)>) -> (Vec<i64>, bool) {
    let mut values = vec![0; results.len()];
    let mut over = false;
    for (value, (result, overflows)) in values.iter_mut().zip(results) {
        *value = result;
        over |= overflows;
    }
    (values, over)
}

fn valid_at(valid: Option<&[bool]>, i: usize) -> bool {
    valid.is_none_or(|v| v[i])
}

/// Doubles with null for what is infinite or undefined.
fn finite(values: Vec<f64>, valid: Option<Vec<bool>>) -> Vector {
    if wide(
        #[inline(always)]
        || values.iter().fold(true, |all, v| all & v.is_finite()),
    ) {
        return Vector { data: Data::F64(values), valid };
    }
    let valid = wide(
        #[inline(always)]
        || match &valid {
            None => values.iter().map(|v| v.is_finite()).collect(),
            // Both are asked of each, without a branch: under null there often is no number.
            Some(valid) => values.iter().zip(valid).map(|(v, valid)| v.is_finite() & valid).collect(),
        },
    );
    Vector::with_validity(Data::F64(values), valid)
}

fn floats(v: &Vector) -> &[f64] {
    match &v.data {
        Data::F64(v) => v,
        _ => &[],
    }
}

/// Always safe: by zero or null it is null. Both sides are doubles.
pub(super) fn divide(a: &Vector, b: &Vector) -> Vector {
    finite(
        wide(
            #[inline(always)]
            || floats(a).iter().zip(floats(b)).map(|(x, y)| x / y).collect(),
        ),
        both(a, b),
    )
}

pub(super) fn remainder(a: &Vector, b: &Vector) -> Vector {
    let valid = both(a, b);
    if let (Data::F64(x), Data::F64(y)) = (&a.data, &b.data) {
        return finite(x.iter().zip(y).map(|(x, y)| x % y).collect(), valid);
    }
    if let (Data::I64(x), Data::I64(y)) = (&a.data, &b.data) {
        let ok = y.iter().enumerate().map(|(i, y)| *y != 0 && valid_at(valid.as_deref(), i)).collect();
        let values = x.iter().zip(y).map(|(x, y)| if *y == 0 { 0 } else { x.wrapping_rem(*y) }).collect();
        return Vector::with_validity(Data::I64(values), ok);
    }
    let (x, y) = (a.to_i128(), b.to_i128());
    let ok = y.iter().enumerate().map(|(i, y)| *y != 0 && valid_at(valid.as_deref(), i)).collect();
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

pub(super) fn negate(a: &Vector) -> Vector {
    let data = match &a.data {
        Data::F64(v) => Data::F64(v.iter().map(|v| 0.0 - v).collect()),
        Data::I64(v) if !v.contains(&i64::MIN) => Data::I64(v.iter().map(|v| -v).collect()),
        _ => narrow(a.to_i128().into_iter().map(|v| -v).collect()),
    };
    Vector { data, valid: a.valid.clone() }
}

pub(super) fn to_float(a: &Vector, ty: Type) -> Vector {
    Vector { data: Data::F64(a.to_f64(ty)), valid: a.valid.clone() }
}

pub(super) fn rescale(a: &Vector, from: u8, to: u8) -> Result<Vector, SlotError> {
    if let (Data::I64(v), true) = (&a.data, to >= from && to - from <= 18) {
        let factor = exact::pow10(to - from) as i64;
        let (values, over) = in_64_bits(v.iter().map(|v| v.overflowing_mul(factor)));
        if !over {
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
