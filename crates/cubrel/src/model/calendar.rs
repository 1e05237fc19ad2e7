//! Generated calendars: one row a day, no gaps.

use jiff::civil::Date;

use crate::formula::source::{Diagnostic, Problem};
use crate::store::{RawColumn, RawData};
use crate::value::{Type, Value, Vector, VectorBuilder, date};

/// A column of a generated calendar.
struct Generated {
    name: &'static str,
    ty: Type,
    /// Whether period edits keep it.
    cyclic: bool,
    /// The column that orders it.
    order: Option<&'static str>,
    value: fn(i32, Date) -> Value,
}

fn day_value(day: Option<i32>) -> Value {
    day.map_or(Value::Null, Value::Date)
}

const COLUMNS: &[Generated] = &[
    Generated { name: "date", ty: Type::Date, cyclic: false, order: None, value: |day, _| Value::Date(day) },
    Generated {
        name: "year",
        ty: Type::Int,
        cyclic: false,
        order: None,
        value: |_, d| Value::Int(i64::from(d.year())),
    },
    Generated {
        name: "quarter",
        ty: Type::Date,
        cyclic: false,
        order: None,
        value: |day, _| day_value(date::Unit::Quarter.start(day)),
    },
    Generated {
        name: "quarter_of_year",
        ty: Type::Int,
        cyclic: false,
        order: None,
        value: |_, d| Value::Int((i64::from(d.month()) - 1) / 3 + 1),
    },
    Generated {
        name: "month",
        ty: Type::Date,
        cyclic: false,
        order: None,
        value: |day, _| day_value(date::Unit::Month.start(day)),
    },
    Generated {
        name: "month_of_year",
        ty: Type::Int,
        cyclic: false,
        order: None,
        value: |_, d| Value::Int(i64::from(d.month())),
    },
    Generated {
        name: "month_name",
        ty: Type::Text,
        cyclic: false,
        order: Some("month_of_year"),
        value: |_, d| Value::text(d.strftime("%B").to_string()),
    },
    Generated {
        name: "week",
        ty: Type::Date,
        cyclic: false,
        order: None,
        value: |day, _| day_value(date::Unit::Week.start(day)),
    },
    Generated { name: "day", ty: Type::Int, cyclic: false, order: None, value: |_, d| Value::Int(i64::from(d.day())) },
    Generated {
        name: "weekday",
        ty: Type::Int,
        cyclic: true,
        order: None,
        value: |_, d| Value::Int(i64::from(d.weekday().to_monday_one_offset())),
    },
    Generated {
        name: "weekday_name",
        ty: Type::Text,
        cyclic: true,
        order: Some("weekday"),
        value: |_, d| Value::text(d.strftime("%A").to_string()),
    },
];

/// Days that a calendar has at most; more is surely a slip in a date.
const MOST_DAYS: i64 = 400 * 366;

/// The columns of a calendar from one day to another, both included.
///
/// # Errors
/// When the days are the wrong way round or very many.
pub fn generate(from: i32, to: i32) -> Result<Vec<(String, RawColumn)>, Diagnostic> {
    let days = i64::from(to) - i64::from(from) + 1;
    if !(1..=MOST_DAYS).contains(&days) {
        let message = format!(
            "a calendar from {} to {} would have {days} days",
            date::date_to_string(from),
            date::date_to_string(to)
        );
        return Err(Diagnostic::general(Problem::Model, message).help("set `from` and `to` in `generate`"));
    }
    Ok(COLUMNS
        .iter()
        .map(|column| {
            let mut builder = VectorBuilder::new(column.ty, days as usize);
            for day in from..=to {
                builder.push(date::civil(day).map_or(Value::Null, |d| (column.value)(day, d)));
            }
            (column.name.to_string(), raw(builder.finish(), column.ty))
        })
        .collect())
}

fn raw(vector: Vector, ty: Type) -> RawColumn {
    // Dates, years and names fit 64 bits by construction.
    RawColumn::from_vector(vector, ty).unwrap_or(RawColumn { ty, data: RawData::Ints(Vec::new()), valid: None })
}

/// Whether period edits keep a generated column, and the column that orders it.
pub fn traits_of(name: &str) -> (bool, Option<&'static str>) {
    COLUMNS.iter().find(|c| c.name == name).map_or((false, None), |c| (c.cyclic, c.order))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_leap_february_has_every_day_once() {
        let day = |t: &str| date::parse_date(t.as_bytes()).expect(t);
        let columns = generate(day("2024-02-01"), day("2024-02-29")).expect("a calendar");
        let (_, dates) = &columns[0];
        assert_eq!(dates.len(), 29);
        assert_eq!(columns.len(), COLUMNS.len());
        assert!(generate(day("2024-02-02"), day("2024-02-01")).is_err());
    }
}
