//! How text sources write things: delimiters, encodings, decimal commas, odd dates.

use std::borrow::Cow;
use std::io::{self, Cursor, Read};

use encoding_rs::{Decoder, DecoderResult, Encoding, UTF_8};

use super::written::without_signs;
use cubrel_value::{Type, date};

/// How a CSV file is laid out.
#[derive(Clone, Copy, Debug)]
pub struct Dialect {
    /// Between fields; found out from the first line when there is nothing.
    pub delimiter: Option<u8>,
    /// Around fields that hold delimiters or line breaks.
    pub quote: u8,
    /// Whether numbers are written as in `1234,50`.
    pub decimal_comma: bool,
    /// What parts thousands; with a decimal comma points do, even when nothing is said.
    pub thousands: Option<char>,
    /// How characters are written.
    pub encoding: &'static Encoding,
    /// Lines before the header.
    pub skip: u32,
}

impl Default for Dialect {
    fn default() -> Dialect {
        Dialect::PLAIN
    }
}

impl Dialect {
    /// As most are; what parts fields is found out.
    const PLAIN: Dialect =
        Dialect { delimiter: None, quote: b'"', decimal_comma: false, thousands: None, encoding: UTF_8, skip: 0 };
    /// Text that is made here.
    pub const MADE: Dialect = Dialect { delimiter: Some(b','), ..Dialect::PLAIN };

    /// How a text is written that begins so and has no mark: what has a zero in every other byte is UTF-16.
    fn encoding_of(&self, front: &[u8]) -> &'static Encoding {
        match front {
            [a, 0, b, 0] if self.encoding == UTF_8 && *a != 0 && *b != 0 => encoding_rs::UTF_16LE,
            [0, a, 0, b] if self.encoding == UTF_8 && *a != 0 && *b != 0 => encoding_rs::UTF_16BE,
            _ => self.encoding,
        }
    }

    /// The text as UTF-8, without a mark at its front; a mark says more than the declared encoding.
    ///
    /// # Errors
    /// When its first bytes cannot be read.
    pub fn decoded(&self, mut bytes: Box<dyn Read + Send>) -> io::Result<Box<dyn Read + Send>> {
        let mut front = Vec::with_capacity(MARK);
        (&mut bytes).take(MARK as u64).read_to_end(&mut front)?;
        let (encoding, mark) = Encoding::for_bom(&front).unwrap_or_else(|| (self.encoding_of(&front), 0));
        front.drain(..mark);
        let all = Cursor::new(front).chain(bytes);
        if encoding == UTF_8 {
            return Ok(Box::new(all));
        }
        let decoder = encoding.new_decoder_without_bom_handling();
        Ok(Box::new(Decoded { bytes: all, decoder, buffer: vec![0; BUFFER], text: Cursor::default(), at_end: false }))
    }
}

/// So many bytes of a text tell how it is written: as many as the longest mark, and two characters of two bytes.
const MARK: usize = 4;
/// Stands for what is no text: no UTF-8 has this byte.
const NO_TEXT: u8 = 0xFF;
/// Bytes that are decoded at a time.
const BUFFER: usize = 1 << 16;

/// Text of another encoding as UTF-8.
struct Decoded<R> {
    bytes: R,
    decoder: Decoder,
    buffer: Vec<u8>,
    /// What was decoded and not given yet.
    text: Cursor<Vec<u8>>,
    at_end: bool,
}

impl<R: Read> Read for Decoded<R> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        loop {
            let given = self.text.read(to)?;
            if given > 0 || self.at_end || to.is_empty() {
                return Ok(given);
            }
            let count = self.bytes.read(&mut self.buffer)?;
            self.at_end = count == 0;
            let bytes = &self.buffer[..count];
            let room = self.decoder.max_utf8_buffer_length(count).unwrap_or(4 * BUFFER);
            let mut text = std::mem::take(&mut self.text).into_inner();
            text.resize(room + count + 1, 0);
            let mut written = 0;
            let mut left = bytes;
            loop {
                // There is room for everything, so that only what is no text ends it before.
                let (result, read, more) =
                    self.decoder.decode_to_utf8_without_replacement(left, &mut text[written..], self.at_end);
                (left, written) = (&left[read..], written + more);
                if !matches!(result, DecoderResult::Malformed(..)) {
                    break;
                }
                // Whoever looks at the row finds no text there, as in a text that says to be UTF-8.
                text[written] = NO_TEXT;
                written += 1;
            }
            text.truncate(written);
            self.text = Cursor::new(text);
        }
    }
}

/// How the fields of one column are written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Shape {
    /// As the language writes values.
    Plain,
    /// Numbers whose decimals and thousands are parted by these.
    Numbers {
        /// In front of decimals.
        point: char,
        /// Between thousands.
        thousands: Option<char>,
        /// Whether there may be currencies, percent signs, parentheses and the like: where somebody has said that these are
        /// numbers.
        signs: bool,
    },
    /// Dates by the first of some patterns that reads them.
    Dated(Vec<DatePattern>),
}

impl Shape {
    /// The field as the language writes it; one that is written otherwise stays as it is.
    pub fn normal<'f>(&self, field: &'f [u8]) -> Cow<'f, [u8]> {
        match self {
            Shape::Plain => Cow::Borrowed(field),
            Shape::Numbers { point, thousands, signs } => {
                let Ok(text) = std::str::from_utf8(field) else { return Cow::Borrowed(field) };
                let plain = |text: &str| plain_number(text, *point, *thousands);
                let signed = || without_signs(text, plain).filter(|_| *signs);
                plain(text).or_else(signed).map_or(Cow::Borrowed(field), |plain| Cow::Owned(plain.into_bytes()))
            }
            Shape::Dated(patterns) => match patterns.iter().find_map(|pattern| pattern.read(field)) {
                Some(text) => Cow::Owned(text.into_bytes()),
                None => Cow::Borrowed(field),
            },
        }
    }

    /// Whether a field that the language would read as a number is that number.
    #[inline]
    pub fn is_as_written(&self, field: &[u8]) -> bool {
        match self {
            Shape::Plain | Shape::Numbers { point: '.', .. } => true,
            Shape::Numbers { .. } => field.iter().all(|b| b.is_ascii_digit() || *b == b'-'),
            Shape::Dated(_) => false,
        }
    }

    /// The type of columns that are written so, if that tells it.
    pub fn ty(&self) -> Option<Type> {
        match self {
            Shape::Dated(patterns) if patterns.iter().any(|p| p.ty() == Type::Timestamp) => Some(Type::Timestamp),
            Shape::Dated(_) => Some(Type::Date),
            _ => None,
        }
    }
}

/// `1.234,50` as `1234.50`; what parts thousands has to stand where they end.
fn plain_number(field: &str, point: char, thousands: Option<char>) -> Option<String> {
    let digits = field.strip_prefix('-').unwrap_or(field);
    let (whole, part) = digits.split_once(point).map_or((digits, None), |(whole, part)| (whole, Some(part)));
    let all_digits = |t: &str| !t.is_empty() && t.bytes().all(|b| b.is_ascii_digit());
    if part.is_some_and(|p| !all_digits(p)) {
        return None;
    }
    let mut plain = String::with_capacity(field.len());
    plain.push_str(&field[..field.len() - digits.len()]);
    let (first, rest) = match thousands.and_then(|t| whole.split_once(t)) {
        Some((first, rest)) => (first, Some(rest)),
        None => (whole, None),
    };
    if !all_digits(first) || rest.is_some() && first.len() > 3 {
        return None;
    }
    plain.push_str(first);
    for group in rest.into_iter().flat_map(|rest| rest.split(thousands.unwrap_or(point))) {
        if group.len() != 3 || !all_digits(group) {
            return None;
        }
        plain.push_str(group);
    }
    if let Some(part) = part {
        plain.push('.');
        plain.push_str(part);
    }
    Some(plain)
}

/// A pattern of dates, as in Unicode UTS #35: `dd/MM/yyyy HH:mm`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DatePattern {
    parts: Vec<DatePatternPart>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum DatePatternPart {
    /// A letter and how often it stands.
    Field(char, usize),
    Text(String),
}

/// Before noon and after.
const HALVES: [&str; 2] = ["am", "pm"];

const MONTHS: [&str; 12] = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];

impl DatePattern {
    /// Reads a pattern.
    ///
    /// # Errors
    /// When it has no year, month and day, or a letter that is no field of dates.
    pub fn parse(pattern: &str) -> Result<DatePattern, String> {
        let mut parts: Vec<DatePatternPart> = Vec::new();
        let mut chars = pattern.chars().peekable();
        while let Some(c) = chars.next() {
            if c == '\'' {
                let text: String = chars.by_ref().take_while(|q| *q != '\'').collect();
                parts.push(DatePatternPart::Text(if text.is_empty() { "'".into() } else { text }));
                continue;
            }
            if !c.is_ascii_alphabetic() {
                parts.push(DatePatternPart::Text(c.to_string()));
                continue;
            }
            let mut count = 1;
            while chars.peek() == Some(&c) {
                chars.next();
                count += 1;
            }
            if !"yMdHhmsa".contains(c) {
                return Err(format!("`{c}` in `{pattern}` is not a field: there are y, M, d, H, h, m, s, a"));
            }
            parts.push(DatePatternPart::Field(c, count));
        }
        let has = |letter| parts.iter().any(|p| matches!(p, DatePatternPart::Field(c, _) if *c == letter));
        if !has('y') || !has('M') || !has('d') {
            return Err(format!("`{pattern}` needs a year, a month and a day: `dd/MM/yyyy`"));
        }
        // An hour of twelve is one of two.
        if has('h') != has('a') || has('h') && has('H') {
            return Err(format!("`{pattern}` needs `h` and `a` for hours up to 12, or `H`: `MM/dd/yyyy h:mm a`"));
        }
        Ok(DatePattern { parts })
    }

    /// Date, or timestamp where there is an hour.
    pub fn ty(&self) -> Type {
        let hour = self.parts.iter().any(|p| matches!(p, DatePatternPart::Field('H' | 'h', _)));
        if hour { Type::Timestamp } else { Type::Date }
    }

    /// A field as an ISO date or timestamp.
    pub fn read(&self, field: &[u8]) -> Option<String> {
        let mut rest = std::str::from_utf8(field).ok()?;
        let (mut year, mut month, mut day, mut time) = (0i64, 0i64, 0i64, [0i64; 3]);
        let mut half: Option<i64> = None;
        for (i, part) in self.parts.iter().enumerate() {
            match part {
                DatePatternPart::Text(text) => rest = rest.strip_prefix(text.as_str())?,
                DatePatternPart::Field('M', 3..) => {
                    let end = rest.find(|c: char| !c.is_alphabetic()).unwrap_or(rest.len());
                    let name = rest[..end].to_lowercase();
                    month = MONTHS.iter().position(|m| name.starts_with(m))? as i64 + 1;
                    rest = &rest[end..];
                }
                DatePatternPart::Field('a', _) => {
                    let word = rest.get(..2)?;
                    half = Some(HALVES.iter().position(|half| word.eq_ignore_ascii_case(half))? as i64);
                    rest = &rest[2..];
                }
                DatePatternPart::Field(letter, count) => {
                    // A field right before another one has just so many digits; else one digit will do.
                    let tight = matches!(self.parts.get(i + 1), Some(DatePatternPart::Field(..)));
                    let most = if tight { *count } else { (*count).max(if *letter == 'y' { 4 } else { 2 }) };
                    let end = rest.bytes().take(most).take_while(u8::is_ascii_digit).count();
                    if end == 0 || tight && end < *count || *letter == 'y' && *count != 2 && end < 4 {
                        return None;
                    }
                    let number: i64 = rest[..end].parse().ok()?;
                    rest = &rest[end..];
                    match letter {
                        // Two digits mean the years from 1970 to 2069.
                        'y' if end <= 2 => year = if number < 70 { 2000 + number } else { 1900 + number },
                        'y' => year = number,
                        'M' => month = number,
                        'd' => day = number,
                        'H' | 'h' => time[0] = number,
                        'm' => time[1] = number,
                        _ => time[2] = number,
                    }
                }
            }
        }
        date::make_date(year, month, day)?;
        if let Some(half) = half {
            time[0] = (1..=12).contains(&time[0]).then_some(time[0] % 12 + 12 * half)?;
        }
        if !rest.is_empty() || time[0] > 23 || time[1] > 59 || time[2] > 59 {
            return None;
        }
        let mut iso = String::with_capacity("2026-03-01 08:30:00".len());
        push_digits(&mut iso, year, 4);
        [month, day].into_iter().for_each(|number| {
            iso.push('-');
            push_digits(&mut iso, number, 2);
        });
        if self.ty() == Type::Timestamp {
            time.into_iter().zip([' ', ':', ':']).for_each(|(number, before)| {
                iso.push(before);
                push_digits(&mut iso, number, 2);
            });
        }
        Some(iso)
    }
}

/// A number that is not negative, with so many digits: several times as fast as a format of the standard library.
fn push_digits(text: &mut String, number: i64, digits: u32) {
    text.extend((0..digits).rev().map(|place| char::from(b'0' + (number / 10i64.pow(place) % 10) as u8)));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn decimal_commas_and_points_of_thousands() {
        for (text, expected) in [
            ("1,5", Some("1.5")),
            ("-1.234.567,89", Some("-1234567.89")),
            ("12", Some("12")),
            ("12.03.2026", None),
            ("1.23", None),
            ("1,2,3", None),
            (",5", None),
            ("x", None),
        ] {
            let found = plain_number(text, ',', Some('.'));
            assert_eq!(found.as_deref(), expected, "{text}");
        }
    }

    #[test]
    fn dates_by_pattern() {
        for (pattern, text, expected) in [
            ("dd/MM/yyyy", "01/03/2026", Some("2026-03-01")),
            ("d.M.yy", "1.3.26", Some("2026-03-01")),
            ("d.M.yy", "1.3.1999", Some("1999-03-01")),
            ("yyyyMMdd", "20260301", Some("2026-03-01")),
            ("d MMM yyyy", "1 Mar 2026", Some("2026-03-01")),
            ("MMMM d, yyyy", "March 1, 2026", Some("2026-03-01")),
            ("dd/MM/yyyy HH:mm", "01/03/2026 08:30", Some("2026-03-01 08:30:00")),
            ("dd/MM/yyyy", "31/02/2026", None),
            ("dd.MM.yyyy HH:mm:ss", "01.03.2026 08:30:59", Some("2026-03-01 08:30:59")),
            ("dd.MM.yyyy HH:mm:ss", "01.03.2026 08:60:00", None),
            ("dd.MM.yyyy HH:mm", "01.03.2026 24:00", None),
            ("MM/dd/yyyy h:mm a", "03/14/2026 2:05 PM", Some("2026-03-14 14:05:00")),
            ("MM/dd/yyyy h:mm:ss a", "03/14/2026 12:05:07 am", Some("2026-03-14 00:05:07")),
            ("MM/dd/yyyy h:mm a", "03/14/2026 12:00 PM", Some("2026-03-14 12:00:00")),
            ("MM/dd/yyyy h:mm a", "03/14/2026 14:05 PM", None),
            ("MM/dd/yyyy h:mm a", "03/14/2026 2:05", None),
            ("MM/dd/yyyy h:mm a", "03/14/2026 2:05 ä", None),
            ("dd/MM/yyyy", "01/03/2026 x", None),
            ("dd/MM/yyyy", "1/3/26", None),
        ] {
            let parsed = DatePattern::parse(pattern).expect(pattern);
            assert_eq!(parsed.read(text.as_bytes()).as_deref(), expected, "{pattern} {text}");
        }
        assert!(["dd/MM/yyyy h:mm", "dd/MM/yyyy a", "dd/MM/yyyy H:h a"].iter().all(|p| DatePattern::parse(p).is_err()));
        assert!(DatePattern::parse("dd/MM").is_err() && DatePattern::parse("dd/MM/yyyy Q").is_err());
    }

    #[test]
    fn marks_and_encodings() {
        let decoded = |dialect: &Dialect, bytes: &[u8]| {
            let mut text = String::new();
            let mut reader = dialect.decoded(Box::new(Cursor::new(bytes.to_vec()))).expect("reads");
            reader.read_to_string(&mut text).expect("reads");
            text
        };
        let western = Dialect { encoding: encoding_rs::WINDOWS_1252, ..Dialect::default() };
        assert_eq!(decoded(&western, b"caf\xe9"), "café");
        assert_eq!(decoded(&western, b"\xef\xbb\xbfcaf\xc3\xa9"), "café");
        assert_eq!(decoded(&western, &b"\xe9".repeat(100_000)), "é".repeat(100_000));
        assert_eq!(decoded(&Dialect::default(), b"\xff\xfea\0b\0"), "ab");
        assert_eq!(decoded(&Dialect::default(), b"ab"), "ab");
        assert_eq!(decoded(&Dialect::default(), b"a\0b\0c\0"), "abc", "two bytes each, though nobody says so");
        assert_eq!(decoded(&Dialect::default(), b"\0a\0b\0\xe9"), "abé");
        assert_eq!(decoded(&Dialect::default(), b"a\0"), "a\0", "too short to tell");
    }
}
