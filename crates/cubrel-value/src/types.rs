use std::fmt;

use super::exact::MAX_DIGITS;

/// The type of a column or of a formula.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Type {
    /// 64-bit whole numbers.
    Int,
    /// Exact decimals. Columns hold at most 18 digits; results in formulas up to 38.
    Decimal {
        /// Digits in all.
        precision: u8,
        /// Digits after the point.
        scale: u8,
    },
    /// IEEE doubles.
    Float,
    /// Text.
    Text,
    /// True or false.
    Bool,
    /// Days.
    Date,
    /// Microseconds, without a zone.
    Timestamp,
    /// The type of the literal `null`, which takes the type of what stands beside it.
    Null,
}

impl Type {
    /// A decimal result of a formula: all digits that computing has, with this many after the point.
    pub const fn decimal(scale: u8) -> Type {
        Type::Decimal { precision: MAX_DIGITS, scale }
    }

    /// Whether this is `int`, `decimal` or `float`.
    pub fn is_number(self) -> bool {
        self.is_exact() || self == Type::Float
    }

    /// Whether this is `int` or `decimal`.
    pub fn is_exact(self) -> bool {
        matches!(self, Type::Int | Type::Decimal { .. })
    }

    /// Digits after the point: 0 for everything that is not a decimal.
    pub fn scale(self) -> u8 {
        match self {
            Type::Decimal { scale, .. } => scale,
            _ => 0,
        }
    }

    /// The type that both can be turned into without loss of meaning, as `case` and comparisons need it.
    pub fn common(self, other: Type) -> Option<Type> {
        use Type::*;
        match (self, other) {
            (a, b) if a == b => Some(a),
            (Null, t) | (t, Null) => Some(t),
            (Float, t) | (t, Float) if t.is_number() => Some(Float),
            (a, b) if a.is_exact() && b.is_exact() => Some(Type::decimal(a.scale().max(b.scale()))),
            (Date, Timestamp) | (Timestamp, Date) => Some(Timestamp),
            _ => None,
        }
    }

    /// Whether a column can be of this type. Its numbers fit 64 bits whatever the precision says.
    pub fn can_be_stored(self) -> bool {
        match self {
            Type::Decimal { precision, scale } => {
                (1..=MAX_DIGITS).contains(&precision) && scale <= precision.min(super::exact::STORED_DIGITS)
            }
            Type::Null => false,
            _ => true,
        }
    }

    /// Reads a type as it is written in formulas and model files, such as `int` or `decimal(12,2)`.
    pub fn parse(text: &str) -> Option<Type> {
        let text = text.trim().to_ascii_lowercase();
        Some(match text.as_str() {
            "int" => Type::Int,
            "float" => Type::Float,
            "text" => Type::Text,
            "bool" => Type::Bool,
            "date" => Type::Date,
            "timestamp" => Type::Timestamp,
            _ => {
                let inner = text.strip_prefix("decimal")?.trim().strip_prefix('(')?.strip_suffix(')')?;
                let (p, s) = inner.split_once(',')?;
                let (precision, scale) = (p.trim().parse().ok()?, s.trim().parse().ok()?);
                if precision == 0 || precision > MAX_DIGITS || scale > precision {
                    return None;
                }
                Type::Decimal { precision, scale }
            }
        })
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Type::Int => f.write_str("int"),
            Type::Decimal { precision, scale } => write!(f, "decimal({precision},{scale})"),
            Type::Float => f.write_str("float"),
            Type::Text => f.write_str("text"),
            Type::Bool => f.write_str("bool"),
            Type::Date => f.write_str("date"),
            Type::Timestamp => f.write_str("timestamp"),
            Type::Null => f.write_str("null"),
        }
    }
}

/// As formulas write it.
impl serde::Serialize for Type {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
