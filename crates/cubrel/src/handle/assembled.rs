//! Loaded tables to a model: schema, relationships, columns that need other tables.

use std::sync::Arc;
use std::time::Instant;

use rayon::prelude::*;

use super::calculated::calculated;
use super::{Error, Inner, Model};
use crate::formula::check::Settings;
use crate::formula::schema::{ColumnId, Computed, RelationshipDef, Schema, TableId};
use crate::formula::source::{Diagnostic, Severity, Source};
use crate::load::tables::{LoadedTable, duplicate_keys, eval_problem, to_raw};
use crate::load::{ComputedColumn, TableReport};
use crate::model::calendar::check_days;
use crate::model::define::{Defined, QueryColumn, ShapeColumn, Step, TableShape, define};
use crate::model::dependencies::{Formulas, Node};
use crate::model::document::Document;
use crate::plan::query::{Axis, QueryPlan, plan};
use crate::run::{Options, RunError, grid};
use crate::store::proof::Damage;
use crate::store::{Column, Lookup, NO_ROW, SEGMENT_ROWS, Store, TableData, Target};
use crate::value::{Type, VectorBuilder};

/// Columns that were computed by an earlier run from the same data, and lookups of it.
#[derive(Default)]
pub struct Known {
    /// By table and name.
    pub columns: Vec<(String, String, Arc<Column>)>,
    /// By relationship; all or none.
    pub lookups: Vec<Arc<Lookup>>,
    /// What is found to be damaged in the store that all this comes from.
    pub damage: Arc<Damage>,
}

/// Puts a model together.
///
/// # Errors
/// Everything that is wrong with the formulas, relationships and keys.
pub fn assemble(
    document: Document,
    formulas: &Formulas,
    tables: &[LoadedTable],
    settings: Settings,
    known: Known,
) -> Result<Model, Error> {
    let shapes: Vec<TableShape> = tables.iter().map(|t| shape(&document, formulas, t)).collect();
    let defined = define(&document, formulas, &shapes, &settings, &query_columns);
    if defined.has_errors() {
        return Err(Error::Problems(defined.all_problems()));
    }
    let Defined { schema, after, roles, problems, of_measures } = defined;
    let mut store = Store::default();
    let empty = Arc::new(Column::empty(Type::Int));
    for (table, shape) in tables.iter().zip(&shapes) {
        let find = |name: &str| table.columns.iter().find(|c| c.name == name).map_or(&empty, |c| &c.data);
        let columns = shape.columns.iter().map(|c| find(&c.name).clone()).collect();
        store.tables.push(TableData { rows: table.rows, columns, allowed: None });
    }
    let gaps: Vec<Diagnostic> = calendar_problems(&schema, &store);
    if !gaps.is_empty() {
        return Err(Error::Problems(gaps));
    }
    store.lookups = if known.lookups.len() == schema.relationships.len() && !known.lookups.is_empty() {
        known.lookups
    } else {
        let by_query = |r: &RelationshipDef| [r.many, r.one].iter().any(|t| is_by_query(&document, &schema, *t));
        lookups(&schema, &store, |r| !by_query(r))?
    };
    let found = |table: TableId, column: &str| {
        let name = &schema.table(table).name;
        known.columns.iter().find(|(t, c, _)| t == name && c == column).map(|(_, _, data)| data.clone())
    };
    let mut computed: Vec<(TableId, ComputedColumn)> = Vec::new();
    for step in after {
        match step {
            Step::Column(id, expr, source) => {
                let data = match found(id.table, &schema.column(id).name) {
                    Some(data) => data,
                    None => {
                        let start = Instant::now();
                        let data = Arc::new(calculated(&schema, &store, id, &expr, &source)?);
                        // Microseconds are as fine as the clock is worth.
                        let milliseconds = start.elapsed().as_micros() as f64 / 1e3;
                        let column = schema.column(id).name.clone();
                        computed.push((id.table, ComputedColumn { column, milliseconds }));
                        data
                    }
                };
                store.tables[id.table.0 as usize].columns[id.index as usize] = data;
            }
            Step::Table(table, source) => {
                let names = schema.table(table).columns.iter().map(|c| &c.name);
                let stored: Option<Vec<Arc<Column>>> = names.map(|n| found(table, n)).collect();
                let complete = stored.is_some();
                let columns = match stored {
                    Some(columns) => columns,
                    None => work_out(&schema, &store, &settings, table, &source)?,
                };
                let data = &mut store.tables[table.0 as usize];
                data.rows = columns.first().map_or(0, |c| c.rows());
                columns.into_iter().enumerate().for_each(|(i, column)| data.columns[i] = column);
                if !complete {
                    let touches = |r: &RelationshipDef| r.many == table || r.one == table;
                    let again = lookups(&schema, &store, touches)?;
                    for ((old, new), r) in store.lookups.iter_mut().zip(again).zip(&schema.relationships) {
                        if touches(r) {
                            *old = new;
                        }
                    }
                }
            }
        }
    }
    let report = |(id, (table, data)): (usize, (&LoadedTable, &TableData))| {
        let own = computed.iter().filter(|(of, _)| of.0 as usize == id).map(|(_, column)| column.clone());
        TableReport { rows: data.rows as u64, computed: own.collect(), ..table.report.clone() }
    };
    let reports = tables.iter().zip(&store.tables).enumerate().map(report).collect();
    let warnings = problems.into_iter().filter(|p| p.severity == Severity::Warning).collect();
    let (damage, restricted) = (known.damage, Default::default());
    let inner = Inner {
        document,
        schema,
        store,
        settings,
        reports,
        warnings,
        of_measures,
        roles,
        damage,
        restricted,
        outdated: None,
    };
    Ok(Model { inner: Arc::new(inner) })
}

/// Everything that is wrong with a model whose tables are known.
pub fn diagnose(
    document: &Document,
    formulas: &Formulas,
    tables: &[LoadedTable],
    settings: &Settings,
) -> Vec<Diagnostic> {
    let shapes: Vec<TableShape> = tables.iter().map(|t| shape(document, formulas, t)).collect();
    define(document, formulas, &shapes, settings, &query_columns).all_problems()
}

/// The columns that a table will have: the loaded ones, then those to be computed.
fn shape(document: &Document, formulas: &Formulas, table: &LoadedTable) -> TableShape {
    let mut columns: Vec<ShapeColumn> = table
        .columns
        .iter()
        .map(|c| ShapeColumn { name: c.name.clone(), ty: c.data.ty(), computed: c.computed })
        .collect();
    if let Some(query) = formulas.queries.get(&Node::Table(table.name.clone())) {
        let column = |name: &String| ShapeColumn { name: name.clone(), ty: Type::Null, computed: Computed::After };
        columns = query.columns.iter().map(column).collect();
    }
    let section = document.file.table.get(&table.name);
    for (name, said) in section.iter().flat_map(|s| &s.column) {
        let node = Node::Column(table.name.clone(), name.clone());
        let loaded = formulas.own_row.contains(&node) && columns.iter().any(|c| c.name == *name);
        if said.formula.is_some() && !loaded {
            columns.push(ShapeColumn { name: name.clone(), ty: Type::Null, computed: Computed::After });
        }
    }
    TableShape { name: table.name.clone(), columns }
}

/// Calendars with gaps, doubles or rows without a day.
fn calendar_problems(schema: &Schema, store: &Store) -> Vec<Diagnostic> {
    let calendars = schema.tables.iter().zip(&store.tables);
    let dates = calendars.filter_map(|(table, data)| {
        let index = table.calendar?;
        let name = format!("{}.{}", table.name, table.columns[index as usize].name);
        check_days(&name, data.columns[index as usize].proven())
    });
    dates.collect()
}

/// Whether a table is the result of a query.
fn is_by_query(document: &Document, schema: &Schema, table: TableId) -> bool {
    document.file.table.get(&schema.table(table).name).is_some_and(|s| s.query.is_some())
}

/// The columns that a query gives.
fn query_columns(
    schema: &Schema,
    settings: &Settings,
    source: &Arc<Source>,
) -> Result<Vec<QueryColumn>, Vec<Diagnostic>> {
    let QueryPlan::Grid(plan) = plan(schema, settings, source)? else {
        return Ok(Vec::new());
    };
    let axes = plan.axes.iter().map(|axis| match axis {
        Axis::Column(id) => {
            let column = schema.column(*id);
            QueryColumn { ty: column.ty, label: column.label.clone(), format: column.format.clone() }
        }
        Axis::Lens(lens) => QueryColumn { ty: Type::Text, label: schema.lenses[*lens].label.clone(), format: None },
    });
    let items = plan.items.iter().map(|i| QueryColumn { ty: i.ty, label: i.label.clone(), format: i.format.clone() });
    Ok(axes.chain(items).collect())
}

/// The columns of a table that its query gives.
fn work_out(
    schema: &Schema,
    store: &Store,
    settings: &Settings,
    table: TableId,
    source: &Arc<Source>,
) -> Result<Vec<Arc<Column>>, Error> {
    let plan = plan(schema, settings, source)?;
    let name = &schema.table(table).name;
    let (grid, _) = grid::run(schema, store, &plan, &Options::default()).map_err(|e| match e {
        RunError::Eval(e) => Error::Problems(vec![eval_problem(&e, 0, name)]),
        other => Error::Run(other),
    })?;
    let column = |i: usize| {
        let (id, found) = (ColumnId { table, index: i as u32 }, &grid.columns[i]);
        let ty = schema.column(id).ty;
        let mut builder = VectorBuilder::new(ty, grid.lines.len());
        grid.lines.iter().for_each(|line| builder.push(line.values[i].clone()));
        let raw =
            to_raw(builder.finish(), ty, (&found.name, &|row| row), source).map_err(|p| Error::Problems(vec![p]))?;
        Ok(Arc::new(Column::encode(&raw, SEGMENT_ROWS)))
    };
    (0..grid.columns.len()).map(column).collect()
}

/// A relationship whose rows are not known yet.
fn unknown_lookup(store: &Store, r: &RelationshipDef) -> Lookup {
    let key = &store.tables[r.many.0 as usize].columns[r.many_columns[0] as usize];
    let target = Target::ByCode(vec![NO_ROW; key.domain() as usize + 1].into());
    let one_rows = store.tables[r.one.0 as usize].rows;
    Lookup { target, unmatched_rows: 0, key_count: 0, one_rows, examples: Vec::new(), proof: None }
}

/// The relationships that are `wanted`; the others point at nothing.
fn lookups(
    schema: &Schema,
    store: &Store,
    wanted: impl Fn(&RelationshipDef) -> bool + Sync,
) -> Result<Vec<Arc<Lookup>>, Error> {
    let built: Vec<_> = schema
        .relationships
        .par_iter()
        .map(|r| {
            if !wanted(r) {
                return Ok(unknown_lookup(store, r));
            }
            let side = |table: crate::formula::schema::TableId, columns: &[u32]| -> Vec<&Column> {
                columns.iter().map(|c| &*store.tables[table.0 as usize].columns[*c as usize]).collect()
            };
            Lookup::build(&side(r.many, &r.many_columns), &side(r.one, &r.one_columns)).map_err(|duplicates| {
                let names: Vec<String> =
                    r.one_columns.iter().map(|c| schema.column_name(ColumnId { table: r.one, index: *c })).collect();
                duplicate_keys(&names.join(", "), &duplicates)
            })
        })
        .collect();
    let (mut lookups, mut problems) = (Vec::new(), Vec::new());
    for result in built {
        match result {
            Ok(lookup) => lookups.push(Arc::new(lookup)),
            Err(problem) => problems.push(problem),
        }
    }
    if problems.is_empty() { Ok(lookups) } else { Err(Error::Problems(problems)) }
}
