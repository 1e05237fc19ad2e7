//! What some functions do with whole vectors: the same as with one row after another, only quicker.
//!
//! Only the common kinds of arguments are covered; whatever else comes is left to the rows.

use jiff::civil::Date;

use super::truncation::Truncation;
use cubrel_value::date::{self, DAY_MICROS};
use cubrel_value::exact::{self, bits_of};
use cubrel_value::{Data, Type, Vector, wide};

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
        return Some(float_cut(how, values, digits));
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
    wide(
        #[inline(always)]
        || cut_each(how, drop, values, back),
    )
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

fn float_cut(how: Cut, values: &[f64], digits: i64) -> Vector {
    let Some(to) = RoundedTo::of(digits) else { return Vector::new(Data::F64(vec![0.0; values.len()])) };
    finite(wide(
        #[inline(always)]
        || match how {
            Cut::Round => values.iter().map(|x| to.cut(*x, f64::round)).collect(),
            Cut::Trunc => values.iter().map(|x| to.cut(*x, f64::trunc)).collect(),
            Cut::Floor => values.iter().map(|x| to.cut(*x, f64::floor)).collect(),
            Cut::Ceil => values.iter().map(|x| to.cut(*x, f64::ceil)).collect(),
        },
    ))
}

/// So many digits after the point of a double (negative: zeros before it).
#[derive(Clone, Copy)]
struct RoundedTo {
    factor: f64,
}

impl RoundedTo {
    /// `None` where nothing is left of any double.
    fn of(digits: i64) -> Option<RoundedTo> {
        let factor = 10f64.powi(digits as i32);
        (factor != 0.0).then_some(RoundedTo { factor })
    }

    #[inline(always)]
    fn cut(self, x: f64, round: impl Fn(f64) -> f64) -> f64 {
        let scaled = x * self.factor;
        // Beyond what a double resolves there is nothing to round.
        if scaled.is_finite() { round(scaled) / self.factor } else { x }
    }
}

/// Doubles, with null for what is infinite or undefined, and one zero.
fn finite(mut values: Vec<f64>) -> Vector {
    let valid = wide(
        #[inline(always)]
        || {
            values.iter_mut().for_each(|v| *v += 0.0);
            values.iter().map(|v| v.is_finite()).collect()
        },
    );
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

/// The smallest or largest of several arguments of the same type, or of numbers as doubles.
pub(super) fn extreme(
    vectors: &[Vector],
    types: &[Type],
    ty: Type,
    pick: fn(i64, i64) -> i64,
    pick_float: fn(f64, f64) -> f64,
) -> Option<Vector> {
    if ty == Type::Float && types.iter().all(|ty| ty.is_number()) {
        let mut all = vectors.iter().zip(types).map(|(vector, ty)| vector.to_f64(*ty));
        let mut best = all.next()?;
        for values in all {
            best.iter_mut().zip(values).for_each(|(best, v)| *best = pick_float(*best, v));
        }
        return Some(finite(best));
    }
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

/// How many microseconds a date's or timestamp's unit has.
fn micros_of(ty: Type) -> Option<i64> {
    match ty {
        Type::Date => Some(DAY_MICROS),
        Type::Timestamp => Some(1),
        _ => None,
    }
}

/// The days that dates or timestamps are of, in the place of null one that comes.
fn days(vector: &Vector, ty: Type) -> Option<Vec<i64>> {
    let values = ints(vector)?;
    let mut days: Vec<i64> = match ty {
        Type::Date => values.to_vec(),
        Type::Timestamp => values.iter().map(|v| v.div_euclid(DAY_MICROS)).collect(),
        _ => return None,
    };
    if let Some(valid) = &vector.valid
        && let Some(some) = valid.iter().position(|valid| *valid).map(|first| days[first])
    {
        days.iter_mut().zip(valid).for_each(|(day, valid)| *day = if *valid { *day } else { some });
    }
    Some(days)
}

/// A part of the day that each date or timestamp is of.
pub(super) fn date_part(vectors: &[Vector], types: &[Type], part: fn(Date) -> i64) -> Option<Vector> {
    let days = days(&vectors[0], types[0])?;
    let of = |day: i64| i32::try_from(day).ok().and_then(date::civil).map(part);
    let (least, most) = days.iter().fold((i64::MAX, i64::MIN), |(least, most), day| (least.min(*day), most.max(*day)));
    // Where the days are of few years each of these is looked at once.
    let parts: Option<Vec<i64>> = match most.checked_sub(least) {
        Some(further @ 0..) if (further as u64) < days.len() as u64 => {
            let of_days = (least..=most).map(of).collect::<Option<Vec<i64>>>()?;
            Some(days.iter().map(|day| of_days[(day - least) as usize]).collect())
        }
        _ => days.iter().map(|day| of(*day)).collect(),
    };
    Some(Vector::new(Data::I64(parts?)))
}

/// How many units each moment is after the larger unit that it is in began, both in microseconds, which are known when this is built:
/// dividing by them is multiplying.
pub(super) fn time_part<const UNIT: i64, const OF: i64>(vectors: &[Vector], types: &[Type]) -> Option<Vector> {
    let values = ints(&vectors[0])?;
    let parts = match types[0] {
        Type::Date => vec![0; values.len()],
        Type::Timestamp => values.iter().map(|v| v.rem_euclid(OF) / UNIT).collect(),
        _ => return None,
    };
    Some(Vector::new(Data::I64(parts)))
}

/// The beginnings of units that have one name in all rows.
pub(super) fn date_trunc(vectors: &[Vector], types: &[Type]) -> Option<Vector> {
    let Data::Text(names) = &vectors[0].data else { return None };
    let name = names.first().filter(|first| names.iter().all(|name| name == *first))?;
    let (unit, values) = (Truncation::parse(name)?, ints(&vectors[1])?);
    let beginnings: Option<Vec<i64>> = match types[1] {
        Type::Date => {
            let of_day = |v: &i64| i32::try_from(*v).ok().and_then(|day| unit.of_day(day)).map(i64::from);
            values.iter().map(of_day).collect()
        }
        Type::Timestamp => values.iter().map(|v| unit.of_micros(*v)).collect(),
        _ => None,
    };
    Some(Vector::new(Data::I64(beginnings?)))
}

/// Days from one date to another.
pub(super) fn days_between(vectors: &[Vector], types: &[Type]) -> Option<Vector> {
    let (a, b) = (ints(&vectors[0])?, ints(&vectors[1])?);
    let between = |a: &[i64], b: &[i64]| -> Vec<i64> { a.iter().zip(b).map(|(a, b)| b - a).collect() };
    Some(Vector::new(Data::I64(match types {
        [Type::Date, Type::Date] => between(a, b),
        _ => between(&days(&vectors[0], types[0])?, &days(&vectors[1], types[1])?),
    })))
}

/// Whole units of so many microseconds, which are known when this is built, from one moment to another.
pub(super) fn time_between<const UNIT: i64>(vectors: &[Vector], types: &[Type]) -> Option<Vector> {
    let (of_a, of_b) = (micros_of(types[0])?, micros_of(types[1])?);
    let micros = |a: i64, b: i64| b.checked_mul(of_b)?.checked_sub(a.checked_mul(of_a)?);
    let (a, b) = (ints(&vectors[0])?, ints(&vectors[1])?);
    let between: Option<Vec<i64>> = a.iter().zip(b).map(|(a, b)| Some(micros(*a, *b)? / UNIT)).collect();
    Some(Vector::new(Data::I64(between?)))
}

/// A double with so many digits after the point (negative: zeros before it).
pub(super) fn round_float(x: f64, digits: i64, round: fn(f64) -> f64) -> f64 {
    // Beyond what a double holds nothing is left.
    RoundedTo::of(digits).map_or(0.0, |to| to.cut(x, round))
}

#[cfg(test)]
mod tests {
    use super::super::{Function, find};
    use cubrel_value::{Type, Value, Vector, VectorBuilder};

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

    const UNITS: [&str; 8] = ["second", "minutes", "hour", "day", "week", "month", "quarters", "year"];

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
        for values in [&days, &moments] {
            let ty = values[0].natural_type();
            for name in
                ["year", "quarter", "month", "week", "day", "weekday", "day_of_year", "hour", "minute", "second"]
            {
                check(find(name).expect("is there"), std::slice::from_ref(values), &[ty], Type::Int, true);
            }
            for (unit, covered) in UNITS.iter().map(|unit| (*unit, true)).chain([("fortnight", false)]) {
                let units = vec![Value::text(unit); values.len()];
                check(find("date_trunc").expect("is there"), &[units, values.clone()], &[Type::Text, ty], ty, covered);
            }
        }
        for (a, b) in [(&days, &moments), (&moments, &days), (&days, &days), (&moments, &moments)] {
            let ty = |v: &[Value]| v[0].natural_type();
            let types = [ty(a), ty(b)];
            for name in ["days_between", "hours_between", "minutes_between", "seconds_between"] {
                check(find(name).expect("is there"), &[a.clone(), b.clone()], &types, Type::Int, true);
            }
        }
    }
}
