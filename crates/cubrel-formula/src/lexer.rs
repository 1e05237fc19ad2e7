//! Text to tokens (language reference, section 1).

use std::sync::Arc;

use super::source::{Diagnostic, Problem, Source, Span};
use cubrel_value::exact;

/// A token and where it stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Token {
    /// What it is.
    pub kind: TokenKind,
    /// Where it stands.
    pub span: Span,
}

/// What a token is.
#[derive(Clone, Debug, PartialEq)]
pub enum TokenKind {
    /// A bare word: a keyword or a name.
    Word(String),
    /// A name in double quotes.
    Quoted(String),
    /// Text in single quotes.
    Text(String),
    /// A number without an exponent: digits and scale.
    Exact(i128, u8),
    /// A number with an exponent.
    Float(f64),
    /// `$name`
    Parameter(String),
    /// An operator or a bracket.
    Symbol(&'static str),
    /// The end of the text.
    End,
}

/// Longest first, so that `<=` is not read as `<`.
const SYMBOLS: [&str; 17] = ["<>", "<=", ">=", "||", "+", "-", "*", "/", "%", "=", "<", ">", "(", ")", ",", ".", ";"];

/// Cuts a text into tokens, the last of which is [`TokenKind::End`]; what cannot be read is reported and passed over.
pub fn tokens(source: &Arc<Source>) -> (Vec<Token>, Vec<Diagnostic>) {
    let mut lexer = Lexer { source, at: 0, tokens: Vec::new(), problems: Vec::new() };
    while lexer.skip_blank() {
        lexer.next_token();
    }
    let end = source.text.len();
    lexer.tokens.push(Token { kind: TokenKind::End, span: Span::new(end, end) });
    (lexer.tokens, lexer.problems)
}

struct Lexer<'a> {
    source: &'a Arc<Source>,
    at: usize,
    tokens: Vec<Token>,
    problems: Vec<Diagnostic>,
}

fn is_word_start(c: char) -> bool {
    c.is_alphabetic() || c == '_'
}

fn is_word_part(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

impl Lexer<'_> {
    fn rest(&self) -> &str {
        &self.source.text[self.at..]
    }

    fn problem(&mut self, start: usize, message: String, help: &str) {
        let span = Span::new(start, self.at);
        self.problems.push(Diagnostic::error(Problem::Syntax, self.source, span, message).help(help));
    }

    fn push(&mut self, start: usize, kind: TokenKind) {
        self.tokens.push(Token { kind, span: Span::new(start, self.at) });
    }

    /// Passes over spaces and comments; false at the end.
    fn skip_blank(&mut self) -> bool {
        loop {
            let rest = self.rest();
            let trimmed = rest.trim_start();
            if trimmed.len() < rest.len() {
                self.at += rest.len() - trimmed.len();
            } else if rest.starts_with("--") {
                self.at += rest.find('\n').unwrap_or(rest.len());
            } else if rest.starts_with("/*") {
                let start = self.at;
                match rest.find("*/") {
                    Some(end) => self.at += end + 2,
                    None => {
                        self.at = self.source.text.len();
                        self.problem(start, "this comment is not closed".into(), "close it with `*/`");
                    }
                }
            } else {
                return !rest.is_empty();
            }
        }
    }

    fn next_token(&mut self) {
        let start = self.at;
        let rest = self.rest();
        let Some(first) = rest.chars().next() else {
            return;
        };
        if is_word_start(first) {
            let word = self.take_word();
            self.push(start, TokenKind::Word(word));
        } else if first.is_ascii_digit() || (first == '.' && rest[1..].starts_with(|c: char| c.is_ascii_digit())) {
            self.number();
        } else if first == '\'' || first == '"' {
            self.quoted(first);
        } else if first == '$' {
            self.at += 1;
            let word = self.take_word();
            if word.is_empty() {
                self.problem(start, "`$` without a name".into(), "write a parameter as `$year`");
            } else {
                self.push(start, TokenKind::Parameter(word));
            }
        } else if let Some(symbol) = SYMBOLS.iter().find(|s| rest.starts_with(**s)) {
            self.at += symbol.len();
            self.push(start, TokenKind::Symbol(symbol));
        } else {
            self.at += first.len_utf8();
            let help = match first {
                '!' => "not equal is written `<>`",
                '[' | ']' | '`' => "names with other characters than letters, digits and `_` stand in double quotes",
                '&' => "join texts with `||`, conditions with `and`",
                '“' | '”' | '‘' | '’' => "use straight quotes",
                _ => "this character has no meaning here; names that need it stand in double quotes",
            };
            self.problem(start, format!("unexpected character `{first}`"), help);
        }
    }

    fn take_word(&mut self) -> String {
        let rest = self.rest();
        let end = rest.find(|c| !is_word_part(c)).unwrap_or(rest.len());
        let word = rest[..end].to_string();
        self.at += end;
        word
    }

    fn quoted(&mut self, quote: char) {
        let start = self.at;
        let mut content = String::new();
        self.at += 1;
        loop {
            let Some(c) = self.rest().chars().next() else {
                self.problem(
                    start,
                    format!("this {} is not closed", if quote == '\'' { "text" } else { "quoted name" }),
                    &format!("close it with `{quote}`; a `{quote}` inside is written twice"),
                );
                break;
            };
            self.at += c.len_utf8();
            if c == quote {
                if !self.rest().starts_with(quote) {
                    break;
                }
                self.at += 1;
            }
            content.push(c);
        }
        self.push(start, if quote == '\'' { TokenKind::Text(content) } else { TokenKind::Quoted(content) });
    }

    fn number(&mut self) {
        let start = self.at;
        let rest = self.rest();
        let digits = |from: usize| from + rest[from..].bytes().take_while(u8::is_ascii_digit).count();
        let mut end = digits(0);
        // A point belongs to the number only when a digit follows.
        if rest[end..].starts_with('.') && rest[end + 1..].starts_with(|c: char| c.is_ascii_digit()) {
            end = digits(end + 1);
        }
        let exponent = rest[end..].starts_with(['e', 'E']).then(|| {
            let sign = usize::from(rest[end + 1..].starts_with(['+', '-']));
            digits(end + 1 + sign)
        });
        let float_end = exponent.filter(|e| rest.as_bytes()[e - 1].is_ascii_digit());
        let text = rest[..float_end.unwrap_or(end)].to_string();
        self.at += text.len();
        let glued = self.rest().starts_with(is_word_start);
        if glued {
            self.take_word();
            self.problem(
                start,
                format!("`{}` is neither a number nor a name", self.source.slice(Span::new(start, self.at))),
                "a name starts with a letter; quote it with `\"` if it does not",
            );
            return;
        }
        let kind = if float_end.is_some() {
            text.parse().ok().filter(|v: &f64| v.is_finite()).map(TokenKind::Float)
        } else {
            exact::parse(text.as_bytes()).map(|(v, scale)| TokenKind::Exact(v, scale))
        };
        match kind {
            Some(kind) => self.push(start, kind),
            None => self.problem(start, "this number has more than 38 digits".into(), "write it as a float: `1e40`"),
        }
    }
}
