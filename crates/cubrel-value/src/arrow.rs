//! Arrow arrays in and out.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Date64Type, Decimal128Type, Float32Type, Float64Type, Int8Type, Int16Type, Int32Type, Int64Type,
    TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType, TimestampSecondType, UInt8Type,
    UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int64Array, StringArray,
    TimestampMicrosecondArray,
};
use arrow_schema::{DataType, TimeUnit};

use super::{Type, Value, date, exact};

/// An array as values and their type.
///
/// # Errors
/// When its type is none that columns can have, or a number does not fit 64 bits.
pub fn values(array: &dyn Array) -> Result<(Type, Vec<Value>), String> {
    macro_rules! ints {
        ($t:ty, $ty:expr, $make:expr) => {{
            let typed = array.as_primitive::<$t>();
            ($ty, typed.iter().map(|v| v.map_or(Value::Null, $make)).collect())
        }};
    }
    macro_rules! days_and_times {
        ($t:ty, $ty:expr, $make:expr) => {{
            let typed = array.as_primitive::<$t>();
            let value = |v: Option<_>| match v {
                None => Ok(Value::Null),
                Some(v) => $make(v).ok_or_else(|| format!("{v} is beyond what a {} can be", $ty)),
            };
            ($ty, typed.iter().map(value).collect::<Result<_, _>>()?)
        }};
    }
    let day = |days: i64| i32::try_from(days).ok().filter(|day| date::civil(*day).is_some()).map(Value::Date);
    let time = |micros: Option<i64>| micros.filter(|t| date::civil_timestamp(*t).is_some()).map(Value::Timestamp);
    Ok(match array.data_type() {
        DataType::Int8 => ints!(Int8Type, Type::Int, |v| Value::Int(i64::from(v))),
        DataType::Int16 => ints!(Int16Type, Type::Int, |v| Value::Int(i64::from(v))),
        DataType::Int32 => ints!(Int32Type, Type::Int, |v| Value::Int(i64::from(v))),
        DataType::Int64 => ints!(Int64Type, Type::Int, Value::Int),
        DataType::UInt8 => ints!(UInt8Type, Type::Int, |v| Value::Int(i64::from(v))),
        DataType::UInt16 => ints!(UInt16Type, Type::Int, |v| Value::Int(i64::from(v))),
        DataType::UInt32 => ints!(UInt32Type, Type::Int, |v| Value::Int(i64::from(v))),
        DataType::UInt64 => unsigned(array)?,
        DataType::Float32 => ints!(Float32Type, Type::Float, |v| Value::float(f64::from(v))),
        DataType::Float64 => ints!(Float64Type, Type::Float, Value::float),
        DataType::Date32 => days_and_times!(Date32Type, Type::Date, |v: i32| day(v.into())),
        DataType::Date64 => {
            days_and_times!(Date64Type, Type::Date, |v: i64| day(v.div_euclid(date::DAY_MICROS / 1000)))
        }
        DataType::Timestamp(unit, _) => match unit {
            TimeUnit::Second => {
                days_and_times!(TimestampSecondType, Type::Timestamp, |v: i64| time(v.checked_mul(1_000_000)))
            }
            TimeUnit::Millisecond => {
                days_and_times!(TimestampMillisecondType, Type::Timestamp, |v: i64| time(v.checked_mul(1000)))
            }
            TimeUnit::Microsecond => {
                days_and_times!(TimestampMicrosecondType, Type::Timestamp, |v: i64| time(Some(v)))
            }
            TimeUnit::Nanosecond => {
                days_and_times!(TimestampNanosecondType, Type::Timestamp, |v: i64| time(Some(v.div_euclid(1000))))
            }
        },
        DataType::Boolean => {
            let values = array.as_boolean().iter().map(|v| v.map_or(Value::Null, Value::Bool)).collect();
            (Type::Bool, values)
        }
        DataType::Utf8 => {
            (Type::Text, array.as_string::<i32>().iter().map(|v| v.map_or(Value::Null, Value::text)).collect())
        }
        DataType::LargeUtf8 => {
            (Type::Text, array.as_string::<i64>().iter().map(|v| v.map_or(Value::Null, Value::text)).collect())
        }
        DataType::Utf8View => {
            (Type::Text, array.as_string_view().iter().map(|v| v.map_or(Value::Null, Value::text)).collect())
        }
        DataType::Decimal128(_, scale) => decimals(array, *scale)?,
        DataType::Dictionary(_, _) => dictionary(array)?,
        other => return Err(format!("arrays of type {other} cannot be columns")),
    })
}

fn unsigned(array: &dyn Array) -> Result<(Type, Vec<Value>), String> {
    let typed = array.as_primitive::<UInt64Type>();
    let value = |v: Option<u64>| match v {
        None => Ok(Value::Null),
        Some(v) => i64::try_from(v).map(Value::Int).map_err(|_| format!("{v} does not fit a 64-bit int")),
    };
    Ok((Type::Int, typed.iter().map(value).collect::<Result<_, _>>()?))
}

fn decimals(array: &dyn Array, scale: i8) -> Result<(Type, Vec<Value>), String> {
    let scale = u8::try_from(scale).ok().filter(|scale| *scale <= exact::STORED_DIGITS).ok_or_else(|| {
        format!("a decimal of scale {scale} cannot be a column: scales are 0 to {}", exact::STORED_DIGITS)
    })?;
    let ty = Type::Decimal { precision: exact::STORED_DIGITS, scale };
    let value = |v: Option<i128>| match v {
        None => Ok(Value::Null),
        Some(v) if i64::try_from(v).is_ok() => Ok(Value::Decimal { unscaled: v, scale }),
        Some(v) => Err(format!("{} has more digits than a column can store", exact::to_string(v, scale))),
    };
    Ok((ty, array.as_primitive::<Decimal128Type>().iter().map(value).collect::<Result<_, _>>()?))
}

fn dictionary(array: &dyn Array) -> Result<(Type, Vec<Value>), String> {
    let Some(any) = array.as_any_dictionary_opt() else {
        return Err("this dictionary cannot be read".into());
    };
    let (ty, distinct) = values(any.values().as_ref())?;
    if distinct.is_empty() {
        // Without values every place is null.
        return Ok((ty, vec![Value::Null; array.len()]));
    }
    let keys = any.normalized_keys();
    let value = |(i, key): (usize, usize)| {
        if array.is_null(i) { Value::Null } else { distinct[key].clone() }
    };
    Ok((ty, keys.into_iter().enumerate().map(value).collect()))
}

/// The Arrow type of a result.
pub fn data_type(ty: Type) -> DataType {
    match ty {
        Type::Int | Type::Null => DataType::Int64,
        Type::Decimal { scale, .. } => DataType::Decimal128(exact::MAX_DIGITS, scale as i8),
        Type::Float => DataType::Float64,
        Type::Text => DataType::Utf8,
        Type::Bool => DataType::Boolean,
        Type::Date => DataType::Date32,
        Type::Timestamp => DataType::Timestamp(TimeUnit::Microsecond, None),
    }
}

/// Values of one type as an array.
///
/// # Errors
/// When a whole number does not fit 64 bits.
pub fn array(ty: Type, values: &[&Value]) -> Result<ArrayRef, String> {
    let ints = |pick: fn(&Value) -> Option<i64>| values.iter().map(|v| pick(v)).collect::<Vec<Option<i64>>>();
    Ok(match ty {
        Type::Int | Type::Null => {
            if let Some(large) = values.iter().find(|v| matches!(v, Value::Decimal { .. })) {
                return Err(format!("{large} does not fit a 64-bit int"));
            }
            let pick = |v: &Value| {
                if let Value::Int(v) = v { Some(*v) } else { None }
            };
            Arc::new(Int64Array::from(ints(pick)))
        }
        Type::Decimal { scale, .. } => {
            let digits: Vec<Option<i128>> = values.iter().map(|v| v.as_exact(scale)).collect();
            let array = Decimal128Array::from(digits).with_precision_and_scale(exact::MAX_DIGITS, scale as i8);
            Arc::new(array.map_err(|e| e.to_string())?)
        }
        Type::Float => Arc::new(values.iter().map(|v| v.as_f64()).collect::<Float64Array>()),
        Type::Text => Arc::new(values.iter().map(|v| v.as_text()).collect::<StringArray>()),
        Type::Bool => {
            let pick = |v: &&Value| {
                if let Value::Bool(b) = v { Some(*b) } else { None }
            };
            Arc::new(values.iter().map(pick).collect::<BooleanArray>())
        }
        Type::Date => {
            let pick = |v: &&Value| {
                if let Value::Date(d) = v { Some(*d) } else { None }
            };
            Arc::new(values.iter().map(pick).collect::<Date32Array>())
        }
        Type::Timestamp => {
            let pick = |v: &Value| {
                if let Value::Timestamp(t) = v { Some(*t) } else { None }
            };
            Arc::new(TimestampMicrosecondArray::from(ints(pick)))
        }
    })
}
