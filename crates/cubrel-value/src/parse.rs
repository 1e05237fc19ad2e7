//! Text to values of a type: what `cast` does, and what a loader does with a field.

use super::{Type, Value, date, exact};

/// Reads `text` as a value of type `ty`; `None` if it is not one. Decimals are rounded to the type's scale.
pub fn value(text: &str, ty: Type) -> Option<Value> {
    let bytes = text.as_bytes();
    Some(match ty {
        Type::Int => Value::Int(int(bytes)?),
        Type::Decimal { precision, scale } => Value::Decimal { unscaled: decimal(bytes, precision, scale)?, scale },
        Type::Float => Value::float(float(bytes)?),
        Type::Text => Value::text(text),
        Type::Bool => Value::Bool(boolean(bytes)?),
        Type::Date => Value::Date(date::parse_date(bytes)?),
        Type::Timestamp => Value::Timestamp(timestamp(bytes)?),
        Type::Null => return None,
    })
}

/// A whole number of 64 bits.
pub fn int(text: &[u8]) -> Option<i64> {
    let (v, scale) = exact::parse(text)?;
    if scale > 0 { None } else { i64::try_from(v).ok() }
}

/// A decimal at `scale` that has at most `precision` digits.
pub fn decimal(text: &[u8], precision: u8, scale: u8) -> Option<i128> {
    let (v, from) = exact::parse(without_far_digits(text, scale)?)?;
    let v = exact::rescale(v, from, scale)?;
    (v.unsigned_abs() < exact::pow10(precision).unsigned_abs()).then_some(v)
}

/// A number without the digits that decide nothing: rounding half away from zero to `scale` looks at one digit more. `None`
/// when what is left out is no digit.
fn without_far_digits(text: &[u8], scale: u8) -> Option<&[u8]> {
    let decides = |point: usize| (point + 2 + usize::from(scale)).min(text.len());
    let end = memchr::memchr(b'.', text).map_or(text.len(), decides);
    text[end..].iter().all(u8::is_ascii_digit).then_some(&text[..end])
}

/// A finite double, with or without an exponent.
pub fn float(text: &[u8]) -> Option<f64> {
    // The names of infinity that Rust reads are not numbers in data.
    if !text.iter().all(|c| matches!(c, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E')) {
        return None;
    }
    std::str::from_utf8(text).ok()?.parse::<f64>().ok().filter(|v| v.is_finite())
}

/// `true` or `false`, in any case.
pub fn boolean(text: &[u8]) -> Option<bool> {
    if text.eq_ignore_ascii_case(b"true") {
        Some(true)
    } else if text.eq_ignore_ascii_case(b"false") {
        Some(false)
    } else {
        None
    }
}

/// A timestamp, or a date at midnight.
pub fn timestamp(text: &[u8]) -> Option<i64> {
    date::parse_timestamp(text).or_else(|| Some(i64::from(date::parse_date(text)?) * date::DAY_MICROS))
}
