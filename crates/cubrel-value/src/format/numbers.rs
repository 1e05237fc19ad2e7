//! Numbers by patterns as in Unicode UTS #35, part 3.

use super::Formats;
use crate::{Type, Value, exact};

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
    /// A double with four digits that say something; of those after the point no more than the number has, but so many of them at least.
    pub(super) fn plain_float(&self, x: f64, least: usize) -> String {
        let size = if x == 0.0 { 0 } else { x.abs().log10().floor() as i32 };
        let decimals = (3 - size).clamp(0, 8) as usize;
        let pattern = NumberPattern {
            whole: 1,
            decimals: (least.min(decimals), decimals),
            groups: Some((3, 3)),
            ..NumberPattern::default()
        };
        self.apply(&Value::Float(x), &pattern)
    }

    /// How many digits stand behind the point of a number.
    pub(super) fn decimals_of(&self, text: &str) -> usize {
        text.rsplit_once(&self.decimal).map_or(0, |(_, decimals)| decimals.len())
    }

    pub(super) fn plain_number(&self, value: &Value, ty: Type) -> String {
        match value {
            Value::Float(x) => self.plain_float(*x, 0),
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

    pub(super) fn number(&self, value: &Value, pattern: &str) -> String {
        match NumberPattern::parse(pattern) {
            Ok(parsed) => self.apply(value, &parsed),
            Err(_) => value.to_string(),
        }
    }

    fn apply(&self, value: &Value, pattern: &NumberPattern) -> String {
        let (negative, digits) = match value {
            Value::Float(x) => {
                let text = rounded(x.abs(), pattern.power, pattern.decimals.1);
                (*x < 0.0 && text.bytes().any(|b| (b'1'..=b'9').contains(&b)), text)
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

/// A positive double times a power of ten with so many decimals, rounded half away from zero: by the digits that name the
/// double, as a person reads them, and not by the binary fraction next to them.
pub(super) fn rounded(x: f64, power: u8, decimals: usize) -> String {
    let text = format!("{x}");
    let (whole, part) = text.split_once('.').unwrap_or((&text, ""));
    let moved = usize::from(power);
    let part = format!("{part:0<width$}", width = moved + decimals + 1);
    let kept = moved + decimals;
    let mut digits: Vec<u8> = whole.bytes().chain(part.bytes().take(kept)).collect();
    if part.as_bytes()[kept] >= b'5' {
        match digits.iter().rposition(|d| *d != b'9') {
            Some(place) => {
                digits[place] += 1;
                digits[place + 1..].fill(b'0');
            }
            None => {
                digits.fill(b'0');
                digits.insert(0, b'1');
            }
        }
    }
    let point = digits.len() - decimals;
    let text: String = digits.into_iter().map(char::from).collect();
    if decimals == 0 { text } else { format!("{}.{}", &text[..point], &text[point..]) }
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
