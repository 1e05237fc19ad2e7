//! Axes and filters that do not arrive at what an item goes through: it shows the same on every line, which is legal and
//! hardly ever meant.

use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;

use crate::schema::{ColumnId, MeasureId, RelationshipId, Schema, TableId};
use crate::source::{Diagnostic, Problem, Source};
use crate::typed::{Kind, Narrow, Over, PerDomain, TypedAggregate, TypedEdit, TypedExpr};
use crate::words::quote_name;

/// What an item goes through: a table, and the spare relationships named around.
type Gone = BTreeSet<(TableId, Vec<RelationshipId>)>;

/// Warnings for axes and filters none of which arrives at any table that an item goes through.
pub fn lost(
    schema: &Schema,
    source: &Arc<Source>,
    item: &TypedExpr,
    axes: &[ColumnId],
    filters: &[Narrow],
) -> Vec<Diagnostic> {
    let mut walk = ArrivalSearch { schema, gone: Gone::new(), both_ways: Vec::new(), known: HashSet::new() };
    walk.expr(item, &mut Vec::new());
    let Some((through, _)) = walk.gone.first().cloned() else { return Vec::new() };
    let touched: BTreeSet<TableId> =
        walk.gone.iter().flat_map(|(table, detours)| walk.touched(*table, detours)).collect();
    let axes = axes.iter().filter(|a| !touched.contains(&a.table));
    let of_axes = axes.map(|a| (format!("{} on an axis", schema.column_name(*a)), a.table));
    let filters = filters.iter().filter(|f| !touched.contains(&f.table));
    let of_filters = filters.map(|f| {
        let names: Vec<String> = f.columns.iter().map(|c| schema.column_name(*c)).collect();
        (format!("the filter on {}", names.join(", ")), f.table)
    });
    let warn = |(what, from): (String, TableId)| {
        let table = quote_name(&schema.table(through).name);
        let message =
            format!("this goes through `{table}`, and {what} does not reach it: the figure is the same without it");
        let help = match walk.finer(through, from) {
            Some(finer) => format!("go through a table that has both: `… per {finer}`, or leave it out"),
            None => "no table has both: relate them, or leave it out".to_string(),
        };
        Diagnostic::error(Problem::Surprise, source, item.span, message).help(help).warning()
    };
    of_axes.chain(of_filters).map(warn).collect()
}

struct ArrivalSearch<'a> {
    schema: &'a Schema,
    gone: Gone,
    both_ways: Vec<RelationshipId>,
    /// Measures that were looked at, with the relationships named around them.
    known: HashSet<(MeasureId, Vec<RelationshipId>)>,
}

impl ArrivalSearch<'_> {
    fn expr(&mut self, e: &TypedExpr, detours: &mut Vec<RelationshipId>) {
        match &e.kind {
            Kind::Via(body, id) => {
                detours.push(*id);
                self.expr(body, detours);
                detours.pop();
            }
            Kind::BothWays(body, id) => {
                self.both_ways.push(*id);
                self.expr(body, detours);
            }
            Kind::Measure(id) => {
                if let Some(body) = &self.schema.measure(*id).expr
                    && self.known.insert((*id, detours.clone()))
                {
                    self.expr(body, detours);
                }
            }
            Kind::Aggregate(a) => self.aggregate(a, detours),
            Kind::Given(body, edits) => {
                // What an edit drops is not expected to arrive.
                if !edits.iter().any(|edit| {
                    matches!(edit, TypedEdit::WithoutAll | TypedEdit::WithoutAxes | TypedEdit::WithoutAllBut(_))
                }) {
                    self.expr(body, detours);
                }
            }
            _ => e.each_part(&mut |part| self.expr(part, detours)),
        }
    }

    fn aggregate(&mut self, a: &TypedAggregate, detours: &mut Vec<RelationshipId>) {
        match &a.over {
            Over::Rows(table) => {
                self.gone.insert((*table, detours.clone()));
            }
            Over::Per(per) => match &per.domain {
                PerDomain::Table(table) | PerDomain::Columns { of: Some(table), .. } => {
                    self.gone.insert((*table, detours.clone()));
                }
                PerDomain::Columns { columns, of: None } => {
                    self.gone.extend(columns.iter().map(|c| (c.table, detours.clone())));
                }
            },
        }
        a.args.iter().for_each(|e| self.expr(e, detours));
    }

    /// The tables whose filters reach a table, those that come back over relationships both ways included.
    fn touched(&self, table: TableId, detours: &[RelationshipId]) -> BTreeSet<TableId> {
        let mut touched: BTreeSet<TableId> = self.schema.reach(table, detours).into_keys().collect();
        loop {
            let back = (0..self.schema.relationships.len() as u32).map(RelationshipId).filter(|id| {
                let r = self.schema.relationship(*id);
                (r.both_ways || self.both_ways.contains(id)) && touched.contains(&r.one)
            });
            let more: BTreeSet<TableId> =
                back.flat_map(|id| self.schema.reach(self.schema.relationship(id).many, detours).into_keys()).collect();
            if more.is_subset(&touched) {
                return touched;
            }
            touched.extend(more);
        }
    }

    /// A table from which both can be looked up.
    fn finer(&self, a: TableId, b: TableId) -> Option<String> {
        let tables = (0..self.schema.tables.len() as u32).map(TableId);
        let found = tables.into_iter().find(|t| {
            let reach = self.schema.reach(*t, &[]);
            reach.contains_key(&a) && reach.contains_key(&b)
        });
        found.map(|t| quote_name(&self.schema.table(t).name))
    }
}
