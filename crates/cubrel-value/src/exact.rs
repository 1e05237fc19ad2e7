//! Exact numbers: a whole number of up to 38 digits and a scale.

use std::cmp::Ordering;

/// Digits that computing and summing have.
pub const MAX_DIGITS: u8 = 38;
/// Digits that a column can store, in 64 bits.
pub const STORED_DIGITS: u8 = 18;
/// The largest magnitude of [`MAX_DIGITS`] digits.
const LIMIT: i128 = 10i128.pow(MAX_DIGITS as u32) - 1;

/// 10 to the power of `n`, for `n` up to 38.
pub fn pow10(n: u8) -> i128 {
    10i128.pow(u32::from(n))
}

/// `v` if it has at most 38 digits.
pub fn checked(v: Option<i128>) -> Option<i128> {
    v.filter(|v| (-LIMIT..=LIMIT).contains(v))
}

/// Moves a number to another scale, rounding half away from zero; `None` if it does not fit.
pub fn rescale(v: i128, from: u8, to: u8) -> Option<i128> {
    match to.cmp(&from) {
        Ordering::Equal => Some(v),
        Ordering::Greater => checked(v.checked_mul(pow10(to - from))),
        Ordering::Less => Some(divide_rounded(v, pow10(from - to))),
    }
}

/// `v / by`, rounded half away from zero; `by` is positive.
pub fn divide_rounded(v: i128, by: i128) -> i128 {
    let (quotient, rest) = (v / by, v % by);
    // 2·|rest| >= by, written so that it cannot overflow.
    if rest.abs() >= by - rest.abs() { quotient + v.signum() } else { quotient }
}

/// The nearest double.
pub fn to_f64(v: i128, scale: u8) -> f64 {
    if scale == 0 { v as f64 } else { v as f64 / 10f64.powi(i32::from(scale)) }
}

/// Compares two exact numbers of any scales.
pub fn compare(a: (i128, u8), b: (i128, u8)) -> Ordering {
    let scale = a.1.max(b.1);
    match (a.0.checked_mul(pow10(scale - a.1)), b.0.checked_mul(pow10(scale - b.1))) {
        (Some(x), Some(y)) => x.cmp(&y),
        _ => to_f64(a.0, a.1).total_cmp(&to_f64(b.0, b.1)),
    }
}

/// The bits that the largest magnitude takes.
#[inline(always)]
pub fn bits_of(values: &[i64]) -> u32 {
    // A number and the complement of a negative one have the same leading zeros, so one pass of `or` bounds all.
    let all = values.iter().fold(0u64, |all, v| all | (*v ^ (*v >> 63)) as u64);
    64 - all.leading_zeros()
}

/// All digits, with a point where there is a scale.
pub fn to_string(v: i128, scale: u8) -> String {
    let digits = v.unsigned_abs().to_string();
    let sign = if v < 0 { "-" } else { "" };
    if scale == 0 {
        return format!("{sign}{digits}");
    }
    let scale = usize::from(scale);
    let padded = format!("{digits:0>width$}", width = scale + 1);
    let (whole, part) = padded.split_at(padded.len() - scale);
    format!("{sign}{whole}.{part}")
}

/// Reads digits with at most one point and a sign into the number and its scale; no exponent, no spaces. Neither has more
/// than 38 digits.
pub fn parse(text: &[u8]) -> Option<(i128, u8)> {
    let (negative, digits) = match text.first()? {
        b'-' => (true, &text[1..]),
        b'+' => (false, &text[1..]),
        _ => (false, text),
    };
    let (mut value, mut scale, mut point, mut any) = (0i128, 0u8, false, false);
    for &c in digits {
        match c {
            b'0'..=b'9' => {
                any = true;
                value = checked(value.checked_mul(10)?.checked_add(i128::from(c - b'0')))?;
                scale = scale.checked_add(u8::from(point))?;
            }
            b'.' if !point => point = true,
            _ => return None,
        }
    }
    (any && scale <= MAX_DIGITS).then_some((if negative { -value } else { value }, scale))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_number_has_more_digits_than_there_is_room_for() {
        let zeros = |n: usize| "0".repeat(n);
        assert_eq!(parse(format!("0.{}1", zeros(37)).as_bytes()), Some((1, 38)));
        for n in [39, 45, 130, 254, 255, 300] {
            for text in [format!(".{}", zeros(n)), format!("-0.{}1", zeros(n)), format!("1{}", zeros(n))] {
                assert_eq!(parse(text.as_bytes()), None, "{n}");
            }
        }
        assert_eq!(parse(format!("{}7", zeros(200)).as_bytes()), Some((7, 0)), "zeros in front are none");
    }

    #[test]
    fn rounding_is_half_away_from_zero() {
        for (v, from, to, expected) in [
            (125, 2, 1, 13),
            (-125, 2, 1, -13),
            (124, 2, 1, 12),
            (-124, 2, 1, -12),
            (5, 1, 0, 1),
            (-5, 1, 0, -1),
            (4, 1, 0, 0),
        ] {
            assert_eq!(rescale(v, from, to), Some(expected), "{v} at {from} to {to}");
        }
    }

    #[test]
    fn a_result_of_39_digits_does_not_fit() {
        assert_eq!(rescale(LIMIT, 0, 1), None);
        assert_eq!(checked(Some(LIMIT)), Some(LIMIT));
    }

    #[test]
    fn text_and_digits_round_trip() {
        for text in ["0", "-0.05", "12.340", "99999999999999999999999999999999999999", "-7"] {
            let (v, scale) = parse(text.as_bytes()).expect("a number");
            assert_eq!(to_string(v, scale), text);
        }
        for bad in ["", "-", ".", "1.2.3", "1e5", " 1", "999999999999999999999999999999999999999"] {
            assert_eq!(parse(bad.as_bytes()), None, "{bad}");
        }
    }
}
