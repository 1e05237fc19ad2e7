//! What a name means where it stands (language reference, sections 3 and 5).

use super::{CheckedExpr, Checker, Kind, Provider, Reported, Standing, TypedExpr, ast, literal};
use crate::schema::{ColumnId, TableId};
use crate::source::{Problem, Span, closest, did_you_mean};
use crate::typed::{LetId, ProviderId};
use crate::words::quote_name;
use cubrel_value::Type;

impl Checker<'_> {
    pub(super) fn parameter(&mut self, name: &str, span: Span) -> CheckedExpr<TypedExpr> {
        match self.settings.parameters.get(name).map(Vec::as_slice) {
            Some([value]) => Ok(literal(value.clone(), span)),
            Some(_) => {
                self.fail(Problem::Type, span, format!("`${name}` has several values"), format!("write `in (${name})`"))
            }
            None => {
                let known: Vec<&str> = self.settings.parameters.keys().map(String::as_str).collect();
                let help = match closest(name, known.iter().copied()) {
                    Some(near) => did_you_mean(format!("${near}")),
                    None => format!("give `{name}` a value with the query"),
                };
                self.fail(Problem::UnknownName, span, format!("`${name}` has no value"), help)
            }
        }
    }

    /// A `let`, a column of the own table, or a measure; the nearest `let` wins, other doubles are errors.
    pub(super) fn bare_name(&mut self, name: &ast::Name) -> CheckedExpr<TypedExpr> {
        let span = name.span;
        if let Some(binding) = self.lets.iter().rev().find(|b| b.name == name.text) {
            return Ok(TypedExpr { kind: Kind::LetRef(binding.id), ty: binding.ty, span });
        }
        if let (Some(id), "shown") = (self.settings.shown, name.text.as_str()) {
            let ty = self.schema.measure(id).expr.as_ref().map_or(Type::Null, |e| e.ty);
            return self.context_value(TypedExpr { kind: Kind::Measure(id), ty, span }, "`shown`");
        }
        let column = self.own.and_then(|t| self.schema.find_column(t, &name.text));
        let measure = self.schema.find_measure(&name.text);
        match (column, measure) {
            (Some(column), Some(_)) => {
                let full = self.schema.column_name(column);
                self.fail(
                    Problem::Ambiguous,
                    span,
                    format!("`{}` is both a column of this table and a measure", name.text),
                    format!("write `{full}` for the column, or rename one of them"),
                )
            }
            (Some(column), None) => self.column_value(column, span),
            (None, Some(id)) => {
                let measure = self.schema.measure(id);
                let Some(expr) = &measure.expr else {
                    // What is wrong with that measure is told where it stands.
                    self.problems.extend(measure.wrong.as_deref().cloned());
                    return Err(Reported);
                };
                let ty = expr.ty;
                self.context_value(TypedExpr { kind: Kind::Measure(id), ty, span }, "a measure")
            }
            (None, None) => self.unknown_name(name),
        }
    }

    /// A measure or an aggregate: it stands in a cell; in a predicate it is taken from outside; in an aggregate it
    /// needs `per`.
    pub(super) fn context_value(&mut self, expr: TypedExpr, what: &str) -> CheckedExpr<TypedExpr> {
        match self.place {
            Standing::Cell => Ok(expr),
            Standing::Tested => {
                let id = LetId(self.fresh());
                let (ty, span) = (expr.ty, expr.span);
                self.hoisted.push((id, expr));
                Ok(TypedExpr { kind: Kind::LetRef(id), ty, span })
            }
            Standing::Aggregated => self.fail(
                Problem::Aggregate,
                expr.span,
                format!("{what} inside an aggregate needs to know what to go through"),
                "name it without the aggregate around it, or say what to go through: `avg(measure per table)`",
            ),
        }
    }

    fn unknown_name(&mut self, name: &ast::Name) -> CheckedExpr<TypedExpr> {
        let mut candidates: Vec<String> = self.lets.iter().map(|b| b.name.clone()).collect();
        candidates.extend(self.schema.measures.iter().map(|m| m.name.clone()));
        if let Some(own) = self.own {
            candidates.extend(self.schema.table(own).columns.iter().map(|c| c.name.clone()));
        }
        let homes: Vec<String> = (0..self.schema.tables.len() as u32)
            .filter_map(|t| self.schema.find_column(TableId(t), &name.text))
            .map(|c| self.schema.column_name(c))
            .collect();
        let help = if self.schema.find_table(&name.text).is_some() {
            format!(
                "`{0}` is a table: count its rows with `rows({0})`, or name a column as `{0}.column`",
                quote_name(&name.text)
            )
        } else if !homes.is_empty() {
            format!("write the table, too: `{}`", homes.join("` or `"))
        } else if let Some(near) = closest(&name.text, candidates.iter().map(String::as_str)) {
            did_you_mean(quote_name(near))
        } else {
            match name.text.as_str() {
                "shown" => "`shown` is the figure that a lens shows: it stands in the formulas of readings".into(),
                _ => "a bare name is a measure or a `let`; columns are written `table.column`".into(),
            }
        };
        self.fail(Problem::UnknownName, name.span, format!("nothing is called `{}`", name.text), help)
    }

    pub(super) fn find_table(&mut self, name: &ast::Name) -> CheckedExpr<TableId> {
        if let Some(id) = self.schema.find_table(&name.text) {
            return Ok(id);
        }
        let tables = self.schema.table_names();
        let help = match closest(&name.text, tables.iter().copied()) {
            Some(near) => did_you_mean(quote_name(near)),
            None => {
                let homes: Vec<String> = (0..self.schema.tables.len() as u32)
                    .filter_map(|t| self.schema.find_column(TableId(t), &name.text))
                    .map(|c| self.schema.column_name(c))
                    .collect();
                match homes.as_slice() {
                    [] => format!("the tables are {}", tables.join(", ")),
                    homes => format!("for the column write the table, too: `{}`", homes.join("` or `")),
                }
            }
        };
        self.fail(Problem::UnknownName, name.span, format!("there is no table `{}`", name.text), help)
    }

    pub(super) fn find_column(&mut self, table: &ast::Name, column: &ast::Name) -> CheckedExpr<ColumnId> {
        let id = self.find_table(table)?;
        if let Some(found) = self.schema.find_column(id, &column.text) {
            return Ok(found);
        }
        let def = self.schema.table(id);
        let names = self.schema.column_names(id);
        let help = match closest(&column.text, names.iter().copied()) {
            Some(near) => did_you_mean(format!("{}.{}", quote_name(&def.name), quote_name(near))),
            None => {
                let others: Vec<String> = (0..self.schema.tables.len() as u32)
                    .filter_map(|t| self.schema.find_column(TableId(t), &column.text))
                    .map(|c| self.schema.column_name(c))
                    .collect();
                if others.is_empty() {
                    format!("its columns are {}", names.join(", "))
                } else {
                    format!("there is `{}`", others.join("` and `"))
                }
            }
        };
        let message = format!("table `{}` has no column `{}`", table.text, column.text);
        self.fail(Problem::UnknownName, table.span.to(column.span), message, help)
    }

    pub(super) fn column(&mut self, table: &ast::Name, column: &ast::Name, span: Span) -> CheckedExpr<TypedExpr> {
        let id = self.find_column(table, column)?;
        self.column_value(id, span)
    }

    /// A column, by what stands around: of the iterated or tested row, or of the current one.
    fn column_value(&mut self, column: ColumnId, span: Span) -> CheckedExpr<TypedExpr> {
        let ty = self.schema.column(column).ty;
        let detours = self.detours.clone();
        if self.place != Standing::Cell {
            return Ok(TypedExpr { kind: Kind::Column { column, detours, around: self.around_rows }, ty, span });
        }
        if let Some((provider, around)) = self.provider_of(column) {
            return Ok(TypedExpr { kind: Kind::Current { provider, column, detours, around }, ty, span });
        }
        let name = self.schema.column_name(column);
        if self.providers.is_empty() {
            let advice = if ty.is_number() {
                format!("`sum({name})`, or `single({name})`")
            } else {
                format!("`single({name})`, or `count(distinct {name})`")
            };
            return self.fail(
                Problem::NoRow,
                span,
                format!("{name} stands outside an aggregate, and there is no current row to take it from"),
                format!("say which value is meant: {advice}"),
            );
        }
        self.fail(
            Problem::Path,
            span,
            format!("{name} cannot be looked up from the current row"),
            match self.providers.last() {
                Some((_, Provider::Row(_), _)) => {
                    let one = if ty.is_number() { format!("`sum({name})` or ") } else { String::new() };
                    format!("aggregate it: {one}`single({name})` sees the rows that belong to the current row")
                }
                _ => {
                    format!("only the columns that are gone through have a value here; `single({name})` asks the rows")
                }
            },
        )
    }

    /// What gives a row or combination that has a column, and how many spare relationships are named around it.
    fn provider_of(&self, column: ColumnId) -> Option<(ProviderId, usize)> {
        let has = |provider: &Provider| match provider {
            Provider::Row(table) => self.schema.reach(*table, &self.detours).contains_key(&column.table),
            Provider::Columns(columns) => columns.contains(&column),
        };
        self.providers.iter().rev().find(|(_, provider, _)| has(provider)).map(|(id, _, around)| (*id, *around))
    }

    /// Whether an expression can be a condition.
    pub(super) fn condition(&mut self, expr: TypedExpr) -> CheckedExpr<TypedExpr> {
        match expr.ty {
            Type::Bool => Ok(expr),
            Type::Null => {
                Ok(TypedExpr { ty: Type::Bool, kind: Kind::Literal(cubrel_value::Value::Null), span: expr.span })
            }
            other => self.fail(
                Problem::Type,
                expr.span,
                format!("expected something true or false, this is {other}"),
                "compare it: `x > 0`, `x is not null`",
            ),
        }
    }
}
