//! Functions of text. Positions count characters (Unicode scalar values) from 1.

use super::entry::{Argument, Function, FunctionError, Parameter};
use cubrel_value::{Type, Value};

/// A text function gives at most this many characters; more is an error instead of a machine out of memory.
const MAX_LENGTH: i64 = 1 << 20;

/// Whether a text may have so many bytes: what grows with every operator comes to an end.
pub fn allowed_length(bytes: usize) -> Result<(), String> {
    // A character takes up to four.
    if bytes as i64 > 4 * MAX_LENGTH {
        return Err(format!("a text of {bytes} bytes is longer than the {} allowed", 4 * MAX_LENGTH));
    }
    Ok(())
}

fn text_type(_: &[Argument<'_>]) -> Type {
    Type::Text
}

fn int_type(_: &[Argument<'_>]) -> Type {
    Type::Int
}

fn bool_type(_: &[Argument<'_>]) -> Type {
    Type::Bool
}

fn text(args: &[Value], i: usize) -> &str {
    args.get(i).and_then(Value::as_text).unwrap_or("")
}

fn int(args: &[Value], i: usize) -> i64 {
    match args.get(i) {
        Some(Value::Int(n)) => *n,
        _ => 0,
    }
}

fn substring(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    // As in SQL: the window may start before the text, and what lies outside is not there.
    let start = int(args, 1);
    let end = if args.len() > 2 {
        let length = int(args, 2);
        if length < 0 {
            return Err("a length cannot be negative".into());
        }
        start.saturating_add(length)
    } else {
        i64::MAX
    };
    let skip = start.max(1) - 1;
    let take = end.saturating_sub(start.max(1)).max(0);
    Ok(Value::text(first_of(behind(text(args, 0), skip as usize), take as usize)))
}

fn left(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    Ok(Value::text(first_of(text(args, 0), int(args, 1).max(0) as usize)))
}

fn right(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    Ok(Value::text(last_of(text(args, 0), int(args, 1).max(0) as usize)))
}

/// The first characters of a text.
fn first_of(text: &str, count: usize) -> &str {
    text.char_indices().nth(count).map_or(text, |(end, _)| &text[..end])
}

/// What stands behind the first characters of a text.
fn behind(text: &str, count: usize) -> &str {
    &text[first_of(text, count).len()..]
}

/// The last characters of a text.
fn last_of(text: &str, count: usize) -> &str {
    match count.checked_sub(1) {
        None => "",
        Some(before) => text.char_indices().rev().nth(before).map_or(text, |(start, _)| &text[start..]),
    }
}

/// A part of a text that functions take from it, in the order in which they do.
#[derive(Clone, Copy, Debug)]
pub enum TextPart {
    /// `left`
    First(usize),
    /// `right`
    Last(usize),
    /// `substring` from a character on
    Behind(usize),
    /// `trim`
    Trimmed,
}

impl TextPart {
    /// What a function takes from its first argument, the others being these; `None` for other functions, and where it fails.
    pub fn of(function: &Function, others: &[Value]) -> Option<Vec<TextPart>> {
        let int = |i: usize| if let Some(Value::Int(n)) = others.get(i) { Some(*n) } else { None };
        let characters = |n: i64| n.max(0) as usize;
        Some(match (function.name, others.len()) {
            ("trim", 0) => vec![TextPart::Trimmed],
            ("left", 1) => vec![TextPart::First(characters(int(0)?))],
            ("right", 1) => vec![TextPart::Last(characters(int(0)?))],
            ("substring", 1) => vec![TextPart::Behind(characters(int(0)?.saturating_sub(1)))],
            // A window that begins before the text ends sooner.
            ("substring", 2) if int(0)? >= 1 && int(1)? >= 0 => {
                vec![TextPart::Behind(characters(int(0)? - 1)), TextPart::First(characters(int(1)?))]
            }
            _ => return None,
        })
    }

    /// The part of a text.
    pub fn take(self, text: &str) -> &str {
        match self {
            TextPart::First(count) => first_of(text, count),
            TextPart::Last(count) => last_of(text, count),
            TextPart::Behind(count) => behind(text, count),
            TextPart::Trimmed => text.trim(),
        }
    }
}

fn replace(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    let (t, from, to) = (text(args, 0), text(args, 1), text(args, 2));
    if from.is_empty() {
        return Ok(args[0].clone());
    }
    if to.len() > from.len() {
        let more = t.matches(from).count().saturating_mul(to.len() - from.len());
        allowed_length(t.len().saturating_add(more))?;
    }
    Ok(Value::text(t.replace(from, to)))
}

fn concat(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    let mut whole = String::new();
    for arg in args {
        whole += &arg.to_string();
        allowed_length(whole.len())?;
    }
    Ok(Value::text(whole))
}

fn lpad(args: &[Value], _: Type) -> Result<Value, FunctionError> {
    let (t, width) = (text(args, 0), int(args, 1));
    let fill = if args.len() > 2 { text(args, 2) } else { " " };
    if width > MAX_LENGTH {
        return Err(format!("a text of {width} characters is longer than the {MAX_LENGTH} allowed"));
    }
    let (width, length) = (width.max(0) as usize, t.chars().count());
    if length >= width || fill.is_empty() {
        return Ok(Value::text(t.chars().take(width).collect::<String>()));
    }
    let (missing, filling) = (width - length, fill.chars().count());
    let mut padded = fill.repeat(missing / filling);
    padded.extend(fill.chars().take(missing % filling));
    Ok(Value::text(padded + t))
}

/// A pattern of `like`, read once for many texts.
pub enum LikePattern {
    /// What stands between `%`, where no single character is left open: the beginning, what comes after it in this order,
    /// the end.
    Parts {
        /// The beginning.
        start: String,
        /// What comes after it.
        inner: Vec<memchr::memmem::Finder<'static>>,
        /// The end.
        end: String,
    },
    /// A text without `%`.
    Whole(String),
    /// Character by character.
    Characters(Vec<char>),
}

impl LikePattern {
    /// Reads a pattern.
    pub fn new(pattern: &str) -> LikePattern {
        if pattern.contains('_') {
            return LikePattern::Characters(pattern.chars().collect());
        }
        let parts: Vec<&str> = pattern.split('%').collect();
        let [start, inner @ .., end] = parts.as_slice() else { return LikePattern::Whole(pattern.to_string()) };
        let inner = inner.iter().filter(|part| !part.is_empty());
        let inner = inner.map(|part| memchr::memmem::Finder::new(part.as_bytes()).into_owned()).collect();
        LikePattern::Parts { start: (*start).to_string(), inner, end: (*end).to_string() }
    }

    /// What a text has to begin with, where nothing else is asked of it.
    pub fn beginning(&self) -> Option<&str> {
        match self {
            LikePattern::Parts { start, inner, end } if inner.is_empty() && end.is_empty() => Some(start),
            _ => None,
        }
    }

    /// The longest part that stands somewhere in a text that is like it.
    pub fn longest_part(&self) -> Option<&memchr::memmem::Finder<'static>> {
        match self {
            LikePattern::Parts { inner, .. } => inner.iter().max_by_key(|part| part.needle().len()),
            _ => None,
        }
    }

    /// Whether a text, given by its bytes, is like it.
    pub(crate) fn matches(&self, text: &[u8]) -> bool {
        match self {
            LikePattern::Whole(whole) => text == whole.as_bytes(),
            LikePattern::Characters(pattern) => is_like(std::str::from_utf8(text).unwrap_or_default(), pattern),
            LikePattern::Parts { start, inner, end } => {
                let long_enough = text.len() >= start.len() + end.len();
                // Comparing with an empty text can cost as much as a hundred others: its address is none.
                if !long_enough
                    || !start.is_empty() && !text.starts_with(start.as_bytes())
                    || !end.is_empty() && !text.ends_with(end.as_bytes())
                {
                    return false;
                }
                let mut rest = &text[start.len()..text.len() - end.len()];
                inner.iter().all(|part| match part.find(rest) {
                    Some(at) => {
                        rest = &rest[at + part.needle().len()..];
                        true
                    }
                    None => false,
                })
            }
        }
    }
}

/// Whether a text is like a pattern in which `_` stands for any character and `%` for any of them.
fn is_like(text: &str, pattern: &[char]) -> bool {
    let text: Vec<char> = text.chars().collect();
    let (mut t, mut p) = (0, 0);
    let mut retry: Option<(usize, usize)> = None;
    while t < text.len() {
        if p < pattern.len() && pattern[p] == '%' {
            retry = Some((t, p + 1));
            p += 1;
        } else if p < pattern.len() && (pattern[p] == '_' || pattern[p] == text[t]) {
            t += 1;
            p += 1;
        } else if let Some((from, after)) = retry {
            retry = Some((from + 1, after));
            t = from + 1;
            p = after;
        } else {
            return false;
        }
    }
    pattern[p..].iter().all(|c| *c == '%')
}

const ONE: &[Parameter] = &[Parameter::Text];
const TWO: &[Parameter] = &[Parameter::Text, Parameter::Text];
const WITH_COUNT: &[Parameter] = &[Parameter::Text, Parameter::Int];

const BASE: Function = Function {
    name: "",
    signature: "",
    meaning: "",
    example: ("", ""),
    parameters: ONE,
    optional: 0,
    repeated: false,
    result: text_type,
    sees_nulls: false,
    run: |args, _| Ok(args[0].clone()),
    batch: None,
};

pub(super) static FUNCTIONS: &[Function] = &[
    Function {
        name: "upper",
        signature: "upper(t: text) -> text",
        meaning: "in capitals",
        example: ("upper('Skaw')", "SKAW"),
        run: |args, _| Ok(Value::text(text(args, 0).to_uppercase())),
        ..BASE
    },
    Function {
        name: "lower",
        signature: "lower(t: text) -> text",
        meaning: "in small letters",
        example: ("lower('Skaw')", "skaw"),
        run: |args, _| Ok(Value::text(text(args, 0).to_lowercase())),
        ..BASE
    },
    Function {
        name: "trim",
        signature: "trim(t: text) -> text",
        meaning: "without spaces at both ends",
        example: ("trim('  Ness ')", "Ness"),
        run: |args, _| Ok(Value::text(text(args, 0).trim())),
        ..BASE
    },
    Function {
        name: "length",
        signature: "length(t: text) -> int",
        meaning: "how many characters",
        example: ("length('Ness')", "4"),
        result: int_type,
        run: |args, _| Ok(Value::Int(text(args, 0).chars().count() as i64)),
        ..BASE
    },
    Function {
        name: "substring",
        signature: "substring(t: text, start: int [, length: int]) -> text",
        meaning: "the characters from `start` (1 is the first) on",
        example: ("substring('Ness–Holm', 6, 4)", "Holm"),
        parameters: &[Parameter::Text, Parameter::Int, Parameter::Int],
        optional: 1,
        run: substring,
        ..BASE
    },
    Function {
        name: "left",
        signature: "left(t: text, n: int) -> text",
        meaning: "the first n characters",
        example: ("left('Holm', 2)", "Ho"),
        parameters: WITH_COUNT,
        run: left,
        ..BASE
    },
    Function {
        name: "right",
        signature: "right(t: text, n: int) -> text",
        meaning: "the last n characters",
        example: ("right('Holm', 2)", "lm"),
        parameters: WITH_COUNT,
        run: right,
        ..BASE
    },
    Function {
        name: "replace",
        signature: "replace(t: text, from: text, to: text) -> text",
        meaning: "every `from` replaced by `to`",
        example: ("replace('a-b-c', '-', '/')", "a/b/c"),
        parameters: &[Parameter::Text, Parameter::Text, Parameter::Text],
        run: replace,
        ..BASE
    },
    Function {
        name: "concat",
        signature: "concat(a, b, …) -> text",
        meaning: "all joined as text; null counts as nothing (with `||` it makes the whole null)",
        example: ("concat('Pier ', 4, null)", "Pier 4"),
        parameters: &[Parameter::Any],
        repeated: true,
        sees_nulls: true,
        run: concat,
        ..BASE
    },
    Function {
        name: "starts_with",
        signature: "starts_with(t: text, start: text) -> bool",
        meaning: "whether t begins so",
        example: ("starts_with('Holm', 'Ho')", "true"),
        parameters: TWO,
        result: bool_type,
        run: |args, _| Ok(Value::Bool(text(args, 0).starts_with(text(args, 1)))),
        ..BASE
    },
    Function {
        name: "ends_with",
        signature: "ends_with(t: text, end: text) -> bool",
        meaning: "whether t ends so",
        example: ("ends_with('Holm', 'Ho')", "false"),
        parameters: TWO,
        result: bool_type,
        run: |args, _| Ok(Value::Bool(text(args, 0).ends_with(text(args, 1)))),
        ..BASE
    },
    Function {
        name: "contains",
        signature: "contains(t: text, part: text) -> bool",
        meaning: "whether t has this part",
        example: ("contains('Holm', 'ol')", "true"),
        parameters: TWO,
        result: bool_type,
        run: |args, _| Ok(Value::Bool(text(args, 0).contains(text(args, 1)))),
        ..BASE
    },
    Function {
        name: "lpad",
        signature: "lpad(t: text, width: int [, fill: text]) -> text",
        meaning: "filled up on the left to this width, or cut to it",
        example: ("lpad('7', 3, '0')", "007"),
        parameters: &[Parameter::Text, Parameter::Int, Parameter::Text],
        optional: 1,
        run: lpad,
        ..BASE
    },
];

#[cfg(test)]
mod tests {
    use super::LikePattern;

    #[test]
    fn like_matches_as_in_sql() {
        let cases = [
            ("Ness", "N%", true),
            ("Ness", "n%", false),
            ("Ness", "%e_s", true),
            ("Ness", "Ness%", true),
            ("Ness", "", false),
            ("", "%", true),
            ("a%b", "a_b", true),
            ("aXbXc", "a%b%c", true),
            ("aXbX", "a%b%c", false),
            ("aba", "aba%ba", false),
            ("abab", "ab%ab", true),
            ("ab", "ab%b", false),
            ("xyzxyz", "%yz%yz%", true),
            ("xyz", "%yz%z", false),
            ("Fähre", "F%hre", true),
            ("Fähre", "%ä%", true),
            ("Ness", "Ness", true),
            ("Ness", "%%", true),
        ];
        for (text, pattern, expected) in cases {
            assert_eq!(LikePattern::new(pattern).matches(text.as_bytes()), expected, "{text} like {pattern}");
            let characters = LikePattern::Characters(pattern.chars().collect());
            assert_eq!(characters.matches(text.as_bytes()), expected, "{text} like {pattern}, character by character");
        }
    }
}
