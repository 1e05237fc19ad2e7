//! Dates as days since 1970-01-01 and timestamps as microseconds since then.

use jiff::civil::{Date, DateTime, Time};

/// Microseconds in a second.
pub const SECOND_MICROS: i64 = 1_000_000;
/// Microseconds in a minute.
pub const MINUTE_MICROS: i64 = 60 * SECOND_MICROS;
/// Microseconds in an hour.
pub const HOUR_MICROS: i64 = 60 * MINUTE_MICROS;
/// Microseconds in a day.
pub const DAY_MICROS: i64 = 24 * HOUR_MICROS;
/// Days from 0001-01-01 to 1970-01-01, which fixes the epoch in jiff's range.
const EPOCH: Date = jiff::civil::date(1970, 1, 1);

/// Year, month and day of a day number; `None` beyond the years −9999 to 9999.
pub fn civil(days: i32) -> Option<Date> {
    EPOCH.checked_add(jiff::Span::new().try_days(i64::from(days)).ok()?).ok()
}

/// The day number of a date.
pub fn days(date: Date) -> i32 {
    days_from_civil(i32::from(date.year()), i32::from(date.month()), i32::from(date.day()))
}

/// Day number from year, month and day, by the days-from-civil method (H. Hinnant, "chrono-Compatible Low-Level Date
/// Algorithms", 2013). It is on the path of every date that is read, so it avoids building a span.
pub fn days_from_civil(year: i32, month: i32, day: i32) -> i32 {
    let y = if month <= 2 { year - 1 } else { year };
    let era = y.div_euclid(400);
    let year_of_era = y - era * 400;
    let shifted_month = (month + 9) % 12;
    let day_of_year = (153 * shifted_month + 2) / 5 + day - 1;
    let day_of_era = year_of_era * 365 + year_of_era / 4 - year_of_era / 100 + day_of_year;
    era * 146_097 + day_of_era - 719_468
}

/// Day number of year, month, day, if there is such a day.
pub fn make_date(year: i64, month: i64, day: i64) -> Option<i32> {
    let date = Date::new(i16::try_from(year).ok()?, i8::try_from(month).ok()?, i8::try_from(day).ok()?).ok()?;
    Some(days(date))
}

/// Reads `2026-03-01`.
#[inline]
pub fn parse_date(text: &[u8]) -> Option<i32> {
    let [y1, y2, y3, y4, b'-', m1, m2, b'-', d1, d2] = *<&[u8; 10]>::try_from(text).ok()? else {
        return None;
    };
    let digits = [y1, y2, y3, y4, m1, m2, d1, d2].map(|c| c.wrapping_sub(b'0'));
    if digits.iter().any(|d| *d > 9) {
        return None;
    }
    let [y1, y2, y3, y4, m1, m2, d1, d2] = digits.map(i32::from);
    let (year, month, day) = (y1 * 1000 + y2 * 100 + y3 * 10 + y4, m1 * 10 + m2, d1 * 10 + d2);
    let is_day = (1..=12).contains(&month) && (1..=days_in_month(year, month)).contains(&day);
    is_day.then(|| days_from_civil(year, month, day))
}

fn days_in_month(year: i32, month: i32) -> i32 {
    let is_leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    match month {
        2 => 28 + i32::from(is_leap),
        4 | 6 | 9 | 11 => 30,
        _ => 31,
    }
}

/// Reads `2026-03-01 08:30:00`, with `T` for the space, seconds or not, up to six decimals, and an offset, which is
/// turned to UTC.
pub fn parse_timestamp(text: &[u8]) -> Option<i64> {
    parse_moment(text).map(|(micros, _)| micros)
}

/// The same, and whether there is an offset: then it is turned to UTC.
pub fn parse_moment(text: &[u8]) -> Option<(i64, bool)> {
    if text.len() < 16 || !matches!(text[10], b' ' | b'T' | b't') {
        return None;
    }
    let day = parse_date(&text[..10])?;
    let (time, offset_minutes) = split_offset(&text[11..])?;
    let (hour, minute) = (digits(time.get(..2)?)?, digits(time.get(3..5)?)?);
    let (second, micros) = match time.get(5..) {
        None | Some(b"") => (0, 0),
        Some(rest) => {
            let second = digits(rest.get(1..3)?)?;
            let micros = match rest.get(3..) {
                None | Some(b"") => 0,
                Some(part) => fraction(part)?,
            };
            (if rest[0] == b':' { second } else { return None }, micros)
        }
    };
    if time[2] != b':' || hour > 23 || minute > 59 || second > 59 {
        return None;
    }
    let seconds = (hour * 60 + minute - offset_minutes.unwrap_or(0)) * 60 + second;
    Some((i64::from(day) * DAY_MICROS + seconds * 1_000_000 + micros, offset_minutes.is_some()))
}

/// A time without its offset, and the offset in minutes where there is one.
fn split_offset(time: &[u8]) -> Option<(&[u8], Option<i64>)> {
    if let Some(rest) = time.strip_suffix(b"Z") {
        return Some((rest, Some(0)));
    }
    let Some(at) = time.iter().position(|c| matches!(c, b'+' | b'-')) else {
        return Some((time, None));
    };
    let (rest, offset) = time.split_at(at);
    let (hours, minutes) = match offset.len() {
        3 => (digits(&offset[1..3])?, 0),
        5 => (digits(&offset[1..3])?, digits(&offset[3..5])?),
        6 if offset[3] == b':' => (digits(&offset[1..3])?, digits(&offset[4..6])?),
        _ => return None,
    };
    if hours > 18 || minutes > 59 {
        return None;
    }
    let sign = if offset[0] == b'-' { -1 } else { 1 };
    Some((rest, Some(sign * (hours * 60 + minutes))))
}

fn fraction(part: &[u8]) -> Option<i64> {
    let part = part.strip_prefix(b".")?;
    if part.is_empty() || part.len() > 9 {
        return None;
    }
    let nanos = digits(part)? * 10i64.pow(9 - part.len() as u32);
    Some(nanos / 1000)
}

fn digits(text: &[u8]) -> Option<i64> {
    text.iter().try_fold(0i64, |v, c| c.is_ascii_digit().then(|| v * 10 + i64::from(c - b'0')))
}

/// `2026-03-01`
pub fn date_to_string(days: i32) -> String {
    civil(days).map_or_else(|| format!("day {days}"), |d| d.to_string())
}

/// `2026-03-01 08:30:00`, with decimals of a second only where there are any.
pub fn timestamp_to_string(micros: i64) -> String {
    let day = micros.div_euclid(DAY_MICROS) as i32;
    let rest = micros.rem_euclid(DAY_MICROS);
    let (seconds, part) = (rest / 1_000_000, rest % 1_000_000);
    let clock = format!("{:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
    let part = if part == 0 { String::new() } else { format!(".{part:06}").trim_end_matches('0').to_string() };
    format!("{} {clock}{part}", date_to_string(day))
}

/// Date and time of day of a timestamp.
pub fn civil_timestamp(micros: i64) -> Option<DateTime> {
    let date = civil(i32::try_from(micros.div_euclid(DAY_MICROS)).ok()?)?;
    let rest = micros.rem_euclid(DAY_MICROS);
    let seconds = rest / 1_000_000;
    let time = Time::new(
        (seconds / 3600) as i8,
        (seconds / 60 % 60) as i8,
        (seconds % 60) as i8,
        (rest % 1_000_000 * 1000) as i32,
    );
    Some(date.to_datetime(time.ok()?))
}

/// A day some months later; the day of the month is clamped to the month's length.
pub fn add_months(day: i32, months: i64) -> Option<i32> {
    let date = civil(day)?;
    let total = i64::from(date.year()) * 12 + i64::from(date.month()) - 1 + months;
    let first = Date::new(i16::try_from(total.div_euclid(12)).ok()?, (total.rem_euclid(12) + 1) as i8, 1).ok()?;
    let clamped = date.day().min(first.days_in_month());
    Some(days(first) + i32::from(clamped) - 1)
}

/// The parts of the year that dates are cut into.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Unit {
    /// One day.
    Day,
    /// Seven days from Monday.
    Week,
    /// A calendar month.
    Month,
    /// Three months from January, April, July or October.
    Quarter,
    /// A calendar year.
    Year,
}

impl Unit {
    /// Reads a unit's name, singular or plural.
    pub fn parse(text: &str) -> Option<Unit> {
        Some(match text.strip_suffix('s').unwrap_or(text) {
            "day" => Unit::Day,
            "week" => Unit::Week,
            "month" => Unit::Month,
            "quarter" => Unit::Quarter,
            "year" => Unit::Year,
            _ => return None,
        })
    }

    /// The first day after the unit that holds `day`.
    pub fn next(self, day: i32) -> Option<i32> {
        let start = self.start(day)?;
        match self {
            Unit::Day => start.checked_add(1),
            Unit::Week => start.checked_add(7),
            Unit::Month => add_months(start, 1),
            Unit::Quarter => add_months(start, 3),
            Unit::Year => add_months(start, 12),
        }
    }

    /// The first day of the unit that holds `day`.
    pub fn start(self, day: i32) -> Option<i32> {
        let date = civil(day)?;
        let first_of = |month: i8| days_from_civil(i32::from(date.year()), i32::from(month), 1);
        Some(match self {
            Unit::Day => day,
            Unit::Week => day - i32::from(date.weekday().to_monday_zero_offset()),
            Unit::Month => first_of(date.month()),
            Unit::Quarter => first_of((date.month() - 1) / 3 * 3 + 1),
            Unit::Year => first_of(1),
        })
    }
}

/// Whole months from `a` to `b`, negative when `b` is earlier.
pub fn months_between(a: i32, b: i32) -> Option<i64> {
    if b < a {
        return Some(-months_between(b, a)?);
    }
    let (from, to) = (civil(a)?, civil(b)?);
    let months = (i64::from(to.year()) - i64::from(from.year())) * 12 + i64::from(to.month()) - i64::from(from.month());
    Some(if add_months(a, months)? > b { months - 1 } else { months })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn day_numbers_agree_with_the_calendar_library() {
        for day in (-800_000..2_900_000).step_by(373) {
            let date = civil(day).expect("in range");
            assert_eq!(days(date), day);
        }
    }

    #[test]
    fn dates_are_read_as_the_calendar_library_has_them() {
        for year in (0..=2200).chain((2300..=9999).step_by(61)) {
            for (month, day) in (0..=13).flat_map(|month| (0..=32).map(move |day| (month, day))) {
                let text = format!("{year:04}-{month:02}-{day:02}");
                assert_eq!(parse_date(text.as_bytes()), make_date(year, month, day), "{text}");
            }
        }
        for bad in
            ["", "2026-03-1", "2026-3-011", "2026/03/01", "2026-03-0x", "-026-03-01", "2026-03-01 ", "２026-03-01"]
        {
            assert_eq!(parse_date(bad.as_bytes()), None, "{bad}");
        }
    }

    #[test]
    fn timestamps_with_an_offset_are_turned_to_utc() {
        let cases = [
            ("2026-03-01 08:30:00", "2026-03-01 08:30:00"),
            ("2026-03-01T08:30", "2026-03-01 08:30:00"),
            ("2026-03-01T08:30:15.25Z", "2026-03-01 08:30:15.25"),
            ("2026-03-01T00:30:00+02:00", "2026-02-28 22:30:00"),
            ("2026-12-31 23:30:00-0100", "2027-01-01 00:30:00"),
        ];
        for (text, expected) in cases {
            let t = parse_timestamp(text.as_bytes()).expect(text);
            assert_eq!(timestamp_to_string(t), expected, "{text}");
        }
        for bad in [
            "2026-02-30 08:30:00",
            "2026-03-01 24:00:00",
            "2026-03-01",
            "2026-03-01 08-30",
            "2026-03-01 08:30:00.",
            "x",
        ] {
            assert_eq!(parse_timestamp(bad.as_bytes()), None, "{bad}");
        }
    }

    #[test]
    fn months_are_whole_and_clamped() {
        let day = |t: &str| parse_date(t.as_bytes()).expect(t);
        assert_eq!(add_months(day("2026-01-31"), 1), Some(day("2026-02-28")));
        assert_eq!(add_months(day("2024-02-29"), -12), Some(day("2023-02-28")));
        assert_eq!(months_between(day("2026-01-31"), day("2026-02-28")), Some(1));
        assert_eq!(months_between(day("2026-03-15"), day("2026-02-16")), Some(0));
        assert_eq!(months_between(day("2026-03-15"), day("2025-03-15")), Some(-12));
    }
}
