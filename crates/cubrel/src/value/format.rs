//! Values as people read them: patterns as in Unicode UTS #35 (numbers: part 3, dates: part 4), separators by locale.

use fixed_decimal::Decimal;
use icu_decimal::DecimalFormatter;
use icu_locale_core::Locale;

use super::{Type, Value, date, exact};

/// How values are written in one locale.
#[derive(Clone, Debug)]
pub struct Formats {
    decimal: String,
    group: String,
    currency: String,
}

impl Default for Formats {
    /// Without a locale: a point, commas between thousands, and `¤` for a currency that nobody has named.
    fn default() -> Formats {
        Formats { decimal: ".".into(), group: ",".into(), currency: "¤".into() }
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

/// What a pattern of numbers says.
#[derive(Clone, Debug, Default, PartialEq)]
struct NumberPattern {
    prefix: String,
    suffix: String,
    negative: Option<(String, String)>,
    /// Least digits before the point.
    whole: usize,
    /// Least and most digits after it.
    decimals: (usize, usize),
    /// Digits in the group before the point, and in the ones before that.
    groups: Option<(usize, usize)>,
    /// What the number is multiplied with, as a power of ten.
    power: u8,
}

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
                Some(pattern) => dated(value, pattern).unwrap_or_else(|| value.to_string()),
                None => value.to_string(),
            },
            other => other.to_string(),
        }
    }

    fn plain_number(&self, value: &Value, ty: Type) -> String {
        match value {
            Value::Float(x) => {
                // Four digits that say something, and no more than the number has.
                let size = if *x == 0.0 { 0 } else { x.abs().log10().floor() as i32 };
                let decimals = (3 - size).clamp(0, 8) as usize;
                let pattern = NumberPattern {
                    whole: 1,
                    decimals: (0, decimals),
                    groups: Some((3, 3)),
                    ..NumberPattern::default()
                };
                self.apply(value, &pattern)
            }
            _ => {
                let scale = usize::from(ty.scale());
                let pattern = NumberPattern {
                    whole: 1,
                    decimals: (scale, scale),
                    groups: Some((3, 3)),
                    ..NumberPattern::default()
                };
                self.apply(value, &pattern)
            }
        }
    }

    fn number(&self, value: &Value, pattern: &str) -> String {
        match NumberPattern::parse(pattern) {
            Ok(parsed) => self.apply(value, &parsed),
            Err(_) => value.to_string(),
        }
    }

    fn apply(&self, value: &Value, pattern: &NumberPattern) -> String {
        let (negative, digits) = match value {
            Value::Float(x) => {
                let scaled = x * 10f64.powi(i32::from(pattern.power));
                let text = format!("{:.*}", pattern.decimals.1, scaled.abs());
                (scaled < 0.0 && text.bytes().any(|b| (b'1'..=b'9').contains(&b)), text)
            }
            _ => {
                let scale = match value {
                    Value::Decimal { scale, .. } => *scale,
                    _ => 0,
                };
                let unscaled = value.as_exact(scale).unwrap_or(0);
                // Multiplying by a power of ten moves the point.
                let (v, scale) = if pattern.power <= scale {
                    (unscaled, scale - pattern.power)
                } else {
                    (unscaled.saturating_mul(exact::pow10(pattern.power - scale)), 0)
                };
                let wanted = u8::try_from(pattern.decimals.1).unwrap_or(u8::MAX).min(scale);
                let rounded = exact::rescale(v, scale, wanted).unwrap_or(v);
                (rounded < 0, exact::to_string(rounded.abs(), wanted))
            }
        };
        let (prefix, suffix) = match (&pattern.negative, negative) {
            (Some((prefix, suffix)), true) => (prefix.clone(), suffix.clone()),
            (None, true) => (format!("-{}", pattern.prefix), pattern.suffix.clone()),
            (_, false) => (pattern.prefix.clone(), pattern.suffix.clone()),
        };
        let body = self.lay_out(&digits, pattern);
        format!("{}{body}{}", prefix.replace('¤', &self.currency), suffix.replace('¤', &self.currency))
    }

    /// Digits with separators: at least as many as the pattern wants, trailing zeros beyond that dropped.
    fn lay_out(&self, digits: &str, pattern: &NumberPattern) -> String {
        let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
        let whole = format!("{:0>width$}", whole.trim_start_matches('0'), width = pattern.whole);
        let mut part = part.to_string();
        while part.len() < pattern.decimals.0 {
            part.push('0');
        }
        while part.len() > pattern.decimals.0 && part.ends_with('0') {
            part.pop();
        }
        let mut text = match pattern.groups {
            Some(groups) => grouped(&whole, groups, &self.group),
            None => whole,
        };
        if !part.is_empty() {
            text += &self.decimal;
            text += &part;
        }
        text
    }
}

fn symbol(currency: &str) -> String {
    SYMBOLS.iter().find(|(code, _)| *code == currency).map_or_else(|| currency.to_string(), |(_, s)| s.to_string())
}

fn grouped(whole: &str, groups: (usize, usize), separator: &str) -> String {
    let mut pieces = Vec::new();
    let (mut rest, mut size) = (whole, groups.0);
    while rest.len() > size && size > 0 {
        let (front, piece) = rest.split_at(rest.len() - size);
        pieces.push(piece);
        (rest, size) = (front, groups.1);
    }
    pieces.push(rest);
    pieces.reverse();
    pieces.join(separator)
}

impl NumberPattern {
    fn parse(pattern: &str) -> Result<NumberPattern, String> {
        let (positive, negative) = split_unquoted(pattern);
        let mut parsed = NumberPattern::default();
        let (prefix, digits, suffix) = sections(positive);
        parsed.prefix = prefix;
        parsed.suffix = suffix;
        parsed.power = match (positive.contains('%'), positive.contains('‰')) {
            (true, _) => 2,
            (_, true) => 3,
            _ => 0,
        };
        if digits.is_empty() {
            return Err(format!("`{pattern}` has no digits: write a pattern such as `#,##0.00`"));
        }
        let (whole, part) = digits.split_once('.').unwrap_or((&digits, ""));
        parsed.whole = whole.bytes().filter(|b| *b == b'0').count();
        parsed.decimals = (part.bytes().filter(|b| *b == b'0').count(), part.len());
        let pieces: Vec<&str> = whole.split(',').collect();
        if let [.., before, last] = pieces.as_slice() {
            let inner = if pieces.len() > 2 { before.len() } else { last.len() };
            parsed.groups = Some((last.len(), inner));
        }
        if let Some(negative) = negative {
            let (prefix, _, suffix) = sections(negative);
            parsed.negative = Some((prefix, suffix));
        }
        Ok(parsed)
    }
}

/// Checks a pattern for numbers.
///
/// # Errors
/// When it has no digits.
pub fn check_number_pattern(pattern: &str) -> Result<(), String> {
    NumberPattern::parse(pattern).map(|_| ())
}

/// The positive and the negative half, at a `;` outside quotes.
fn split_unquoted(pattern: &str) -> (&str, Option<&str>) {
    let mut quoted = false;
    for (i, c) in pattern.char_indices() {
        match c {
            '\'' => quoted = !quoted,
            ';' if !quoted => return (&pattern[..i], Some(&pattern[i + 1..])),
            _ => {}
        }
    }
    (pattern, None)
}

/// What stands before the digits, the digits, and what stands after; quotes removed.
fn sections(pattern: &str) -> (String, String, String) {
    let (mut before, mut digits, mut after) = (String::new(), String::new(), String::new());
    let mut quoted = false;
    for c in pattern.chars() {
        match c {
            '\'' => quoted = !quoted,
            '#' | '0' | ',' | '.' if !quoted && after.is_empty() => digits.push(c),
            _ if digits.is_empty() => before.push(c),
            _ => after.push(c),
        }
    }
    (before, digits, after)
}

/// A date or timestamp by a pattern.
fn dated(value: &Value, pattern: &str) -> Option<String> {
    let moment = match value {
        Value::Date(d) => date::civil(*d)?.to_datetime(jiff::civil::Time::midnight()),
        Value::Timestamp(t) => date::civil_timestamp(*t)?,
        _ => return None,
    };
    let mut text = String::new();
    let mut chars = pattern.chars().peekable();
    while let Some(c) = chars.next() {
        if c == '\'' {
            let mut any = false;
            for q in chars.by_ref() {
                if q == '\'' {
                    break;
                }
                any = true;
                text.push(q);
            }
            if !any {
                text.push('\'');
            }
            continue;
        }
        let mut count = 1;
        while c.is_ascii_alphabetic() && chars.peek() == Some(&c) {
            chars.next();
            count += 1;
        }
        text += &field(&moment, c, count).unwrap_or_else(|| c.to_string().repeat(count));
    }
    Some(text)
}

/// One field of a date pattern; `None` for what is no field.
fn field(moment: &jiff::civil::DateTime, letter: char, count: usize) -> Option<String> {
    let padded = |n: i64| format!("{n:0count$}");
    Some(match (letter, count) {
        ('y', 2) => format!("{:02}", moment.year().rem_euclid(100)),
        ('y', _) => padded(i64::from(moment.year())),
        ('Q', 1..=2) => padded((i64::from(moment.month()) - 1) / 3 + 1),
        ('Q', _) => format!("Q{}", (moment.month() - 1) / 3 + 1),
        ('M' | 'L', 1..=2) => padded(i64::from(moment.month())),
        ('M' | 'L', 3) => moment.strftime("%b").to_string(),
        ('M' | 'L', _) => moment.strftime("%B").to_string(),
        ('d', _) => padded(i64::from(moment.day())),
        ('E', 1..=3) => moment.strftime("%a").to_string(),
        ('E', _) => moment.strftime("%A").to_string(),
        ('H', _) => padded(i64::from(moment.hour())),
        ('m', _) => padded(i64::from(moment.minute())),
        ('s', _) => padded(i64::from(moment.second())),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

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
    fn an_unknown_locale_is_an_error() {
        assert!(Formats::new(Some("not a locale"), None).is_err());
    }
}
