//! What the pieces of a formula or query are, for whoever shows it in colours.

use std::ops::Range;

use cubrel_formula::functions;
use cubrel_formula::lexer::{TokenKind, tokens};
use cubrel_formula::source::Source;
use cubrel_formula::words::is_reserved;

/// What a [`Lexeme`] is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum LexemeKind {
    /// A word of the language.
    Word,
    /// The name of a function or aggregate that is called.
    Function,
    /// Another name, quoted or not.
    Name,
    /// A text in single quotes.
    Text,
    /// A number.
    Number,
    /// `$name`
    Parameter,
    /// A comment.
    Comment,
}

/// A piece of a formula or query.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lexeme {
    /// What it is.
    pub kind: LexemeKind,
    /// Where it stands, in bytes.
    pub span: Range<usize>,
}

/// The pieces of a formula or query, in their order; operators, brackets and blanks are between them. The text need not be right.
///
/// ```
/// use cubrel::LexemeKind::{Function, Name, Text, Word};
///
/// let text = "grid sum(booking.net) where route.name = 'Ness'";
/// let kinds: Vec<_> = cubrel::lexemes(text).into_iter().map(|l| (l.kind, &text[l.span])).collect();
/// assert_eq!(kinds[..4], [(Word, "grid"), (Function, "sum"), (Name, "booking"), (Name, "net")]);
/// assert_eq!(kinds[4..].last(), Some(&(Text, "'Ness'")));
/// ```
pub fn lexemes(text: &str) -> Vec<Lexeme> {
    let source = Source::new("", text);
    let (all, _) = tokens(&source);
    let mut found: Vec<Lexeme> = Vec::new();
    let mut end = 0;
    for (i, token) in all.iter().enumerate() {
        let span = token.span.range();
        found.extend(comment(text, end..span.start));
        end = span.end;
        let is_called = all.get(i + 1).is_some_and(|next| next.kind == TokenKind::Symbol("("));
        let kind = match &token.kind {
            TokenKind::Word(word) if is_called && is_function(word) => LexemeKind::Function,
            TokenKind::Word(word) if is_reserved(word) => LexemeKind::Word,
            TokenKind::Word(_) | TokenKind::Quoted(_) => LexemeKind::Name,
            TokenKind::Text(_) => LexemeKind::Text,
            TokenKind::Exact(..) | TokenKind::Float(_) => LexemeKind::Number,
            TokenKind::Parameter(_) => LexemeKind::Parameter,
            TokenKind::Symbol(_) | TokenKind::End => continue,
        };
        found.push(Lexeme { kind, span });
    }
    found
}

fn is_function(word: &str) -> bool {
    let word = word.to_lowercase();
    functions::functions().any(|entry| entry.name == word)
}

/// What stands between two tokens, where that is more than blanks.
fn comment(text: &str, between: Range<usize>) -> Option<Lexeme> {
    let gap = &text[between.clone()];
    let start = between.start + gap.len() - gap.trim_start().len();
    let span = start..between.start + gap.trim_end().len();
    let is_one = text[start..].starts_with("--") || text[start..].starts_with("/*");
    (is_one && span.start < span.end).then_some(Lexeme { kind: LexemeKind::Comment, span })
}

#[cfg(test)]
mod tests {
    use super::*;
    use LexemeKind::{Comment, Function, Name, Number, Parameter, Text, Word};

    fn told(text: &str) -> Vec<(LexemeKind, &str)> {
        lexemes(text).into_iter().map(|l| (l.kind, &text[l.span])).collect()
    }

    #[test]
    fn pieces_are_told_apart_also_where_a_text_is_unfinished() {
        assert_eq!(
            told("round(\"a b\", 1.5) -- why\n + $x"),
            [(Function, "round"), (Name, "\"a b\""), (Number, "1.5"), (Comment, "-- why"), (Parameter, "$x")]
        );
        assert_eq!(told("round + 1e3 /* ö"), [(Name, "round"), (Number, "1e3"), (Comment, "/* ö")]);
        assert_eq!(told("case when x"), [(Word, "case"), (Word, "when"), (Name, "x")]);
        assert_eq!(told("-- a\n-- b\nx"), [(Comment, "-- a\n-- b"), (Name, "x")]);
        assert_eq!(told("'ö").first().map(|(kind, _)| *kind), Some(Text));
        for text in ["", "  ", "§", "x § y", "'", "\"", "$", "/*", "1.", ".."] {
            let all = lexemes(text);
            assert!(all.windows(2).all(|pair| pair[0].span.end <= pair[1].span.start), "{text}: {all:?}");
        }
    }
}
