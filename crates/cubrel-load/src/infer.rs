//! Guessing a column's type from all of its values.

use cubrel_value::Value;
use cubrel_value::{Type, date, exact, parse};

/// What all values of a column seen so far could be.
#[derive(Clone, Debug)]
pub struct Guess {
    any: bool,
    int: bool,
    decimal: bool,
    float: bool,
    boolean: bool,
    date: bool,
    timestamp: bool,
    /// All are whole numbers, however long.
    digits: bool,
    /// Most digits before and after the point.
    whole: u8,
    scale: u8,
}

/// Whether digits are a code and no amount: they begin with a zero that a number would lose.
#[inline]
pub fn is_code(text: &[u8]) -> bool {
    let digits = text.strip_prefix(b"-").unwrap_or(text);
    digits.len() > 1 && digits[0] == b'0' && digits[1].is_ascii_digit()
}

impl Default for Guess {
    fn default() -> Guess {
        Guess {
            any: false,
            int: true,
            decimal: true,
            float: true,
            boolean: true,
            date: true,
            timestamp: true,
            digits: true,
            whole: 0,
            scale: 0,
        }
    }
}

impl Guess {
    /// Takes a value that is not missing.
    pub fn see(&mut self, text: &[u8]) {
        self.any = true;
        if self.float {
            self.see_number(text);
        }
        self.boolean = self.boolean && parse::boolean(text).is_some();
        self.date = self.date && date::parse_date(text).is_some();
        self.timestamp = self.timestamp && parse::timestamp(text).is_some();
    }

    fn see_number(&mut self, text: &[u8]) {
        let code = is_code(text);
        let digits = text.strip_prefix(b"-").unwrap_or(text);
        self.digits = self.digits && digits.iter().all(u8::is_ascii_digit);
        match exact::parse(text) {
            Some((v, scale)) if !code => {
                let count = if v == 0 { 1 } else { v.unsigned_abs().ilog10() as u8 + 1 };
                self.int = self.int && scale == 0 && i64::try_from(v).is_ok();
                self.whole = self.whole.max(count.saturating_sub(scale).max(1));
                self.scale = self.scale.max(scale);
            }
            _ => {
                self.int = false;
                self.decimal = false;
                self.float = self.float && !code && parse::float(text).is_some();
            }
        }
    }

    /// Whether there was a value.
    pub fn seen(&self) -> bool {
        self.any
    }

    /// Joins what was seen in another part of the column.
    pub fn merge(&mut self, other: &Guess) {
        self.any |= other.any;
        self.int &= other.int;
        self.decimal &= other.decimal;
        self.float &= other.float;
        self.boolean &= other.boolean;
        self.date &= other.date;
        self.timestamp &= other.timestamp;
        self.digits &= other.digits;
        self.whole = self.whole.max(other.whole);
        self.scale = self.scale.max(other.scale);
    }

    /// The type: the narrowest that holds everything. A column without values is text, and so are whole numbers of which
    /// one does not fit 64 bits: as doubles, different ones would be equal.
    pub fn ty(&self) -> Type {
        if !self.any {
            Type::Text
        } else if self.boolean {
            Type::Bool
        } else if self.int && self.float {
            Type::Int
        } else if self.digits && self.float {
            Type::Text
        } else if self.decimal && self.float && self.whole + self.scale <= exact::STORED_DIGITS {
            Type::Decimal { precision: exact::STORED_DIGITS, scale: self.scale }
        } else if self.float {
            Type::Float
        } else if self.date {
            Type::Date
        } else if self.timestamp {
            Type::Timestamp
        } else {
            Type::Text
        }
    }
}

/// A value as files have it: of the type that it looks like, else a text.
///
/// ```
/// use cubrel::{Value, guessed};
///
/// assert_eq!(guessed("12"), Value::Int(12));
/// assert_eq!(guessed("Ness"), Value::text("Ness"));
/// ```
pub fn guessed(text: &str) -> Value {
    let mut guess = Guess::default();
    guess.see(text.as_bytes());
    parse::value(text, guess.ty()).unwrap_or_else(|| Value::text(text))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_narrowest_type_that_holds_all_values_is_taken() {
        let cases: [(&[&str], &str); 17] = [
            (&[], "text"),
            (&["1", "-20", "0"], "int"),
            (&["1", "2.50", "3.1"], "decimal(18,2)"),
            (&["9223372036854775807"], "int"),
            (&["9223372036854775808"], "text"),
            (&["12345678901234567890", "1"], "text"),
            (&["123456789012345678901234567890123456789012", "1"], "text"),
            (&["12345678901234567890", "1.5"], "float"),
            (&["0.1234567890123456789"], "float"),
            (&["1e3", "2"], "float"),
            (&["007", "12"], "text"),
            (&["0", "0.5"], "decimal(18,1)"),
            (&["true", "FALSE"], "bool"),
            (&["2026-03-01", "2026-12-31"], "date"),
            (&["2026-03-01", "2026-03-01T08:30Z"], "timestamp"),
            (&["2026-02-30"], "text"),
            (&["1", "x"], "text"),
        ];
        for (values, expected) in cases {
            let mut guess = Guess::default();
            values.iter().for_each(|v| guess.see(v.as_bytes()));
            assert_eq!(guess.ty().to_string(), expected, "{values:?}");
            let mut parts = Guess::default();
            for v in values {
                let mut one = Guess::default();
                one.see(v.as_bytes());
                parts.merge(&one);
            }
            assert_eq!(parts.ty(), guess.ty(), "merged {values:?}");
        }
    }
}
