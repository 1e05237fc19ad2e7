//! The values of Arrow arrays as values of columns.

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Decimal32Type, Decimal64Type, Decimal128Type, Float16Type, Float32Type, Float64Type, Int8Type,
    Int16Type, Int32Type, Int64Type, TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType,
    TimestampSecondType, UInt8Type, UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{Array, ArrowPrimitiveType};
use arrow_schema::{DataType, TimeUnit};

use super::leaves::column_type;
use super::written::written;
use crate::LoadError;
use crate::staging::Staging;
use crate::time_zone::TimeZone;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_store::RawColumn;
use cubrel_value::{Type, Value, VectorBuilder, arrow, parse};

/// The values of a column in the type that the model declares.
pub(super) fn converted(name: &str, raw: &RawColumn, ty: Type, trim: bool) -> Result<RawColumn, LoadError> {
    let rows: Vec<u32> = (0..raw.len() as u32).collect();
    let values = raw.vector(&rows);
    let mut builder = VectorBuilder::new(ty, rows.len());
    for row in 0..rows.len() {
        let value = values.get(row, raw.ty);
        let text = value.to_string();
        let text = if trim { text.trim() } else { &text };
        let turned = if value.is_null() { Some(Value::Null) } else { parse::value(text, ty) };
        builder.push(turned.ok_or_else(|| {
            let message = format!("`{value}` in column `{name}` is not {ty}");
            LoadError::from(Diagnostic::general(Problem::Data, message).help("change the column's `type`"))
        })?);
    }
    RawColumn::from_vector(builder.finish(), ty).map_err(|(row, _)| {
        let message = format!("`{}` in column `{name}` does not fit 64 bits", values.get(row, raw.ty));
        LoadError::from(Diagnostic::general(Problem::Data, message).help("change the column's `type`"))
    })
}

/// Tells the nulls of an array that has some.
fn nulls(array: &dyn Array) -> Option<impl Fn(usize) -> bool> {
    array.nulls().filter(|n| n.null_count() > 0).map(|n| move |i| n.is_null(i))
}

fn ints<T: ArrowPrimitiveType>(
    to: &mut Staging,
    array: &dyn Array,
    each: impl Fn(T::Native) -> Option<i64>,
) -> Result<(), String> {
    let taken = to.extend_ints(array.as_primitive::<T>().values(), nulls(array), each);
    taken.map_err(|v| format!("{v:?} does not fit 64 bits"))
}

fn floats<T: ArrowPrimitiveType>(to: &mut Staging, array: &dyn Array, each: impl Fn(T::Native) -> f64) {
    to.extend_floats(array.as_primitive::<T>().values(), nulls(array), each);
}

/// Appends values that are given as places in a dictionary.
fn dictionary(to: &mut Staging, array: &dyn Array, zone: Option<&TimeZone>) -> Result<(), String> {
    let array = array.as_any_dictionary();
    let texts: Vec<Option<&str>> = match array.values().data_type() {
        DataType::Utf8 => array.values().as_string::<i32>().iter().collect(),
        DataType::LargeUtf8 => array.values().as_string::<i64>().iter().collect(),
        DataType::Utf8View => array.values().as_string_view().iter().collect(),
        _ => {
            let values = arrow_select::take::take(array.values().as_ref(), array.keys(), None);
            return column(to, values.map_err(|e| e.to_string())?.as_ref(), zone);
        }
    };
    // Under a null there may be any place.
    let keys = if texts.is_empty() { vec![0; array.len()] } else { array.normalized_keys() };
    match nulls(array.keys()) {
        None => to.extend_places(&texts, keys.iter().map(|key| Some(*key))),
        Some(is_null) => {
            to.extend_places(&texts, keys.iter().enumerate().map(|(i, key)| (!is_null(i)).then_some(*key)));
        }
    }
    Ok(())
}

/// Appends the values of an array; what stands under a null is not looked at. Times that say their zone are told in `zone`.
pub(super) fn column(to: &mut Staging, array: &dyn Array, zone: Option<&TimeZone>) -> Result<(), String> {
    let micros = |unit: &TimeUnit, v: i64| match unit {
        TimeUnit::Second => v.checked_mul(1_000_000),
        TimeUnit::Millisecond => v.checked_mul(1000),
        TimeUnit::Microsecond => Some(v),
        TimeUnit::Nanosecond => Some(v.div_euclid(1000)),
    };
    // Times with a zone are of UTC, whatever the zone: it only says how to show them.
    let zone = zone.filter(|_| matches!(array.data_type(), DataType::Timestamp(_, Some(_))));
    let time = |unit: &TimeUnit, v: i64| micros(unit, v).and_then(|utc| zone.map_or(Some(utc), |zone| zone.local(utc)));
    match array.data_type() {
        DataType::Int8 => ints::<Int8Type>(to, array, |v| Some(v.into()))?,
        DataType::Int16 => ints::<Int16Type>(to, array, |v| Some(v.into()))?,
        DataType::Int32 => ints::<Int32Type>(to, array, |v| Some(v.into()))?,
        DataType::Int64 => ints::<Int64Type>(to, array, Some)?,
        DataType::UInt8 => ints::<UInt8Type>(to, array, |v| Some(v.into()))?,
        DataType::UInt16 => ints::<UInt16Type>(to, array, |v| Some(v.into()))?,
        DataType::UInt32 => ints::<UInt32Type>(to, array, |v| Some(v.into()))?,
        DataType::UInt64 => ints::<UInt64Type>(to, array, |v| i64::try_from(v).ok())?,
        DataType::Date32 => ints::<Date32Type>(to, array, |v| Some(v.into()))?,
        DataType::Decimal32(..) => ints::<Decimal32Type>(to, array, |v| Some(v.into()))?,
        DataType::Decimal64(..) => ints::<Decimal64Type>(to, array, Some)?,
        DataType::Decimal128(..) => ints::<Decimal128Type>(to, array, |v| i64::try_from(v).ok())?,
        DataType::Timestamp(unit @ TimeUnit::Second, _) => ints::<TimestampSecondType>(to, array, |v| time(unit, v))?,
        DataType::Timestamp(unit @ TimeUnit::Millisecond, _) => {
            ints::<TimestampMillisecondType>(to, array, |v| time(unit, v))?
        }
        DataType::Timestamp(unit @ TimeUnit::Microsecond, _) => {
            ints::<TimestampMicrosecondType>(to, array, |v| time(unit, v))?
        }
        DataType::Timestamp(unit @ TimeUnit::Nanosecond, _) => {
            ints::<TimestampNanosecondType>(to, array, |v| time(unit, v))?
        }
        DataType::Float16 => floats::<Float16Type>(to, array, f64::from),
        DataType::Float32 => floats::<Float32Type>(to, array, f64::from),
        DataType::Float64 => floats::<Float64Type>(to, array, |v| v),
        DataType::Utf8 => to.extend_texts(array.as_string::<i32>().iter()),
        DataType::LargeUtf8 => to.extend_texts(array.as_string::<i64>().iter()),
        DataType::Utf8View => to.extend_texts(array.as_string_view().iter()),
        DataType::Dictionary(_, value) if column_type(value) == Some(Type::Text) => dictionary(to, array, zone)?,
        DataType::Null => (0..array.len()).for_each(|_| to.push_null()),
        _ if to.ty() == Type::Text => {
            let texts = written(array)?;
            to.extend_texts(texts.iter().map(Option::as_deref));
        }
        _ => {
            // Truth values and dictionaries, value by value.
            let (_, values) = arrow::values(array)?;
            for value in values {
                let taken = value.is_null() || to.push(value.to_string().as_bytes());
                if value.is_null() {
                    to.push_null();
                }
                if !taken {
                    return Err(format!("`{value}` does not fit the column"));
                }
            }
        }
    }
    Ok(())
}
