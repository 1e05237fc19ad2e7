//! What some functions do with whole vectors: the same as with one row after another, only quicker.
//!
//! Only the common kinds of arguments are covered; whatever else comes is left to the rows.

use crate::value::date::DAY_MICROS;
use crate::value::exact::{self, bits_of};
use crate::value::{Data, Type, Vector};

/// Exact numbers up to this many bits leave room for rounding in 64.
const ROOM: u32 = 61;

/// Exact numbers up to this many bits are rounded in 32.
const NARROW: u32 = 31;

/// How a number loses digits.
#[derive(Clone, Copy)]
pub(super) enum Cut {
    Round,
    Trunc,
    Floor,
    Ceil,
}

impl Cut {
    /// The multiple of `by` next to a number, divided by `by`.
    #[inline(always)]
    fn apply(self, v: i64, by: i64) -> i64 {
        match self {
            Cut::Round => (v + v.signum() * (by / 2)) / by,
            Cut::Trunc => v / by,
            Cut::Floor => v.div_euclid(by),
            Cut::Ceil => -(-v).div_euclid(by),
        }
    }

    fn of_float(self) -> fn(f64) -> f64 {
        match self {
            Cut::Round => f64::round,
            Cut::Trunc => f64::trunc,
            Cut::Floor => f64::floor,
            Cut::Ceil => f64::ceil,
        }
    }
}

fn ints(vector: &Vector) -> Option<&[i64]> {
    match &vector.data {
        Data::I64(values) => Some(values),
        _ => None,
    }
}

/// An argument that is the same in all rows, for functions whose second argument nearly always is.
fn same_in_all(vectors: &[Vector], argument: usize, default: i64) -> Option<i64> {
    let Some(vector) = vectors.get(argument) else { return Some(default) };
    let values = ints(vector)?;
    let first = *values.first()?;
    (vector.valid.is_none() && values.iter().all(|v| *v == first)).then_some(first)
}

/// `round`, `trunc`, `floor` and `ceil`, to a number of digits that is the same in all rows.
pub(super) fn cut(how: Cut, vectors: &[Vector], types: &[Type], ty: Type) -> Option<Vector> {
    let digits = same_in_all(vectors, 1, 0)?.clamp(-400, 400);
    if let Data::F64(values) = &vectors[0].data {
        return float_cut(how, values, digits);
    }
    let (values, scale) = (ints(&vectors[0])?, types[0].scale());
    let drop = i64::from(scale) - digits;
    // What `digits` leaves fits the scale of the result, or the rows have to be looked at one by one.
    if !types[0].is_exact() || !(1..=17).contains(&drop) {
        return None;
    }
    let by = exact::pow10(drop as u8) as i64;
    let back = exact::pow10(u8::try_from(i64::from(ty.scale()) - digits).ok()?);
    let back = i64::try_from(back).ok().filter(|back| *back <= by)?;
    Some(Vector::new(Data::I64(cut_ints(how, drop, values, back)?)))
}

/// The numbers cut to multiples of a power of ten, in units of it, times `back`; `None` where they leave no room for that.
fn cut_ints(how: Cut, drop: i64, values: &[i64], back: i64) -> Option<Vec<i64>> {
    #[cfg(target_arch = "x86_64")]
    if std::arch::is_x86_feature_detected!("avx2") {
        // SAFETY: the processor has AVX2.
        return unsafe { cut_in_vectors(how, drop, values, back) };
    }
    cut_each(how, drop, values, back)
}

/// The same where the compiler may take it that there are vectors of 256 bits.
#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn cut_in_vectors(how: Cut, drop: i64, values: &[i64], back: i64) -> Option<Vec<i64>> {
    cut_each(how, drop, values, back)
}

#[inline(always)]
fn cut_each(how: Cut, drop: i64, values: &[i64], back: i64) -> Option<Vec<i64>> {
    let bits = bits_of(values);
    if bits > ROOM {
        return None;
    }
    // The usual numbers of digits have loops of their own, in which dividing is multiplying.
    let add = |by: u32| if matches!(how, Cut::Round) { by / 2 } else { 0 };
    let is_narrow = matches!(how, Cut::Round | Cut::Trunc) && bits <= NARROW;
    Some(match drop {
        1 if is_narrow => cut_narrow::<10>(add(10), values, back),
        2 if is_narrow => cut_narrow::<100>(add(100), values, back),
        3 if is_narrow => cut_narrow::<1000>(add(1000), values, back),
        4 if is_narrow => cut_narrow::<10_000>(add(10_000), values, back),
        1 => cut_by::<10>(how, values, back),
        2 => cut_by::<100>(how, values, back),
        3 => cut_by::<1000>(how, values, back),
        4 => cut_by::<10_000>(how, values, back),
        _ => {
            let by = exact::pow10(drop as u8) as i64;
            values.iter().map(|v| back * how.apply(*v, by)).collect()
        }
    })
}

/// The numbers cut to multiples of a number that is known when this is compiled, in units of it, times `back`.
fn cut_by<const BY: i64>(how: Cut, values: &[i64], back: i64) -> Vec<i64> {
    match how {
        Cut::Round => values.iter().map(|v| back * Cut::Round.apply(*v, BY)).collect(),
        Cut::Trunc => values.iter().map(|v| back * Cut::Trunc.apply(*v, BY)).collect(),
        Cut::Floor => values.iter().map(|v| back * Cut::Floor.apply(*v, BY)).collect(),
        Cut::Ceil => values.iter().map(|v| back * Cut::Ceil.apply(*v, BY)).collect(),
    }
}

/// As [`cut_by`] for numbers of 31 bits, half a divisor or none being added to their magnitudes: several at once.
#[inline(always)]
fn cut_narrow<const BY: u32>(add: u32, values: &[i64], back: i64) -> Vec<i64> {
    let cut = |v: &i64| {
        let sign = v >> 63;
        let magnitude = ((v ^ sign) - sign) as u32;
        (i64::from((magnitude + add) / BY) ^ sign) - sign
    };
    if back == 1 { values.iter().map(cut).collect() } else { values.iter().map(|v| back * cut(v)).collect() }
}

fn float_cut(how: Cut, values: &[f64], digits: i64) -> Option<Vector> {
    let round = how.of_float();
    let cut = |x: &f64| round_float(*x, digits, round);
    Some(finite(values.iter().map(cut).collect()))
}

/// Doubles, with null for what is infinite or undefined, and one zero.
fn finite(mut values: Vec<f64>) -> Vector {
    values.iter_mut().for_each(|v| *v += 0.0);
    let valid = values.iter().map(|v| v.is_finite()).collect();
    Vector::with_validity(Data::F64(values), valid)
}

/// A function of one double.
pub(super) fn of_float(vectors: &[Vector], function: impl Fn(f64) -> f64) -> Option<Vector> {
    match &vectors[0].data {
        Data::F64(values) => Some(finite(values.iter().map(|v| function(*v)).collect())),
        _ => None,
    }
}

/// Numbers without their signs.
pub(super) fn abs(vectors: &[Vector]) -> Option<Vector> {
    let data = match &vectors[0].data {
        Data::I64(values) if !values.contains(&i64::MIN) => Data::I64(values.iter().map(|v| v.abs()).collect()),
        Data::F64(values) => Data::F64(values.iter().map(|v| v.abs()).collect()),
        _ => return None,
    };
    Some(Vector::new(data))
}

/// The smallest or largest of several arguments of the same type.
pub(super) fn extreme(vectors: &[Vector], types: &[Type], ty: Type, pick: fn(i64, i64) -> i64) -> Option<Vector> {
    if types.iter().any(|t| *t != ty) || matches!(ty, Type::Bool | Type::Null) {
        return None;
    }
    let (first, rest) = vectors.split_first()?;
    let mut best = ints(first)?.to_vec();
    for vector in rest {
        best.iter_mut().zip(ints(vector)?).for_each(|(best, v)| *best = pick(*best, *v));
    }
    Some(Vector::new(Data::I64(best)))
}

/// Days from one date to another.
pub(super) fn days_between(vectors: &[Vector], types: &[Type]) -> Option<Vector> {
    let per_day = |ty: Type| match ty {
        Type::Date => Some(1),
        Type::Timestamp => Some(DAY_MICROS),
        _ => None,
    };
    let (a, b) = (ints(&vectors[0])?, ints(&vectors[1])?);
    let days = match (per_day(types[0])?, per_day(types[1])?) {
        (1, 1) => a.iter().zip(b).map(|(a, b)| b - a).collect(),
        (of_a, of_b) => a.iter().zip(b).map(|(a, b)| b.div_euclid(of_b) - a.div_euclid(of_a)).collect(),
    };
    Some(Vector::new(Data::I64(days)))
}

/// Whole units of so many microseconds from one moment to another.
pub(super) fn time_between(vectors: &[Vector], types: &[Type], unit: i64) -> Option<Vector> {
    let per = |ty: Type| match ty {
        Type::Date => Some(DAY_MICROS),
        Type::Timestamp => Some(1),
        _ => None,
    };
    let (of_a, of_b) = (per(types[0])?, per(types[1])?);
    let micros = |a: i64, b: i64| b.checked_mul(of_b)?.checked_sub(a.checked_mul(of_a)?);
    let (a, b) = (ints(&vectors[0])?, ints(&vectors[1])?);
    let between: Option<Vec<i64>> = a.iter().zip(b).map(|(a, b)| Some(micros(*a, *b)? / unit)).collect();
    Some(Vector::new(Data::I64(between?)))
}

/// A double with so many digits after the point (negative: zeros before it).
pub(super) fn round_float(x: f64, digits: i64, round: fn(f64) -> f64) -> f64 {
    let factor = 10f64.powi(digits as i32);
    let scaled = x * factor;
    // Beyond what a double resolves there is nothing to round, and beyond what it holds nothing is left.
    if !scaled.is_finite() || factor == 0.0 {
        return if factor == 0.0 { 0.0 } else { x };
    }
    round(scaled) / factor
}

#[cfg(test)]
mod tests {
    use super::super::{Function, find};
    use crate::value::{Type, Value, Vector, VectorBuilder};

    /// Numbers around every edge, then many that look like chance.
    fn numbers() -> Vec<i64> {
        let edges = [0, 1, 4, 5, 9, 10, 49, 50, 51, 99, 100, 150, 4999, 5000, 123_456_789, 1 << 40, (1 << 60) - 1];
        let some = (0..200u64).map(|i| (i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 20) as i64);
        edges.into_iter().chain(some).flat_map(|v| [v, -v]).collect()
    }

    fn vector(values: &[Value], ty: Type) -> Vector {
        let mut builder = VectorBuilder::new(ty, values.len());
        values.iter().for_each(|v| builder.push(v.clone()));
        builder.finish()
    }

    /// What rows give one by one is what they give together.
    fn check(function: &Function, arguments: &[Vec<Value>], types: &[Type], ty: Type, covered: bool) {
        let vectors: Vec<Vector> = arguments.iter().zip(types).map(|(values, ty)| vector(values, *ty)).collect();
        let together = function.batch.expect("knows batches")(&vectors, types, ty);
        assert_eq!(together.is_some(), covered, "{} of {types:?}", function.name);
        let Some(together) = together else { return };
        for row in 0..arguments[0].len() {
            let row_arguments: Vec<Value> = arguments.iter().map(|values| values[row].clone()).collect();
            let alone = (function.run)(&row_arguments, ty).expect("fits");
            assert_eq!(together.get(row, ty), alone, "{}{row_arguments:?}", function.name);
        }
    }

    #[test]
    fn numbers_lose_their_digits_as_one_by_one() {
        for name in ["round", "trunc", "floor", "ceil"] {
            let function = find(name).expect("is there");
            for scale in [1u8, 2, 4, 9] {
                let from = Type::decimal(scale);
                let values: Vec<Value> =
                    numbers().into_iter().map(|v| Value::Decimal { unscaled: i128::from(v), scale }).collect();
                check(function, std::slice::from_ref(&values), &[from], Type::Int, true);
                let fewer = [-2, 0, 1, i64::from(scale) - 1].into_iter().filter(|digits| *digits < i64::from(scale));
                for digits in fewer.filter(|_| matches!(name, "round" | "trunc")) {
                    let to = if digits <= 0 { Type::Int } else { Type::decimal(digits as u8) };
                    let digits = vec![Value::Int(digits); values.len()];
                    check(function, &[values.clone(), digits.clone()], &[from, Type::Int], to, true);
                    check(function, &[values.clone(), digits], &[from, Type::Int], from, true);
                }
            }
            let floats: Vec<Value> = numbers().into_iter().map(|v| Value::Float(v as f64 / 64.0)).collect();
            check(function, &[floats], &[Type::Float], Type::Float, true);
        }
    }

    #[test]
    fn numbers_too_large_for_64_bits_are_left_to_the_rows() {
        let values = vec![Value::Decimal { unscaled: i128::from(i64::MAX), scale: 1 }];
        check(find("round").expect("is there"), &[values], &[Type::decimal(1)], Type::Int, false);
        check(find("abs").expect("is there"), &[vec![Value::Int(i64::MIN)]], &[Type::Int], Type::Int, false);
    }

    #[test]
    fn other_functions_agree_with_their_rows() {
        let whole: Vec<Value> = numbers().into_iter().map(Value::Int).collect();
        let other: Vec<Value> = numbers().into_iter().rev().map(Value::Int).collect();
        let floats: Vec<Value> = numbers().into_iter().map(|v| Value::Float(v as f64 / 1e9)).collect();
        check(find("abs").expect("is there"), std::slice::from_ref(&whole), &[Type::Int], Type::Int, true);
        check(find("abs").expect("is there"), std::slice::from_ref(&floats), &[Type::Float], Type::Float, true);
        for name in ["least", "greatest"] {
            let arguments = [whole.clone(), other.clone()];
            check(find(name).expect("is there"), &arguments, &[Type::Int; 2], Type::Int, true);
            check(find(name).expect("is there"), &arguments, &[Type::Int, Type::decimal(1)], Type::Int, false);
        }
        for name in ["sqrt", "exp", "ln", "log10"] {
            check(find(name).expect("is there"), std::slice::from_ref(&floats), &[Type::Float], Type::Float, true);
        }
        let days: Vec<Value> = (-300..300).map(|d| Value::Date(d * 61)).collect();
        let moments: Vec<Value> = (-300..300i64).map(|t| Value::Timestamp(t * 123_456_789_012)).collect();
        for (a, b) in [(&days, &moments), (&moments, &days), (&days, &days), (&moments, &moments)] {
            let ty = |v: &[Value]| v[0].natural_type();
            let types = [ty(a), ty(b)];
            for name in ["days_between", "hours_between", "minutes_between", "seconds_between"] {
                check(find(name).expect("is there"), &[a.clone(), b.clone()], &types, Type::Int, true);
            }
        }
    }
}
