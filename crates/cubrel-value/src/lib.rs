//! Scalar types and values, exact numbers, dates, batches of values, and work on many of them on all threads.
//!
//! Nothing here knows of tables or formulas. Exact numbers (`int`, `decimal`) are a whole number and a scale; dates
//! are days since 1970-01-01 and timestamps microseconds since then, both without a zone.

#![cfg_attr(test, allow(clippy::unwrap_used))]

pub mod arrow;
pub mod cancel;
pub mod date;
pub mod days;
pub mod exact;
pub mod files;
pub mod format;
mod json;
mod matching;
mod order;
pub mod parse;
pub mod threads;
mod types;
pub mod units;
mod vector;
mod wide;

use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

pub use matching::Matching;
pub use types::Type;
pub use vector::{Data, Vector, VectorBuilder};
pub use wide::wide;

/// One value of a column, a formula or a cell.
#[derive(Clone, Debug)]
pub enum Value {
    /// No value. Its type is known from where it stands.
    Null,
    /// A whole number.
    Int(i64),
    /// An exact decimal: `unscaled / 10^scale`.
    Decimal {
        /// The digits, as one whole number.
        unscaled: i128,
        /// How many of the digits stand after the point.
        scale: u8,
    },
    /// An IEEE double, never NaN.
    Float(f64),
    /// Text.
    Text(Arc<str>),
    /// True or false.
    Bool(bool),
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since 1970-01-01 00:00, without a zone.
    Timestamp(i64),
}

impl Value {
    /// A text value.
    pub fn text(text: impl AsRef<str>) -> Value {
        Value::Text(Arc::from(text.as_ref()))
    }

    /// A float value; NaN becomes null, as everywhere in the language.
    pub fn float(x: f64) -> Value {
        if x.is_nan() { Value::Null } else { Value::Float(x + 0.0) }
    }

    /// Whether this is [`Value::Null`].
    pub fn is_null(&self) -> bool {
        matches!(self, Value::Null)
    }

    /// The value as a double, if it is a number.
    pub fn as_f64(&self) -> Option<f64> {
        match self {
            Value::Int(v) => Some(*v as f64),
            Value::Decimal { unscaled, scale } => Some(exact::to_f64(*unscaled, *scale)),
            Value::Float(v) => Some(*v),
            _ => None,
        }
    }

    /// The digits of an exact number at `scale` (rounded half away from zero), if it is one and fits.
    pub fn as_exact(&self, scale: u8) -> Option<i128> {
        match self {
            Value::Int(v) => exact::rescale(i128::from(*v), 0, scale),
            Value::Decimal { unscaled, scale: from } => exact::rescale(*unscaled, *from, scale),
            _ => None,
        }
    }

    /// The 64 bits that hold it in a column or a `Vector` of type `ty`; `None` where no value of that type is equal,
    /// and for types that are not held so.
    ///
    /// ```
    /// use cubrel::{Type, Value};
    /// assert_eq!(Value::Int(3).as_stored(Type::decimal(2)), Some(300));
    /// assert_eq!(Value::Decimal { unscaled: 35, scale: 1 }.as_stored(Type::Int), None);
    /// ```
    pub fn as_stored(&self, ty: Type) -> Option<i64> {
        match (ty, self) {
            (Type::Bool, Value::Bool(b)) => Some(i64::from(*b)),
            (Type::Date, Value::Date(d)) => Some(i64::from(*d)),
            (Type::Timestamp, Value::Timestamp(t)) => Some(*t),
            (ty, v) if ty.is_exact() => {
                let unscaled = v.as_exact(ty.scale())?;
                let equal = Value::Decimal { unscaled, scale: ty.scale() } == *v;
                i64::try_from(unscaled).ok().filter(|_| equal)
            }
            _ => None,
        }
    }

    /// The same value as a column or vector of type `ty` holds it: whole numbers as decimals or doubles, null as null.
    ///
    /// # Errors
    /// In words, where no value of that type is equal: digits that the scale has no room for, a double for an exact
    /// number, text for a number, a day that no calendar has.
    ///
    /// ```
    /// use cubrel::{Type, Value};
    /// let money = Type::Decimal { precision: 10, scale: 2 };
    /// assert_eq!(Value::Int(5).fitted(money), Ok(Value::Decimal { unscaled: 500, scale: 2 }));
    /// assert!(Value::text("5").fitted(money).is_err());
    /// ```
    pub fn fitted(&self, ty: Type) -> Result<Value, String> {
        let wrong = || Err(format!("`{self}` is {}, not {ty}", self.natural_type()));
        match (ty, self) {
            (_, Value::Null) => Ok(Value::Null),
            // A double that is not a number is null, as everywhere.
            (Type::Float, Value::Float(x)) => Ok(Value::float(*x)),
            (Type::Float, Value::Int(v)) if *v as f64 as i128 == i128::from(*v) => Ok(Value::Float(*v as f64)),
            (Type::Text, Value::Text(_)) | (Type::Bool, Value::Bool(_)) => Ok(self.clone()),
            (Type::Date, Value::Date(day)) if date::civil(*day).is_some() => Ok(self.clone()),
            (Type::Timestamp, Value::Timestamp(t)) if date::civil_timestamp(*t).is_some() => Ok(self.clone()),
            (Type::Date, Value::Date(_)) | (Type::Timestamp, Value::Timestamp(_)) => {
                Err(format!("a {ty} is in the years -9999 to 9999"))
            }
            (Type::Int, Value::Int(_)) => Ok(self.clone()),
            (Type::Int | Type::Decimal { .. }, Value::Int(_) | Value::Decimal { .. }) => {
                let digits = self.as_stored(ty).filter(|digits| match ty {
                    Type::Decimal { precision, .. } => {
                        digits.unsigned_abs() < 10u64.checked_pow(u32::from(precision)).unwrap_or(u64::MAX)
                    }
                    _ => true,
                });
                match (digits, ty) {
                    (Some(digits), Type::Decimal { scale, .. }) => {
                        Ok(Value::Decimal { unscaled: digits.into(), scale })
                    }
                    (Some(digits), _) => Ok(Value::Int(digits)),
                    (None, _) => Err(format!("`{self}` does not fit {ty}")),
                }
            }
            _ => wrong(),
        }
    }

    /// The text, if it is text.
    pub fn as_text(&self) -> Option<&str> {
        match self {
            Value::Text(t) => Some(t),
            _ => None,
        }
    }

    /// The narrowest type that this value has; `None` for null.
    pub fn natural_type(&self) -> Type {
        match self {
            Value::Null => Type::Null,
            Value::Int(_) => Type::Int,
            Value::Decimal { scale, .. } => Type::Decimal { precision: exact::MAX_DIGITS, scale: *scale },
            Value::Float(_) => Type::Float,
            Value::Text(_) => Type::Text,
            Value::Bool(_) => Type::Bool,
            Value::Date(_) => Type::Date,
            Value::Timestamp(_) => Type::Timestamp,
        }
    }

    /// A total order: numbers by value whatever their type, text by code point, null last. Values of different kinds
    /// are ordered by kind, so that sorting never fails.
    pub fn total_cmp(&self, other: &Value) -> Ordering {
        use Value::*;
        match (self, other) {
            (Null, Null) => Ordering::Equal,
            (Null, _) => Ordering::Greater,
            (_, Null) => Ordering::Less,
            (Int(a), Int(b)) => a.cmp(b),
            (Float(a), Float(b)) => a.total_cmp(b),
            (Text(a), Text(b)) => a.cmp(b),
            (Bool(a), Bool(b)) => a.cmp(b),
            (Date(a), Date(b)) => a.cmp(b),
            (Timestamp(a), Timestamp(b)) => a.cmp(b),
            (Int(_) | Decimal { .. }, Int(_) | Decimal { .. }) => exact::compare(self.parts(), other.parts()),
            _ => match (self.as_f64(), other.as_f64()) {
                (Some(a), Some(b)) => a.total_cmp(&b),
                _ => self.kind_rank().cmp(&other.kind_rank()),
            },
        }
    }

    fn parts(&self) -> (i128, u8) {
        match self {
            Value::Int(v) => (i128::from(*v), 0),
            Value::Decimal { unscaled, scale } => (*unscaled, *scale),
            _ => (0, 0),
        }
    }

    fn kind_rank(&self) -> u8 {
        match self {
            Value::Bool(_) => 0,
            Value::Int(_) | Value::Decimal { .. } | Value::Float(_) => 1,
            Value::Date(_) => 2,
            Value::Timestamp(_) => 3,
            Value::Text(_) => 4,
            Value::Null => 5,
        }
    }
}

impl PartialEq for Value {
    fn eq(&self, other: &Value) -> bool {
        self.total_cmp(other) == Ordering::Equal
    }
}

impl Eq for Value {}

impl std::hash::Hash for Value {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        match self {
            Value::Null => 0u8.hash(state),
            // Equal numbers of different types must hash alike, and all of them agree as doubles.
            Value::Int(_) | Value::Decimal { .. } | Value::Float(_) => {
                (self.as_f64().unwrap_or(0.0) + 0.0).to_bits().hash(state)
            }
            Value::Text(t) => t.hash(state),
            Value::Bool(b) => b.hash(state),
            Value::Date(d) => d.hash(state),
            Value::Timestamp(t) => t.hash(state),
        }
    }
}

/// Plain text, as JSON and CSV show it: digits as they are, ISO dates, nothing for null.
impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Value::Null => Ok(()),
            Value::Int(v) => write!(f, "{v}"),
            Value::Decimal { unscaled, scale } => f.write_str(&exact::to_string(*unscaled, *scale)),
            Value::Float(v) => write!(f, "{v}"),
            Value::Text(t) => f.write_str(t),
            Value::Bool(b) => write!(f, "{b}"),
            Value::Date(d) => f.write_str(&date::date_to_string(*d)),
            Value::Timestamp(t) => f.write_str(&date::timestamp_to_string(*t)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_of_different_types_compare_by_value() {
        let cases = [
            (Value::Int(2), Value::Decimal { unscaled: 200, scale: 2 }, Ordering::Equal),
            (Value::Int(2), Value::Float(2.5), Ordering::Less),
            (Value::Decimal { unscaled: -15, scale: 1 }, Value::Int(-1), Ordering::Less),
            (Value::Null, Value::Int(i64::MAX), Ordering::Greater),
        ];
        for (a, b, expected) in cases {
            assert_eq!(a.total_cmp(&b), expected, "{a:?} {b:?}");
            assert_eq!(b.total_cmp(&a), expected.reverse(), "{b:?} {a:?}");
        }
    }
}
