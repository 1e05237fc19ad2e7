//! Names of a query resolved, its parts typed.

use crate::query::QueryPlanner;
use crate::query::resolved::CheckedGrid;
use crate::query::resolved::CheckedRecords;
use std::collections::BTreeSet;

use super::layout;
use super::lenses::Lenses;
use super::plans::{Axis, PlannedItem, QueryPlan};
use cubrel_formula::ast::{self, Target};
use cubrel_formula::check::{self, arrivals, surprises};
use cubrel_formula::schema::{ColumnId, Schema, TableId};
use cubrel_formula::source::{Diagnostic, Problem, Span, closest, did_you_mean};
use cubrel_formula::typed::{Kind, Narrow, TypedExpr};
use cubrel_formula::words::quote_name;
use cubrel_value::Type;
use cubrel_value::format;

impl QueryPlanner<'_> {
    pub(super) fn plan(mut self, query: &ast::QueryTree) -> Result<QueryPlan, Vec<Diagnostic>> {
        if query.records {
            self.local_measures(&query.measures);
            return match self.records(query) {
                Some(checked) if !self.failed() => {
                    Ok(QueryPlan::Records(Box::new(layout::records(self.planner(), self.source, checked)?)))
                }
                _ => Err(self.problems),
            };
        }
        let checked = self.checked_grid(query)?;
        Ok(QueryPlan::Grid(Box::new(layout::grid(self.planner(), self.source, query, checked)?)))
    }

    /// A grid, checked.
    ///
    /// # Errors
    /// Everything that is wrong with it.
    pub(super) fn checked_grid(&mut self, query: &ast::QueryTree) -> Result<CheckedGrid, Vec<Diagnostic>> {
        self.local_measures(&query.measures);
        match self.grid(query) {
            Some(checked) if !self.failed() => Ok(checked),
            _ => Err(std::mem::take(&mut self.problems)),
        }
    }

    // ---- grids

    fn grid(&mut self, query: &ast::QueryTree) -> Option<CheckedGrid> {
        let (rows, columns) = (self.axes(&query.by), self.axes(&query.split));
        let items: Vec<Option<(PlannedItem, TypedExpr)>> = query.items.iter().map(|i| self.item(i)).collect();
        let (conditions, on_lenses) = self.conditions(query.filter.as_ref());
        let filters = self.filters(&conditions);
        let (rows, columns) = (rows?, columns?);
        for (target, axis) in query.split.iter().zip(&columns) {
            if rows.contains(axis) {
                let name = self.axis_name(*axis);
                let message = format!("{name} stands on both axes");
                self.report(Problem::Duplicate, target.span(), message, "leave it on one of them");
            }
        }
        let row_columns: Vec<ColumnId> = rows.iter().filter_map(|a| a.column()).collect();
        let having = query.having.as_ref().map(|e| self.judged(&row_columns, query, e));
        if let Some(Some(e)) = &having
            && !matches!(e.ty, Type::Bool | Type::Null)
        {
            self.report(
                Problem::Type,
                e.span,
                format!("`having` is true or false, this is {}", e.ty),
                "compare it: `having measure > 1000`",
            );
        }
        let judged = |(e, descending): &(ast::Expr, bool)| Some((self.judged(&row_columns, query, e)?, *descending));
        let order: Vec<Option<(TypedExpr, bool)>> = query.order.iter().map(judged).collect();
        let limit = query.limit.as_ref().map(|l| self.limit(l, &rows));
        let items = items.into_iter().collect::<Option<Vec<_>>>()?;
        let axes: Vec<Axis> = rows.iter().chain(&columns).copied().collect();
        let warnings = self.surprises(&axes, &filters, &items);
        let lenses = Lenses::of_query(self, &axes, &on_lenses)?;
        let (items, shown) = self.seen_through(&lenses, items)?;
        Some(CheckedGrid {
            items,
            shown,
            having: having.map_or(Some(None), |h| h.map(Some))?,
            order: order.into_iter().collect::<Option<_>>()?,
            limit: limit.map_or(Some(None), |l| l.map(Some))?,
            others: query.limit.as_ref().is_some_and(|l| l.others.is_some()),
            rows,
            columns,
            filters,
            warnings,
        })
    }

    /// What the items have that is probably not meant, on these axes.
    fn surprises(&self, axes: &[Axis], filters: &[Narrow], items: &[(PlannedItem, TypedExpr)]) -> Vec<Diagnostic> {
        let columns: Vec<ColumnId> = axes.iter().filter_map(|a| a.column()).collect();
        let of_item = |(_, e): &(PlannedItem, TypedExpr)| {
            let mut found = surprises::on_axes(&self.schema, self.source, e, &columns);
            found.extend(surprises::of_formula(&self.schema, self.source, e));
            found.extend(arrivals::lost(&self.schema, self.source, e, &columns, filters));
            found
        };
        items.iter().flat_map(of_item).collect()
    }

    /// The parts of a `where`, those on lenses apart.
    fn conditions<'q>(&self, filter: Option<&'q ast::Expr>) -> (Vec<&'q ast::Expr>, Vec<&'q ast::Expr>) {
        let mut parts = Vec::new();
        if let Some(e) = filter {
            check::conjuncts(e, &mut parts);
        }
        let names_lens = |e: &&ast::Expr| {
            let mut found = false;
            e.walk(&mut |part| {
                if let ast::ExprKind::Name(name) = &part.kind {
                    found |= self.schema.lenses.iter().any(|l| l.name == name.text);
                }
            });
            found
        };
        let (lenses, rest) = parts.into_iter().partition(names_lens);
        (rest, lenses)
    }

    fn filters(&mut self, conditions: &[&ast::Expr]) -> Vec<Narrow> {
        // They are checked as one, so that the values that they take from outside are told apart.
        let joined = conditions.iter().map(|c| (*c).clone()).reduce(|a, b| {
            let span = a.span.to(b.span);
            ast::Expr { kind: ast::ExprKind::Binary(ast::BinaryOp::And, Box::new(a), Box::new(b)), span }
        });
        let Some(condition) = joined else {
            return Vec::new();
        };
        let (filters, problems) = check::filter(&self.schema, self.settings, self.source, &condition);
        self.problems.extend(problems);
        filters
    }

    /// `having` and `order by` may name the row axes' columns.
    fn judged(&mut self, rows: &[ColumnId], query: &ast::QueryTree, e: &ast::Expr) -> Option<TypedExpr> {
        let (expr, problems) = check::line_formula(&self.schema, self.settings, self.source, rows, e);
        let problems: Vec<Diagnostic> =
            problems.into_iter().map(|problem| self.not_by_heading(problem, query)).collect();
        self.problems.extend(problems);
        expr
    }

    /// In SQL a line is judged by what stands after `as`; here that is a heading, and the figure itself is what can be named.
    fn not_by_heading(&self, problem: Diagnostic, query: &ast::QueryTree) -> Diagnostic {
        let named = self.source.slice(problem.span);
        let has_heading = |item: &&ast::Item| item.heading.as_ref().is_some_and(|h| quote_name(&h.text) == named);
        match query.items.iter().find(has_heading) {
            Some(item) if problem.problem == Problem::UnknownName => {
                let figure = self.source.slice(item.expr.span);
                problem.help(format!(
                    "what stands after `as` is a heading: write the figure here, too, or name it before `grid`, `measure {named} = {figure};` \
                     and show `{named}`"
                ))
            }
            _ => problem,
        }
    }

    fn item(&mut self, item: &ast::Item) -> Option<(PlannedItem, TypedExpr)> {
        let (expr, problems) = check::measure_formula(&self.schema, self.settings, self.source, &item.expr);
        self.problems.extend(problems);
        let expr = expr?;
        if let Some(Err(message)) = item.format.as_deref().map(|pattern| format::check_pattern(expr.ty, pattern)) {
            let help = "patterns are those of Unicode UTS #35: `#,##0.00`, `0.0%`, `dd/MM/yyyy`, `MMM yyyy`";
            self.report(Problem::Type, item.span, message, help);
            return None;
        }
        Some((self.planned(item, &expr), expr))
    }

    fn planned(&self, item: &ast::Item, expr: &TypedExpr) -> PlannedItem {
        let measure = match &expr.kind {
            Kind::Measure(id) => Some(self.schema.measure(*id)),
            _ => None,
        };
        let written = self.source.slice(item.expr.span).split_whitespace().collect::<Vec<_>>().join(" ");
        let heading = item.heading.as_ref().map(|h| h.text.clone());
        PlannedItem {
            name: heading.clone().or(measure.map(|m| m.name.clone())).unwrap_or(written),
            label: heading.or(measure.and_then(|m| m.label.clone())),
            format: item.format.clone().or(measure.and_then(|m| m.format.clone())),
            ty: expr.ty,
        }
    }

    // ---- axes

    fn axis_name(&self, axis: Axis) -> String {
        match axis {
            Axis::Column(column) => self.schema.column_name(column),
            Axis::Lens(lens) => format!("`{}`", self.schema.lenses[lens].name),
        }
    }

    /// Columns and lenses, with hierarchies as their levels; each once.
    fn axes(&mut self, targets: &[Target]) -> Option<Vec<Axis>> {
        let mut axes = Vec::new();
        let mut failed = false;
        for target in targets {
            match self.axis(target) {
                Some(list) => {
                    for axis in list {
                        if !axes.contains(&axis) {
                            axes.push(axis);
                        }
                    }
                }
                None => failed = true,
            }
        }
        (!failed).then_some(axes)
    }

    fn axis(&mut self, target: &Target) -> Option<Vec<Axis>> {
        let columns = |list: Vec<ColumnId>| list.into_iter().map(Axis::Column).collect();
        let hierarchy = |schema: &Schema, table: Option<TableId>, name: &str| {
            schema.tables.iter().enumerate().filter(|(t, _)| table.is_none_or(|id| id.0 as usize == *t)).find_map(
                |(t, def)| {
                    let (_, levels) = def.hierarchies.iter().find(|(n, _)| n == name)?;
                    Some(levels.iter().map(|l| ColumnId { table: TableId(t as u32), index: *l }).collect::<Vec<_>>())
                },
            )
        };
        match target {
            Target::Name(name) => {
                if let Some(lens) = self.schema.lenses.iter().position(|l| l.name == name.text) {
                    return Some(vec![Axis::Lens(lens)]);
                }
                if let Some(levels) = hierarchy(&self.schema, None, &name.text) {
                    return Some(columns(levels));
                }
                let known: Vec<&str> = self
                    .schema
                    .tables
                    .iter()
                    .flat_map(|t| t.hierarchies.iter().map(|(n, _)| n.as_str()))
                    .chain(self.schema.lenses.iter().map(|l| l.name.as_str()))
                    .collect();
                let homes: Vec<String> = (0..self.schema.tables.len() as u32)
                    .filter_map(|t| self.schema.find_column(TableId(t), &name.text))
                    .map(|c| self.schema.column_name(c))
                    .collect();
                let help = if !homes.is_empty() {
                    format!("write the table, too: `{}`", homes.join("` or `"))
                } else {
                    match closest(&name.text, known.iter().copied()) {
                        Some(near) => did_you_mean(quote_name(near)),
                        None => "an axis is a column, written `table.column`, a hierarchy or a lens".into(),
                    }
                };
                self.report(Problem::UnknownName, name.span, format!("`{}` cannot be an axis", name.text), help);
                None
            }
            Target::Column(table, column) => {
                if let Some(id) = self.schema.find_table(&table.text)
                    && let Some(levels) = hierarchy(&self.schema, Some(id), &column.text)
                {
                    return Some(columns(levels));
                }
                let e = ast::Expr { kind: ast::ExprKind::Column(table.clone(), column.clone()), span: target.span() };
                let (found, problems) = check::column_name(&self.schema, self.settings, self.source, &e);
                self.problems.extend(problems);
                found.map(|c| vec![Axis::Column(c)])
            }
        }
    }

    fn limit(&mut self, limit: &ast::Limit, rows: &[Axis]) -> Option<(usize, Vec<usize>)> {
        let within = self.axes(&limit.within)?;
        let mut places = Vec::new();
        for (target, axis) in limit.within.iter().zip(&within) {
            match rows.iter().position(|r| r == axis) {
                Some(place) => places.push(place),
                None => {
                    let message = format!("{} is not one of the rows", self.axis_name(*axis));
                    self.report(Problem::UnknownName, target.span(), message, "`within` names columns of `by`");
                    return None;
                }
            }
        }
        if let Some(span) = limit.others {
            let lens = (0..rows.len()).find(|i| matches!(rows[*i], Axis::Lens(_)) && !places.contains(i));
            if let Some(lens) = lens {
                let name = self.axis_name(rows[lens]);
                let message = format!("the rest of a limit cannot stand for several readings of {name}");
                self.report(Problem::Type, span, message, "count within the lens: `limit 5 within …, period others`");
                return None;
            }
        }
        Some((limit.count, places))
    }

    // ---- records

    fn records(&mut self, query: &ast::QueryTree) -> Option<CheckedRecords> {
        let table = self.finest_table(query)?;
        let row = |planner: &mut Self, e: &ast::Expr| {
            let (expr, problems) = check::row_formula(&planner.schema, planner.settings, planner.source, table, e);
            planner.problems.extend(problems);
            expr
        };
        let items: Vec<Option<(PlannedItem, TypedExpr)>> = query
            .items
            .iter()
            .map(|item| {
                let expr = row(self, &item.expr)?;
                let mut planned = self.planned(item, &expr);
                if let Kind::Current { column, .. } = &expr.kind {
                    let def = self.schema.column(*column);
                    planned.label = planned.label.or_else(|| def.label.clone());
                    planned.format = planned.format.or_else(|| def.format.clone());
                }
                Some((planned, expr))
            })
            .collect();
        let (conditions, on_lenses) = self.conditions(query.filter.as_ref());
        if let Some(condition) = on_lenses.first() {
            let help = "leave the condition out: lenses change figures of a `grid`";
            self.report(Problem::Type, condition.span, "records are not seen through a lens", help);
        }
        let filters = self.filters(&conditions);
        let order: Vec<Option<(TypedExpr, bool)>> =
            query.order.iter().map(|(e, descending)| Some((row(self, e)?, *descending))).collect();
        let extra = [
            (query.by.first().map(Target::span), "by"),
            (query.split.first().map(Target::span), "split by"),
            (query.having.as_ref().map(|e| e.span), "having"),
            (query.limit.as_ref().and_then(|l| l.within.first().map(Target::span).or(l.others)), "within` or `others"),
        ];
        for (span, word) in extra {
            if let Some(span) = span {
                let help = "`records` take `where`, `order by` and `limit`; ask for a `grid` to group rows";
                self.report(Problem::Syntax, span, format!("`records` have no `{word}`"), help);
            }
        }
        Some(CheckedRecords {
            table,
            items: items.into_iter().collect::<Option<_>>()?,
            filters,
            order: order.into_iter().collect::<Option<_>>()?,
            limit: query.limit.as_ref().map(|l| l.count),
        })
    }

    /// The table from which all columns that `records` name can be looked up.
    fn finest_table(&mut self, query: &ast::QueryTree) -> Option<TableId> {
        let mut named: BTreeSet<TableId> = BTreeSet::new();
        for item in &query.items {
            columns_of_the_row(&item.expr, &mut |table| named.extend(self.schema.find_table(&table.text)));
        }
        let all = |from: &TableId| {
            let reach = self.schema.reach(*from, &[]);
            named.iter().all(|t| reach.contains_key(t))
        };
        // A spare relationship leads on from a table, so a detour does not change which one is finest.
        let spare = |from: &TableId| {
            let steps: BTreeSet<TableId> =
                self.schema.relationships.iter().filter(|r| r.many == *from).map(|r| r.one).collect();
            let reach = self.schema.reach(*from, &[]);
            named.iter().all(|t| reach.contains_key(t) || steps.contains(t))
        };
        let found = named.iter().copied().find(all).or_else(|| named.iter().copied().find(spare));
        if found.is_none() {
            let span = query.items.first().map_or_else(Span::default, |i| i.expr.span);
            let names: Vec<&str> = named.iter().map(|t| self.schema.table(*t).name.as_str()).collect();
            let (message, help) = match names.as_slice() {
                [] => ("these records name no column".to_string(), "name columns of a table: `records table.column`"),
                _ => (
                    format!("none of the tables {} can look up all the others", names.join(", ")),
                    "records are the rows of one table, with what they look up",
                ),
            };
            self.report(Problem::Path, span, message, help);
        }
        found
    }
}

/// The tables of columns that an expression takes from the current row: those in aggregates and conditions are of other
/// rows.
fn columns_of_the_row<'e>(e: &'e ast::Expr, found: &mut dyn FnMut(&'e ast::Name)) {
    e.walk_where(&mut |part| match &part.kind {
        ast::ExprKind::Column(table, _) => {
            found(table);
            true
        }
        ast::ExprKind::Given(body, _) => {
            columns_of_the_row(body, found);
            false
        }
        ast::ExprKind::Aggregate(_) => false,
        _ => true,
    });
}
