//! Values that no column can hold as texts: lists as JSON, times, durations and intervals as in ISO 8601, bytes as hexadecimal
//! digits.

use std::fmt::Write;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    DurationMicrosecondType, DurationMillisecondType, DurationNanosecondType, DurationSecondType, IntervalDayTimeType,
    IntervalMonthDayNanoType, IntervalYearMonthType, Time32MillisecondType, Time32SecondType, Time64MicrosecondType,
    Time64NanosecondType,
};
use arrow_array::{Array, ArrowPrimitiveType};
use arrow_schema::{DataType, IntervalUnit, TimeUnit};
use serde_json::{Map, Value as Json};

use cubrel_value::{Value, arrow};

/// The values of an array as texts.
///
/// # Errors
/// When its type is none that can be written.
pub(super) fn written(array: &dyn Array) -> Result<Vec<Option<String>>, String> {
    let text = |value| match value {
        Json::Null => None,
        Json::String(text) => Some(text),
        value => Some(value.to_string()),
    };
    Ok(json(array)?.into_iter().map(text).collect())
}

/// The values of an array as JSON.
fn json(array: &dyn Array) -> Result<Vec<Json>, String> {
    let of_list = |ends: Vec<usize>, values: &dyn Array| -> Result<Vec<Json>, String> {
        let values = json(values)?;
        let list = |(i, ends): (usize, &[usize])| match array.is_null(i) {
            true => Json::Null,
            false => Json::Array(values[ends[0]..ends[1]].to_vec()),
        };
        Ok(ends.windows(2).enumerate().map(list).collect())
    };
    match array.data_type() {
        DataType::List(_) => {
            let list = array.as_list::<i32>();
            of_list(list.value_offsets().iter().map(|end| *end as usize).collect(), list.values().as_ref())
        }
        DataType::LargeList(_) => {
            let list = array.as_list::<i64>();
            of_list(list.value_offsets().iter().map(|end| *end as usize).collect(), list.values().as_ref())
        }
        DataType::FixedSizeList(_, size) => {
            let step = usize::try_from(*size).map_err(|e| e.to_string())?;
            of_list((0..=array.len()).map(|i| i * step).collect(), array.as_fixed_size_list().values().as_ref())
        }
        DataType::Struct(_) => objects(array),
        DataType::Map(..) => maps(array),
        DataType::Time32(_) | DataType::Time64(_) | DataType::Duration(_) | DataType::Interval(_) => times(array),
        DataType::Binary => Ok(array.as_binary::<i32>().iter().map(digits).collect()),
        DataType::LargeBinary => Ok(array.as_binary::<i64>().iter().map(digits).collect()),
        DataType::BinaryView => Ok(array.as_binary_view().iter().map(digits).collect()),
        DataType::FixedSizeBinary(_) => Ok(array.as_fixed_size_binary().iter().map(digits).collect()),
        _ => Ok(arrow::values(array)?.1.into_iter().map(plain).collect()),
    }
}

fn plain(value: Value) -> Json {
    match value {
        Value::Null => Json::Null,
        Value::Bool(truth) => Json::Bool(truth),
        Value::Int(number) => Json::from(number),
        Value::Decimal { .. } | Value::Float(_) => {
            serde_json::from_str(&value.to_string()).unwrap_or_else(|_| Json::String(value.to_string()))
        }
        value => Json::String(value.to_string()),
    }
}

fn digits(bytes: Option<&[u8]>) -> Json {
    let Some(bytes) = bytes else { return Json::Null };
    let mut text = String::with_capacity(2 * bytes.len());
    for byte in bytes {
        let _ = write!(text, "{byte:02x}");
    }
    Json::String(text)
}

fn objects(array: &dyn Array) -> Result<Vec<Json>, String> {
    let fields = array.as_struct();
    let names: Vec<String> = fields.fields().iter().map(|field| field.name().clone()).collect();
    let columns = fields.columns().iter().map(|column| json(column.as_ref())).collect::<Result<Vec<_>, _>>()?;
    let object = |row: usize| match array.is_null(row) {
        true => Json::Null,
        false => {
            let entries = names.iter().zip(&columns).map(|(name, values)| (name.clone(), values[row].clone()));
            Json::Object(entries.collect())
        }
    };
    Ok((0..array.len()).map(object).collect())
}

fn maps(array: &dyn Array) -> Result<Vec<Json>, String> {
    let map = array.as_map();
    let (keys, values) = (written(map.keys().as_ref())?, json(map.values().as_ref())?);
    let object = |(row, ends): (usize, &[i32])| {
        if array.is_null(row) {
            return Json::Null;
        }
        let entries = (ends[0] as usize..ends[1] as usize)
            .filter_map(|i| Some((keys.get(i)?.clone().unwrap_or_default(), values.get(i)?.clone())));
        Json::Object(entries.collect::<Map<String, Json>>())
    };
    Ok(map.value_offsets().windows(2).enumerate().map(object).collect())
}

fn times(array: &dyn Array) -> Result<Vec<Json>, String> {
    fn each<T: ArrowPrimitiveType>(array: &dyn Array, text: impl Fn(T::Native) -> String) -> Vec<Json> {
        array.as_primitive::<T>().iter().map(|v| v.map_or(Json::Null, |v| Json::String(text(v)))).collect()
    }
    let nanos = |v: i64, unit: i64| i128::from(v) * i128::from(unit);
    Ok(match array.data_type() {
        DataType::Time32(TimeUnit::Second) => {
            each::<Time32SecondType>(array, |v| clock(nanos(v.into(), 1_000_000_000)))
        }
        DataType::Time32(_) => each::<Time32MillisecondType>(array, |v| clock(nanos(v.into(), 1_000_000))),
        DataType::Time64(TimeUnit::Microsecond) => each::<Time64MicrosecondType>(array, |v| clock(nanos(v, 1000))),
        DataType::Time64(_) => each::<Time64NanosecondType>(array, |v| clock(nanos(v, 1))),
        DataType::Duration(TimeUnit::Second) => each::<DurationSecondType>(array, |v| span(nanos(v, 1_000_000_000))),
        DataType::Duration(TimeUnit::Millisecond) => {
            each::<DurationMillisecondType>(array, |v| span(nanos(v, 1_000_000)))
        }
        DataType::Duration(TimeUnit::Microsecond) => each::<DurationMicrosecondType>(array, |v| span(nanos(v, 1000))),
        DataType::Duration(TimeUnit::Nanosecond) => each::<DurationNanosecondType>(array, |v| span(nanos(v, 1))),
        DataType::Interval(IntervalUnit::YearMonth) => each::<IntervalYearMonthType>(array, |v| interval(v, 0, 0)),
        DataType::Interval(IntervalUnit::DayTime) => {
            each::<IntervalDayTimeType>(array, |v| interval(0, v.days, nanos(v.milliseconds.into(), 1_000_000)))
        }
        DataType::Interval(IntervalUnit::MonthDayNano) => {
            each::<IntervalMonthDayNanoType>(array, |v| interval(v.months, v.days, nanos(v.nanoseconds, 1)))
        }
        other => return Err(format!("arrays of type {other} cannot be texts")),
    })
}

/// Seconds with as many decimals as there are.
fn seconds(nanos: i128) -> String {
    let text = format!("{:02}.{:09}", nanos / 1_000_000_000, nanos % 1_000_000_000);
    text.trim_end_matches('0').trim_end_matches('.').to_string()
}

/// A time of day: `08:30:00`.
fn clock(nanos: i128) -> String {
    let minutes = nanos / 60_000_000_000;
    format!("{:02}:{:02}:{}", minutes / 60, minutes % 60, seconds(nanos % 60_000_000_000))
}

/// A duration: `PT1H30M`.
fn span(nanos: i128) -> String {
    interval(0, 0, nanos)
}

/// Months, days and a time: `P1Y2M3DT4H`.
fn interval(months: i32, days: i32, nanos: i128) -> String {
    let (sign, rest) = (if nanos < 0 { "-" } else { "" }, nanos.abs());
    let mut text = String::from("P");
    let mut put = |number: String, unit: char| {
        if number != "0" && number != "-0" {
            text.push_str(&number);
            text.push(unit);
        }
    };
    put((months / 12).to_string(), 'Y');
    put((months % 12).to_string(), 'M');
    put(days.to_string(), 'D');
    if rest > 0 {
        let minutes = rest / 60_000_000_000;
        let seconds = seconds(rest % 60_000_000_000);
        let seconds = seconds.strip_prefix('0').unwrap_or(&seconds);
        let seconds = if seconds.starts_with('.') { format!("0{seconds}") } else { seconds.to_string() };
        text.push('T');
        for (number, unit) in [((minutes / 60).to_string(), 'H'), ((minutes % 60).to_string(), 'M'), (seconds, 'S')] {
            if number != "0" {
                text.push_str(&format!("{sign}{number}{unit}"));
            }
        }
    }
    if text == "P" { "PT0S".into() } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_as_iso_8601_has_them() {
        let second = 1_000_000_000;
        assert_eq!(clock(30_600 * second), "08:30:00");
        assert_eq!(clock(second / 4), "00:00:00.25");
        for (nanos, text) in [
            (0, "PT0S"),
            (5400 * second, "PT1H30M"),
            (-90 * second, "PT-1M-30S"),
            (second / 2, "PT0.5S"),
            (10 * second, "PT10S"),
            (i128::from(i64::MIN) * second, "PT-2562047788015215H-30M-8S"),
        ] {
            assert_eq!(span(nanos), text);
        }
        assert_eq!(interval(14, 3, 4 * 3600 * second), "P1Y2M3DT4H");
        assert_eq!(interval(-1, 0, 0), "P-1M");
    }
}
