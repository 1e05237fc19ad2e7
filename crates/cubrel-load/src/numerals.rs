//! Fields to the numbers that columns hold; those of few digits, which most are, in a short way.

use cubrel_value::{Type, date, parse};

/// A field as the whole number that a column of the type holds.
pub(super) fn exact_of(field: &[u8], ty: Type) -> Option<i64> {
    match ty {
        Type::Int => parse::int(field),
        Type::Decimal { precision, scale } => i64::try_from(parse::decimal(field, precision, scale)?).ok(),
        Type::Bool => parse::boolean(field).map(i64::from),
        Type::Date => date::parse_date(field).map(i64::from),
        Type::Timestamp => parse::timestamp(field),
        Type::Float | Type::Text | Type::Null => None,
    }
}

/// A decimal of few digits; `None` for everything that needs a closer look.
#[inline]
pub(super) fn short_decimal(field: &[u8], precision: u8, scale: u8) -> Option<i64> {
    let limit = POWERS.get(usize::from(precision)).copied().unwrap_or(i64::MAX);
    short_number(field, scale).filter(|v| v.abs() < limit)
}

/// Digits of a whole number that every double of its size has.
const DOUBLE_DIGITS: usize = 15;

/// A double of few digits; `None` for everything that needs a closer look. W. Clinger, "How to read floating point numbers
/// accurately" (PLDI 1990): both numbers are exact, so that the division rounds once.
#[inline]
pub(super) fn short_float(field: &[u8]) -> Option<f64> {
    let point = field.iter().position(|c| *c == b'.');
    let decimals = point.map_or(0, |p| field.len() - p - 1);
    if field.len() > DOUBLE_DIGITS || field.first() == Some(&b'-') {
        return None;
    }
    let units = short_number(field, decimals as u8)?;
    Some(units as f64 / POWERS[decimals] as f64)
}

/// Digits that fit 64 bits whatever they are.
const SHORT: u8 = 18;
const POWERS: [i64; 19] = {
    let mut powers = [1i64; 19];
    let mut i = 1;
    while i < 19 {
        powers[i] = powers[i - 1] * 10;
        i += 1;
    }
    powers
};

/// A number of few digits at a scale; `None` for everything that needs a closer look.
#[inline]
pub(super) fn short_number(field: &[u8], scale: u8) -> Option<i64> {
    let (negative, digits) = match field {
        [b'-', rest @ ..] => (true, rest),
        _ => (false, field),
    };
    if digits.is_empty() || digits.len() > usize::from(SHORT) {
        return None;
    }
    let (mut value, mut point) = (0i64, None);
    for (i, c) in digits.iter().enumerate() {
        match c {
            b'0'..=b'9' => value = value * 10 + i64::from(c - b'0'),
            b'.' if point.is_none() => point = Some(i),
            _ => return None,
        }
    }
    let after = point.map_or(0, |p| digits.len() - p - 1);
    let whole = digits.len() - after - usize::from(point.is_some());
    let missing = usize::from(scale).checked_sub(after)?;
    if whole + after == 0 || whole + usize::from(scale) > usize::from(SHORT) {
        return None;
    }
    let value = value * POWERS[missing];
    Some(if negative { -value } else { value })
}

#[cfg(test)]
mod tests {
    use super::super::dialect::Shape;
    use super::super::field_parser::{Admitted, FieldParser, Missing};
    use super::super::staging::Staging;
    use super::*;
    use cubrel_store::RawData;

    const NUMBERS: [&str; 28] = [
        "0",
        "-0",
        "7",
        "-12",
        "123456789012345678",
        "1234567890123456789",
        "1.5",
        "1.50",
        "1.505",
        ".5",
        "5.",
        ".",
        "-",
        "",
        "+3",
        "1e3",
        "0012",
        "-.25",
        "1..2",
        "99999999999999999.99",
        "9223372036854775807",
        "999.99",
        "1000.00",
        "-1000",
        "0.1",
        "123456789.123457",
        "0.000000000001",
        "1,5",
    ];

    /// What a column holds after one field, which may not fit.
    fn taken(field: &str, ty: Type) -> RawData {
        let missing = Missing::new(&[]);
        let way =
            FieldParser { kind: Admitted::Settled, shape: &Shape::Plain, missing: &missing, trim: false, zone: None };
        let mut column = Staging::new(ty);
        let misfits = column.extend([field.as_bytes()].into_iter(), &way);
        column.truncate(1 - misfits.len());
        column.raw().data
    }

    #[test]
    fn short_numbers_are_those_of_the_long_way() {
        for field in NUMBERS {
            let bytes = field.as_bytes();
            let decimals = [(18, 0), (18, 2), (5, 2), (18, 6), (3, 3)];
            let exact = decimals.map(|(precision, scale)| Type::Decimal { precision, scale });
            for ty in exact.into_iter().chain([Type::Int]) {
                let RawData::Ints(found) = taken(field, ty) else { panic!("whole numbers") };
                assert_eq!(found.first().copied(), exact_of(bytes, ty), "{field} as {ty}");
            }
            let RawData::Floats(found) = taken(field, Type::Float) else { panic!("doubles") };
            let bits = |v: f64| v.to_bits();
            assert_eq!(found.first().copied().map(bits), parse::float(bytes).map(bits), "{field} as a double");
        }
        for i in 0..20_000u64 {
            let units = i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> (20 + i % 40);
            let field = format!("{}.{:0width$}", units / 1000, units % 1000, width = 3 + (i % 4) as usize);
            assert_eq!(short_float(field.as_bytes()).or(parse::float(field.as_bytes())), field.parse().ok(), "{field}");
        }
    }
}
