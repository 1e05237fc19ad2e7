//! Tokens to a tree. One function per production; a sample stands beside each (grammar: `docs/language.md`).
//!
//! Reading goes on after an error where that helps: at the next comma or closing bracket inside brackets, at the next
//! clause in a query.

use std::sync::Arc;

use super::ast::*;
use super::lexer::{Token, TokenKind, tokens};
use super::source::{Diagnostic, Problem, Source, Span, closest};
use super::words;
use crate::value::date::Unit;
use crate::value::{Type, Value, date};

/// Brackets and operators can nest this deep; beyond it a text is refused instead of exhausting the stack.
const MAX_DEPTH: usize = 120;

/// A rule that could not be read has already been reported.
struct Reported;
type Parsed<T> = Result<T, Reported>;

/// Reads a formula, as `model.toml` has it.
pub fn formula(source: &Arc<Source>) -> (Expr, Vec<Diagnostic>) {
    let mut parser = Parser::new(source);
    let expr = parser.formula_body();
    let expr = expr.and_then(|e| parser.expect_end().map(|()| e));
    (expr.unwrap_or_else(|Reported| parser.broken()), parser.problems)
}

/// Reads a query; `None` when nothing of it can be used.
pub fn query(source: &Arc<Source>) -> (Option<Query>, Vec<Diagnostic>) {
    let mut parser = Parser::new(source);
    let query = parser.query().ok();
    (query, parser.problems)
}

struct Parser<'a> {
    source: &'a Arc<Source>,
    tokens: Vec<Token>,
    at: usize,
    depth: usize,
    problems: Vec<Diagnostic>,
}

impl<'a> Parser<'a> {
    fn new(source: &'a Arc<Source>) -> Parser<'a> {
        let (tokens, problems) = tokens(source);
        Parser { source, tokens, at: 0, depth: 0, problems }
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
        Err(Reported)
    }

    fn expect_symbol(&mut self, symbol: &str, after: &str) -> Parsed<Span> {
        if self.at_symbol(symbol) {
            return Ok(self.advance().span);
        }
        let found = self.found();
        self.fail(format!("expected `{symbol}` {after}, found {found}"), format!("write `{symbol}` here"))
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
        let help = match self.peek() {
            TokenKind::Symbol(")") => "this bracket was never opened".to_string(),
            TokenKind::Symbol(";") => "only `let` parts end with `;`".to_string(),
            TokenKind::Word(w) if w == "given" => {
                "put the first `given` into brackets: `(x given (…)) given (…)`".to_string()
            }
            TokenKind::Word(w) => match closest(w, ["and", "or", "given", "per", "where", "via", "in", "is", "like"]) {
                Some(near) => format!("did you mean `{near}`?"),
                None => "an operator or the end is expected here".to_string(),
            },
            _ => "an operator or the end is expected here".to_string(),
        };
        self.fail(format!("unexpected {found}"), help)
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

    // ---- expressions, loosest first

    /// `let x = 1; x + 1`, or an expression
    fn formula_body(&mut self) -> Parsed<Expr> {
        let start = self.span();
        let mut bindings = Vec::new();
        while self.eat_word("let") {
            let name = self.name("a name after `let`")?;
            self.expect_symbol("=", "after the name of a `let`")?;
            let value = self.expr()?;
            self.expect_symbol(";", "after a `let`")?;
            bindings.push((name, value));
        }
        let body = self.expr()?;
        if bindings.is_empty() {
            return Ok(body);
        }
        let span = start.to(body.span);
        Ok(Expr { kind: ExprKind::Let(bindings, Box::new(body)), span })
    }

    fn expr(&mut self) -> Parsed<Expr> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            self.depth -= 1;
            return self.fail(format!("this is nested more than {MAX_DEPTH} deep"), "name parts of it with `let`");
        }
        let result = self.or();
        self.depth -= 1;
        result
    }

    /// Left-associative operators of one level.
    fn chain(
        &mut self,
        next: fn(&mut Self) -> Parsed<Expr>,
        operator: fn(&TokenKind) -> Option<BinaryOp>,
    ) -> Parsed<Expr> {
        let mut left = next(self)?;
        let mut length = 0;
        while let Some(op) = operator(self.peek()) {
            length += 1;
            if length > 40 * MAX_DEPTH {
                return self.fail("this chain of operators is too long", "name parts of it with `let`");
            }
            self.advance();
            let right = next(self)?;
            let span = left.span.to(right.span);
            left = Expr { kind: ExprKind::Binary(op, Box::new(left), Box::new(right)), span };
        }
        Ok(left)
    }

    fn or(&mut self) -> Parsed<Expr> {
        self.chain(Self::and, |t| matches!(t, TokenKind::Word(w) if w == "or").then_some(BinaryOp::Or))
    }

    fn and(&mut self) -> Parsed<Expr> {
        self.chain(Self::not, |t| matches!(t, TokenKind::Word(w) if w == "and").then_some(BinaryOp::And))
    }

    /// `not x`
    fn not(&mut self) -> Parsed<Expr> {
        let start = self.span();
        let mut count = 0;
        while self.eat_word("not") {
            count += 1;
        }
        let inner = self.comparison()?;
        let span = start.to(inner.span);
        Ok(if count % 2 == 1 { Expr { kind: ExprKind::Not(Box::new(inner)), span } } else { inner })
    }

    /// `a < b`, `a is null`, `a in (…)`, `a between x and y`, `a like 'N%'`
    fn comparison(&mut self) -> Parsed<Expr> {
        let left = self.additive()?;
        let start = left.span;
        if let Some(op) = comparison_operator(self.peek()) {
            self.advance();
            let right = self.additive()?;
            if let Some(second) = comparison_operator(self.peek()) {
                return self.fail(
                    format!("a comparison cannot be compared again with `{}`", second.symbol()),
                    "join two comparisons with `and`, or use `between`",
                );
            }
            let span = start.to(right.span);
            return Ok(Expr { kind: ExprKind::Binary(op, Box::new(left), Box::new(right)), span });
        }
        if self.eat_word("is") {
            let negated = self.eat_word("not");
            let end = self.expect_word("null", "after `is`")?;
            return Ok(Expr { kind: ExprKind::IsNull(Box::new(left), negated), span: start.to(end) });
        }
        let negated = self.at_word("not")
            && matches!(self.peek_after(1), TokenKind::Word(w) if matches!(w.as_str(), "in" | "like" | "between"));
        if negated {
            self.advance();
        }
        let left = Box::new(left);
        let kind = if self.eat_word("in") {
            let list = if self.at_word("top") || self.at_word("bottom") {
                vec![self.primary()?]
            } else {
                self.expect_symbol("(", "after `in`")?;
                self.list_until_close(Self::expr)?
            };
            ExprKind::In(left, list, negated)
        } else if self.eat_word("like") {
            ExprKind::Like(left, Box::new(self.additive()?), negated)
        } else if self.eat_word("between") {
            let low = self.additive()?;
            self.expect_word("and", "in `between … and …`")?;
            ExprKind::Between(left, Box::new(low), Box::new(self.additive()?), negated)
        } else {
            return Ok(*left);
        };
        Ok(Expr { kind, span: start.to(self.last_span()) })
    }

    fn additive(&mut self) -> Parsed<Expr> {
        self.chain(Self::multiplicative, |t| match t {
            TokenKind::Symbol("+") => Some(BinaryOp::Add),
            TokenKind::Symbol("-") => Some(BinaryOp::Sub),
            TokenKind::Symbol("||") => Some(BinaryOp::Concat),
            _ => None,
        })
    }

    fn multiplicative(&mut self) -> Parsed<Expr> {
        self.chain(Self::unary, |t| match t {
            TokenKind::Symbol("*") => Some(BinaryOp::Mul),
            TokenKind::Symbol("/") => Some(BinaryOp::Div),
            TokenKind::Symbol("%") => Some(BinaryOp::Rem),
            _ => None,
        })
    }

    /// `-x`
    fn unary(&mut self) -> Parsed<Expr> {
        let start = self.span();
        let mut negative = false;
        while self.at_symbol("-") || self.at_symbol("+") {
            negative ^= self.at_symbol("-");
            self.advance();
        }
        let inner = self.postfix()?;
        let span = start.to(inner.span);
        Ok(if negative { Expr { kind: ExprKind::Negate(Box::new(inner)), span } } else { inner })
    }

    /// `x given (…) via t.c`
    fn postfix(&mut self) -> Parsed<Expr> {
        let mut expr = self.primary()?;
        if self.eat_word("given") {
            self.expect_symbol("(", "after `given`")?;
            let edits = self.list_until_close(Self::edit)?;
            let span = expr.span.to(self.last_span());
            expr = Expr { kind: ExprKind::Given(Box::new(expr), edits), span };
        }
        while self.at_word("via") || self.at_word("both_ways") {
            let via = self.at_word("via");
            self.advance();
            let (table, column) = self.column("the many-side column of a relationship")?;
            let span = expr.span.to(column.span);
            let inner = Box::new(expr);
            let kind = if via { ExprKind::Via(inner, table, column) } else { ExprKind::BothWays(inner, table, column) };
            expr = Expr { kind, span };
        }
        Ok(expr)
    }

    /// Items separated by commas up to `)`; a broken item is passed over, so that the rest is still checked.
    fn list_until_close<T>(&mut self, item: fn(&mut Self) -> Parsed<T>) -> Parsed<Vec<T>> {
        let (mut list, mut failed) = (Vec::new(), false);
        loop {
            if self.eat_symbol(")") {
                break;
            }
            match item(self) {
                Ok(i) => list.push(i),
                Err(Reported) => {
                    failed = true;
                    self.skip_item();
                }
            }
            if self.eat_symbol(",") {
                continue;
            }
            if let Err(Reported) = self.expect_symbol(")", "or `,`") {
                failed = true;
                self.skip_item();
                if *self.peek() == TokenKind::End {
                    break;
                }
                self.eat_symbol(",");
            } else {
                break;
            }
        }
        if failed { Err(Reported) } else { Ok(list) }
    }

    fn primary(&mut self) -> Parsed<Expr> {
        let start = self.span();
        let literal = |value: Value, span: Span| Ok(Expr { kind: ExprKind::Literal(value), span });
        match self.peek().clone() {
            TokenKind::Exact(v, 0) => {
                self.advance();
                let value = i64::try_from(v).map_or(Value::Decimal { unscaled: v, scale: 0 }, Value::Int);
                literal(value, start)
            }
            TokenKind::Exact(unscaled, scale) => {
                self.advance();
                literal(Value::Decimal { unscaled, scale }, start)
            }
            TokenKind::Float(v) => {
                self.advance();
                literal(Value::Float(v), start)
            }
            TokenKind::Text(t) => {
                self.advance();
                literal(Value::text(t), start)
            }
            TokenKind::Parameter(name) => {
                self.advance();
                Ok(Expr { kind: ExprKind::Parameter(name), span: start })
            }
            TokenKind::Symbol("(") => {
                self.advance();
                let inner = if self.at_word("let") { self.formula_body()? } else { self.expr()? };
                let end = self.expect_symbol(")", "to close this bracket")?;
                Ok(Expr { kind: inner.kind, span: start.to(end) })
            }
            TokenKind::Quoted(_) => self.name_or_column(),
            TokenKind::Word(word) => self.word(&word),
            _ => {
                let found = self.found();
                self.fail(
                    format!("expected a value, found {found}"),
                    "a column, a measure, a number, a text or a function can stand here",
                )
            }
        }
    }

    /// What begins with a word: a keyword's production, a call, or a name.
    fn word(&mut self, word: &str) -> Parsed<Expr> {
        let start = self.span();
        let followed_by_bracket = matches!(self.peek_after(1), TokenKind::Symbol("("));
        match word {
            "true" | "false" | "null" => {
                self.advance();
                let value = match word {
                    "true" => Value::Bool(true),
                    "false" => Value::Bool(false),
                    _ => Value::Null,
                };
                Ok(Expr { kind: ExprKind::Literal(value), span: start })
            }
            "date" | "timestamp" if matches!(self.peek_after(1), TokenKind::Text(_)) => self.dated(word),
            "case" => self.case(),
            "let" => {
                self.fail("`let` stands first in a formula or directly after `(`", "put `let … ; …` into brackets")
            }
            "if" if followed_by_bracket => self.if_call(),
            "cast" | "try_cast" if followed_by_bracket => self.cast(word == "try_cast"),
            "extract" if followed_by_bracket => self.extract(),
            _ if words::AGGREGATES.contains(&word) => {
                if followed_by_bracket {
                    self.aggregate()
                } else {
                    self.fail(
                        format!("`{word}` needs brackets"),
                        format!("write `{word}(…)`; if it is a name, quote it: \"{word}\""),
                    )
                }
            }
            _ if followed_by_bracket && !words::is_reserved(word) => self.call(),
            _ => self.name_or_column(),
        }
    }

    /// `route.name`, `net_revenue`
    fn name_or_column(&mut self) -> Parsed<Expr> {
        Ok(match self.target("a value")? {
            Target::Name(name) => Expr { span: name.span, kind: ExprKind::Name(name) },
            Target::Column(table, column) => {
                Expr { span: table.span.to(column.span), kind: ExprKind::Column(table, column) }
            }
        })
    }

    /// `date '2026-03-01'`
    fn dated(&mut self, word: &str) -> Parsed<Expr> {
        let start = self.advance().span;
        let token = self.advance();
        let TokenKind::Text(text) = &token.kind else {
            return Err(Reported);
        };
        let span = start.to(token.span);
        let value = if word == "date" {
            date::parse_date(text.as_bytes()).map(Value::Date)
        } else {
            crate::value::parse::timestamp(text.as_bytes()).map(Value::Timestamp)
        };
        match value {
            Some(value) => Ok(Expr { kind: ExprKind::Literal(value), span }),
            None => self.fail_at(
                token.span,
                format!("`{text}` is not a {word}"),
                if word == "date" { "write `date '2026-03-01'`" } else { "write `timestamp '2026-03-01 08:30:00'`" },
            ),
        }
    }

    /// `case x when 1 then 'a' else 'b' end`
    fn case(&mut self) -> Parsed<Expr> {
        let start = self.advance().span;
        let operand = if self.at_word("when") { None } else { Some(Box::new(self.expr()?)) };
        let mut arms = Vec::new();
        while self.eat_word("when") {
            let condition = self.expr()?;
            self.expect_word("then", "after the condition")?;
            arms.push((condition, self.expr()?));
        }
        if arms.is_empty() {
            let found = self.found();
            return self
                .fail(format!("expected `when` in a `case`, found {found}"), "write `case when … then … else … end`");
        }
        let otherwise = if self.eat_word("else") { Some(Box::new(self.expr()?)) } else { None };
        let end = self.expect_word("end", "to close this `case`")?;
        Ok(Expr { kind: ExprKind::Case(operand, arms, otherwise), span: start.to(end) })
    }

    /// `if(a > 1, b, c)`
    fn if_call(&mut self) -> Parsed<Expr> {
        let start = self.advance().span;
        self.advance();
        let args = self.list_until_close(Self::expr)?;
        let span = start.to(self.last_span());
        let count = args.len();
        let mut args = args.into_iter();
        match (args.next(), args.next(), args.next(), args.next()) {
            (Some(condition), Some(then), otherwise, None) => {
                Ok(Expr { kind: ExprKind::Case(None, vec![(condition, then)], otherwise.map(Box::new)), span })
            }
            _ => self.fail_at(
                span,
                format!("`if` takes a condition and two results, not {count} arguments"),
                "write `if(condition, when_true, when_false)`",
            ),
        }
    }

    /// `cast(x as decimal(12,2))`
    fn cast(&mut self, lenient: bool) -> Parsed<Expr> {
        let start = self.advance().span;
        self.advance();
        let inner = self.expr()?;
        self.expect_word("as", "before the type of a cast")?;
        let ty = self.type_name()?;
        let end = self.expect_symbol(")", "to close the cast")?;
        Ok(Expr { kind: ExprKind::Cast(Box::new(inner), ty, lenient), span: start.to(end) })
    }

    /// `int`, `decimal(12,2)`
    fn type_name(&mut self) -> Parsed<Type> {
        let start = self.span();
        let word = match self.advance().kind {
            TokenKind::Word(w) => w,
            _ => String::new(),
        };
        let mut end = start;
        if word == "decimal" && self.at_symbol("(") {
            while !self.at_symbol(")") && *self.peek() != TokenKind::End {
                self.advance();
            }
            end = self.expect_symbol(")", "after the digits of a decimal")?;
        }
        let span = start.to(end);
        match Type::parse(self.source.slice(span)) {
            Some(ty) => Ok(ty),
            None => self.fail_at(
                span,
                format!("`{}` is not a type", self.source.slice(span)),
                "the types are int, decimal(p,s), float, text, bool, date, timestamp",
            ),
        }
    }

    /// `extract(year from d)`, which is `year(d)`
    fn extract(&mut self) -> Parsed<Expr> {
        let start = self.advance().span;
        self.advance();
        let unit = self.name("a unit such as `year`")?;
        self.expect_word("from", "after the unit")?;
        let inner = self.expr()?;
        let end = self.expect_symbol(")", "to close `extract`")?;
        Ok(Expr { kind: ExprKind::Call(unit, vec![inner]), span: start.to(end) })
    }

    /// `round(x, 2)`
    fn call(&mut self) -> Parsed<Expr> {
        let name = self.name("a function")?;
        self.advance();
        let args = self.list_until_close(Self::expr)?;
        let span = name.span.to(self.last_span());
        Ok(Expr { kind: ExprKind::Call(name, args), span })
    }

    /// `sum(x per customer where …)`, `last(x order by y)`, `top(5, x per route.name)`
    fn aggregate(&mut self) -> Parsed<Expr> {
        let token = self.advance();
        let name = Name { text: self.source.slice(token.span).to_string(), span: token.span };
        self.advance();
        let result = self.aggregate_body(name);
        if result.is_err() {
            self.skip_item();
            while self.eat_symbol(",") {
                self.skip_item();
            }
            self.eat_symbol(")");
        }
        result
    }

    fn aggregate_body(&mut self, name: Name) -> Parsed<Expr> {
        let distinct = self.eat_word("distinct");
        let mut args = Vec::new();
        if !self.at_symbol(")") {
            args.push(self.expr()?);
            while self.eat_symbol(",") {
                args.push(self.expr()?);
            }
        }
        let mut per = if self.at_word("per") { Some(self.per()?) } else { None };
        let mut order = Vec::new();
        if self.eat_word("order") {
            self.expect_word("by", "after `order`")?;
            order = self.order_list()?;
        } else if self.at_word("asc") || self.at_word("desc") {
            // `rank(x per c asc)`: the direction of the rank itself.
            let descending = self.at_word("desc");
            let span = self.advance().span;
            order.push((Expr { kind: ExprKind::Literal(Value::Null), span }, descending));
        }
        if per.is_none() && self.at_word("per") {
            per = Some(self.per()?);
        }
        let end = self.expect_symbol(")", &format!("to close `{}`", name.text))?;
        let span = name.span.to(end);
        Ok(Expr { kind: ExprKind::Aggregate(Box::new(Aggregate { name, distinct, args, order, per })), span })
    }

    /// `per (route.name, calendar.year) of booking where net > 10`
    fn per(&mut self) -> Parsed<Per> {
        let start = self.advance().span;
        let targets = if self.eat_symbol("(") {
            self.list_until_close(|p| p.target("a table or column to go through"))?
        } else {
            vec![self.target("a table or column to go through")?]
        };
        let of = if self.eat_word("of") { Some(self.name("a table after `of`")?) } else { None };
        let filter = if self.eat_word("where") { Some(Box::new(self.expr()?)) } else { None };
        Ok(Per { targets, of, filter, span: start.to(self.last_span()) })
    }

    // ---- edits

    /// `route.region = 'North'`, `instead …`, `lift route`, `so_far(year)`
    fn edit(&mut self) -> Parsed<Edit> {
        let start = self.span();
        let kind = match self.peek().clone() {
            TokenKind::Word(w) if w == "lift" => {
                self.advance();
                self.lift()?
            }
            TokenKind::Word(w) if w == "leave" => {
                self.advance();
                EditKind::Leave(self.lifted_targets()?)
            }
            TokenKind::Word(w) if PERIODS.contains(&w.as_str()) => self.period(&w)?,
            _ => {
                let instead = self.eat_word("instead");
                let table = match (self.peek(), self.peek_after(1)) {
                    (TokenKind::Word(_) | TokenKind::Quoted(_), TokenKind::Word(w)) if w == "where" => {
                        let name = self.name("a table")?;
                        self.advance();
                        Some(name)
                    }
                    _ => None,
                };
                EditKind::Narrow { instead, table, predicate: self.expr()? }
            }
        };
        Ok(Edit { kind, span: start.to(self.last_span()) })
    }

    fn lift(&mut self) -> Parsed<EditKind> {
        Ok(if self.eat_word("all") {
            EditKind::LiftAll
        } else if self.eat_word("axes") {
            EditKind::LiftAxes
        } else if self.eat_word("row") {
            EditKind::LiftRow
        } else {
            EditKind::Lift(self.lifted_targets()?)
        })
    }

    fn lifted_targets(&mut self) -> Parsed<Vec<Target>> {
        if self.eat_symbol("(") {
            return self.list_until_close(|p| p.target("a table or column"));
        }
        Ok(vec![self.target("a table or column, `all`, `axes` or `row`")?])
    }

    /// `so_far(year)`, `trailing(12 months)`, `shift(-1 year)`, `at_end(booking)`, each with `on calendar`
    fn period(&mut self, word: &str) -> Parsed<EditKind> {
        self.advance();
        let period = match word {
            "at_start" => Period::AtStart,
            "at_end" => {
                let mut table = None;
                if self.eat_symbol("(") {
                    table = Some(self.name("a table")?);
                    self.expect_symbol(")", "after the table")?;
                }
                Period::AtEnd(table)
            }
            _ => {
                self.expect_symbol("(", &format!("after `{word}`"))?;
                let spanned = matches!(word, "trailing" | "shift");
                let amount = if spanned { self.span_amount(word)? } else { 0 };
                let unit = self.unit()?;
                self.expect_symbol(")", "after the unit")?;
                match word {
                    "so_far" => Period::SoFar(unit),
                    "trailing" => Period::Trailing(amount, unit),
                    "shift" => Period::Shift(amount, unit),
                    "whole" => Period::Whole(unit),
                    "preceding" => Period::Preceding(unit),
                    _ => Period::Following(unit),
                }
            }
        };
        let calendar = if self.eat_word("on") { Some(self.name("a calendar")?) } else { None };
        Ok(EditKind::Period(period, calendar))
    }

    fn span_amount(&mut self, word: &str) -> Parsed<i64> {
        let negative = self.eat_symbol("-");
        let span = self.span();
        match self.peek().clone() {
            TokenKind::Exact(v, 0) if v.unsigned_abs() <= 100_000 => {
                self.advance();
                let amount = if negative { -(v as i64) } else { v as i64 };
                if word == "trailing" && amount <= 0 {
                    return self.fail_at(span, "a trailing span is at least 1", "write `trailing(12 months)`");
                }
                Ok(amount)
            }
            _ => {
                let found = self.found();
                self.fail(
                    format!("expected a whole number of units, found {found}"),
                    format!("write `{word}(12 months)`"),
                )
            }
        }
    }

    fn unit(&mut self) -> Parsed<Unit> {
        let span = self.span();
        if let TokenKind::Word(w) = self.peek().clone()
            && let Some(unit) = Unit::parse(&w)
        {
            self.advance();
            return Ok(unit);
        }
        let found = self.found();
        self.fail_at(
            span,
            format!("expected a unit of time, found {found}"),
            "the units are day, week, month, quarter, year",
        )
    }

    // ---- queries

    fn order_list(&mut self) -> Parsed<Vec<(Expr, bool)>> {
        let mut list = Vec::new();
        loop {
            let expr = self.expr()?;
            let descending = self.eat_word("desc");
            if !descending {
                self.eat_word("asc");
            }
            list.push((expr, descending));
            if !self.eat_symbol(",") {
                return Ok(list);
            }
        }
    }

    /// `measure x = …; grid … by … where …`
    fn query(&mut self) -> Parsed<Query> {
        let mut query = Query {
            measures: Vec::new(),
            items: Vec::new(),
            records: false,
            by: Vec::new(),
            split: Vec::new(),
            filter: None,
            having: None,
            order: Vec::new(),
            limit: None,
            totals: false,
            with_empty: false,
        };
        while self.eat_word("measure") {
            let name = self.name("a name after `measure`")?;
            self.expect_symbol("=", "after the name of a measure")?;
            let body = self.formula_body()?;
            self.expect_symbol(";", "after a measure")?;
            query.measures.push((name, body));
        }
        query.records = self.at_word("records");
        if !self.eat_word("grid") && !self.eat_word("records") {
            let found = self.found();
            let help = match self.peek() {
                TokenKind::Word(w) if !words::is_reserved(w) => match closest(w, ["grid", "records", "measure"]) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => "write `grid net_revenue by route.name`".into(),
                },
                _ => "write `grid net_revenue by route.name`".into(),
            };
            return self.fail(format!("a query begins with `grid` or `records`, found {found}"), help);
        }
        self.items(&mut query.items)?;
        self.clauses(&mut query)?;
        Ok(query)
    }

    fn items(&mut self, items: &mut Vec<Item>) -> Parsed<()> {
        loop {
            let expr = self.expr()?;
            let heading = if self.eat_word("as") { Some(self.name("a heading after `as`")?) } else { None };
            let format = if self.eat_word("format") {
                let found = self.found();
                let TokenKind::Text(pattern) = self.advance().kind else {
                    return self.fail_at(
                        self.last_span(),
                        format!("expected a pattern after `format`, found {found}"),
                        "write it in single quotes: `format '0.0%'`",
                    );
                };
                Some(pattern)
            } else {
                None
            };
            let span = expr.span.to(self.last_span());
            items.push(Item { expr, heading, format, span });
            if !self.eat_symbol(",") {
                return Ok(());
            }
        }
    }

    /// The clauses after the items. Each may fail on its own; they come in one order, and each once.
    fn clauses(&mut self, query: &mut Query) -> Parsed<()> {
        let (mut reached, mut failed) = (0, false);
        while *self.peek() != TokenKind::End {
            let TokenKind::Word(word) = self.peek().clone() else {
                return self.expect_end();
            };
            let Some(place) = CLAUSES.iter().position(|c| *c == word) else {
                let found = self.found();
                let help = match closest(&word, CLAUSES) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("after the items a query has, in this order: {}", CLAUSES.join(", ")),
                };
                return self.fail(format!("unexpected {found}"), help);
            };
            if place < reached {
                return self.fail(
                    format!("`{word}` stands too late"),
                    format!("the order of the clauses is {}", CLAUSES.join(", ")),
                );
            }
            reached = place + 1;
            self.advance();
            if self.clause(&word, query).is_err() {
                failed = true;
                while !matches!(self.peek(), TokenKind::End)
                    && !matches!(self.peek(), TokenKind::Word(w) if CLAUSES.contains(&w.as_str()))
                {
                    self.advance();
                }
            }
        }
        if failed { Err(Reported) } else { Ok(()) }
    }

    fn clause(&mut self, word: &str, query: &mut Query) -> Parsed<()> {
        match word {
            "by" => query.by = self.targets("a column for the rows")?,
            "split" => {
                self.expect_word("by", "after `split`")?;
                query.split = self.targets("a column for the columns")?;
            }
            "where" => query.filter = Some(self.expr()?),
            "having" => query.having = Some(self.expr()?),
            "order" => {
                self.expect_word("by", "after `order`")?;
                query.order = self.order_list()?;
            }
            "limit" => query.limit = Some(self.limit()?),
            "totals" => query.totals = true,
            _ => {
                self.expect_word("empty", "after `with`")?;
                query.with_empty = true;
            }
        }
        Ok(())
    }

    fn limit(&mut self) -> Parsed<Limit> {
        let TokenKind::Exact(count, 0) = *self.peek() else {
            let found = self.found();
            return self.fail(format!("expected a number of lines, found {found}"), "write `limit 10`");
        };
        self.advance();
        let within = if self.eat_word("within") { self.targets("a row column after `within`")? } else { Vec::new() };
        let others = self.at_word("others").then(|| self.advance().span);
        Ok(Limit { count: usize::try_from(count).unwrap_or(usize::MAX), within, others })
    }
}

const PERIODS: [&str; 8] = ["so_far", "trailing", "shift", "whole", "preceding", "following", "at_start", "at_end"];
const CLAUSES: [&str; 8] = ["by", "split", "where", "having", "order", "limit", "totals", "with"];

fn comparison_operator(token: &TokenKind) -> Option<BinaryOp> {
    let TokenKind::Symbol(symbol) = token else {
        return None;
    };
    Some(match *symbol {
        "=" => BinaryOp::Eq,
        "<>" => BinaryOp::Ne,
        "<" => BinaryOp::Lt,
        "<=" => BinaryOp::Le,
        ">" => BinaryOp::Gt,
        ">=" => BinaryOp::Ge,
        _ => return None,
    })
}
