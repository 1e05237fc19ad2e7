//! Dates and timestamps by patterns as in Unicode UTS #35, part 4, with the names of a locale.

use icu_calendar::Gregorian;
use icu_datetime::fieldsets::enums::CompositeDateTimeFieldSet;
use icu_datetime::input::{Date, DateTime, Time};
use icu_datetime::pattern::{DateTimePattern, FixedCalendarDateTimeNames};
use icu_locale_core::Locale;
use jiff::civil::DateTime as Moment;
use writeable::TryWriteable;

use crate::{Value, date};

/// The names of months and weekdays in one locale.
#[derive(Clone, Debug)]
pub(super) struct DateNames {
    /// In a date, as after a day: short, long.
    months: [Vec<String>; 2],
    /// Standing alone: short, long.
    months_alone: [Vec<String>; 2],
    /// From Monday: short, long.
    weekdays: [Vec<String>; 2],
    /// What stands before the number of a quarter.
    quarter: &'static str,
}

/// Languages that write the third quarter as T3.
const TRIMESTERS: &[&str] = &["es", "fr", "it", "pt", "ca", "ro"];

impl DateNames {
    /// The names of a locale; English ones where it has none.
    pub(super) fn new(locale: &Locale) -> DateNames {
        let months = |pattern| (1..=12).map(|m| name(locale, pattern, 2024, m, 1)).collect::<Option<Vec<_>>>();
        // 2024 begins on a Monday.
        let days = |pattern| (1..=7).map(|d| name(locale, pattern, 2024, 1, d)).collect::<Option<Vec<_>>>();
        let found = || {
            Some(DateNames {
                months: [months("MMM")?, months("MMMM")?],
                months_alone: [months("LLL")?, months("LLLL")?],
                weekdays: [days("EEE")?, days("EEEE")?],
                quarter: if TRIMESTERS.contains(&locale.id.language.as_str()) { "T" } else { "Q" },
            })
        };
        found().unwrap_or_else(DateNames::english)
    }

    pub(super) fn english() -> DateNames {
        let list = |text: &str| text.split(' ').map(str::to_string).collect::<Vec<_>>();
        let short = list("Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec");
        let long = list("January February March April May June July August September October November December");
        DateNames {
            months: [short.clone(), long.clone()],
            months_alone: [short, long],
            weekdays: [
                list("Mon Tue Wed Thu Fri Sat Sun"),
                list("Monday Tuesday Wednesday Thursday Friday Saturday Sunday"),
            ],
            quarter: "Q",
        }
    }
}

/// One name, as the locale's data has it.
fn name(locale: &Locale, pattern: &str, year: i32, month: u8, day: u8) -> Option<String> {
    let mut names: FixedCalendarDateTimeNames<Gregorian, CompositeDateTimeFieldSet> =
        FixedCalendarDateTimeNames::new_without_number_formatting(locale.into());
    let pattern: DateTimePattern = pattern.parse().ok()?;
    let date = Date::try_new_gregorian(year, month, day).ok()?;
    let moment = DateTime { date, time: Time::start_of_day() };
    let named = names.include_for_pattern(&pattern).ok()?;
    named.format(&moment).try_write_to_string().ok().map(|text| text.into_owned())
}

/// A part of a pattern.
enum PatternPart {
    /// Text as it is.
    Text(String),
    /// A letter, so many times.
    Field(char, usize),
}

/// The parts of a pattern: letters are fields, text in `'` is taken as it is, `''` is one `'` in and outside of quotes.
fn parts(pattern: &str) -> Result<Vec<PatternPart>, String> {
    let mut parts = Vec::new();
    let mut chars = pattern.chars().peekable();
    while let Some(c) = chars.next() {
        if c == '\'' {
            if chars.next_if_eq(&'\'').is_some() {
                parts.push(PatternPart::Text("'".into()));
                continue;
            }
            let mut text = String::new();
            loop {
                match chars.next() {
                    Some('\'') if chars.next_if_eq(&'\'').is_some() => text.push('\''),
                    Some('\'') => break,
                    Some(c) => text.push(c),
                    None => return Err(format!("a quote in `{pattern}` is not closed")),
                }
            }
            parts.push(PatternPart::Text(text));
        } else if c.is_ascii_alphabetic() {
            let mut count = 1;
            while chars.next_if_eq(&c).is_some() {
                count += 1;
            }
            parts.push(PatternPart::Field(c, count));
        } else {
            parts.push(PatternPart::Text(c.to_string()));
        }
    }
    Ok(parts)
}

/// Checks a pattern for dates and timestamps.
///
/// # Errors
/// When a letter is no field that we have, or a quote is not closed.
pub fn check_date_pattern(pattern: &str) -> Result<(), String> {
    let moment = Moment::default();
    for part in parts(pattern)? {
        if let PatternPart::Field(letter, count) = part
            && field(&DateNames::english(), &moment, letter, count).is_none()
        {
            return Err(format!(
                "`{letter}` in `{pattern}` is not a field of dates: there are y, Y, Q, M, L, w, d, D, E, a, h, H, m, s, and \
                 text stands in quotes"
            ));
        }
    }
    Ok(())
}

/// A date or timestamp by a pattern.
pub(super) fn dated(names: &DateNames, value: &Value, pattern: &str) -> Option<String> {
    let moment = match value {
        Value::Date(d) => date::civil(*d)?.to_datetime(jiff::civil::Time::midnight()),
        Value::Timestamp(t) => date::civil_timestamp(*t)?,
        _ => return None,
    };
    let text = |part: PatternPart| match part {
        PatternPart::Text(text) => Some(text),
        PatternPart::Field(letter, count) => field(names, &moment, letter, count),
    };
    parts(pattern).ok()?.into_iter().map(text).collect()
}

/// One field of a date pattern; `None` for what is no field.
fn field(names: &DateNames, moment: &Moment, letter: char, count: usize) -> Option<String> {
    let padded = |n: i64| format!("{n:0count$}");
    Some(match (letter, count) {
        ('y', 2) => format!("{:02}", moment.year().rem_euclid(100)),
        ('y', _) => padded(i64::from(moment.year())),
        ('Q', 1..=2) => padded((i64::from(moment.month()) - 1) / 3 + 1),
        ('Q', _) => format!("{}{}", names.quarter, (moment.month() - 1) / 3 + 1),
        ('M' | 'L', 1..=2) => padded(i64::from(moment.month())),
        ('M', _) => names.months[usize::from(count > 3)][moment.month() as usize - 1].clone(),
        ('L', _) => names.months_alone[usize::from(count > 3)][moment.month() as usize - 1].clone(),
        // The year that an ISO week belongs to, and its number.
        ('Y', 2) => format!("{:02}", moment.date().iso_week_date().year().rem_euclid(100)),
        ('Y', _) => padded(i64::from(moment.date().iso_week_date().year())),
        ('w', 1..=2) => padded(i64::from(moment.date().iso_week_date().week())),
        ('D', 1..=3) => padded(i64::from(moment.date().day_of_year())),
        ('d', _) => padded(i64::from(moment.day())),
        ('E', _) => names.weekdays[usize::from(count > 3)][moment.weekday().to_monday_zero_offset() as usize].clone(),
        ('h', _) => padded((i64::from(moment.hour()) + 11) % 12 + 1),
        ('a', _) => (if moment.hour() < 12 { "AM" } else { "PM" }).to_string(),
        ('H', _) => padded(i64::from(moment.hour())),
        ('m', _) => padded(i64::from(moment.minute())),
        ('s', _) => padded(i64::from(moment.second())),
        _ => return None,
    })
}
