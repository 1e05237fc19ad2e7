//! The quotes and escapes of TOML around a formula that is being written.

use std::ops::Range;

use cubrel_model::toml_places::ScalarPlace;

/// The quotes that a text can begin with, the longest first.
const QUOTES: [&str; 4] = ["\"\"\"", "'''", "\"", "'"];

/// What of a text in quotes stands before a place.
pub struct Begun {
    /// It, without the escapes.
    pub text: String,
    quote: &'static str,
    /// For each byte of it, and for its end, where that stands in the file.
    places: Vec<usize>,
}

impl Begun {
    /// What stands between the opening quotes and a place; nothing where that is not between quotes.
    pub fn at(file: &str, scalar: &ScalarPlace, at: usize) -> Option<Begun> {
        let (quote, inner) = between_quotes(file, scalar)?;
        if !(inner.start..=inner.end).contains(&at) {
            return None;
        }
        let start = inner.start;
        let mut begun = Begun { text: String::new(), quote, places: Vec::new() };
        let mut characters = file.get(start..at)?.char_indices().peekable();
        while let Some((i, c)) = characters.next() {
            let escaped = characters.next_if(|(_, next)| c == '\\' && begun.escapes() && matches!(next, '"' | '\\'));
            let c = escaped.map_or(c, |(_, c)| c);
            begun.text.push(c);
            begun.places.extend(std::iter::repeat_n(start + i, c.len_utf8()));
        }
        begun.places.push(at);
        Some(begun)
    }

    /// All of a text in quotes.
    pub fn whole(file: &str, scalar: &ScalarPlace) -> Option<Begun> {
        let (_, inner) = between_quotes(file, scalar)?;
        Begun::at(file, scalar, inner.end)
    }

    fn escapes(&self) -> bool {
        self.quote.starts_with('"')
    }

    /// Where a part of it stands in the file.
    pub fn place(&self, part: &Range<usize>) -> Range<usize> {
        let place = |at: usize| self.places.get(at).or(self.places.last()).copied().unwrap_or_default();
        place(part.start)..place(part.end)
    }

    /// A text as it has to be written between these quotes.
    pub fn written(&self, text: &str) -> String {
        match self.quote {
            "\"" => text.replace('\\', "\\\\").replace('"', "\\\""),
            "\"\"\"" => text.replace('\\', "\\\\"),
            _ => text.to_string(),
        }
    }
}

/// The quotes of a text, and where what they hold stands: up to its end where nobody has closed them yet.
fn between_quotes(file: &str, scalar: &ScalarPlace) -> Option<(&'static str, Range<usize>)> {
    let raw = file.get(scalar.span.range())?;
    let quote = QUOTES.into_iter().find(|quote| raw.starts_with(quote))?;
    let is_closed = raw.len() >= 2 * quote.len() && raw.ends_with(quote);
    let Range { start, end } = scalar.span.range();
    Some((quote, start + quote.len()..if is_closed { end - quote.len() } else { end }))
}
