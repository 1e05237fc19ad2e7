//! Where quoted fields begin and end, and which quotes are never closed.
//!
//! A field that opens with a quote and does not close it would swallow all lines behind it. So a quote has to be closed
//! within so many bytes and lines; else its row is bad, and reading goes on with the next line.

use std::ops::Range;

use super::dialect::Dialect;

/// A quoted field is no longer than this,
pub(super) const MOST_BYTES: usize = 1 << 20;
/// and holds no more line breaks.
pub(super) const MOST_LINES: usize = 10_000;

/// What is known of some text that begins with a row.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Found {
    /// Rows whose quote is never closed, each up to the end of the line on which it opens.
    pub(super) unclosed: Vec<Range<usize>>,
    /// Behind the last line break that is not inside of a field.
    pub(super) end: Option<usize>,
}

/// Where an opened field ends.
enum Close {
    /// Behind its closing quote.
    At(usize),
    /// More text has to be seen.
    Unknown,
    Never,
}

/// Looks through a text; `whole` when nothing follows.
pub(super) fn scan(text: &[u8], dialect: &Dialect, whole: bool) -> Found {
    let (quote, delimiter) = (dialect.quote, dialect.delimiter.unwrap_or(b','));
    let mut found = Found::default();
    let (mut at, mut row) = (0, 0);
    while let Some(next) = memchr::memchr(quote, &text[at..]) {
        let open = at + next;
        if let Some(line) = memchr::memrchr(b'\n', &text[at..open]) {
            row = at + line + 1;
            found.end = Some(row);
        }
        let begins_field = open.checked_sub(1).is_none_or(|i| matches!(text[i], b'\n' | b'\r') || text[i] == delimiter);
        if !begins_field {
            at = open + 1;
            continue;
        }
        at = match close(&text[open + 1..], quote, whole) {
            Close::At(end) => open + 1 + end,
            Close::Unknown => return found,
            Close::Never => {
                let line = memchr::memchr(b'\n', &text[open..]).map_or(text.len(), |line| open + line + 1);
                found.unclosed.push(row..line);
                found.end = Some(line);
                row = line;
                line
            }
        };
    }
    if let Some(line) = memchr::memrchr(b'\n', &text[at..]) {
        found.end = Some(at + line + 1);
    }
    found
}

fn close(field: &[u8], quote: u8, whole: bool) -> Close {
    let seen = &field[..field.len().min(MOST_BYTES)];
    let too_many_lines = |to: usize| to > MOST_LINES && memchr::memchr_iter(b'\n', &seen[..to]).count() > MOST_LINES;
    let mut at = 0;
    while let Some(next) = memchr::memchr(quote, &seen[at..]) {
        let end = at + next;
        match field.get(end + 1) {
            // Doubled, it stands for itself.
            Some(after) if *after == quote => at = (end + 2).min(seen.len()),
            None if !whole => return Close::Unknown,
            _ if too_many_lines(end) => return Close::Never,
            _ => return Close::At(end + 1),
        }
    }
    if whole || field.len() > MOST_BYTES || too_many_lines(seen.len()) { Close::Never } else { Close::Unknown }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn unclosed(text: &str) -> Vec<String> {
        let found = scan(text.as_bytes(), &Dialect::default(), true);
        found.unclosed.into_iter().map(|range| text[range].to_string()).collect()
    }

    #[test]
    fn a_quote_that_is_never_closed_takes_its_own_line() {
        for (text, expected) in [
            ("a,b\n1,\"x\"\n2,y\n", &[][..]),
            ("a,b\n1,\"x\n2,y\n", &["1,\"x\n"]),
            ("a,b\n1,\"x\n\ny\",2\n3,\"z", &["3,\"z"]),
            ("a,b\n1,\"x\"\"\n2,y\n", &["1,\"x\"\"\n"]),
            ("1,5\" pipe\n2,y\n", &[]),
            ("1,\"two\nlines\",\"open\n2,y\n", &["1,\"two\nlines\",\"open\n"]),
            ("\"", &["\""]),
            ("", &[]),
        ] {
            assert_eq!(unclosed(text), expected, "{text:?}");
        }
        let far = format!("1,\"{}\",2\n3,4\n", "x\n".repeat(MOST_LINES + 1));
        assert_eq!(unclosed(&far)[0], "1,\"x\n");
        let long = format!("1,\"{}\",2\n3,4\n", "x".repeat(MOST_BYTES));
        assert_eq!(unclosed(&long).len(), 1);
        let just = format!("1,\"{}\",2\n3,4\n", "x".repeat(MOST_BYTES - 1));
        assert_eq!(unclosed(&just), [""; 0]);
    }

    #[test]
    fn lines_end_where_no_field_is_open() {
        let end = |text: &str| scan(text.as_bytes(), &Dialect::default(), false).end;
        assert_eq!((end("a,b\n1,\"x\ny"), end("a,b"), end("a\n\"x\"\nb")), (Some(4), None, Some(6)));
        assert_eq!(end("a\n\"x\""), Some(2), "the quote may be doubled by what follows");
    }
}
