//! Where the unit of time begins that holds a day or a moment.

use cubrel_value::date::{DAY_MICROS, HOUR_MICROS, MINUTE_MICROS, SECOND_MICROS, Unit};

/// What the beginning of is asked for.
#[derive(Clone, Copy)]
pub(super) enum Truncation {
    /// So many microseconds, of which a day has a whole number.
    Time(i64),
    Days(Unit),
}

impl Truncation {
    pub(super) fn parse(name: &str) -> Option<Truncation> {
        Some(match name.strip_suffix('s').unwrap_or(name) {
            "second" => Truncation::Time(SECOND_MICROS),
            "minute" => Truncation::Time(MINUTE_MICROS),
            "hour" => Truncation::Time(HOUR_MICROS),
            _ => Truncation::Days(Unit::parse(name)?),
        })
    }

    /// The beginning of what holds a day.
    pub(super) fn of_day(self, day: i32) -> Option<i32> {
        match self {
            Truncation::Time(_) => Some(day),
            Truncation::Days(unit) => unit.start(day),
        }
    }

    /// The beginning of what holds a moment.
    pub(super) fn of_micros(self, micros: i64) -> Option<i64> {
        match self {
            Truncation::Time(unit) => micros.div_euclid(unit).checked_mul(unit),
            Truncation::Days(unit) => {
                let day = i32::try_from(micros.div_euclid(DAY_MICROS)).ok()?;
                i64::from(unit.start(day)?).checked_mul(DAY_MICROS)
            }
        }
    }
}
