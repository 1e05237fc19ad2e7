//! Tokens to a tree. One function per production; a sample stands beside each (grammar: `docs/language.md`).
//!
//! Reading goes on after an error where that helps: at the next comma or closing bracket inside brackets, at the next
//! clause in a query.

mod edits;
mod expressions;
mod queries;

use std::sync::Arc;

use super::ast::{Expr, ExprKind, Name, QueryTree, Target};
use super::lexer::{Token, TokenKind, tokens};
use super::source::{Diagnostic, Problem, Source, Span, closest, did_you_mean};
use super::words;

/// Brackets and operators can nest this deep; beyond it a text is refused instead of exhausting the stack.
const MAX_DEPTH: usize = 120;
/// Operators of one formula that each stand on the result of the one before, so that it takes as deep a tree.
const MAX_CHAINED: usize = 500;

/// A rule that could not be read has already been reported.
struct SyntaxReported;
type Parsed<T> = Result<T, SyntaxReported>;

/// Reads a formula, as `model.toml` has it.
pub fn formula(source: &Arc<Source>) -> (Expr, Vec<Diagnostic>) {
    let mut parser = Parser::new(source);
    let expr = parser.formula_body();
    let expr = expr.and_then(|e| parser.expect_end().map(|()| e));
    (expr.unwrap_or_else(|SyntaxReported| parser.broken()), parser.problems)
}

/// Reads conditions separated by commas.
pub fn conditions(source: &Arc<Source>) -> (Vec<Expr>, Vec<Diagnostic>) {
    let mut parser = Parser::new(source);
    let mut list = Vec::new();
    while !matches!(parser.peek(), TokenKind::End) {
        match parser.expr() {
            Ok(e) => list.push(e),
            Err(SyntaxReported) => break,
        }
        if !parser.eat_symbol(",") && parser.expect_end().is_err() {
            break;
        }
    }
    (list, parser.problems)
}

/// Reads a query; `None` when nothing of it can be used.
pub fn query(source: &Arc<Source>) -> (Option<QueryTree>, Vec<Diagnostic>) {
    let mut parser = Parser::new(source);
    let query = parser.query().ok();
    (query, parser.problems)
}

/// Reads what can stand on an axis; `None` when it is none.
pub fn target(source: &Arc<Source>) -> (Option<Target>, Vec<Diagnostic>) {
    let mut parser = Parser::new(source);
    let target = parser.target("a column").and_then(|target| parser.expect_end().map(|()| target)).ok();
    (target, parser.problems)
}

struct Parser<'a> {
    source: &'a Arc<Source>,
    tokens: Vec<Token>,
    at: usize,
    depth: usize,
    /// Operators of the formula so far that make it deeper.
    chained: usize,
    /// Whether a part of a condition can name the table whose rows it tests.
    names_rows: bool,
    problems: Vec<Diagnostic>,
}

impl<'a> Parser<'a> {
    fn new(source: &'a Arc<Source>) -> Parser<'a> {
        let (tokens, problems) = tokens(source);
        Parser { source, tokens, at: 0, depth: 0, chained: 0, names_rows: false, problems }
    }

    // ---- tokens

    fn peek(&self) -> &TokenKind {
        &self.tokens[self.at].kind
    }

    fn peek_after(&self, n: usize) -> &TokenKind {
        &self.tokens[(self.at + n).min(self.tokens.len() - 1)].kind
    }

    fn span(&self) -> Span {
        self.tokens[self.at].span
    }

    fn last_span(&self) -> Span {
        self.tokens[self.at.saturating_sub(1)].span
    }

    fn advance(&mut self) -> Token {
        let token = self.tokens[self.at].clone();
        if self.at + 1 < self.tokens.len() {
            self.at += 1;
        }
        token
    }

    fn at_word(&self, word: &str) -> bool {
        matches!(self.peek(), TokenKind::Word(w) if w == word)
    }

    fn at_symbol(&self, symbol: &str) -> bool {
        matches!(self.peek(), TokenKind::Symbol(s) if *s == symbol)
    }

    fn eat_word(&mut self, word: &str) -> bool {
        let found = self.at_word(word);
        if found {
            self.advance();
        }
        found
    }

    fn eat_symbol(&mut self, symbol: &str) -> bool {
        let found = self.at_symbol(symbol);
        if found {
            self.advance();
        }
        found
    }

    fn found(&self) -> String {
        match self.peek() {
            TokenKind::End => "the end".into(),
            _ => format!("`{}`", self.source.slice(self.span())),
        }
    }

    fn fail<T>(&mut self, message: impl Into<String>, help: impl Into<String>) -> Parsed<T> {
        let span = self.span();
        self.fail_at(span, message, help)
    }

    fn fail_at<T>(&mut self, span: Span, message: impl Into<String>, help: impl Into<String>) -> Parsed<T> {
        // After an unreadable token, what follows from it is not worth a second message.
        if self.problems.is_empty()
            || !self.problems.iter().any(|p| p.span.end >= span.start && p.span.start <= span.end)
        {
            self.problems.push(Diagnostic::error(Problem::Syntax, self.source, span, message).help(help));
        }
        Err(SyntaxReported)
    }

    fn expect_symbol(&mut self, symbol: &str, after: &str) -> Parsed<Span> {
        if self.at_symbol(symbol) {
            return Ok(self.advance().span);
        }
        let found = self.found();
        let edit = if symbol == ")" { self.edit_behind() } else { None };
        let help = edit.unwrap_or_else(|| format!("write `{symbol}` here"));
        self.fail(format!("expected `{symbol}` {after}, found {found}"), help)
    }

    fn expect_word(&mut self, word: &str, after: &str) -> Parsed<Span> {
        if self.at_word(word) {
            return Ok(self.advance().span);
        }
        let found = self.found();
        self.fail(format!("expected `{word}` {after}, found {found}"), format!("write `{word}` here"))
    }

    fn expect_end(&mut self) -> Parsed<()> {
        if *self.peek() == TokenKind::End {
            return Ok(());
        }
        let found = self.found();
        let plain = || match self.peek() {
            TokenKind::Symbol(")") => "this bracket was never opened".to_string(),
            TokenKind::Symbol(";") => "only `let` parts end with `;`".to_string(),
            TokenKind::Word(w) if w == "given" => {
                "put the first `given` into brackets: `(x given (…)) given (…)`".to_string()
            }
            TokenKind::Word(w) => match closest(w, ["and", "or", "given", "per", "where", "via", "in", "is", "like"]) {
                Some(near) => did_you_mean(near),
                None => "an operator or the end is expected here".to_string(),
            },
            _ => "an operator or the end is expected here".to_string(),
        };
        let help = self.edit_behind().unwrap_or_else(plain);
        self.fail(format!("unexpected {found}"), help)
    }

    /// How what stands here is written, where it says that a figure is asked under other filters.
    fn edit_behind(&self) -> Option<String> {
        match self.peek() {
            TokenKind::Word(word) => words::edit_behind(word),
            _ => None,
        }
    }

    fn broken(&self) -> Expr {
        Expr { kind: ExprKind::Broken, span: Span::new(0, self.source.text.len()) }
    }

    /// Skips to the next comma or closing bracket of the bracket that is open here.
    fn skip_item(&mut self) {
        let mut open = 0usize;
        loop {
            match self.peek() {
                TokenKind::End => return,
                TokenKind::Symbol("(") => open += 1,
                TokenKind::Symbol(")") if open == 0 => return,
                TokenKind::Symbol(")") => open -= 1,
                TokenKind::Symbol(",") if open == 0 => return,
                _ => {}
            }
            self.advance();
        }
    }

    // ---- names

    /// `route`, `"Net revenue"`
    fn name(&mut self, what: &str) -> Parsed<Name> {
        let span = self.span();
        match self.peek().clone() {
            TokenKind::Quoted(text) => {
                self.advance();
                Ok(Name { text, span })
            }
            TokenKind::Word(text) if !words::is_reserved(&text) => {
                self.advance();
                Ok(Name { text, span })
            }
            TokenKind::Word(text) => self.fail(
                format!("expected {what}, found the reserved word `{text}`"),
                format!("if it is a name, quote it: \"{text}\""),
            ),
            _ => {
                let found = self.found();
                self.fail(
                    format!("expected {what}, found {found}"),
                    "names are letters, digits and `_`, or stand in double quotes",
                )
            }
        }
    }

    /// Any word is a name after a dot.
    fn name_after_dot(&mut self) -> Parsed<Name> {
        let span = self.span();
        match self.peek().clone() {
            TokenKind::Quoted(text) | TokenKind::Word(text) => {
                self.advance();
                Ok(Name { text, span })
            }
            _ => {
                let found = self.found();
                self.fail(format!("expected a column after the dot, found {found}"), "write `table.column`")
            }
        }
    }

    /// `route`, `route.name`
    fn target(&mut self, what: &str) -> Parsed<Target> {
        let first = self.name(what)?;
        if self.eat_symbol(".") {
            return Ok(Target::Column(first, self.name_after_dot()?));
        }
        Ok(Target::Name(first))
    }

    /// `route.name, calendar.year`
    fn targets(&mut self, what: &str) -> Parsed<Vec<Target>> {
        let mut list = vec![self.target(what)?];
        while self.eat_symbol(",") {
            list.push(self.target(what)?);
        }
        Ok(list)
    }

    /// `booking.booked_on`
    fn column(&mut self, what: &str) -> Parsed<(Name, Name)> {
        let table = self.name(what)?;
        self.expect_symbol(".", "between table and column")?;
        Ok((table, self.name_after_dot()?))
    }
}
