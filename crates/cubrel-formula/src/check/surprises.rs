//! What is legal and probably not what was meant (language reference, sections 2, 6 and 7).

use std::collections::BTreeSet;
use std::sync::Arc;

use crate::schema::{ColumnId, MeasureId, Schema, TableId};
use crate::source::{Diagnostic, Problem, Source, Span};
use crate::typed::{
    AggregateKind, EditTarget, Kind, Op, Over, PerDomain, TypedAggregate, TypedEdit, TypedExpr, TypedPer,
};

struct SurpriseFinder<'a> {
    schema: &'a Schema,
    source: &'a Arc<Source>,
    found: Vec<Diagnostic>,
}

impl SurpriseFinder<'_> {
    fn warn(&mut self, span: Span, message: impl Into<String>, help: impl Into<String>) {
        let problem = Diagnostic::error(Problem::Surprise, self.source, span, message).help(help);
        if !self.found.iter().any(|f| f.span == span && f.message == problem.message) {
            self.found.push(problem.warning());
        }
    }
}

/// Surprises in any formula: averages of ratios, edits that leave a bound row.
pub fn of_formula(schema: &Schema, source: &Arc<Source>, expr: &TypedExpr) -> Vec<Diagnostic> {
    let mut finder = SurpriseFinder { schema, source, found: Vec::new() };
    expr.walk(&mut |e| {
        if let Kind::Aggregate(a) = &e.kind {
            finder.average_of_ratios(a, e.span);
        }
    });
    finder.rows_that_still_bind(expr, &[]);
    finder.found
}

/// Surprises in the formula of a calculated column.
pub fn of_column(schema: &Schema, source: &Arc<Source>, column: ColumnId, expr: &TypedExpr) -> Vec<Diagnostic> {
    let mut finder = SurpriseFinder { schema, source, found: of_formula(schema, source, expr) };
    finder.ratio_column(column, expr);
    finder.own_rows(column.table, expr, false);
    finder.same_on_every_row(column, expr);
    finder.rows_that_still_bind(expr, &[column.table]);
    finder.found
}

/// Surprises of a formula on the lines of a grid: an edit that leaves a column of the same table on an axis.
pub fn on_axes(schema: &Schema, source: &Arc<Source>, expr: &TypedExpr, axes: &[ColumnId]) -> Vec<Diagnostic> {
    let mut known = BTreeSet::new();
    on_axes_once(schema, source, expr, axes, &mut known)
}

/// The same, of each measure once.
fn on_axes_once(
    schema: &Schema,
    source: &Arc<Source>,
    expr: &TypedExpr,
    axes: &[ColumnId],
    known: &mut BTreeSet<MeasureId>,
) -> Vec<Diagnostic> {
    let mut finder = SurpriseFinder { schema, source, found: Vec::new() };
    finder.axes_left(expr, axes, known);
    finder.found
}

fn is_ratio(expr: &TypedExpr) -> bool {
    match &expr.kind {
        Kind::Call(Op::Div, args) => args.iter().all(names_column),
        Kind::Call(Op::ToFloat | Op::Rescale { .. }, args) => args.iter().any(is_ratio),
        Kind::Call(Op::Mul, args) => args.iter().any(is_ratio) && !args.iter().all(names_column),
        Kind::Let(_, _, body) => is_ratio(body),
        _ => false,
    }
}

fn names_column(expr: &TypedExpr) -> bool {
    let mut found = false;
    expr.walk(&mut |e| found |= matches!(e.kind, Kind::Column { .. } | Kind::Current { .. }));
    found
}

impl SurpriseFinder<'_> {
    fn average_of_ratios(&mut self, a: &TypedAggregate, span: Span) {
        if let (AggregateKind::Avg, Over::Rows(_), [arg]) = (a.kind, &a.over, a.args.as_slice())
            && is_ratio(arg)
        {
            self.warn(
                span,
                "this is the average of the rows' ratios, in which a small row counts as much as a large one",
                "the ratio of the whole is the sum of the one over the sum of the other: `sum(a) / sum(b)`",
            );
        }
    }

    fn ratio_column(&mut self, column: ColumnId, expr: &TypedExpr) {
        if is_ratio(expr) {
            let name = self.schema.column_name(column);
            self.warn(
                expr.span,
                format!("{name} is a ratio for each row: neither its sum nor its average is the ratio of the whole"),
                "for totals, write a measure: `sum(a) / sum(b)`",
            );
        }
    }

    /// An aggregate over the column's own table sees the current row and no other.
    fn own_rows(&mut self, table: TableId, expr: &TypedExpr, dropped: bool) {
        match &expr.kind {
            Kind::Aggregate(a) => {
                if let (Over::Rows(of), false) = (&a.over, dropped)
                    && *of == table
                {
                    let name = &self.schema.table(table).name;
                    self.warn(
                        expr.span,
                        format!("this sees only the current row of `{name}`"),
                        "for all rows write `… given (without row)`; for the row's own value leave the aggregate out",
                    );
                }
                if let Over::Per(TypedPer { filter: Some(filter), .. }) = &a.over {
                    self.own_rows(table, filter, dropped);
                }
                a.args.iter().for_each(|e| self.own_rows(table, e, dropped));
            }
            Kind::Given(body, edits) => {
                let drops = edits.iter().any(|e| drops_row(e, table));
                self.own_rows(table, body, dropped || drops);
            }
            _ => expr.each_part(&mut |part| self.own_rows(table, part, dropped)),
        }
    }

    /// Nothing in the formula depends on the row.
    fn same_on_every_row(&mut self, column: ColumnId, expr: &TypedExpr) {
        let mut depends = false;
        let mut computes = false;
        expr.walk(&mut |e| match &e.kind {
            Kind::Current { .. } | Kind::Measure(_) | Kind::Rank(_) | Kind::Set(_) => depends = true,
            Kind::Aggregate(a) => {
                computes = true;
                let of = match &a.over {
                    Over::Rows(table) => Some(*table),
                    Over::Per(TypedPer { domain: PerDomain::Table(table), .. }) => Some(*table),
                    Over::Per(_) => None,
                };
                depends |= of.is_none_or(|t| self.schema.reach(t, &[]).contains_key(&column.table));
                let both_ways = self.schema.relationships.iter().any(|r| r.both_ways);
                depends |= both_ways;
            }
            Kind::Via(..) | Kind::BothWays(..) => depends = true,
            _ => {}
        });
        if computes && !depends {
            let name = &self.schema.table(column.table).name;
            self.warn(
                expr.span,
                format!("this is the same on every row of `{name}`: nothing in it depends on the row"),
                "filters travel from the one side to the many side; write a measure if one value is meant",
            );
        }
    }

    /// `without t.c` where a row of t is bound: the row still filters.
    fn rows_that_still_bind(&mut self, expr: &TypedExpr, bound: &[TableId]) {
        match &expr.kind {
            Kind::Given(body, edits) => {
                for table in bound {
                    let drops = edits.iter().any(|e| drops_row(e, *table));
                    for edit in edits.iter().filter(|_| !drops) {
                        self.still_bound(edit, *table, expr.span);
                    }
                }
                self.rows_that_still_bind(body, bound);
            }
            Kind::Aggregate(a) => {
                let mut inner = bound.to_vec();
                if let Over::Per(per) = &a.over {
                    if let PerDomain::Table(table) = per.domain {
                        inner.push(table);
                    }
                    per.filter.iter().for_each(|f| self.rows_that_still_bind(f, &inner));
                }
                a.args.iter().for_each(|e| self.rows_that_still_bind(e, &inner));
            }
            _ => expr.each_part(&mut |part| self.rows_that_still_bind(part, bound)),
        }
    }

    fn still_bound(&mut self, edit: &TypedEdit, table: TableId, span: Span) {
        let columns: Vec<ColumnId> = dropped_columns(edit);
        if let Some(column) = columns.iter().find(|c| c.table == table) {
            let (name, of) = (self.schema.column_name(*column), &self.schema.table(table).name);
            self.warn(
                span,
                format!("the filter on {name} is dropped, but the current row of `{of}` still filters"),
                "`without row` drops the bound row too",
            );
        }
    }

    fn axes_left(&mut self, expr: &TypedExpr, axes: &[ColumnId], known: &mut BTreeSet<MeasureId>) {
        if let Kind::Given(_, edits) = &expr.kind {
            let covered = |axis: &ColumnId| edits.iter().any(|e| drops_axis(e, *axis));
            for edit in edits {
                for column in dropped_columns(edit) {
                    let left = axes.iter().find(|a| a.table == column.table && **a != column && !covered(a));
                    if let Some(left) = left {
                        let (dropped, stays) = (self.schema.column_name(column), self.schema.column_name(*left));
                        let table = self.schema.table(column.table).name.clone();
                        self.warn(
                            expr.span,
                            format!("the filter on {dropped} is dropped, but {stays} on an axis still filters the same table"),
                            format!("`without {table}` drops both, `without axes` everything on the axes"),
                        );
                    }
                }
            }
        }
        match &expr.kind {
            Kind::Measure(id) => {
                let measure = self.schema.measure(*id);
                if let Some(inner) = measure.expr.as_ref().filter(|_| known.insert(*id)) {
                    let mut found = on_axes_once(self.schema, &measure.source, inner, axes, known);
                    found.retain(|f| !self.found.iter().any(|o| o.message == f.message));
                    self.found.extend(found);
                }
            }
            Kind::Aggregate(a) => a.args.iter().for_each(|e| self.axes_left(e, axes, known)),
            _ => expr.each_part(&mut |part| self.axes_left(part, axes, known)),
        }
    }
}

/// The single columns that an edit drops.
fn dropped_columns(edit: &TypedEdit) -> Vec<ColumnId> {
    match edit {
        TypedEdit::Without(targets) => {
            targets.iter().filter_map(|t| if let EditTarget::Column(c) = t { Some(*c) } else { None }).collect()
        }
        TypedEdit::Narrow(narrow) if narrow.instead => narrow.columns.clone(),
        _ => Vec::new(),
    }
}

fn drops_row(edit: &TypedEdit, table: TableId) -> bool {
    match edit {
        TypedEdit::WithoutRow | TypedEdit::WithoutAll => true,
        TypedEdit::Without(targets) => targets.contains(&EditTarget::Table(table)),
        TypedEdit::WithoutAllBut(targets) => !targets.contains(&EditTarget::Table(table)),
        TypedEdit::Period(period) => period.calendar == table,
        TypedEdit::WithoutAxes | TypedEdit::Narrow(_) => false,
    }
}

fn drops_axis(edit: &TypedEdit, axis: ColumnId) -> bool {
    match edit {
        TypedEdit::WithoutAll | TypedEdit::WithoutAxes => true,
        TypedEdit::Without(targets) => {
            targets.contains(&EditTarget::Column(axis)) || targets.contains(&EditTarget::Table(axis.table))
        }
        TypedEdit::WithoutAllBut(targets) => {
            !targets.contains(&EditTarget::Column(axis)) && !targets.contains(&EditTarget::Table(axis.table))
        }
        TypedEdit::Narrow(narrow) => narrow.instead && narrow.columns.contains(&axis),
        TypedEdit::Period(period) => period.calendar == axis.table,
        TypedEdit::WithoutRow => false,
    }
}
