//! What stands in `given (…)`.

use super::{Parsed, Parser};
use crate::formula::ast::{Edit, EditKind, Period, Target};
use crate::formula::lexer::TokenKind;
use crate::formula::source::closest;
use crate::formula::words;
use crate::value::date::Unit;

const PERIODS: [&str; 8] = ["so_far", "trailing", "shift", "whole", "preceding", "following", "at_start", "at_end"];

impl Parser<'_> {
    /// `route.region = 'North'`, `instead …`, `lift route`, `so_far(year)`
    pub(super) fn edit(&mut self) -> Parsed<Edit> {
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
            TokenKind::Word(w) if self.is_no_edit() => {
                let span = self.span();
                let known = ["lift", "leave", "instead"].into_iter().chain(PERIODS);
                let help = match closest(&w, known) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => {
                        "an edit is a condition, or begins with `instead`, `lift`, `leave`, or a period edit such as \
                             `so_far(year)`"
                            .into()
                    }
                };
                return self.fail_at(span, format!("`{w}` begins no edit"), help);
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

    /// A word, and a name right after it: no condition begins like that.
    fn is_no_edit(&self) -> bool {
        let word = |t: &TokenKind| match t {
            TokenKind::Word(w) => !words::is_reserved(w),
            TokenKind::Quoted(_) => true,
            _ => false,
        };
        word(self.peek()) && word(self.peek_after(1))
    }

    pub(super) fn lift(&mut self) -> Parsed<EditKind> {
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

    pub(super) fn lifted_targets(&mut self) -> Parsed<Vec<Target>> {
        if self.eat_symbol("(") {
            return self.list_until_close(|p| p.target("a table or column"));
        }
        Ok(vec![self.target("a table or column, `all`, `axes` or `row`")?])
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

    pub(super) fn span_amount(&mut self, word: &str) -> Parsed<i64> {
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
