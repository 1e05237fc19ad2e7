//! Functions of dates and timestamps. Results beyond the years that dates have are null.

use jiff::civil::Date;

use super::batches;
use super::entry::{Argument, Function, FunctionError, Parameter};
use super::truncation::Truncation;
use cubrel_value::date::{self, DAY_MICROS, HOUR_MICROS, MINUTE_MICROS, SECOND_MICROS};
use cubrel_value::{Type, Value};

fn int_type(_: &[Argument<'_>]) -> Type {
    Type::Int
}

fn date_type(_: &[Argument<'_>]) -> Type {
    Type::Date
}

fn moment_type(args: &[Argument<'_>]) -> Type {
    args.iter().find(|a| matches!(a.ty, Type::Date | Type::Timestamp)).map_or(Type::Date, |a| a.ty)
}

fn day(args: &[Value], i: usize) -> Option<i32> {
    match args.get(i)? {
        Value::Date(d) => Some(*d),
        Value::Timestamp(t) => i32::try_from(t.div_euclid(DAY_MICROS)).ok(),
        _ => None,
    }
}

fn int(args: &[Value], i: usize) -> i64 {
    match args.get(i) {
        Some(Value::Int(n)) => *n,
        _ => 0,
    }
}

fn part(args: &[Value], part: fn(Date) -> i64) -> Result<Value, FunctionError> {
    Ok(day(args, 0).and_then(date::civil).map_or(Value::Null, |d| Value::Int(part(d))))
}

/// The value moved by a function of its day; the time of day stays.
fn moved(value: &Value, change: impl Fn(i32) -> Option<i32>) -> Result<Value, FunctionError> {
    let moved = match value {
        Value::Date(d) => change(*d).map(Value::Date),
        Value::Timestamp(t) => i32::try_from(t.div_euclid(DAY_MICROS))
            .ok()
            .and_then(change)
            .map(|d| Value::Timestamp(i64::from(d) * DAY_MICROS + t.rem_euclid(DAY_MICROS))),
        _ => None,
    };
    // A day outside jiff's range could not be shown.
    Ok(moved
        .filter(|v| match v {
            Value::Date(d) => date::civil(*d).is_some(),
            Value::Timestamp(t) => date::civil_timestamp(*t).is_some(),
            _ => false,
        })
        .unwrap_or(Value::Null))
}

fn date_trunc(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    let name = args[0].as_text().unwrap_or("");
    let Some(unit) = Truncation::parse(name) else {
        return Err(format!("`{name}` is not a unit: second, minute, hour, day, week, month, quarter or year"));
    };
    Ok(match &args[1] {
        Value::Timestamp(t) => unit.of_micros(*t).map_or(Value::Null, Value::Timestamp),
        _ => day(args, 1).and_then(|d| unit.of_day(d)).map_or(Value::Null, Value::Date),
    })
}

/// A part of the time of day: how many units there are since the larger one began. A date is its first moment.
fn time_part(args: &[Value], unit: i64, of: i64) -> Result<Value, FunctionError> {
    Ok(moment(args, 0).map_or(Value::Null, |micros| Value::Int(micros.rem_euclid(of) / unit)))
}

fn months_of_years(years: i64) -> i64 {
    years.saturating_mul(12)
}

fn add_days(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    let n = int(args, 1);
    moved(&args[0], |d| i32::try_from(i64::from(d).saturating_add(n)).ok())
}

fn add_months(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    let n = int(args, 1);
    // No date is further than this from any other, and the limit keeps the sum from overflowing.
    if n.abs() > 300_000 {
        return Ok(Value::Null);
    }
    moved(&args[0], |d| date::add_months(d, n))
}

fn add_years(args: &[Value], ty: Type) -> Result<Value, FunctionError> {
    add_months(&[args[0].clone(), Value::Int(months_of_years(int(args, 1)))], ty)
}

fn between(args: &[Value], count: fn(i32, i32) -> Option<i64>) -> Result<Value, FunctionError> {
    let (Some(a), Some(b)) = (day(args, 0), day(args, 1)) else {
        return Ok(Value::Null);
    };
    Ok(count(a, b).map_or(Value::Null, Value::Int))
}

/// Microseconds of a moment; a date is its first one.
fn moment(args: &[Value], i: usize) -> Option<i64> {
    match args.get(i)? {
        Value::Date(d) => i64::from(*d).checked_mul(DAY_MICROS),
        Value::Timestamp(t) => Some(*t),
        _ => None,
    }
}

/// How many whole units of so many microseconds lie between two moments.
fn time_between(args: &[Value], unit: i64) -> Result<Value, FunctionError> {
    let micros = moment(args, 0).zip(moment(args, 1)).and_then(|(a, b)| b.checked_sub(a));
    Ok(micros.map_or(Value::Null, |micros| Value::Int(micros / unit)))
}

fn month_end(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    Ok(day(args, 0).and_then(date::civil).map_or(Value::Null, |d| Value::Date(date::days(d.last_of_month()))))
}

fn make_date(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    let (y, m, d) = (int(args, 0), int(args, 1), int(args, 2));
    date::make_date(y, m, d).map(Value::Date).ok_or_else(|| format!("there is no day {y}-{m}-{d}"))
}

const DAY: &[Parameter] = &[Parameter::Day];
const MOVE: &[Parameter] = &[Parameter::Moment, Parameter::Int];
const TWO_DAYS: &[Parameter] = &[Parameter::Day, Parameter::Day];

const BASE: Function = Function {
    name: "",
    signature: "",
    meaning: "",
    example: ("", ""),
    parameters: DAY,
    optional: 0,
    repeated: false,
    result: int_type,
    sees_nulls: false,
    run: |args, _| Ok(args[0].clone()),
    batch: None,
};

macro_rules! date_part {
    ($name:literal, $meaning:literal, $result:literal, $part:expr) => {
        Function {
            name: $name,
            signature: concat!($name, "(d: date or timestamp) -> int"),
            meaning: $meaning,
            example: (concat!($name, "(date '2026-03-01')"), $result),
            run: |args, _| part(args, $part),
            batch: Some(|vectors, types, _| batches::date_part(vectors, types, $part)),
            ..BASE
        }
    };
}

macro_rules! time_part {
    ($name:literal, $meaning:literal, $result:literal, $unit:expr, $of:expr) => {
        Function {
            name: $name,
            signature: concat!($name, "(t: timestamp) -> int"),
            meaning: $meaning,
            example: (concat!($name, "(timestamp '2026-03-01 14:05:09')"), $result),
            run: |args, _| time_part(args, $unit, $of),
            batch: Some(|vectors, types, _| batches::time_part::<{ $unit }, { $of }>(vectors, types)),
            ..BASE
        }
    };
}

macro_rules! time_between {
    ($units:literal, $result:literal, $micros:expr) => {
        Function {
            name: concat!($units, "_between"),
            signature: concat!($units, "_between(a: timestamp, b: timestamp) -> int"),
            meaning: concat!("whole ", $units, " from a to b; a date is its first moment"),
            example: (
                concat!($units, "_between(timestamp '2026-02-27 23:10:00', timestamp '2026-02-28 01:00:30')"),
                $result,
            ),
            parameters: TWO_DAYS,
            run: |args, _| time_between(args, $micros),
            batch: Some(|vectors, types, _| batches::time_between::<{ $micros }>(vectors, types)),
            ..BASE
        }
    };
}

pub(super) static FUNCTIONS: &[Function] = &[
    date_part!("year", "the year", "2026", |d| i64::from(d.year())),
    date_part!("quarter", "the quarter, 1 to 4", "1", |d| (i64::from(d.month()) - 1) / 3 + 1),
    date_part!("month", "the month, 1 to 12", "3", |d| i64::from(d.month())),
    date_part!("week", "the ISO week, 1 to 53", "9", |d| i64::from(d.iso_week_date().week())),
    date_part!("day", "the day of the month", "1", |d| i64::from(d.day())),
    date_part!("weekday", "the day of the week, Monday is 1", "7", |d| {
        i64::from(d.weekday().to_monday_one_offset())
    }),
    date_part!("day_of_year", "the day of the year, from 1", "60", |d| { i64::from(d.day_of_year()) }),
    time_part!("hour", "the hour of the day, 0 to 23; of a date 0", "14", HOUR_MICROS, DAY_MICROS),
    time_part!("minute", "the minute of the hour, 0 to 59; of a date 0", "5", MINUTE_MICROS, HOUR_MICROS),
    time_part!("second", "the second of the minute, 0 to 59; of a date 0", "9", SECOND_MICROS, MINUTE_MICROS),
    Function {
        name: "make_date",
        signature: "make_date(year: int, month: int, day: int) -> date",
        meaning: "the date; an error when there is no such day",
        example: ("make_date(2026, 3, 1)", "2026-03-01"),
        parameters: &[Parameter::Int, Parameter::Int, Parameter::Int],
        result: date_type,
        run: make_date,
        ..BASE
    },
    Function {
        name: "date_trunc",
        signature: "date_trunc(unit: text, d: date or timestamp) -> as d",
        meaning: "the start of the second, minute, hour, day, week, month, quarter or year that holds d",
        example: ("date_trunc('month', date '2026-03-17')", "2026-03-01"),
        parameters: &[Parameter::Text, Parameter::Moment],
        result: moment_type,
        run: date_trunc,
        batch: Some(|vectors, types, _| batches::date_trunc(vectors, types)),
        ..BASE
    },
    Function {
        name: "add_days",
        signature: "add_days(d: date or timestamp, n: int) -> as d",
        meaning: "n days later (negative: earlier)",
        example: ("add_days(date '2026-02-27', 2)", "2026-03-01"),
        parameters: MOVE,
        result: moment_type,
        run: add_days,
        ..BASE
    },
    Function {
        name: "add_months",
        signature: "add_months(d: date or timestamp, n: int) -> as d",
        meaning: "n months later, on the last day of the month where there is no such day",
        example: ("add_months(date '2026-01-31', 1)", "2026-02-28"),
        parameters: MOVE,
        result: moment_type,
        run: add_months,
        ..BASE
    },
    Function {
        name: "add_years",
        signature: "add_years(d: date or timestamp, n: int) -> as d",
        meaning: "n years later, on 28 February where there is no 29th",
        example: ("add_years(date '2024-02-29', 1)", "2025-02-28"),
        parameters: MOVE,
        result: moment_type,
        run: add_years,
        ..BASE
    },
    Function {
        name: "days_between",
        signature: "days_between(a: date, b: date) -> int",
        meaning: "days from a to b, negative when b is earlier",
        example: ("days_between(date '2026-02-27', date '2026-03-01')", "2"),
        parameters: TWO_DAYS,
        run: |args, _| between(args, |a, b| Some(i64::from(b) - i64::from(a))),
        batch: Some(|vectors, types, _| batches::days_between(vectors, types)),
        ..BASE
    },
    Function {
        name: "months_between",
        signature: "months_between(a: date, b: date) -> int",
        meaning: "whole months from a to b",
        example: ("months_between(date '2026-01-15', date '2026-03-14')", "1"),
        parameters: TWO_DAYS,
        run: |args, _| between(args, date::months_between),
        ..BASE
    },
    Function {
        name: "years_between",
        signature: "years_between(a: date, b: date) -> int",
        meaning: "whole years from a to b",
        example: ("years_between(date '2024-02-29', date '2026-02-28')", "2"),
        parameters: TWO_DAYS,
        run: |args, _| between(args, |a, b| Some(date::months_between(a, b)? / 12)),
        ..BASE
    },
    time_between!("hours", "1", HOUR_MICROS),
    time_between!("minutes", "110", MINUTE_MICROS),
    time_between!("seconds", "6630", SECOND_MICROS),
    Function {
        name: "month_end",
        signature: "month_end(d: date) -> date",
        meaning: "the last day of the month",
        example: ("month_end(date '2024-02-10')", "2024-02-29"),
        result: date_type,
        run: month_end,
        ..BASE
    },
    Function {
        name: "today",
        signature: "today() -> date",
        meaning: "the day that the caller has set, else the day on the clock",
        example: ("today()", ""),
        parameters: &[],
        result: date_type,
        run: |_, _| Err("today() is replaced by a date before anything runs".into()),
        ..BASE
    },
];
