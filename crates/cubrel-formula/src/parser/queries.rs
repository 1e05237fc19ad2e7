//! Queries: measures, items, clauses in their order.

use super::{Parsed, Parser, SyntaxReported};
use crate::ast::{Expr, Item, Limit, QueryTree};
use crate::lexer::TokenKind;
use crate::source::{closest, did_you_mean};
use crate::words;

const CLAUSES: [&str; 8] = ["by", "split", "where", "having", "order", "limit", "totals", "with"];

impl Parser<'_> {
    pub(super) fn order_list(&mut self) -> Parsed<Vec<(Expr, bool)>> {
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
    pub(super) fn query(&mut self) -> Parsed<QueryTree> {
        let mut query = QueryTree {
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
                    Some(near) => did_you_mean(near),
                    None => "write what it shows, and by what: `grid measure by table.column`".into(),
                },
                _ => "write what it shows, and by what: `grid measure by table.column`".into(),
            };
            return self.fail(format!("a query begins with `grid` or `records`, found {found}"), help);
        }
        self.items(&mut query.items)?;
        self.clauses(&mut query)?;
        Ok(query)
    }

    pub(super) fn items(&mut self, items: &mut Vec<Item>) -> Parsed<()> {
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
    pub(super) fn clauses(&mut self, query: &mut QueryTree) -> Parsed<()> {
        let (mut reached, mut failed) = (0, false);
        while *self.peek() != TokenKind::End {
            let TokenKind::Word(word) = self.peek().clone() else {
                let goes_on = matches!(self.peek(), TokenKind::Symbol(symbol) if !matches!(*symbol, ")" | ";"));
                return if matches!(reached, 1 | 2) && goes_on { self.computed_axis() } else { self.expect_end() };
            };
            let Some(place) = CLAUSES.iter().position(|c| *c == word) else {
                let found = self.found();
                let plain = || match closest(&word, CLAUSES) {
                    _ if word == "per" => "`per` stands inside an aggregate: `avg(measure per table)`".into(),
                    Some(near) => did_you_mean(near),
                    None => format!("after the items a query has, in this order: {}", CLAUSES.join(", ")),
                };
                let help = self.edit_behind().unwrap_or_else(plain);
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
        if failed { Err(SyntaxReported) } else { Ok(()) }
    }

    /// Tells that what stands on an axis is no formula.
    fn computed_axis(&mut self) -> Parsed<()> {
        let found = self.found();
        self.fail(
            format!("unexpected {found}: lines and columns of a grid are columns of tables, not formulas"),
            "what is computed for each row is a calculated column: `[table.TABLE.column.NAME]` in the model, with a `formula`",
        )
    }

    pub(super) fn clause(&mut self, word: &str, query: &mut QueryTree) -> Parsed<()> {
        match word {
            "by" => query.by = self.targets("a column for the rows")?,
            "split" => {
                self.expect_word("by", "after `split`")?;
                query.split = self.targets("a column for the columns")?;
            }
            "where" => {
                self.names_rows = true;
                let condition = self.expr();
                self.names_rows = false;
                query.filter = Some(condition?);
            }
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

    pub(super) fn limit(&mut self) -> Parsed<Limit> {
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
