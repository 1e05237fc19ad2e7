//! Values in JSON.

use serde::{Serialize, Serializer};

use super::Value;

/// Null, true and false as they are; numbers with all their digits; texts, and dates and timestamps as ISO text.
impl Serialize for Value {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        match self {
            Value::Null => serializer.serialize_none(),
            Value::Bool(b) => serializer.serialize_bool(*b),
            Value::Int(v) => serializer.serialize_i64(*v),
            Value::Float(v) => serializer.serialize_f64(*v),
            Value::Decimal { .. } => match self.to_string().parse::<serde_json::Number>() {
                Ok(number) => number.serialize(serializer),
                Err(_) => serializer.serialize_none(),
            },
            Value::Text(_) | Value::Date(_) | Value::Timestamp(_) => serializer.collect_str(self),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::date;

    #[test]
    fn digits_and_days_are_kept() {
        let day = date::parse_date(b"2031-02-28").unwrap();
        let values = [
            Value::Null,
            Value::Bool(true),
            Value::Int(i64::MIN),
            Value::Float(0.1),
            Value::Decimal { unscaled: 10i128.pow(37) + 1, scale: 10 },
            Value::Decimal { unscaled: -50, scale: 2 },
            Value::text("a\"b"),
            Value::Date(day),
        ];
        let text = serde_json::to_string(&values).unwrap();
        assert_eq!(
            text,
            "[null,true,-9223372036854775808,0.1,1000000000000000000000000000.0000000001,-0.50,\"a\\\"b\",\"2031-02-28\"]"
        );
    }
}
