//! What stands in `given (…)`.

use super::{Parsed, Parser};
use crate::ast::{Edit, EditKind, Period, Target};
use crate::lexer::TokenKind;
use crate::source::{closest, did_you_mean};
use crate::words;
use cubrel_value::date::Unit;

const PERIODS: [&str; 6] = ["so_far", "trailing", "shift", "whole", "at_start", "at_end"];

/// The longest way that a period edit goes, in units.
const MOST_UNITS: u128 = 100_000;

impl Parser<'_> {
    /// `route.region = 'North'`, `instead …`, `without route`, `so_far(year)`
    pub(super) fn edit(&mut self) -> Parsed<Edit> {
        let start = self.span();
        let kind = match self.peek().clone() {
            TokenKind::Word(w) if w == "without" => {
                self.advance();
                self.without()?
            }
            TokenKind::Word(w) if PERIODS.contains(&w.as_str()) => self.period(&w)?,
            TokenKind::Word(w) if self.is_no_edit(&w) => {
                let span = self.span();
                let known = ["without", "instead"].into_iter().chain(PERIODS);
                let help = words::former_edit(&w)
                    .map(|now| format!("write `{now}`"))
                    .or_else(|| closest(&w, known).map(did_you_mean))
                    .unwrap_or_else(|| {
                        "an edit is a condition, or begins with `instead`, `without`, or a period edit such as \
                         `so_far(year)`"
                            .into()
                    });
                return self.fail_at(span, format!("`{w}` is not an edit"), help);
            }
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

    /// A word, and a name right after it: no condition begins like that. Nor does one with a word that edits once had.
    fn is_no_edit(&self, word: &str) -> bool {
        let next = self.peek_after(1);
        if words::former_edit(word).is_some() {
            return matches!(next, TokenKind::Word(_) | TokenKind::Quoted(_) | TokenKind::Symbol("("));
        }
        let is_name = match next {
            TokenKind::Word(w) => !words::is_reserved(w),
            TokenKind::Quoted(_) => true,
            _ => false,
        };
        !words::is_reserved(word) && is_name
    }

    fn without(&mut self) -> Parsed<EditKind> {
        Ok(if self.eat_word("all") {
            if self.eat_word("but") {
                return Ok(EditKind::WithoutAllBut(self.without_targets("a table or column")?));
            }
            EditKind::WithoutAll
        } else if self.eat_word("axes") {
            EditKind::WithoutAxes
        } else if self.eat_word("row") {
            EditKind::WithoutRow
        } else {
            EditKind::Without(self.without_targets("a table or column, `all`, `axes` or `row`")?)
        })
    }

    fn without_targets(&mut self, what: &str) -> Parsed<Vec<Target>> {
        if self.eat_symbol("(") {
            return self.list_until_close(|p| p.target("a table or column"));
        }
        Ok(vec![self.target(what)?])
    }

    /// `so_far(year)`, `trailing(12 months)`, `shift(-1 year)`, `at_end(booking)`, each with `on calendar`
    pub(super) fn period(&mut self, word: &str) -> Parsed<EditKind> {
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
                let moved =
                    if word == "whole" && self.eat_symbol(",") { self.whole_number("whole(month, -1)")? } else { 0 };
                self.expect_symbol(")", "after the unit")?;
                match word {
                    "so_far" => Period::SoFar(unit),
                    "trailing" => Period::Trailing(amount, unit),
                    "shift" => Period::Shift(amount, unit),
                    _ => Period::Whole(unit, moved),
                }
            }
        };
        let calendar = if self.eat_word("on") { Some(self.name("a calendar")?) } else { None };
        Ok(EditKind::Period(period, calendar))
    }

    pub(super) fn span_amount(&mut self, word: &str) -> Parsed<i64> {
        let span = self.span();
        let amount = self.whole_number(&format!("{word}(12 months)"))?;
        if word == "trailing" && amount <= 0 {
            return self.fail_at(span, "a trailing span is at least 1", "write `trailing(12 months)`");
        }
        Ok(amount)
    }

    /// A number of units, which may be negative.
    fn whole_number(&mut self, example: &str) -> Parsed<i64> {
        let negative = self.eat_symbol("-");
        match self.peek().clone() {
            TokenKind::Exact(v, 0) if v.unsigned_abs() <= MOST_UNITS => {
                self.advance();
                Ok(if negative { -(v as i64) } else { v as i64 })
            }
            TokenKind::Exact(_, 0) => {
                self.fail(format!("more than {MOST_UNITS} units"), "calendars are shorter than that")
            }
            _ => {
                let found = self.found();
                self.fail(format!("expected a whole number of units, found {found}"), format!("write `{example}`"))
            }
        }
    }

    pub(super) fn unit(&mut self) -> Parsed<Unit> {
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
}
