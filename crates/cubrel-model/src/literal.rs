//! Where the characters of a text stand in the quotes and escapes in which TOML has it.

use cubrel_formula::source::Span;

/// The text's and the file's offsets wherever their distance changes; `None` when the literal does not say the text.
pub(super) fn starts(file: &str, literal: Span, text: &str) -> Option<Vec<(u32, u32)>> {
    let raw = file.get(literal.range())?;
    let quote = ["\"\"\"", "'''", "\"", "'"].into_iter().find(|q| raw.starts_with(q))?;
    let inner = raw.strip_prefix(quote)?.strip_suffix(quote)?;
    let mut at = quote.len();
    let multiline = quote.len() == 3;
    // A line break right after the opening quotes is not part of the text.
    let body = match inner.strip_prefix("\r\n").or_else(|| inner.strip_prefix('\n')) {
        Some(body) if multiline => {
            at += inner.len() - body.len();
            body
        }
        _ => inner,
    };
    let reader = LiteralReader {
        escapes: quote.starts_with('"'),
        decoded: String::with_capacity(text.len()),
        starts: Vec::new(),
    };
    reader.read(body, literal.start + at as u32).filter(|(decoded, _)| decoded == text).map(|(_, starts)| starts)
}

struct LiteralReader {
    escapes: bool,
    decoded: String,
    starts: Vec<(u32, u32)>,
}

impl LiteralReader {
    fn read(mut self, body: &str, offset: u32) -> Option<(String, Vec<(u32, u32)>)> {
        let mut rest = body;
        self.starts.push((0, offset));
        while let Some(c) = rest.chars().next() {
            let taken = if c == '\\' && self.escapes { self.escape(rest)? } else { self.plain(c) };
            rest = &rest[taken..];
            let (text, file) = (self.decoded.len() as u32, offset + (body.len() - rest.len()) as u32);
            let distance = |(text, file): (u32, u32)| file - text;
            if self.starts.last().is_none_or(|last| distance(*last) != distance((text, file))) {
                self.starts.push((text, file));
            }
        }
        Some((self.decoded, self.starts))
    }

    fn plain(&mut self, c: char) -> usize {
        self.decoded.push(c);
        c.len_utf8()
    }

    /// How many bytes an escape at the front of `rest` takes.
    fn escape(&mut self, rest: &str) -> Option<usize> {
        let mark = rest[1..].chars().next()?;
        let digits = match mark {
            'x' => 2,
            'u' => 4,
            'U' => 8,
            _ => 0,
        };
        if digits > 0 {
            let code = u32::from_str_radix(rest.get(2..2 + digits)?, 16).ok()?;
            self.decoded.push(char::from_u32(code)?);
            return Some(2 + digits);
        }
        if mark.is_whitespace() {
            return Some(1 + rest[1..].len() - rest[1..].trim_start().len());
        }
        self.decoded.push(match mark {
            'b' => '\u{8}',
            't' => '\t',
            'n' => '\n',
            'f' => '\u{c}',
            'r' => '\r',
            'e' => '\u{1b}',
            '"' | '\\' => mark,
            _ => return None,
        });
        Some(2)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use cubrel_formula::source::Source;

    #[test]
    fn every_character_is_found_in_every_kind_of_quotes() {
        for literal in [
            "\"sum(a.ü) + 'x'\"",
            "'sum(a.ü) + \"x\"'",
            "'''\nsum(a.ü)\n + 1'''",
            "\"\"\"\nsum(a.\\u00fc) \\\n   + \\\"x\\\" + 1\"\"\"",
            "\"a\\tb \\U0001F6A2 c \\\\ d\"",
            "\"\"",
        ] {
            let file = format!("[measure.m]\nformula = {literal} # sum\n");
            let value: toml::Table = toml::from_str(&file).unwrap_or_default();
            let text = value["measure"]["m"]["formula"].as_str().unwrap_or_default().to_string();
            let start = file.find('=').unwrap_or_default() + 2;
            let starts = starts(&file, Span::new(start, start + literal.len()), &text).unwrap_or_default();
            let whole = Source::new("model.toml", file.as_str());
            let source = Source::within("measure m", text.as_str(), &whole, starts);
            for (at, c) in text.char_indices() {
                let (found, span) = source.place(Span::new(at, at + c.len_utf8()));
                assert!(Arc::ptr_eq(&whole, &source.origin.as_ref().map_or(whole.clone(), |_| whole.clone())));
                let under = found.slice(span);
                assert!(under.starts_with(c) || under.starts_with('\\'), "{c:?} is {under:?} in {literal}");
            }
        }
    }

    #[test]
    fn a_literal_of_another_text_has_no_places() {
        assert_eq!(starts("x = 'ab'", Span::new(4, 8), "abc"), None);
        assert_eq!(starts("x = 5", Span::new(4, 5), "5"), None);
    }
}
