//! Calculated columns that need other rows or tables.

use std::ops::Range;
use std::sync::Arc;

use rayon::prelude::*;

use super::Error;
use crate::formula::check::ROW;
use crate::formula::schema::{ColumnId, Schema};
use crate::formula::source::Source;
use crate::formula::typed::Expr;
use crate::load::tables::{eval_problem, stored, to_raw};
use crate::plan::{Assembly, Bound, Dim, Environment, Key, Leaf, Origin, Planner, Scope, cheaper_assembly};
use crate::run::anchors::Tables;
use crate::run::assemble::Executor;
use crate::run::frame::{Frame, KeyColumn};
use crate::run::{Options, RunError};
use crate::store::raw::RawColumn;
use crate::store::{Column, Cuts, SEGMENT_ROWS, Store};
use crate::value::VectorBuilder;

/// Rows that are computed together where each is cheap by itself: what they need stays in the caches.
const ROWS: usize = 1 << 15;

/// The values of a calculated column: a scope with the current row as its dimension, evaluated for all rows.
///
/// # Errors
/// What cannot be computed, with the row.
pub fn calculated(
    schema: &Schema,
    store: &Store,
    id: ColumnId,
    expr: &Expr,
    source: &Arc<Source>,
) -> Result<Column, Error> {
    let ty = schema.column(id).ty;
    let declared = expr.ty.scale() != ty.scale() || std::mem::discriminant(&expr.ty) != std::mem::discriminant(&ty);
    let expr = stored(expr.clone(), declared.then_some(ty));
    let scope = Scope {
        dims: vec![Dim { key: Key::Row(id.table), origin: Origin::BoundRow, filters: true }],
        ..Scope::default()
    };
    let mut planner = Planner::new(schema);
    let env = Environment::new(source).with_row(ROW, id.table, 0);
    let mut assembly = planner.assembly("", &expr, &scope, &env);
    let mut reads = planner.into_reads();
    cheaper_assembly(schema, &mut assembly, &mut reads);
    let options = Options { max_cells: usize::MAX, ..Options::default() };
    let executor = Executor::new(Tables { schema, store }, &reads, &options);
    let table = &schema.table(id.table).name;
    let name = schema.column_name(id);
    let values = |range: Range<usize>| -> Result<RawColumn, Error> {
        let codes: Vec<u64> = (range.start as u64..range.end as u64).collect();
        let dims = vec![KeyColumn::of_codes(codes, Key::Row(id.table))];
        let part = executor.eval(&assembly, &Frame { cells: range.len(), dims }).map_err(|e| match e {
            RunError::Eval(e) => Error::Problems(vec![eval_problem(&e, range.start, table)]),
            other => Error::Run(other),
        })?;
        let mut values = VectorBuilder::new(ty, range.len());
        values.append(&part.values, ty);
        to_raw(values.finish(), ty, (&name, range.start), source).map_err(|p| Error::Problems(vec![p]))
    };
    let cuts = cuts(store, id);
    let step = if is_cheap_by_row(&assembly) { ROWS } else { SEGMENT_ROWS };
    // The first rows do the reads that all of them need. Of several rows that fail, the first is told.
    let first = cuts.ranges().next().map(|range| values(range.start..range.end.min(range.start + step))).transpose()?;
    let piece = |range: Range<usize>| match &first {
        Some(first) if range.start == 0 => Ok(first.clone()),
        _ => values(range),
    };
    let segment = |range: Range<usize>| {
        let pieces: Vec<Range<usize>> =
            range.clone().step_by(step).map(|start| start..range.end.min(start + step)).collect();
        let pieces: Vec<Result<RawColumn, Error>> = pieces.into_par_iter().map(piece).collect();
        let pieces: Vec<RawColumn> = pieces.into_iter().collect::<Result<_, _>>()?;
        Ok((!pieces.is_empty()).then(|| Column::of_parts(&pieces)))
    };
    let segments: Vec<Result<Option<Column>, Error>> =
        cuts.ranges().collect::<Vec<_>>().into_par_iter().map(segment).collect();
    let parts: Vec<Column> = segments.into_iter().filter_map(Result::transpose).collect::<Result<_, Error>>()?;
    Ok(if parts.is_empty() { Column::empty(ty) } else { Column::join(parts) })
}

/// All columns of a table have the same segments.
fn cuts(store: &Store, id: ColumnId) -> Cuts {
    let table = &store.tables[id.table.0 as usize];
    let loaded = table.columns.iter().find(|c| c.rows() == table.rows && table.rows > 0);
    loaded.map_or_else(|| Cuts::even(table.rows, SEGMENT_ROWS), |c| c.cuts().clone())
}

/// Whether the cost of an assembly grows with its cells, but for what is done once.
fn is_cheap_by_row(assembly: &Assembly) -> bool {
    assembly.leaves.iter().all(|leaf| match leaf {
        Leaf::Read(..) | Leaf::Dim(_) | Leaf::Current { .. } => true,
        Leaf::Part(body) | Leaf::Project { body, .. } => is_cheap_by_row(body),
        Leaf::Bind { values, body } => {
            let cheap = |value: &Bound| matches!(value, Bound::Value(value) if is_cheap_by_row(value));
            values.iter().all(cheap) && is_cheap_by_row(body)
        }
        _ => false,
    })
}
