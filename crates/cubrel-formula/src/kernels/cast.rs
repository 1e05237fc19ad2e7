//! Values as another type.

use super::super::scalar::SlotError;
use cubrel_value::{Type, Value, Vector, VectorBuilder, date, exact, parse};

pub(super) fn cast(a: &Vector, from: Type, to: Type, lenient: bool) -> Result<Vector, SlotError> {
    let mut builder = VectorBuilder::new(to, a.len());
    for i in 0..a.len() {
        let value = a.get(i, from);
        match cast_value(&value, to) {
            Some(v) => builder.push(v),
            None if lenient => builder.push(Value::Null),
            None => {
                return Err((i, format!("`{value}` cannot be turned into {to}: use `try_cast` to get null instead")));
            }
        }
    }
    Ok(builder.finish())
}

/// One value as another type; `None` where it does not fit.
pub fn cast_value(value: &Value, to: Type) -> Option<Value> {
    Some(match (value, to) {
        (Value::Null, _) => Value::Null,
        (v, Type::Text) => Value::text(v.to_string()),
        (Value::Text(t), _) => parse::value(t.trim(), to)?,
        (v @ (Value::Int(_) | Value::Decimal { .. }), Type::Int) => Value::Int(i64::try_from(v.as_exact(0)?).ok()?),
        (v @ (Value::Int(_) | Value::Decimal { .. }), Type::Decimal { precision, scale }) => {
            decimal_of(v.as_exact(scale)?, precision, scale)?
        }
        (Value::Float(x), Type::Int) => {
            let r = x.round();
            if r.abs() < 9.2e18 {
                Value::Int(r as i64)
            } else {
                return None;
            }
        }
        (Value::Float(x), Type::Decimal { precision, scale }) => {
            let r = (x * 10f64.powi(i32::from(scale))).round();
            if r.abs() < 1.7e38 {
                decimal_of(r as i128, precision, scale)?
            } else {
                return None;
            }
        }
        (v, Type::Float) => match v {
            Value::Bool(b) => Value::Float(f64::from(u8::from(*b))),
            _ => Value::Float(v.as_f64()?),
        },
        (Value::Bool(b), Type::Int) => Value::Int(i64::from(*b)),
        (Value::Bool(_), Type::Bool) => value.clone(),
        (Value::Date(_), Type::Date) | (Value::Timestamp(_), Type::Timestamp) => value.clone(),
        (Value::Date(d), Type::Timestamp) => Value::Timestamp(i64::from(*d) * date::DAY_MICROS),
        (Value::Timestamp(t), Type::Date) => Value::Date(i32::try_from(t.div_euclid(date::DAY_MICROS)).ok()?),
        _ => return None,
    })
}

fn decimal_of(unscaled: i128, precision: u8, scale: u8) -> Option<Value> {
    (unscaled.unsigned_abs() < exact::pow10(precision).unsigned_abs()).then_some(Value::Decimal { unscaled, scale })
}
