//! `given (…)`: edits of the filter context (language reference, section 6).

use std::sync::Arc;

use super::{CheckedExpr, Checker, Kind, NamedTables, Standing, TypedExpr, ast};
use crate::ast::{BinaryOp, EditKind, ExprKind};
use crate::schema::{ColumnId, TableId};
use crate::source::{Problem, Span};
use crate::typed::{EditTarget, Narrow, TypedEdit, TypedPeriod};
use cubrel_value::days::PeriodEdit;

impl Checker<'_> {
    pub(super) fn given(&mut self, body: &ast::Expr, edits: &[ast::Edit], span: Span) -> CheckedExpr<TypedExpr> {
        // Inside an aggregate or predicate, a `given` changes what a measure in it sees, never a column.
        let place = self.place;
        let typed = self.at(Standing::Cell, |c| {
            let body = c.expr(body);
            let edits = c.all(edits, |c, e| c.edit(e));
            let (body, edits) = (body?, edits?.concat());
            let ty = body.ty;
            Ok(TypedExpr { kind: Kind::Given(Box::new(body), edits), ty, span })
        })?;
        debug_assert_eq!(place, self.place);
        self.context_value(typed, "a `given`")
    }

    fn edit(&mut self, edit: &ast::Edit) -> CheckedExpr<Vec<TypedEdit>> {
        match &edit.kind {
            EditKind::Narrow { instead, table, predicate } => {
                let narrows = self.narrow(*instead, table.as_ref(), predicate)?;
                Ok(narrows.into_iter().map(TypedEdit::Narrow).collect())
            }
            EditKind::Without(targets) => Ok(vec![TypedEdit::Without(self.all(targets, |c, t| c.edit_target(t))?)]),
            EditKind::WithoutAllBut(targets) => {
                Ok(vec![TypedEdit::WithoutAllBut(self.all(targets, |c, t| c.edit_target(t))?)])
            }
            EditKind::WithoutAll => Ok(vec![TypedEdit::WithoutAll]),
            EditKind::WithoutAxes => Ok(vec![TypedEdit::WithoutAxes]),
            EditKind::WithoutRow => Ok(vec![TypedEdit::WithoutRow]),
            EditKind::Period(period, calendar) => self.period(period, calendar.as_ref(), edit.span).map(|e| vec![e]),
        }
    }

    fn period(&mut self, period: &ast::Period, calendar: Option<&ast::Name>, span: Span) -> CheckedExpr<TypedEdit> {
        let calendar = self.calendar(calendar, span)?;
        let index = self.schema.table(calendar).calendar.unwrap_or_default();
        let date = ColumnId { table: calendar, index };
        let mut rows_of = None;
        let edit = match period {
            ast::Period::SoFar(unit) => PeriodEdit::SoFar(*unit),
            ast::Period::Trailing(count, unit) => PeriodEdit::Trailing(*count, *unit),
            ast::Period::Shift(count, unit) => PeriodEdit::Shift(*count, *unit),
            ast::Period::Whole(unit, moved) => PeriodEdit::Whole(*unit, *moved),
            ast::Period::AtStart => PeriodEdit::AtStart,
            ast::Period::AtEnd(table) => {
                rows_of = table.as_ref().map(|t| self.find_table(t)).transpose()?;
                PeriodEdit::AtEnd
            }
        };
        if let Some(table) = rows_of
            && !self.schema.reach(table, &self.detours).contains_key(&calendar)
        {
            let (table, calendar) = (&self.schema.table(table).name, &self.schema.table(calendar).name);
            let message = format!("the rows of `{table}` have no day in `{calendar}`");
            let help = "`at_end(t)` names a table that points at the calendar; a spare relationship is taken with `via` \
                        around the whole";
            return self.fail(Problem::Path, span, message, help);
        }
        Ok(TypedEdit::Period(TypedPeriod { calendar, date, edit, rows_of }))
    }

    /// The calendar that is named, or the only one.
    fn calendar(&mut self, named: Option<&ast::Name>, span: Span) -> CheckedExpr<TableId> {
        let all: Vec<TableId> = (0..self.schema.tables.len() as u32)
            .map(TableId)
            .filter(|t| self.schema.table(*t).calendar.is_some())
            .collect();
        let names: Vec<&str> = all.iter().map(|t| self.schema.table(*t).name.as_str()).collect();
        let names = names.join(" or ");
        if let Some(name) = named {
            let table = self.find_table(name)?;
            if all.contains(&table) {
                return Ok(table);
            }
            let help = if all.is_empty() {
                "mark a table with `calendar = \"date\"` in model.toml".to_string()
            } else {
                format!("name {names}")
            };
            return self.fail(Problem::UnknownName, name.span, format!("`{}` is not a calendar", name.text), help);
        }
        match all.as_slice() {
            [one] => Ok(*one),
            [] => self.fail(
                Problem::NoRow,
                span,
                "there is no calendar whose days this could change",
                "mark a table with `calendar = \"date\"` in model.toml: one row a day, without gaps",
            ),
            _ => self.fail(
                Problem::Ambiguous,
                span,
                "there are several calendars",
                format!("say which one: `… on {names}`"),
            ),
        }
    }

    fn edit_target(&mut self, target: &ast::Target) -> CheckedExpr<EditTarget> {
        match target {
            ast::Target::Name(table) => self.find_table(table).map(EditTarget::Table),
            ast::Target::Column(table, column) => self.find_column(table, column).map(EditTarget::Column),
        }
    }

    /// A predicate as filters, one for each part that a top-level `and` joins.
    pub(super) fn narrow(
        &mut self,
        instead: bool,
        table: Option<&ast::Name>,
        predicate: &ast::Expr,
    ) -> CheckedExpr<Vec<Narrow>> {
        let table = table.map(|t| self.find_table(t)).transpose()?;
        let mut parts = Vec::new();
        conjuncts(predicate, &mut parts);
        let narrows = self.all(&parts, |c, part| match &part.kind {
            ExprKind::RowsWhere(table, tested) => {
                let table = c.find_table(table)?;
                c.narrow_rows(table, tested)
            }
            _ => c.one_filter(instead, table, part).map(|narrow| vec![narrow]),
        })?;
        Ok(narrows.concat())
    }

    /// A predicate over rows of a known table.
    pub(super) fn narrow_rows(&mut self, table: TableId, predicate: &ast::Expr) -> CheckedExpr<Vec<Narrow>> {
        let mut parts = Vec::new();
        conjuncts(predicate, &mut parts);
        self.all(&parts, |c, part| c.one_filter(false, Some(table), part))
    }

    fn one_filter(&mut self, instead: bool, table: Option<TableId>, predicate: &ast::Expr) -> CheckedExpr<Narrow> {
        let span = predicate.span;
        let hoisted_before = std::mem::take(&mut self.hoisted);
        let expr = self.at(Standing::Tested, |c| c.expr(predicate));
        let outer = std::mem::replace(&mut self.hoisted, hoisted_before);
        let expr = expr?;
        let expr = self.condition(expr)?;
        let columns = expr.columns();
        let table = match table {
            Some(table) => {
                self.check_reaches(table, &expr, span)?;
                table
            }
            None => self.tested_table(&expr, span)?,
        };
        Ok(Narrow { instead, table, columns, outer, predicate: Arc::new(expr) })
    }

    fn check_reaches(&mut self, table: TableId, expr: &TypedExpr, span: Span) -> CheckedExpr<()> {
        let mut missing = None;
        expr.walk(&mut |e| {
            if let Kind::Column { column, detours, .. } = &e.kind
                && !self.schema.reach(table, detours).contains_key(&column.table)
            {
                missing = Some(*column);
            }
        });
        match missing {
            None => Ok(()),
            Some(column) => {
                let (column, table) = (self.schema.column_name(column), &self.schema.table(table).name);
                self.fail(
                    Problem::Path,
                    span,
                    format!("{column} cannot be looked up from {table}"),
                    "test columns of the table itself or of tables that it points at",
                )
            }
        }
    }

    /// The table whose rows a predicate tests: the one from which its other columns can be looked up.
    fn tested_table(&mut self, expr: &TypedExpr, span: Span) -> CheckedExpr<TableId> {
        let mut named = NamedTables::default();
        named.add(self.schema, expr);
        let tables = named.tables.clone();
        let candidate = tables.iter().copied().find(|from| named.can_be_looked_up_from(self.schema, *from));
        match candidate {
            Some(table) => Ok(table),
            None if tables.is_empty() => self.fail(
                Problem::NoRow,
                span,
                "this condition names no column, so it filters nothing",
                "name a column, or put the condition around the value with `if(condition, value)`",
            ),
            None => {
                let names: Vec<&str> = tables.iter().map(|t| self.schema.table(*t).name.as_str()).collect();
                self.fail(
                    Problem::Path,
                    span,
                    format!("the tables {} cannot be looked up from each other", names.join(" and ")),
                    "name the table whose rows are tested: `booking where (…)`; or join separate conditions with `and`",
                )
            }
        }
    }
}

/// The parts that `and` joins at the top.
pub fn conjuncts<'e>(e: &'e ast::Expr, parts: &mut Vec<&'e ast::Expr>) {
    match &e.kind {
        ExprKind::Binary(BinaryOp::And, a, b) => {
            conjuncts(a, parts);
            conjuncts(b, parts);
        }
        _ => parts.push(e),
    }
}
