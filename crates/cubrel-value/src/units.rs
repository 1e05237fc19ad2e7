//! Counts and bytes as people read them.

/// A count with commas.
pub fn count(n: u64) -> String {
    let digits = n.to_string();
    let mut text = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            text.push(',');
        }
        text.push(c);
    }
    text
}

/// So many of something.
///
/// ```
/// assert_eq!(cubrel::units::counted(1, "row"), "1 row");
/// assert_eq!(cubrel::units::counted(2000, "row"), "2,000 rows");
/// ```
pub fn counted(n: u64, what: &str) -> String {
    let ending = if n == 1 { "" } else { "s" };
    format!("{} {what}{ending}", count(n))
}

/// Bytes in the unit that suits them.
pub fn bytes(n: u64) -> String {
    const UNITS: [&str; 4] = ["KiB", "MiB", "GiB", "TiB"];
    if n < 1024 {
        return format!("{n} B");
    }
    let mut value = n as f64 / 1024.0;
    let mut unit = 0;
    while value >= 1024.0 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    let decimals = if value < 10.0 {
        2
    } else if value < 100.0 {
        1
    } else {
        0
    };
    format!("{value:.decimals$} {}", UNITS[unit])
}

/// An amount of memory such as `2 GiB` or `500 MB`, in bytes.
///
/// ```
/// assert_eq!(cubrel::units::parse_bytes("2 KiB"), Some(2048));
/// assert_eq!(cubrel::units::parse_bytes("two"), None);
/// ```
pub fn parse_bytes(text: &str) -> Option<u64> {
    let text = text.trim();
    let (number, unit) = text.split_at(text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len()));
    let factor = match unit.trim().to_ascii_lowercase().as_str() {
        "" | "b" => 1u64,
        "kib" => 1 << 10,
        "mib" => 1 << 20,
        "gib" => 1 << 30,
        "kb" => 1000,
        "mb" => 1_000_000,
        "gb" => 1_000_000_000,
        _ => return None,
    };
    Some(number.parse::<u64>().ok()?.saturating_mul(factor))
}

/// Microseconds of a day.
pub const DAY_MICROS: i64 = super::date::DAY_MICROS;

/// The year, month and day of a day number; nothing where the calendar has no such day.
///
/// ```
/// assert_eq!(cubrel::units::day_of(0), Some((1970, 1, 1)));
/// ```
pub fn day_of(day: i32) -> Option<(i16, u8, u8)> {
    let date = super::date::civil(day)?;
    Some((date.year(), date.month().unsigned_abs(), date.day().unsigned_abs()))
}

/// A day such as `2031-02-28` as the number that options take: days since 1970.
///
/// ```
/// assert_eq!(cubrel::units::parse_day("1970-01-02"), Some(1));
/// assert_eq!(cubrel::units::parse_day("yesterday"), None);
/// ```
pub fn parse_day(text: &str) -> Option<i32> {
    super::date::parse_date(text.as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_have_commas_and_bytes_the_unit_that_suits_them() {
        assert_eq!([0, 999, 1000, 1_234_567].map(count), ["0", "999", "1,000", "1,234,567"]);
        assert_eq!([12, 1536, 12_654_442, 5 << 30].map(bytes), ["12 B", "1.50 KiB", "12.1 MiB", "5.00 GiB"]);
    }
}
