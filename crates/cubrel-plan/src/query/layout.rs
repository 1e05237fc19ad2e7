//! The scopes of a query, and all its formulas planned over them.

use crate::ids::{DimId, KeyId};
use std::collections::BTreeSet;
use std::sync::Arc;

use super::plans::{Axis, GridPart, GridPlan, Judge, Others, RecordsPlan};
use super::resolved::{CheckedGrid, CheckedRecords, Chosen};
use crate::lower::{Environment, Planner, chains};
use crate::rows::ParameterId;
use crate::scope::{Dim, Filter, FilterOrigin, FilterTest, Key, Scope};
use crate::tree::{Bound, Domain};
use crate::uses::{aggregated_tables, both_ways_of};
use cubrel_formula::ast;
use cubrel_formula::check::ROW;
use cubrel_formula::schema::{ColumnId, Schema, TableId};
use cubrel_formula::source::{Diagnostic, Source};
use cubrel_formula::typed::{LetId, Narrow, TypedExpr};

/// What stands around all cells: the `where`, with the values that it takes from outside.
pub struct Base {
    pub scope: Scope,
    env: Environment,
    pub outer: Vec<(ParameterId, Bound)>,
}

/// Plans filters that stand around all cells.
pub fn base(planner: &mut Planner<'_>, source: &Arc<Source>, filters: &[Narrow]) -> Base {
    let mut env = Environment::new(source);
    let mut scope = Scope::default();
    let mut outer = Vec::new();
    let outside: Vec<&(LetId, TypedExpr)> = filters.iter().flat_map(|f| &f.outer).collect();
    for (id, value) in outside {
        let bound = planner.bound(value, &Scope::default(), &Environment::new(source));
        let slot = planner.fresh_slot();
        outer.push((slot, bound));
        let dim = scope.push_dim(Dim { key: Key::Value(slot), origin: FilterOrigin::Let, filters: false });
        env.bind(*id, dim);
    }
    for narrow in filters {
        let filter = planner.filter(narrow, &scope, &env, FilterOrigin::Where);
        scope.filters.push(filter);
    }
    Base { scope, env, outer }
}

/// A plan, or what keeps it from being one.
type Planned<T> = Result<T, Vec<Diagnostic>>;

/// Plans a grid.
pub(super) fn grid(
    mut planner: Planner<'_>,
    source: &Arc<Source>,
    query: &ast::QueryTree,
    checked: CheckedGrid,
) -> Planned<GridPlan> {
    let schema = planner.schema();
    let base = base(&mut planner, source, &checked.filters);
    let axes: Vec<Axis> = checked.rows.iter().chain(&checked.columns).copied().collect();
    let row_axes = checked.rows.len();
    let mut both_ways = Vec::new();
    let exprs = checked.shown.iter().flat_map(|(_, exprs)| exprs);
    exprs.for_each(|e| both_ways_of(schema, e, &mut both_ways));
    let names: Vec<&str> = checked.items.iter().map(|i| i.name.as_str()).collect();
    let mut crossed = BTreeSet::new();
    if query.with_empty {
        let exprs = checked.shown.iter().flat_map(|(_, exprs)| exprs);
        exprs.for_each(|e| aggregated_tables(schema, e, &mut crossed));
    }
    let mut layout = Layout { planner, schema, base, axes: axes.clone(), row_axes, crossed };
    let mut parts = Vec::new();
    for axes in layout.subsets(query.totals) {
        for (chosen, exprs) in &checked.shown {
            parts.push(layout.part(&axes, chosen, &names, exprs));
        }
    }
    let judged = checked.having.is_some() || !checked.order.is_empty();
    let first = if query.totals && !checked.order.is_empty() { 1 } else { row_axes };
    let judges = (first..=row_axes).rev().filter(|_| judged);
    let judges = judges.map(|n| layout.judge(n, checked.having.as_ref(), &checked.order)).collect();
    let others = match &checked.limit {
        Some((_, within)) if checked.others => layout.others(within, query.totals, &checked.shown, &names),
        _ => None,
    };
    Ok(GridPlan {
        outer: layout.base.outer,
        reads: layout.planner.into_reads(source)?,
        axes,
        row_axes,
        items: checked.items,
        parts,
        totals: query.totals,
        judges,
        descending: checked.order.iter().map(|(_, d)| *d).collect(),
        limit: checked.limit,
        others,
        with_empty: query.with_empty,
        both_ways,
        warnings: checked.warnings,
    })
}

/// One item of one cell.
pub(super) struct PlannedCell {
    pub(super) reads: Vec<crate::Read>,
    pub(super) outer: Vec<(ParameterId, Bound)>,
    pub(super) assembly: crate::Assembly,
}

/// Plans one item at some of the axes, by number and column.
pub(super) fn cell(
    mut planner: Planner<'_>,
    source: &Arc<Source>,
    checked: &CheckedGrid,
    columns: &[(usize, ColumnId)],
    expr: &TypedExpr,
    item: usize,
) -> Planned<PlannedCell> {
    let schema = planner.schema();
    let base = base(&mut planner, source, &checked.filters);
    let axes: Vec<Axis> = checked.rows.iter().chain(&checked.columns).copied().collect();
    let row_axes = checked.rows.len();
    let mut layout = Layout { planner, schema, base, axes, row_axes, crossed: BTreeSet::new() };
    let scope = layout.scope(columns);
    let assembly = layout.planner.assembly(&checked.items[item].name, expr, &scope, &layout.base.env);
    Ok(PlannedCell { reads: layout.planner.into_reads(source)?, outer: layout.base.outer, assembly })
}

/// Plans `records`: a scope whose dimension is the row.
pub(super) fn records(mut planner: Planner<'_>, source: &Arc<Source>, checked: CheckedRecords) -> Planned<RecordsPlan> {
    let base = base(&mut planner, source, &checked.filters);
    let (rows, _) = planner.read(checked.table, &base.scope, None);
    let mut scope = base.scope.clone();
    let row = scope.push_dim(Dim { key: Key::Row(checked.table), origin: FilterOrigin::BoundRow, filters: true });
    let env = base.env.clone().with_row(ROW, checked.table, row);
    let items = checked.items.into_iter().map(|(item, e)| {
        let assembly = planner.assembly(&item.name, &e, &scope, &env);
        (item, assembly)
    });
    let items = items.collect();
    let order = checked.order.iter().map(|(e, d)| (planner.assembly("order by", e, &scope, &env), e.ty, *d)).collect();
    let reads = planner.into_reads(source)?;
    Ok(RecordsPlan {
        rows: reads[rows.read].clone(),
        reads,
        table: checked.table,
        items,
        order,
        limit: checked.limit,
        outer: base.outer,
    })
}

struct Layout<'a> {
    planner: Planner<'a>,
    schema: &'a Schema,
    base: Base,
    axes: Vec<Axis>,
    row_axes: usize,
    /// Tables whose columns combine with everything.
    crossed: BTreeSet<TableId>,
}

impl Layout<'_> {
    /// The combinations of axes to evaluate: all, and with totals every outer part of the rows with every outer part of
    /// the columns. A lens is never totalled.
    fn subsets(&self, totals: bool) -> Vec<Vec<usize>> {
        let all = self.axes.len();
        let mut list: Vec<Vec<usize>> = vec![(0..all).collect()];
        if !totals {
            return list;
        }
        for r in (0..=self.row_axes).rev() {
            for c in (self.row_axes..=all).rev() {
                let stays = |i: &usize| *i < r || (self.row_axes..c).contains(i) || self.axes[*i].column().is_none();
                let subset: Vec<usize> = (0..all).filter(stays).collect();
                if !list.contains(&subset) {
                    list.push(subset);
                }
            }
        }
        list
    }

    fn columns(&self, axes: &[usize]) -> Vec<(usize, ColumnId)> {
        axes.iter().filter_map(|a| Some((*a, self.axes[*a].column()?))).collect()
    }

    fn origin(&self, axis: usize) -> FilterOrigin {
        if axis < self.row_axes { FilterOrigin::RowAxis } else { FilterOrigin::ColumnAxis }
    }

    fn scope(&self, columns: &[(usize, ColumnId)]) -> Scope {
        let mut scope = self.base.scope.clone();
        for (axis, column) in columns {
            scope.dims.push(Dim { key: Key::Column(*column), origin: self.origin(*axis), filters: true });
            scope.axes.push(*column);
        }
        scope
    }

    /// The combinations that some columns have, multiplied with the cells of a scope.
    fn domain(&mut self, columns: &[(usize, ColumnId)], outer_dims: usize) -> (Domain, Vec<Vec<Filter>>) {
        let columns: Vec<ColumnId> = columns.iter().map(|(_, c)| *c).collect();
        let keys: Vec<Key> = columns.iter().map(|c| Key::Column(*c)).collect();
        let mut outer = self.base.scope.clone();
        let filler = Dim { key: Key::Value(ParameterId(0)), origin: FilterOrigin::Let, filters: false };
        outer.dims.resize(outer_dims, filler);
        let (mut groups, mut null_filters) = (Vec::new(), Vec::new());
        for (table, members) in self.combined(&columns) {
            let reached = self.planner.reached(table, &self.base.scope, None, 0);
            null_filters.push(reached.all_filters().into_iter().cloned().collect());
            groups.push(self.planner.domain_group(table, members, &keys, &BTreeSet::new(), &outer));
        }
        (Domain { outer_dims, keys, groups }, null_filters)
    }

    /// Columns by the table whose rows say which combinations there are. With empty ones, those of a table that is
    /// aggregated combine with everything: there its rows are what a combination may have none of.
    fn combined(&self, columns: &[ColumnId]) -> Vec<(TableId, Vec<KeyId>)> {
        let is_free = |c: &ColumnId| self.crossed.contains(&c.table);
        let places: Vec<usize> = (0..columns.len()).filter(|i| !is_free(&columns[*i])).collect();
        let bound: Vec<ColumnId> = places.iter().map(|i| columns[*i]).collect();
        let chained = chains(self.schema, &bound).into_iter();
        let mut groups: Vec<(TableId, Vec<KeyId>)> = chained
            .map(|(table, members)| (table, members.into_iter().map(|m| KeyId::new(places[m.index()])).collect()))
            .collect();
        groups.extend(
            (0..columns.len()).filter(|i| is_free(&columns[*i])).map(|i| (columns[i].table, vec![KeyId::new(i)])),
        );
        groups
    }

    fn part(&mut self, axes: &[usize], chosen: &Chosen, names: &[&str], exprs: &[TypedExpr]) -> GridPart {
        let columns = self.columns(axes);
        let scope = self.scope(&columns);
        let (domain, null_filters) = self.domain(&columns, self.base.scope.dims.len());
        let items = self.items(names, exprs, &scope);
        GridPart {
            axes: columns.iter().map(|(a, _)| *a).collect(),
            readings: self.readings(chosen),
            domain,
            null_filters,
            items,
        }
    }

    fn items(&mut self, names: &[&str], exprs: &[TypedExpr], scope: &Scope) -> Vec<crate::Assembly> {
        names.iter().zip(exprs).map(|(n, e)| self.planner.assembly(n, e, scope, &self.base.env)).collect()
    }

    /// Where the axes of lenses stand.
    fn readings(&self, chosen: &Chosen) -> Vec<(usize, u64)> {
        let at = |(i, axis): (usize, &Axis)| match axis {
            Axis::Lens(lens) => chosen.iter().find(|(l, _)| l == lens).map(|(_, reading)| (i, *reading)),
            Axis::Column(_) => None,
        };
        self.axes.iter().enumerate().filter_map(at).collect()
    }

    fn judge(&mut self, axes: usize, having: Option<&TypedExpr>, order: &[(TypedExpr, bool)]) -> Judge {
        let places = self.columns(&(0..axes).collect::<Vec<_>>());
        let scope = self.scope(&places);
        let first = self.base.scope.dims.len();
        let columns: Vec<(ColumnId, DimId)> =
            places.iter().enumerate().map(|(i, (_, column))| (*column, DimId::new(first + i))).collect();
        let env = self.base.env.clone().with_columns(ROW, columns.clone());
        let resolvable = |e: &TypedExpr| {
            let mut all = true;
            e.walk(&mut |part| {
                if let cubrel_formula::typed::Kind::Current { provider, column, .. } = &part.kind
                    && *provider == ROW
                {
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
        Judge { axes, columns: places.iter().map(|(a, _)| *a).collect(), having, order }
    }

    /// The line for what a limit drops: a filter on the combinations of the axes that it stands for.
    fn others(
        &mut self,
        within: &[usize],
        totals: bool,
        shown: &[(Chosen, Vec<TypedExpr>)],
        names: &[&str],
    ) -> Option<Others> {
        let is_within = |a: &usize| within.contains(a) || self.axes[*a].column().is_none();
        let rest: Vec<usize> = (0..self.row_axes).filter(|a| !is_within(a)).collect();
        if rest.is_empty() {
            return None;
        }
        let kept: Vec<usize> = (0..self.row_axes).filter(is_within).collect();
        let slot = self.planner.fresh_slot();
        let columns: Vec<ColumnId> = self.columns(&rest).into_iter().map(|(_, c)| c).collect();
        let test = FilterTest::Lines { columns: columns.clone(), kept: columns, slot };
        let mut parts = Vec::new();
        let all = self.axes.len();
        let splits: Vec<usize> = if totals { (self.row_axes..=all).rev().collect() } else { vec![all] };
        let mut known: Vec<Vec<usize>> = Vec::new();
        for c in splits {
            let split: Vec<usize> =
                (self.row_axes..all).filter(|a| *a < c || self.axes[*a].column().is_none()).collect();
            if known.contains(&split) {
                continue;
            }
            let (inner, columns) = (self.columns(&kept), self.columns(&split));
            let mut scope = self.scope(&inner);
            scope.dims.insert(
                self.base.scope.dims.len(),
                Dim { key: Key::Value(slot), origin: FilterOrigin::Let, filters: false },
            );
            scope.filters.push(Filter { test: test.clone(), origin: FilterOrigin::RowAxis });
            let outer_dims = scope.dims.len();
            for (axis, column) in &columns {
                scope.dims.push(Dim { key: Key::Column(*column), origin: self.origin(*axis), filters: true });
                scope.axes.push(*column);
            }
            let (domain, null_filters) = self.domain(&columns, outer_dims);
            for (chosen, exprs) in shown {
                parts.push(GridPart {
                    axes: columns.iter().map(|(a, _)| *a).collect(),
                    readings: self.readings(chosen),
                    domain: domain.clone(),
                    null_filters: null_filters.clone(),
                    items: self.items(names, exprs, &scope),
                });
            }
            known.push(split);
        }
        Some(Others { within: self.columns(&kept).into_iter().map(|(a, _)| a).collect(), rest, parts })
    }
}

#[cfg(test)]
mod tests {
    use crate::testing::{grid, model};

    #[test]
    fn a_grid_has_a_part_for_each_kind_of_total() {
        let cases: &[(&str, &[&[usize]])] = &[
            ("", &[&[]]),
            ("by route.id", &[&[0]]),
            ("by route.id totals", &[&[0], &[]]),
            ("by route.id, route.miles totals", &[&[0, 1], &[0], &[]]),
            ("by route.id split by season.name", &[&[0, 1]]),
            ("by route.id split by season.name totals", &[&[0, 1], &[1], &[0], &[]]),
        ];
        let model = model();
        for (axes, expected) in cases {
            let mut parts: Vec<Vec<usize>> = grid(&model, &format!("grid sum(booking.net) {axes}"))
                .parts
                .into_iter()
                .map(|part| part.axes)
                .collect();
            assert_eq!(parts.first().map(Vec::as_slice), expected.first().copied(), "{axes}: the cells come first");
            let mut expected: Vec<Vec<usize>> = expected.iter().map(|axes| axes.to_vec()).collect();
            parts.sort();
            expected.sort();
            assert_eq!(parts, expected, "{axes}");
        }
    }
}
