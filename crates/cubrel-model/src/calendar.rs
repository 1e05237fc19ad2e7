//! Calendars: one row a day, no gaps; generated ones, and where their years and weeks begin.

use jiff::civil::Date;

use super::document::Document;
use super::file::TableSection;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_store::{CodedColumn, RawColumn, RawData};
use cubrel_value::days::CalendarRules;
use cubrel_value::{Type, Value, Vector, VectorBuilder, date};

/// A column of a generated calendar.
struct Generated {
    name: &'static str,
    ty: Type,
    /// Whether period edits keep it.
    day_kind: bool,
    /// The column that orders it.
    order: Option<&'static str>,
    value: fn(i32, Date, &CalendarRules) -> Value,
}

fn day_value(day: Option<i32>) -> Value {
    day.map_or(Value::Null, Value::Date)
}

const COLUMNS: &[Generated] = &[
    Generated { name: "date", ty: Type::Date, day_kind: false, order: None, value: |day, _, _| Value::Date(day) },
    Generated {
        name: "year",
        ty: Type::Int,
        day_kind: false,
        order: None,
        value: |day, d, rules| Value::Int(rules.year(day).unwrap_or(i64::from(d.year()))),
    },
    Generated {
        name: "quarter",
        ty: Type::Date,
        day_kind: false,
        order: None,
        value: |day, _, rules| day_value(rules.start(date::Unit::Quarter, day)),
    },
    Generated {
        name: "quarter_of_year",
        ty: Type::Int,
        day_kind: false,
        order: None,
        value: |day, _, rules| rules.quarter_of_year(day).map_or(Value::Null, Value::Int),
    },
    Generated {
        name: "month",
        ty: Type::Date,
        day_kind: false,
        order: None,
        value: |day, _, _| day_value(date::Unit::Month.start(day)),
    },
    Generated {
        name: "month_of_year",
        ty: Type::Int,
        day_kind: false,
        order: None,
        value: |_, d, _| Value::Int(i64::from(d.month())),
    },
    Generated {
        name: "month_name",
        ty: Type::Text,
        day_kind: false,
        order: Some("month_of_year"),
        value: |_, d, _| Value::text(d.strftime("%B").to_string()),
    },
    Generated {
        name: "week",
        ty: Type::Date,
        day_kind: false,
        order: None,
        value: |day, _, rules| day_value(rules.start(date::Unit::Week, day)),
    },
    Generated {
        name: "day",
        ty: Type::Int,
        day_kind: false,
        order: None,
        value: |_, d, _| Value::Int(i64::from(d.day())),
    },
    Generated {
        name: "weekday",
        ty: Type::Int,
        day_kind: true,
        order: None,
        value: |_, d, _| Value::Int(i64::from(d.weekday().to_monday_one_offset())),
    },
    Generated {
        name: "weekday_name",
        ty: Type::Text,
        day_kind: true,
        order: Some("weekday"),
        value: |_, d, _| Value::text(d.strftime("%A").to_string()),
    },
];

/// Days that a calendar has at most; more is surely a slip in a date.
const MOST_DAYS: i64 = 400 * 366;

/// The columns of a calendar from one day to another, both included.
///
/// # Errors
/// When the days are the wrong way round or very many.
pub fn generate(from: i32, to: i32, rules: &CalendarRules) -> Result<Vec<(String, RawColumn)>, Diagnostic> {
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
                builder.push(date::civil(day).map_or(Value::Null, |d| (column.value)(day, d, rules)));
            }
            (column.name.to_string(), raw(builder.finish(), column.ty))
        })
        .collect())
}

fn raw(vector: Vector, ty: Type) -> RawColumn {
    // Dates, years and names fit 64 bits by construction.
    RawColumn::from_vector(vector, ty).unwrap_or(RawColumn { ty, data: RawData::Ints(Vec::new()), valid: None })
}

/// Where a calendar's years and weeks begin.
///
/// # Errors
/// When the model says so in a way that is no day.
pub fn rules(document: &Document, name: &str, section: &TableSection) -> Result<CalendarRules, Diagnostic> {
    let mut rules = CalendarRules::default();
    let generate = section.generate.clone().unwrap_or_default();
    let wrong = |key: &str, text: &str, help: &str| {
        let place = if document.says(&format!("table.{name}.{key}")) { "" } else { "generate." };
        document.problem(Problem::Model, &format!("table.{name}.{place}{key}"), format!("`{text}` is no {help}"))
    };
    if let Some(text) = section.year_starts.as_ref().or(generate.year_starts.as_ref()) {
        rules.year_starts = CalendarRules::parse_year_start(text)
            .ok_or_else(|| wrong("year_starts", text, "day of every year").help("write month and day: `04-01`"))?;
    }
    if let Some(text) = section.week_starts.as_ref().or(generate.week_starts.as_ref()) {
        rules.week_starts = CalendarRules::parse_week_start(text)
            .ok_or_else(|| wrong("week_starts", text, "weekday").help("write it in English: `monday`, `sunday`"))?;
    }
    Ok(rules)
}

/// What is wrong with the days of a calendar, in words, and what to do.
pub fn check_days(name: &str, column: &CodedColumn) -> Option<Diagnostic> {
    let mut days: Vec<i32> = Vec::with_capacity(column.rows());
    for code in column.codes() {
        match column.value_of(code) {
            Value::Date(day) => days.push(day),
            Value::Null => {
                let message = format!("calendar {name} has a row without a day");
                return Some(Diagnostic::general(Problem::Data, message).help("a calendar has one row a day"));
            }
            _ => {
                let message = format!("{name} marks a calendar and is {}, not date", column.ty());
                return Some(Diagnostic::general(Problem::Data, message).help("name a column of dates in `calendar`"));
            }
        }
    }
    days.sort_unstable();
    let steps = days.windows(2).find(|w| w[1] - w[0] != 1)?;
    let (day, next) = (date::date_to_string(steps[0]), date::date_to_string(steps[1]));
    let message = if day == next {
        format!("calendar {name} has {day} more than once")
    } else {
        format!("calendar {name} has no days between {day} and {next}")
    };
    Some(Diagnostic::general(Problem::Data, message).help("a calendar has one row a day, without gaps"))
}

/// Whether period edits keep a generated column, and the column that orders it.
pub fn traits_of(name: &str) -> (bool, Option<&'static str>) {
    COLUMNS.iter().find(|c| c.name == name).map_or((false, None), |c| (c.day_kind, c.order))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_leap_february_has_every_day_once() {
        let day = |t: &str| date::parse_date(t.as_bytes()).expect(t);
        let columns = generate(day("2024-02-01"), day("2024-02-29"), &CalendarRules::default()).expect("a calendar");
        let (_, dates) = &columns[0];
        assert_eq!(dates.len(), 29);
        assert_eq!(columns.len(), COLUMNS.len());
        assert!(generate(day("2024-02-02"), day("2024-02-01"), &CalendarRules::default()).is_err());
    }
}
