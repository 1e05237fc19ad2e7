//! Why a row of a calculated column has its value.

use std::sync::Arc;

use super::answer::{Why, WhyOptions};
use super::explained::{Explained, code_of, literal};
use crate::{Error, Model};
use cubrel_formula::check::{self, ROW, Settings};
use cubrel_formula::parser;
use cubrel_formula::schema::ColumnId;
use cubrel_formula::source::{Diagnostic, Problem, Source};
use cubrel_plan::query::{coerced, equality};
use cubrel_plan::{Dim, DimId, Environment, FilterOrigin, Key, Planner, Scope};
use cubrel_run::{Executor, OneCell, Tables};
use cubrel_store::Store;
use cubrel_value::Value;

/// Explains one row.
pub(super) fn why(
    model: &Model,
    store: &Store,
    settings: &Settings,
    column: ColumnId,
    at: &Arc<Source>,
    options: &WhyOptions,
) -> Result<Why, Error> {
    let schema = model.schema();
    let (table, def) = (schema.table(column.table), schema.column(column));
    let name = schema.column_name(column);
    let section = model.document().file.table.get(&table.name).and_then(|t| t.column.get(&def.name));
    let Some(text) = section.and_then(|s| s.formula.as_ref()) else {
        let problem = Diagnostic::general(Problem::Model, format!("{name} is not calculated: it stands in the source"));
        return Err(Error::Problems(vec![problem.help("ask about a cell of a grid, or a column with a formula")]));
    };
    let tables = Tables::new(schema, store);
    let (row, count) = find_row(tables, settings, column, at)?;
    let place = format!("table.{}.column.{}.formula", table.name, def.name);
    let source = model.document().formula(format!("column {name}"), &place, text);
    let (tree, mut problems) = parser::formula(&source);
    let (expr, more) = check::column_formula(schema, settings, &source, column.table, &tree);
    problems.extend(more);
    let Some(expr) = expr else {
        // A column that was there only while loading cannot be looked at again.
        return Err(Error::Problems(problems));
    };
    let scope = Scope {
        dims: vec![Dim { key: Key::Row(column.table), origin: FilterOrigin::BoundRow, filters: true }],
        ..Scope::default()
    };
    let mut planner = Planner::new(schema);
    let env = Environment::new(&source).with_row(ROW, column.table, DimId::new(0));
    let assembly = planner.assembly(&def.name, &expr, &scope, &env);
    let reads = planner.into_reads(&source)?;
    let run = options.query.run_options();
    let executor = Executor::new(tables, &reads, &run);
    let cell = OneCell::of_row(&executor, column.table, row);
    let explained = Explained { schema, tables, rows: options.rows };
    let tree = explained.assembly(&assembly, &cell)?;
    let data = tables.column(column);
    let stored = data.value_of(data.code(row));
    let mut notes = Vec::new();
    if count > 1 {
        notes.push(format!("{count} rows are meant; this is the first of them"));
    }
    notes.push(format!("stored: {}", literal(&stored)));
    let (left, rows) = (explained.tables_left(&assembly, &cell)?, explained.rows_behind(&assembly, &cell)?);
    run.check()?;
    Ok(Why {
        name,
        label: def.label.clone(),
        format: def.format.clone(),
        ty: def.ty,
        value: stored,
        notes,
        filters: explained.filters(&scope, &cell),
        tables: left,
        rows,
        tree,
    })
}

/// The first row with the values that are asked for, and how many there are.
fn find_row(
    tables: Tables<'_>,
    settings: &Settings,
    column: ColumnId,
    at: &Arc<Source>,
) -> Result<(usize, usize), Error> {
    let (conditions, problems) = parser::conditions(at);
    if !problems.is_empty() {
        return Err(Error::Problems(problems));
    }
    let table = &tables.schema.table(column.table).name;
    let mut wanted: Vec<(ColumnId, Value)> = Vec::new();
    for condition in &conditions {
        let fail = |message: String| {
            let help = format!("say which row: `{table}.… = …`");
            Error::Problems(vec![Diagnostic::error(Problem::Syntax, at, condition.span, message).help(help)])
        };
        let (left, value) =
            equality(settings, at, condition).ok_or_else(|| fail("this says not which row is meant".into()))?;
        let (found, problems) = check::column_name(tables.schema, settings, at, left);
        let Some(found) = found else {
            return Err(if problems.is_empty() {
                fail("this is not a column".into())
            } else {
                Error::Problems(problems)
            });
        };
        if found.table != column.table {
            return Err(fail(format!("{} is not a column of `{table}`", tables.schema.column_name(found))));
        }
        let ty = tables.schema.column(found).ty;
        let value = coerced(&value, ty)
            .ok_or_else(|| fail(format!("{} is {ty}, this is {value}", tables.schema.column_name(found))))?;
        wanted.push((found, value));
    }
    let codes = wanted.iter().map(|(c, v)| code_of(tables, *c, v).map(|code| (*c, code)));
    let codes = codes.collect::<Result<Vec<_>, Error>>()?;
    let columns: Vec<(Vec<u64>, u64)> = codes.into_iter().map(|(c, code)| (tables.column(c).codes(), code)).collect();
    let matches = |row: &usize| columns.iter().all(|(codes, code)| codes[*row] == *code);
    let rows: Vec<usize> = (0..tables.rows(column.table)).filter(matches).collect();
    match rows.first() {
        Some(row) => Ok((*row, rows.len())),
        None => {
            let problem = Diagnostic::general(Problem::UnknownName, format!("no row of `{table}` has these values"));
            Err(Error::Problems(vec![problem.help(format!("`records {table}.…` shows rows"))]))
        }
    }
}
