//! Expressions, loosest first.

use super::{MAX_CHAINED, MAX_DEPTH, Parsed, Parser, SyntaxReported};
use crate::ast::{Aggregate, BinaryOp, Expr, ExprKind, Name, Per, Target};
use crate::lexer::TokenKind;
use crate::source::Span;
use crate::words;
use cubrel_value::{Type, Value, date};

impl Parser<'_> {
    /// `let x = 1; x + 1`, or an expression
    pub(super) fn formula_body(&mut self) -> Parsed<Expr> {
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

    pub(super) fn expr(&mut self) -> Parsed<Expr> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            self.depth -= 1;
            return self.fail(format!("this is nested more than {MAX_DEPTH} deep"), "name parts of it with `let`");
        }
        if self.depth == 1 {
            self.chained = 0;
        }
        let result = self.or();
        self.depth -= 1;
        result
    }

    /// Left-associative operators of one level.
    pub(super) fn chain(
        &mut self,
        next: fn(&mut Self) -> Parsed<Expr>,
        operator: fn(&TokenKind) -> Option<BinaryOp>,
    ) -> Parsed<Expr> {
        let mut left = next(self)?;
        // Operands that may be joined in any grouping, as long as their order stays.
        let mut joined: Option<(BinaryOp, Vec<Expr>)> = None;
        while let Some(op) = operator(self.peek()) {
            self.advance();
            let right = next(self)?;
            joined = match joined {
                Some((known, mut list)) if known == op => {
                    list.push(right);
                    Some((known, list))
                }
                other => {
                    left = self.grouped(left, other)?;
                    Some((op, vec![right]))
                }
            };
        }
        self.grouped(left, joined)
    }

    /// An expression joined with further operands of one operator. Long chains of `and`, `or` and `||` become trees that are
    /// as flat as can be; what is added or multiplied keeps its grouping, because the type of each step depends on it.
    fn grouped(&mut self, left: Expr, more: Option<(BinaryOp, Vec<Expr>)>) -> Parsed<Expr> {
        let Some((op, list)) = more else { return Ok(left) };
        let associative = matches!(op, BinaryOp::And | BinaryOp::Or | BinaryOp::Concat);
        if associative && list.len() >= LONG_CHAIN {
            return Ok(balanced(op, std::iter::once(left).chain(list).collect()));
        }
        self.chained += list.len();
        if self.chained > MAX_CHAINED {
            let help = "give parts of it names: measures, or calculated columns";
            return self.fail(format!("this formula has more than {MAX_CHAINED} operators"), help);
        }
        Ok(list.into_iter().fold(left, |left, right| binary(op, left, right)))
    }

    pub(super) fn or(&mut self) -> Parsed<Expr> {
        self.chain(Self::and, |t| matches!(t, TokenKind::Word(w) if w == "or").then_some(BinaryOp::Or))
    }

    pub(super) fn and(&mut self) -> Parsed<Expr> {
        self.chain(Self::not, |t| matches!(t, TokenKind::Word(w) if w == "and").then_some(BinaryOp::And))
    }

    /// `not x`
    pub(super) fn not(&mut self) -> Parsed<Expr> {
        let start = self.span();
        if self.names_rows
            && let (TokenKind::Word(_) | TokenKind::Quoted(_), TokenKind::Word(w)) = (self.peek(), self.peek_after(1))
            && w == "where"
        {
            return self.rows_where(start);
        }
        let mut count = 0;
        while self.eat_word("not") {
            count += 1;
        }
        let inner = self.comparison()?;
        let span = start.to(inner.span);
        Ok(if count % 2 == 1 { Expr { kind: ExprKind::Not(Box::new(inner)), span } } else { inner })
    }

    /// `booking where (a or b)`: what comes after `where` reaches up to the next `and`.
    fn rows_where(&mut self, start: Span) -> Parsed<Expr> {
        let table = self.name("a table")?;
        self.advance();
        self.names_rows = false;
        let tested = self.not();
        self.names_rows = true;
        let tested = tested?;
        let span = start.to(tested.span);
        Ok(Expr { kind: ExprKind::RowsWhere(table, Box::new(tested)), span })
    }

    /// `a < b`, `a is null`, `a in (…)`, `a between x and y`, `a like 'N%'`
    pub(super) fn comparison(&mut self) -> Parsed<Expr> {
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

    pub(super) fn additive(&mut self) -> Parsed<Expr> {
        self.chain(Self::multiplicative, |t| match t {
            TokenKind::Symbol("+") => Some(BinaryOp::Add),
            TokenKind::Symbol("-") => Some(BinaryOp::Sub),
            TokenKind::Symbol("||") => Some(BinaryOp::Concat),
            _ => None,
        })
    }

    pub(super) fn multiplicative(&mut self) -> Parsed<Expr> {
        self.chain(Self::unary, |t| match t {
            TokenKind::Symbol("*") => Some(BinaryOp::Mul),
            TokenKind::Symbol("/") => Some(BinaryOp::Div),
            TokenKind::Symbol("%") => Some(BinaryOp::Rem),
            _ => None,
        })
    }

    /// `-x`
    pub(super) fn unary(&mut self) -> Parsed<Expr> {
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
    pub(super) fn postfix(&mut self) -> Parsed<Expr> {
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
            let columns = self.many_side()?;
            let span = expr.span.to(self.last_span());
            let inner = Box::new(expr);
            let kind = if via { ExprKind::Via(inner, columns) } else { ExprKind::BothWays(inner, columns) };
            expr = Expr { kind, span };
        }
        Ok(expr)
    }

    /// `t.c`, `(t.a, t.b)`
    fn many_side(&mut self) -> Parsed<Vec<(Name, Name)>> {
        const WHAT: &str = "the many-side column of a relationship";
        if self.eat_symbol("(") {
            return self.list_until_close(|p| p.column(WHAT));
        }
        Ok(vec![self.column(WHAT)?])
    }

    /// Items separated by commas up to `)`; a broken item is passed over, so that the rest is still checked.
    pub(super) fn list_until_close<T>(&mut self, item: fn(&mut Self) -> Parsed<T>) -> Parsed<Vec<T>> {
        let (mut list, mut failed) = (Vec::new(), false);
        loop {
            if self.eat_symbol(")") {
                break;
            }
            match item(self) {
                Ok(i) => list.push(i),
                Err(SyntaxReported) => {
                    failed = true;
                    self.skip_item();
                }
            }
            if self.eat_symbol(",") {
                continue;
            }
            if let Err(SyntaxReported) = self.expect_symbol(")", "or `,`") {
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
        if failed { Err(SyntaxReported) } else { Ok(list) }
    }

    pub(super) fn primary(&mut self) -> Parsed<Expr> {
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
    pub(super) fn word(&mut self, word: &str) -> Parsed<Expr> {
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
            _ if words::aggregates().any(|name| name == word) => {
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
    pub(super) fn name_or_column(&mut self) -> Parsed<Expr> {
        Ok(match self.target("a value")? {
            Target::Name(name) => Expr { span: name.span, kind: ExprKind::Name(name) },
            Target::Column(table, column) => {
                Expr { span: table.span.to(column.span), kind: ExprKind::Column(table, column) }
            }
        })
    }

    /// `date '2026-03-01'`
    pub(super) fn dated(&mut self, word: &str) -> Parsed<Expr> {
        let start = self.advance().span;
        let token = self.advance();
        let TokenKind::Text(text) = &token.kind else {
            return Err(SyntaxReported);
        };
        let span = start.to(token.span);
        let value = if word == "date" {
            date::parse_date(text.as_bytes()).map(Value::Date)
        } else {
            cubrel_value::parse::timestamp(text.as_bytes()).map(Value::Timestamp)
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
    pub(super) fn case(&mut self) -> Parsed<Expr> {
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
    pub(super) fn if_call(&mut self) -> Parsed<Expr> {
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
    pub(super) fn cast(&mut self, lenient: bool) -> Parsed<Expr> {
        let start = self.advance().span;
        self.advance();
        let inner = self.expr()?;
        self.expect_word("as", "before the type of a cast")?;
        let ty = self.type_name()?;
        let end = self.expect_symbol(")", "to close the cast")?;
        Ok(Expr { kind: ExprKind::Cast(Box::new(inner), ty, lenient), span: start.to(end) })
    }

    /// `int`, `decimal(12,2)`
    pub(super) fn type_name(&mut self) -> Parsed<Type> {
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
    pub(super) fn extract(&mut self) -> Parsed<Expr> {
        let start = self.advance().span;
        self.advance();
        let unit = self.name("a unit such as `year`")?;
        self.expect_word("from", "after the unit")?;
        let inner = self.expr()?;
        let end = self.expect_symbol(")", "to close `extract`")?;
        Ok(Expr { kind: ExprKind::Call(unit, vec![inner]), span: start.to(end) })
    }

    /// `round(x, 2)`
    pub(super) fn call(&mut self) -> Parsed<Expr> {
        let name = self.name("a function")?;
        self.advance();
        let args = self.list_until_close(Self::expr)?;
        let span = name.span.to(self.last_span());
        Ok(Expr { kind: ExprKind::Call(name, args), span })
    }

    /// `sum(x per customer where …)`, `last(x order by y)`, `top(5, x per route.name)`
    pub(super) fn aggregate(&mut self) -> Parsed<Expr> {
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

    pub(super) fn aggregate_body(&mut self, name: Name) -> Parsed<Expr> {
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
    pub(super) fn per(&mut self) -> Parsed<Per> {
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
}

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

/// So many operands are grouped anew.
const LONG_CHAIN: usize = 32;

fn binary(op: BinaryOp, left: Expr, right: Expr) -> Expr {
    let span = left.span.to(right.span);
    Expr { kind: ExprKind::Binary(op, Box::new(left), Box::new(right)), span }
}

/// Operands joined pair by pair, and the pairs again, so that the tree is as deep as the logarithm of their number.
fn balanced(op: BinaryOp, mut list: Vec<Expr>) -> Expr {
    while list.len() > 1 {
        let mut pairs = Vec::with_capacity(list.len().div_ceil(2));
        let mut operands = list.into_iter();
        while let Some(left) = operands.next() {
            pairs.push(match operands.next() {
                Some(right) => binary(op, left, right),
                None => left,
            });
        }
        list = pairs;
    }
    list.pop().unwrap_or_else(|| unreachable!("a chain has operands"))
}
