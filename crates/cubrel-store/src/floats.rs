//! Doubles as whole numbers.

/// Most decimal digits for which doubles are tried as decimals.
pub(super) const MOST_DIGITS: u8 = 9;

/// The powers of ten.
const UNITS: [f64; MOST_DIGITS as usize + 1] = [1.0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9];

/// To doubles up to a third of this, adding it takes their fractions off: the sum has no room for them.
const NO_FRACTION: f64 = 6_755_399_441_055_744.0;

/// Whole numbers up to this are doubles, too.
const EXACT_DOUBLES: f64 = 9_007_199_254_740_992.0;

/// A double as a whole number of the same order; zeros of both signs are one.
pub fn float_key(x: f64) -> i64 {
    let bits = (x + 0.0).to_bits() as i64;
    if bits < 0 { bits ^ i64::MAX } else { bits }
}

/// The double of a [`float_key`].
pub fn float_of(key: i64) -> f64 {
    f64::from_bits((if key < 0 { key ^ i64::MAX } else { key }) as u64)
}

/// A double as a whole number of units of so many decimal digits, if it is just that.
///
/// Source: A. Afroozeh, L. Kuffo, P. Boncz, "ALP: adaptive lossless floating-point compression" (SIGMOD 2023).
pub(super) fn scaled(x: f64, digits: u8) -> Option<i64> {
    let unit = UNITS[usize::from(digits)];
    let is_small = (x * unit).abs() < NO_FRACTION / 3.0;
    let units = if is_small { (x * unit + NO_FRACTION) - NO_FRACTION } else { (x * unit).round() };
    (units.abs() < EXACT_DOUBLES && units / unit == x).then_some(units as i64)
}

/// The double of so many units.
pub(super) fn unscaled(units: i64, digits: u8) -> f64 {
    units as f64 / UNITS[usize::from(digits)]
}

/// How many decimal digits all doubles have, if few.
pub(super) fn decimal_digits(values: impl Iterator<Item = f64> + Clone) -> Option<u8> {
    let mut digits = 0;
    for x in values.clone() {
        while scaled(x, digits).is_none() {
            digits += 1;
            if digits > MOST_DIGITS {
                return None;
            }
        }
    }
    // Large numbers may have room for fewer digits than small ones need.
    let mut values = values;
    values.all(|x| scaled(x, digits).is_some()).then_some(digits)
}
