//! Values as people read them: patterns as in Unicode UTS #35 (numbers: part 3, dates: part 4), separators and names by
//! locale.

mod dates;
mod numbers;

use fixed_decimal::Decimal;
use icu_decimal::DecimalFormatter;
use icu_locale_core::Locale;

use super::{Type, Value};
use dates::DateNames;

/// How values are written in one locale.
#[derive(Clone, Debug)]
pub struct Formats {
    decimal: String,
    group: String,
    currency: String,
    names: DateNames,
}

impl Default for Formats {
    /// Without a locale: a point, commas between thousands, and `¤` for a currency that nobody has named.
    fn default() -> Formats {
        Formats { decimal: ".".into(), group: ",".into(), currency: "¤".into(), names: DateNames::english() }
    }
}

/// Currencies by region, for regions whose currency is in common use elsewhere; others are named in the model.
const CURRENCIES: &[(&str, &[&str])] = &[
    ("GBP", &["GB"]),
    ("USD", &["US"]),
    (
        "EUR",
        &[
            "AT", "BE", "CY", "DE", "EE", "ES", "FI", "FR", "GR", "HR", "IE", "IT", "LT", "LU", "LV", "MT", "NL", "PT",
            "SI", "SK",
        ],
    ),
    ("CHF", &["CH", "LI"]),
    ("JPY", &["JP"]),
    ("SEK", &["SE"]),
    ("NOK", &["NO"]),
    ("DKK", &["DK"]),
    ("PLN", &["PL"]),
    ("CAD", &["CA"]),
    ("AUD", &["AU"]),
];
const SYMBOLS: &[(&str, &str)] = &[("GBP", "£"), ("USD", "$"), ("EUR", "€"), ("JPY", "¥"), ("PLN", "zł")];

impl Formats {
    /// The formats of a locale such as `en-GB`, with the currency that `¤` stands for.
    ///
    /// # Errors
    /// When the locale is not one.
    pub fn new(locale: Option<&str>, currency: Option<&str>) -> Result<Formats, String> {
        let mut formats = Formats::default();
        let Some(name) = locale else {
            return Ok(Formats { currency: symbol(currency.unwrap_or("¤")), ..formats });
        };
        let parsed = Locale::try_from_str(name).map_err(|_| format!("`{name}` is not a locale such as `en-GB`"))?;
        let region = parsed.id.region.map(|r| r.to_string()).unwrap_or_default();
        let formatter =
            DecimalFormatter::try_new((&parsed).into(), Default::default()).map_err(|e| format!("`{name}`: {e}"))?;
        let sample: Decimal = "1234567.8".parse().map_err(|e| format!("{e:?}"))?;
        let shown = formatter.format(&sample).to_string();
        let between: Vec<char> = shown.chars().filter(|c| !c.is_numeric()).collect();
        if let (Some(first), Some(last)) = (between.first(), between.last()) {
            formats.decimal = last.to_string();
            formats.group = if between.len() > 1 { first.to_string() } else { String::new() };
        }
        formats.names = DateNames::new(&parsed);
        let said = parsed.extensions.unicode.keywords.get(&icu_locale_core::extensions::unicode::key!("cu"));
        let said = said.map(|v| v.to_string().to_uppercase());
        let currency = currency.or(said.as_deref());
        let of_region = CURRENCIES.iter().find(|(_, regions)| regions.contains(&region.as_str())).map(|(c, _)| *c);
        formats.currency = symbol(currency.or(of_region).unwrap_or("¤"));
        Ok(formats)
    }

    /// A value by a pattern, or in the way of its type; null is an empty text.
    pub fn show(&self, value: &Value, ty: Type, pattern: Option<&str>) -> String {
        match value {
            Value::Null => String::new(),
            Value::Int(_) | Value::Decimal { .. } | Value::Float(_) => match pattern {
                Some(pattern) => self.number(value, pattern),
                None => self.plain_number(value, ty),
            },
            Value::Date(_) | Value::Timestamp(_) => match pattern {
                Some(pattern) => dates::dated(&self.names, value, pattern).unwrap_or_else(|| value.to_string()),
                None => value.to_string(),
            },
            other => other.to_string(),
        }
    }
}

impl Formats {
    /// Values of one type that stand below each other, without a pattern: doubles have as many decimals as the others, as far as these say
    /// something.
    pub fn show_column(&self, values: &[Option<&Value>], ty: Type) -> Vec<String> {
        let show = |value: &Option<&Value>| value.map_or_else(String::new, |value| self.show(value, ty, None));
        let mut texts: Vec<String> = values.iter().map(show).collect();
        if ty == Type::Float {
            let least = texts.iter().map(|text| self.decimals_of(text)).max().unwrap_or(0);
            for (text, value) in texts.iter_mut().zip(values) {
                if let Some(Value::Float(x)) = value
                    && self.decimals_of(text) < least
                {
                    *text = self.plain_float(*x, least);
                }
            }
        }
        texts
    }
}

fn symbol(currency: &str) -> String {
    SYMBOLS.iter().find(|(code, _)| *code == currency).map_or_else(|| currency.to_string(), |(_, s)| s.to_string())
}

pub use dates::check_date_pattern;
pub use numbers::check_number_pattern;

/// Checks a pattern for values of a type.
///
/// # Errors
/// What is wrong with it, in words.
pub fn check_pattern(ty: Type, pattern: &str) -> Result<(), String> {
    match ty {
        Type::Date | Type::Timestamp => check_date_pattern(pattern),
        _ if ty.is_number() => check_number_pattern(pattern),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{date, exact};

    #[test]
    fn doubles_below_each_other_have_decimals_alike_as_far_as_they_say_something() {
        let shown = |locale: &str, values: &[f64]| {
            let values: Vec<Value> = values.iter().map(|x| Value::Float(*x)).collect();
            let values: Vec<Option<&Value>> = values.iter().map(Some).chain([None, Some(&Value::Null)]).collect();
            let mut texts = Formats::new(Some(locale), None).unwrap().show_column(&values, Type::Float);
            assert_eq!(texts.split_off(texts.len() - 2), ["", ""]);
            texts
        };
        assert_eq!(shown("en-GB", &[145.2, 155.04, -137.0]), ["145.2", "155.0", "-137.0"]);
        assert_eq!(shown("de-DE", &[2.0, 2.5, 2.333_33, 0.0]), ["2,000", "2,500", "2,333", "0,000"]);
        assert_eq!(shown("en-GB", &[0.8333, 12_345.678, 10.0]), ["0.8333", "12,346", "10.00"]);
        assert_eq!(shown("en-GB", &[1.0, 2000.0, 30.0]), ["1", "2,000", "30"]);
    }

    fn dec(text: &str) -> Value {
        let (unscaled, scale) = exact::parse(text.as_bytes()).expect(text);
        if scale == 0 { Value::Int(unscaled as i64) } else { Value::Decimal { unscaled, scale } }
    }

    #[test]
    fn numbers_by_pattern_and_locale() {
        let cases = [
            ("en-GB", "¤#,##0.00", dec("1234567.891"), "£1,234,567.89"),
            ("de-DE", "#,##0.00 ¤", dec("1234567.891"), "1.234.567,89 €"),
            ("fr-FR", "#,##0.0", dec("1234567.891"), "1\u{202f}234\u{202f}567,9"),
            ("es-ES", "#,##0", dec("1234567.5"), "1.234.568"),
            ("en-GB", "0.0%", Value::Float(0.12345), "12.3%"),
            ("en-GB", "0.0%", dec("0.5"), "50.0%"),
            ("en-GB", "#,##0;(#,##0)", dec("-1234"), "(1,234)"),
            ("en-GB", "0.##", dec("2.50"), "2.5"),
            ("en-GB", "00", dec("7"), "07"),
            ("en-IN", "#,##,##0", dec("12345678"), "1,23,45,678"),
            ("en-GB", "0.0", Value::Float(-0.04), "0.0"),
            ("en-GB", "#,##0 'seats'", dec("1200"), "1,200 seats"),
        ];
        for (locale, pattern, value, expected) in cases {
            let formats = Formats::new(Some(locale), None).expect(locale);
            assert_eq!(formats.show(&value, value.natural_type(), Some(pattern)), expected, "{locale} {pattern}");
        }
    }

    #[test]
    fn without_a_pattern_a_type_says_how() {
        let formats = Formats::default();
        for (value, expected) in [
            (Value::Float(0.833_333_3), "0.8333"),
            (Value::Float(12_345.678), "12,346"),
            (Value::Float(0.000_123_4), "0.0001234"),
            (Value::Int(1_234_567), "1,234,567"),
            (Value::Null, ""),
            (Value::Bool(true), "true"),
        ] {
            assert_eq!(formats.show(&value, value.natural_type(), None), expected);
        }
    }

    #[test]
    fn dates_by_pattern() {
        let day = Value::Date(date::parse_date(b"2026-03-01").expect("a date"));
        let formats = Formats::default();
        for (pattern, expected) in [
            ("dd/MM/yyyy", "01/03/2026"),
            ("EEE d MMM yy", "Sun 1 Mar 26"),
            ("QQQ yyyy", "Q1 2026"),
            ("d 'of' MMMM", "1 of March"),
        ] {
            assert_eq!(formats.show(&day, Type::Date, Some(pattern)), expected);
        }
    }

    #[test]
    fn names_by_locale() {
        let day = Value::Date(date::parse_date(b"2026-03-01").expect("a date"));
        for (locale, pattern, expected) in [
            ("de-DE", "EEEE, d. MMMM yyyy", "Sonntag, 1. März 2026"),
            ("es-ES", "d 'de' MMMM 'de' yyyy", "1 de marzo de 2026"),
            ("fr-FR", "EEE d MMM, QQQ", "dim. 1 mars, T1"),
            ("en-GB", "LLLL yyyy", "March 2026"),
        ] {
            let formats = Formats::new(Some(locale), None).expect(locale);
            assert_eq!(formats.show(&day, Type::Date, Some(pattern)), expected, "{locale}");
        }
    }

    #[test]
    fn an_unknown_locale_is_an_error() {
        assert!(Formats::new(Some("not a locale"), None).is_err());
    }
}
