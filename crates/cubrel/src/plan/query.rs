//! A query to a plan: axes, items, lines, totals (language reference, section 12).

use std::collections::BTreeSet;
use std::sync::Arc;

use super::lower::{Environment, Planner, chains};
use super::scope::{Dim, Filter, Key, Origin, Scope};
use super::uses::both_ways_of;
use super::{Assembly, Bound, Domain, Read, Slot};
use crate::formula::ast::{self, Target};
use crate::formula::check::{self, ROW, Settings};
use crate::formula::parser;
use crate::formula::schema::{ColumnId, MeasureDef, RelationshipId, Schema, TableId};
use crate::formula::source::{Diagnostic, Problem, Severity, Source, closest};
use crate::formula::typed::{Expr, Kind, LetId};
use crate::formula::words::quote_name;
use crate::value::Type;

/// Everything that running a grid needs.
#[derive(Clone, Debug)]
pub struct GridPlan {
    /// All reads, shared by all parts.
    pub reads: Vec<Read>,
    /// Row axes, then column axes.
    pub axes: Vec<ColumnId>,
    /// How many of the axes are rows.
    pub row_axes: usize,
    /// What is shown.
    pub items: Vec<PlannedItem>,
    /// Values that the `where` takes from outside, evaluated once without axes.
    pub outer: Vec<(Slot, Bound)>,
    /// The cells, then the totals, if they are wanted.
    pub parts: Vec<GridPart>,
    /// What judges row lines, by how many row axes are left: all of them first.
    pub judges: Vec<Judge>,
    /// For each `order by`, whether it descends.
    pub descending: Vec<bool>,
    /// How many lines for each combination of these row axes.
    pub limit: Option<(usize, Vec<usize>)>,
    /// Whether combinations without anything in them show.
    pub with_empty: bool,
    /// Relationships that some item lets filter both ways.
    pub both_ways: Vec<RelationshipId>,
}

/// One item.
#[derive(Clone, Debug)]
pub struct PlannedItem {
    /// The heading after `as`, the measure's name, or the text of the item.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// A pattern for its values.
    pub format: Option<String>,
    /// Its type.
    pub ty: Type,
}

/// The cells of one combination of axes: all of them, or some for totals.
#[derive(Clone, Debug)]
pub struct GridPart {
    /// Which axes are there.
    pub axes: Vec<usize>,
    /// Their combinations that are tried.
    pub domain: Domain,
    /// For each group of the domain, what has to let null through for null to be tried.
    pub null_filters: Vec<Vec<Filter>>,
    /// The items.
    pub items: Vec<Assembly>,
}

/// `having` and `order by`, over the outermost row axes.
#[derive(Clone, Debug)]
pub struct Judge {
    /// How many row axes are there.
    pub axes: usize,
    /// `having`
    pub having: Option<Assembly>,
    /// `order by`; nothing where it names an axis that is not there.
    pub order: Vec<Option<(Assembly, Type)>>,
}

/// Plans a query.
///
/// # Errors
/// All problems of its text.
pub fn plan(schema: &Schema, settings: &Settings, source: &Arc<Source>) -> Result<GridPlan, Vec<Diagnostic>> {
    let (query, problems) = parser::query(source);
    match query {
        Some(query) if problems.is_empty() => QueryPlanner::new(schema, settings, source).plan(&query),
        _ => Err(problems),
    }
}

struct QueryPlanner<'a> {
    schema: Schema,
    settings: &'a Settings,
    source: &'a Arc<Source>,
    problems: Vec<Diagnostic>,
}

/// A query whose names are resolved.
struct CheckedQuery {
    rows: Vec<ColumnId>,
    columns: Vec<ColumnId>,
    items: Vec<(PlannedItem, Expr)>,
    filters: Vec<crate::formula::typed::Narrow>,
    having: Option<Expr>,
    order: Vec<(Expr, bool)>,
    limit: Option<(usize, Vec<usize>)>,
}

impl<'a> QueryPlanner<'a> {
    fn new(schema: &Schema, settings: &'a Settings, source: &'a Arc<Source>) -> QueryPlanner<'a> {
        QueryPlanner { schema: schema.clone(), settings, source, problems: Vec::new() }
    }

    fn report(
        &mut self,
        problem: Problem,
        span: crate::formula::source::Span,
        message: impl Into<String>,
        help: impl Into<String>,
    ) {
        self.problems.push(Diagnostic::error(problem, self.source, span, message).help(help));
    }

    fn plan(mut self, query: &ast::Query) -> Result<GridPlan, Vec<Diagnostic>> {
        if query.records {
            let span = query.items[0].expr.span;
            self.report(
                Problem::Unsupported,
                span,
                "`records` cannot be run yet",
                "ask for a `grid` by the columns of a key",
            );
            return Err(self.problems);
        }
        self.local_measures(&query.measures);
        let checked = self.check(query);
        match checked {
            Some(checked) if !self.problems.iter().any(|p| p.severity == Severity::Error) => {
                Ok(build(&self.schema, self.source, query, checked))
            }
            _ => Err(self.problems),
        }
    }

    fn local_measures(&mut self, measures: &[(ast::Name, ast::Expr)]) {
        for (name, body) in measures {
            if self.schema.find_measure(&name.text).is_some() {
                self.report(
                    Problem::Duplicate,
                    name.span,
                    format!("there is already a measure `{}`", name.text),
                    "give the measure of this query another name",
                );
                continue;
            }
            let (expr, problems) = check::measure_formula(&self.schema, self.settings, self.source, body);
            self.problems.extend(problems);
            self.schema.measures.push(MeasureDef {
                name: name.text.clone(),
                label: None,
                format: None,
                hidden: false,
                group: None,
                note: None,
                source: self.source.clone(),
                expr: expr.map(Arc::new),
            });
        }
    }

    fn check(&mut self, query: &ast::Query) -> Option<CheckedQuery> {
        let rows = self.axes(&query.by);
        let columns = self.axes(&query.split);
        let items: Vec<Option<(PlannedItem, Expr)>> = query.items.iter().map(|i| self.item(i)).collect();
        let filters = match &query.filter {
            None => Vec::new(),
            Some(e) => {
                let (filters, problems) = check::filter(&self.schema, self.settings, self.source, e);
                self.problems.extend(problems);
                filters
            }
        };
        let (rows, columns) = (rows?, columns?);
        for (target, column) in query.split.iter().zip(&columns) {
            if rows.contains(column) {
                let name = self.schema.column_name(*column);
                self.report(
                    Problem::Duplicate,
                    target.span(),
                    format!("{name} stands on both axes"),
                    "leave it on one of them",
                );
            }
        }
        let having = query.having.as_ref().map(|e| self.judged(&rows, e));
        if let Some(Some(e)) = &having
            && !matches!(e.ty, Type::Bool | Type::Null)
        {
            self.report(
                Problem::Type,
                e.span,
                format!("`having` is true or false, this is {}", e.ty),
                "compare it: `having net_revenue > 1000`",
            );
        }
        let order: Vec<Option<(Expr, bool)>> =
            query.order.iter().map(|(e, descending)| Some((self.judged(&rows, e)?, *descending))).collect();
        let limit = query.limit.as_ref().map(|l| self.limit(l, &rows));
        Some(CheckedQuery {
            items: items.into_iter().collect::<Option<_>>()?,
            having: having.map_or(Some(None), |h| h.map(Some))?,
            order: order.into_iter().collect::<Option<_>>()?,
            limit: limit.map_or(Some(None), |l| l.map(Some))?,
            rows,
            columns,
            filters,
        })
    }

    /// `having` and `order by` may name the row axes' columns.
    fn judged(&mut self, rows: &[ColumnId], e: &ast::Expr) -> Option<Expr> {
        let (expr, problems) = check::line_formula(&self.schema, self.settings, self.source, rows, e);
        self.problems.extend(problems);
        expr
    }

    fn item(&mut self, item: &ast::Item) -> Option<(PlannedItem, Expr)> {
        let (expr, problems) = check::measure_formula(&self.schema, self.settings, self.source, &item.expr);
        self.problems.extend(problems);
        let expr = expr?;
        let measure = match &expr.kind {
            Kind::Measure(id) => Some(self.schema.measure(*id)),
            _ => None,
        };
        let written = self.source.slice(item.expr.span).split_whitespace().collect::<Vec<_>>().join(" ");
        let heading = item.heading.as_ref().map(|h| h.text.clone());
        let planned = PlannedItem {
            name: heading.clone().or(measure.map(|m| m.name.clone())).unwrap_or(written),
            label: heading.or(measure.and_then(|m| m.label.clone())),
            format: item.format.clone().or(measure.and_then(|m| m.format.clone())),
            ty: expr.ty,
        };
        Some((planned, expr))
    }

    /// Columns, with hierarchies as their levels; each once.
    fn axes(&mut self, targets: &[Target]) -> Option<Vec<ColumnId>> {
        let mut columns = Vec::new();
        let mut failed = false;
        for target in targets {
            match self.axis(target) {
                Some(list) => {
                    for column in list {
                        if !columns.contains(&column) {
                            columns.push(column);
                        }
                    }
                }
                None => failed = true,
            }
        }
        (!failed).then_some(columns)
    }

    fn axis(&mut self, target: &Target) -> Option<Vec<ColumnId>> {
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
                if let Some(levels) = hierarchy(&self.schema, None, &name.text) {
                    return Some(levels);
                }
                let known: Vec<&str> =
                    self.schema.tables.iter().flat_map(|t| t.hierarchies.iter().map(|(n, _)| n.as_str())).collect();
                let homes: Vec<String> = (0..self.schema.tables.len() as u32)
                    .filter_map(|t| self.schema.find_column(TableId(t), &name.text))
                    .map(|c| self.schema.column_name(c))
                    .collect();
                let help = if !homes.is_empty() {
                    format!("write the table, too: `{}`", homes.join("` or `"))
                } else {
                    match closest(&name.text, known.iter().copied()) {
                        Some(near) => format!("did you mean `{}`?", quote_name(near)),
                        None => "an axis is a column, written `table.column`, or a hierarchy".into(),
                    }
                };
                self.report(Problem::UnknownName, name.span, format!("`{}` cannot be an axis", name.text), help);
                None
            }
            Target::Column(table, column) => {
                if let Some(id) = self.schema.find_table(&table.text)
                    && let Some(levels) = hierarchy(&self.schema, Some(id), &column.text)
                {
                    return Some(levels);
                }
                let e = ast::Expr { kind: ast::ExprKind::Column(table.clone(), column.clone()), span: target.span() };
                let (found, problems) = check::column_name(&self.schema, self.settings, self.source, &e);
                self.problems.extend(problems);
                found.map(|c| vec![c])
            }
        }
    }

    fn limit(&mut self, limit: &ast::Limit, rows: &[ColumnId]) -> Option<(usize, Vec<usize>)> {
        if let Some(span) = limit.others {
            self.report(
                Problem::Unsupported,
                span,
                "`others` cannot be run yet",
                "leave it out: `totals` include the lines that a limit drops",
            );
            return None;
        }
        let within = self.axes(&limit.within)?;
        let mut places = Vec::new();
        for (target, column) in limit.within.iter().zip(&within) {
            match rows.iter().position(|r| r == column) {
                Some(place) => places.push(place),
                None => {
                    let name = self.schema.column_name(*column);
                    self.report(
                        Problem::UnknownName,
                        target.span(),
                        format!("{name} is not one of the rows"),
                        "`within` names columns of `by`",
                    );
                    return None;
                }
            }
        }
        Some((limit.count, places))
    }
}

/// Lays out scopes and plans all formulas over them.
fn build(schema: &Schema, source: &Arc<Source>, query: &ast::Query, checked: CheckedQuery) -> GridPlan {
    let mut planner = Planner::new(schema);
    let mut env = Environment::new(source);
    let mut base = Scope::default();
    let outside: Vec<(LetId, Expr)> = checked.filters.iter().flat_map(|f| f.outer.clone()).collect();
    let mut outer = Vec::new();
    for (id, value) in &outside {
        let bound = planner.bound(value, &Scope::default(), &Environment::new(source));
        let slot = planner.fresh_slot();
        outer.push((slot, bound));
        base.dims.push(Dim { key: Key::Value(slot), origin: Origin::Let, filters: false });
        env.bind(*id, base.dims.len() - 1);
    }
    for narrow in &checked.filters {
        let filter = planner.filter(narrow, &base, &env, Origin::Where);
        base.filters.push(filter);
    }
    let axes: Vec<ColumnId> = checked.rows.iter().chain(&checked.columns).copied().collect();
    let row_axes = checked.rows.len();
    let mut layout = Layout { planner, schema, base, env, axes: axes.clone(), row_axes };
    let exprs: Vec<&Expr> = checked.items.iter().map(|(_, e)| e).collect();
    let mut both_ways = Vec::new();
    exprs.iter().for_each(|e| both_ways_of(schema, e, &mut both_ways));
    let names: Vec<&str> = checked.items.iter().map(|(i, _)| i.name.as_str()).collect();
    let parts =
        subsets(row_axes, axes.len(), query.totals).into_iter().map(|axes| layout.part(axes, &names, &exprs)).collect();
    let levels = if query.totals && !checked.order.is_empty() { 1..row_axes + 1 } else { row_axes..row_axes + 1 };
    let judges = if checked.having.is_some() || !checked.order.is_empty() {
        levels.rev().map(|n| layout.judge(n, checked.having.as_ref(), &checked.order)).collect()
    } else {
        Vec::new()
    };
    GridPlan {
        reads: layout.planner.into_reads(),
        axes,
        row_axes,
        items: checked.items.into_iter().map(|(i, _)| i).collect(),
        outer,
        parts,
        judges,
        descending: checked.order.iter().map(|(_, d)| *d).collect(),
        limit: checked.limit,
        with_empty: query.with_empty,
        both_ways,
    }
}

/// The combinations of axes to evaluate: all, and with totals every outer part of the rows with every outer part of the
/// columns.
fn subsets(rows: usize, all: usize, totals: bool) -> Vec<Vec<usize>> {
    if !totals {
        return vec![(0..all).collect()];
    }
    let mut list = Vec::new();
    for r in (0..=rows).rev() {
        for c in (rows..=all).rev() {
            list.push((0..r).chain(rows..c).collect());
        }
    }
    list
}

struct Layout<'a> {
    planner: Planner<'a>,
    schema: &'a Schema,
    base: Scope,
    env: Environment,
    axes: Vec<ColumnId>,
    row_axes: usize,
}

impl Layout<'_> {
    fn scope(&self, axes: &[usize]) -> Scope {
        let mut scope = self.base.clone();
        for axis in axes {
            let origin = if *axis < self.row_axes { Origin::RowAxis } else { Origin::ColumnAxis };
            scope.dims.push(Dim { key: Key::Column(self.axes[*axis]), origin, filters: true });
            scope.axes.push(self.axes[*axis]);
        }
        scope
    }

    fn part(&mut self, axes: Vec<usize>, names: &[&str], exprs: &[&Expr]) -> GridPart {
        let scope = self.scope(&axes);
        let columns: Vec<ColumnId> = axes.iter().map(|a| self.axes[*a]).collect();
        let keys: Vec<Key> = columns.iter().map(|c| Key::Column(*c)).collect();
        let mut groups = Vec::new();
        let mut null_filters = Vec::new();
        for (table, members) in chains(self.schema, &columns) {
            let reached = self.planner.reached(table, &self.base, None, 0);
            null_filters.push(reached.all_filters().into_iter().cloned().collect());
            groups.push(self.planner.domain_group(table, members, &keys, &BTreeSet::new(), &self.base));
        }
        let domain = Domain { outer_dims: self.base.dims.len(), keys, groups };
        let items = names.iter().zip(exprs).map(|(n, e)| self.planner.assembly(n, e, &scope, &self.env)).collect();
        GridPart { axes, domain, null_filters, items }
    }

    fn judge(&mut self, axes: usize, having: Option<&Expr>, order: &[(Expr, bool)]) -> Judge {
        let places: Vec<usize> = (0..axes).collect();
        let scope = self.scope(&places);
        let first = self.base.dims.len();
        let columns: Vec<(ColumnId, usize)> = places.iter().map(|a| (self.axes[*a], first + a)).collect();
        let env = self.env.clone().with_columns(ROW, columns.clone());
        let resolvable = |e: &Expr| {
            let mut all = true;
            e.walk(&mut |part| {
                if let Kind::Current { column, .. } = &part.kind {
                    all &= columns.iter().any(|(c, _)| c == column);
                }
            });
            all
        };
        let having = having.filter(|_| axes == self.row_axes).map(|e| self.planner.assembly("having", e, &scope, &env));
        let order = order
            .iter()
            .map(|(e, _)| resolvable(e).then(|| (self.planner.assembly("order by", e, &scope, &env), e.ty)))
            .collect();
        Judge { axes, having, order }
    }
}
