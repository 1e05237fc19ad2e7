//! Loaded tables to a model: schema, relationships, columns that need other tables.

use crate::ComputedColumn;
use cubrel_formula::schema::TableId;
use std::sync::Arc;

use super::error::Error;
use super::late::{Known, Late};
use super::model::{Inner, Model};
use super::steps;
use cubrel_formula::check::Settings;
use cubrel_formula::schema::{Computed, Schema};
use cubrel_formula::source::{Diagnostic, Severity, Source};
use cubrel_load::TableReport;
use cubrel_load::loaded::LoadedTable;
use cubrel_model::calendar::check_days;
use cubrel_model::define::{Defined, QueryColumn, ShapeColumn, TableShape, define};
use cubrel_model::dependencies::{FormulaNode, Formulas};
use cubrel_model::document::Document;
use cubrel_plan::query::{Axis, QueryPlan, plan};
use cubrel_store::{CodedColumn, Lookup, Store, TableData};
use cubrel_value::Type;
use cubrel_value::cancel::Cancel;

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
    cancel: &Cancel,
) -> Result<Model, Error> {
    let shapes: Vec<TableShape> = tables.iter().map(|t| shape(&document, formulas, t)).collect();
    let defined = define(&document, formulas, &shapes, &settings, &query_columns);
    if defined.has_errors() {
        return Err(Error::Problems(defined.all_problems()));
    }
    let Defined { schema, after, roles, problems, of_measures } = defined;
    let store = store_of(tables, &shapes);
    let gaps: Vec<Diagnostic> = calendar_problems(&schema, &store);
    if !gaps.is_empty() {
        return Err(Error::Problems(gaps));
    }
    let mut late = Late::new(&schema, &settings, store, known, cancel)?;
    late.work_out(after.clone())?;
    let Late { store, computed, known, .. } = late;
    let reports = reports(tables, &store, &computed);
    let defined = Defined { schema, after, roles, problems, of_measures };
    Ok(put_together(document, defined, settings, (store, reports), known))
}

fn put_together(
    document: Document,
    defined: Defined,
    settings: Settings,
    (store, reports): (Store, Vec<TableReport>),
    known: Known,
) -> Model {
    let Defined { schema, after, roles, problems, of_measures } = defined;
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
        unkept: None,
        seen_as: None,
        after,
    };
    Model { inner: Arc::new(inner) }
}

/// A model with nothing worked out: what it says can be looked at and checked, and its queries cannot be asked.
///
/// # Errors
/// Everything that is wrong with its formulas and relationships.
pub fn outlined(
    document: Document,
    formulas: &Formulas,
    tables: &[LoadedTable],
    settings: Settings,
) -> Result<Model, Error> {
    let shapes: Vec<TableShape> = tables.iter().map(|t| shape(&document, formulas, t)).collect();
    let defined = described(&document, formulas, &shapes, &settings);
    if defined.has_errors() {
        return Err(Error::Problems(defined.all_problems()));
    }
    let nothing = Arc::new(Lookup::nothing());
    let lookups = defined.schema.relationships.iter().map(|_| nothing.clone()).collect();
    let store = Store { lookups, ..store_of(tables, &shapes) };
    let reports = reports(tables, &store, &[]);
    Ok(put_together(document, defined, settings, (store, reports), Known::default()))
}

/// The columns of all tables; those that are still to be computed are empty.
fn store_of(tables: &[LoadedTable], shapes: &[TableShape]) -> Store {
    let empty = Arc::new(CodedColumn::empty(Type::Int));
    let table = |(table, shape): (&LoadedTable, &TableShape)| {
        let find = |name: &str| table.columns.iter().find(|c| c.name == name).map_or(&empty, |c| &c.data);
        TableData { rows: table.rows, columns: shape.columns.iter().map(|c| find(&c.name).clone()).collect() }
    };
    Store { tables: tables.iter().zip(shapes).map(table).collect(), ..Store::default() }
}

/// What loading told of each table, and the columns that were computed afterwards.
fn reports(tables: &[LoadedTable], store: &Store, computed: &[(TableId, ComputedColumn)]) -> Vec<TableReport> {
    let report = |(id, (table, data)): (usize, (&LoadedTable, &TableData))| {
        let own = computed.iter().filter(|(of, _)| of.0 as usize == id).map(|(_, column)| column.clone());
        TableReport { rows: data.rows as u64, computed: own.collect(), ..table.report.clone() }
    };
    tables.iter().zip(&store.tables).enumerate().map(report).collect()
}

/// Everything that is wrong with a model whose tables are known.
pub fn diagnose(
    document: &Document,
    formulas: &Formulas,
    tables: &[LoadedTable],
    settings: &Settings,
) -> Vec<Diagnostic> {
    let shapes: Vec<TableShape> = tables.iter().map(|t| shape(document, formulas, t)).collect();
    described(document, formulas, &shapes, settings).all_problems()
}

/// What a model says, with everything that is wrong before anything is worked out.
fn described(document: &Document, formulas: &Formulas, shapes: &[TableShape], settings: &Settings) -> Defined {
    let mut defined = define(document, formulas, shapes, settings, &query_columns);
    if !defined.has_errors() {
        let cycle = steps::in_order(&defined.schema, settings, defined.after.clone()).err();
        defined.problems.extend(cycle.iter().flat_map(|e| e.problems()).cloned());
    }
    defined
}

/// The columns that a table will have: the loaded ones or those of its query, those that it shares with the table that
/// it is a copy of, then those to be computed.
fn shape(document: &Document, formulas: &Formulas, table: &LoadedTable) -> TableShape {
    let late = |name: &String| ShapeColumn { name: name.clone(), ty: Type::Null, computed: Computed::After };
    let mut columns: Vec<ShapeColumn> = table
        .columns
        .iter()
        .map(|c| ShapeColumn { name: c.name.clone(), ty: c.data.ty(), computed: c.computed })
        .collect();
    let query = formulas.queries.get(&FormulaNode::Table(table.name.clone()));
    columns.extend(query.iter().flat_map(|q| &q.columns).map(late));
    let given_by_query = columns.len() - table.columns.len();
    let first = formulas.copies.get(&table.name);
    let mut shared = Vec::new();
    if let Some(first) = first {
        let query = formulas.queries.get(&FormulaNode::Table(first.clone()));
        let of_formulas = calculated_columns(document, first);
        let all = query.iter().flat_map(|q| &q.columns).chain(of_formulas);
        shared.extend(all.filter(|name| !columns.iter().any(|c| c.name == **name)).cloned());
    }
    columns.extend(shared.iter().map(late));
    for name in calculated_columns(document, &table.name) {
        // Loaded, or shared with the first; then the formula is refused.
        if !columns.iter().any(|c| c.name == *name) {
            columns.push(late(name));
        }
    }
    TableShape { name: table.name.clone(), columns, given_by_query, shared }
}

fn calculated_columns<'a>(document: &'a Document, table: &str) -> impl Iterator<Item = &'a String> + use<'a> {
    let columns = document.file.table.get(table).into_iter().flat_map(|section| &section.column);
    columns.filter(|(_, said)| said.formula.is_some()).map(|(name, _)| name)
}

/// Calendars with gaps, doubles or rows without a day.
fn calendar_problems(schema: &Schema, store: &Store) -> Vec<Diagnostic> {
    let calendars = schema.tables.iter().zip(&store.tables);
    let dates = calendars.filter_map(|(table, data)| {
        let index = table.calendar?;
        let name = format!("{}.{}", table.name, table.columns[index as usize].name);
        check_days(&name, data.columns[index as usize].verified())
    });
    dates.collect()
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
