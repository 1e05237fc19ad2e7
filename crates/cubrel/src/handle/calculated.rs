//! Calculated columns that need other rows or tables.
//!
//! Where a row's value depends on nothing but some columns of it, and these stand in runs, it is computed once a run.

use crate::Type;
use cubrel_plan::{
    Assembly, Bound, Dim, DimId, Environment, FilterOrigin, Inputs, Key, Leaf, Planner, Read, Scope, optimize_assembly,
    validate,
};
use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::Arc;

use super::error::Error;
use cubrel_formula::check::ROW;
use cubrel_formula::schema::{ColumnId, Schema, TableId};
use cubrel_formula::source::Source;
use cubrel_formula::typed::TypedExpr;
use cubrel_load::stored::{stored, to_raw};
use cubrel_run::{Executor, Frame, KeyColumn, Options, Tables, alike_rows};
use cubrel_store::encode::NumberUse;
use cubrel_store::raw::RawColumn;
use cubrel_store::{CodedColumn, SEGMENT_ROWS, SegmentBounds, Store};
use cubrel_value::VectorBuilder;
use cubrel_value::cancel::Cancel;
use cubrel_value::threads::{map_each, map_owned};

/// Rows that are computed together where each is cheap by itself: what they need stays in the caches.
const ROWS: usize = 1 << 15;

/// How a calculated column is worked out.
pub struct ColumnPlan {
    assembly: Assembly,
    reads: Vec<Read>,
}

impl ColumnPlan {
    /// The plan of a column whose formula is checked.
    ///
    /// # Errors
    /// When it is far too large.
    pub fn new(schema: &Schema, id: ColumnId, expr: &TypedExpr, source: &Arc<Source>) -> Result<ColumnPlan, Error> {
        let ty = schema.column(id).ty;
        let declared = expr.ty.scale() != ty.scale() || std::mem::discriminant(&expr.ty) != std::mem::discriminant(&ty);
        let expr = stored(expr.clone(), declared.then_some(ty));
        let scope = Scope {
            dims: vec![Dim { key: Key::Row(id.table), origin: FilterOrigin::BoundRow, filters: true }],
            ..Scope::default()
        };
        let mut planner = Planner::new(schema);
        let env = Environment::new(source).with_row(ROW, id.table, DimId::new(0));
        let mut assembly = planner.assembly("", &expr, &scope, &env);
        let mut reads = planner.into_reads(source)?;
        optimize_assembly(schema, &mut assembly, &mut reads);
        Ok(ColumnPlan { assembly, reads })
    }

    fn check(&self, schema: &Schema) -> Result<(), Error> {
        validate::assembly(schema, &self.assembly, &self.reads).map_err(Error::Internal)
    }

    /// What its values are made from.
    pub fn inputs(&self, schema: &Schema) -> Inputs {
        Inputs::of_assembly(schema, &self.assembly, &self.reads)
    }
}

/// The values of a calculated column: a scope with the current row as its dimension, evaluated for all rows.
///
/// # Errors
/// What cannot be computed, with the row.
pub fn calculated(
    schema: &Schema,
    store: &Store,
    id: ColumnId,
    (expr, source): (&TypedExpr, &Arc<Source>),
    cancel: &Cancel,
) -> Result<CodedColumn, Error> {
    let plan = ColumnPlan::new(schema, id, expr, source)?;
    plan.check(schema)?;
    let ColumnPlan { assembly, reads } = plan;
    // Rows come in parts: what the first of them asks for is not all.
    let (max_cells, wanted_above) = (usize::MAX, usize::MAX);
    let options = Options { max_cells, wanted_above, cancel: cancel.clone(), ..Options::default() };
    let tables = Tables::new(schema, store);
    let evaluation = ColumnEvaluation {
        tables,
        executor: Executor::new(tables, &reads, &options),
        table: id.table,
        ty: schema.column(id).ty,
        name: schema.column_name(id),
        source,
        decided_by: deciding_columns(schema, &assembly, id.table),
        step: if is_cheap_by_row(&assembly) { ROWS } else { SEGMENT_ROWS },
        assembly: &assembly,
    };
    evaluation.column(&segment_bounds(store, id))
}

/// A calculated column that is being worked out.
struct ColumnEvaluation<'a> {
    tables: Tables<'a>,
    executor: Executor<'a>,
    assembly: &'a Assembly,
    table: TableId,
    ty: Type,
    /// Its full name, for errors.
    name: String,
    source: &'a Arc<Source>,
    /// What decides its values, where that is nothing but columns of the same row.
    decided_by: Option<BTreeSet<u32>>,
    /// How many values are computed together.
    step: usize,
}

impl ColumnEvaluation<'_> {
    fn column(&self, bounds: &SegmentBounds) -> Result<CodedColumn, Error> {
        let ranges: Vec<Range<usize>> = bounds.ranges().collect();
        let Some(first) = ranges.first() else { return Ok(CodedColumn::empty(self.ty)) };
        // The first rows do the reads that all of them need. Of several rows that fail, the first is told.
        let first = self.rows_of(first).part(0, self.step);
        let first = (first.len(), self.values(&first)?);
        let segments: Vec<Result<Option<CodedColumn>, Error>> = map_each(&ranges, |range| self.segment(range, &first));
        let parts: Vec<CodedColumn> =
            segments.into_iter().filter_map(Result::transpose).collect::<Result<_, Error>>()?;
        Ok(if parts.is_empty() {
            CodedColumn::empty(self.ty)
        } else {
            CodedColumn::join(parts, NumberUse::of(self.ty, true))
        })
    }

    /// The values of a segment; those of the first rows of all are known.
    fn segment(&self, range: &Range<usize>, first: &(usize, RawColumn)) -> Result<Option<CodedColumn>, Error> {
        let rows = self.rows_of(range);
        let parts: Vec<AlikeRows> = (0..rows.len()).step_by(self.step).map(|at| rows.part(at, self.step)).collect();
        let values = |part: AlikeRows| {
            let is_first = part.start == 0 && part.len() == first.0;
            if is_first { Ok(first.1.clone()) } else { self.values(&part) }
        };
        let pieces: Vec<Result<RawColumn, Error>> = map_owned(parts, values);
        let pieces: Vec<RawColumn> = pieces.into_iter().collect::<Result<_, _>>()?;
        Ok((!pieces.is_empty()).then(|| CodedColumn::of_parts(&pieces, rows.ends.as_deref())))
    }

    /// Rows as they are computed: one by one, or in runs that are alike.
    fn rows_of(&self, range: &Range<usize>) -> AlikeRows {
        let alike = |by| alike_rows(self.tables, self.table, by, range.clone());
        match self.decided_by.as_ref().and_then(alike) {
            Some(ends) => AlikeRows { start: range.start, ends: Some(ends), len: 0 },
            None => AlikeRows::all(range.clone()),
        }
    }

    fn values(&self, rows: &AlikeRows) -> Result<RawColumn, Error> {
        let dims = vec![KeyColumn::of_codes(rows.first_of_each(), Key::Row(self.table))];
        let part = self.executor.eval(self.assembly, &Frame::new(rows.len(), dims))?;
        let mut values = VectorBuilder::new(self.ty, rows.len());
        values.append(&part.values, self.ty);
        let row_of = |value: usize| rows.row(value);
        to_raw(values.finish(), self.ty, (&self.name, &row_of), self.source).map_err(|p| Error::Problems(vec![p]))
    }
}

/// Consecutive rows, or runs of rows that are alike.
struct AlikeRows {
    /// The first row.
    start: usize,
    /// Behind which row each run ends, counted from the first.
    ends: Option<Vec<u32>>,
    /// How many rows, where each is for itself.
    len: usize,
}

impl AlikeRows {
    fn all(range: Range<usize>) -> AlikeRows {
        AlikeRows { start: range.start, ends: None, len: range.len() }
    }

    /// How many values they have.
    fn len(&self) -> usize {
        self.ends.as_ref().map_or(self.len, Vec::len)
    }

    /// The first row of which a value is.
    fn row(&self, value: usize) -> usize {
        let Some(ends) = &self.ends else { return self.start + value };
        let end = value.checked_sub(1).map(|before| ends[before]);
        self.start + end.map_or(0, |end| end as usize)
    }

    fn first_of_each(&self) -> Vec<u64> {
        (0..self.len()).map(|value| self.row(value) as u64).collect()
    }

    /// Those that have the values from `at` on, at most so many.
    fn part(&self, at: usize, most: usize) -> AlikeRows {
        let to = self.len().min(at + most);
        let start = self.row(at);
        let before = (start - self.start) as u32;
        let ends = self.ends.as_ref().map(|ends| ends[at..to].iter().map(|end| end - before).collect());
        AlikeRows { start, ends, len: to - at }
    }
}

/// All columns of a table have the same segments.
fn segment_bounds(store: &Store, id: ColumnId) -> SegmentBounds {
    let table = &store.tables[id.table.0 as usize];
    let loaded = table.columns.iter().find(|c| c.rows() == table.rows && table.rows > 0);
    loaded.map_or_else(|| SegmentBounds::even(table.rows, SEGMENT_ROWS), |c| c.segment_bounds().clone())
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

/// The columns of a table that decide what an assembly gives for one of its rows, which is its first dimension; `None`
/// where more does.
fn deciding_columns(schema: &Schema, assembly: &Assembly, row: TableId) -> Option<BTreeSet<u32>> {
    let own = DimId::new(0);
    let of = |assembly: &Assembly| deciding_columns(schema, assembly, row);
    let nothing = |when: bool| when.then(BTreeSet::new);
    let mut columns = BTreeSet::new();
    for leaf in &assembly.leaves {
        columns.extend(match leaf {
            Leaf::Read(read, _) => nothing(!read.dims.contains(&own) && !read.outer.contains(&own)),
            Leaf::Dim(dim) => nothing(*dim != own),
            Leaf::Current { dim, table, column, path } if (*dim, *table) == (own, row) => Some(match path.first() {
                None => BTreeSet::from([column.index]),
                Some(relationship) => schema.relationship(*relationship).many_columns.iter().copied().collect(),
            }),
            Leaf::Part(body) => of(body),
            Leaf::Bind { values, body } => {
                let mut all = of(body)?;
                for value in values {
                    let Bound::Value(value) = value else { return None };
                    all.extend(of(value)?);
                }
                Some(all)
            }
            Leaf::Project { keep, .. } if !keep.contains(&own) => nothing(true),
            // Where the row stays, it stays the first.
            Leaf::Project { keep, body } if keep.first() == Some(&own) && !keep[1..].contains(&own) => of(body),
            _ => None,
        }?);
    }
    Some(columns)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_of_runs_are_runs() {
        let runs = AlikeRows { start: 100, ends: Some(vec![3, 4, 9, 20]), len: 0 };
        assert_eq!((runs.len(), runs.first_of_each()), (4, vec![100, 103, 104, 109]));
        let part = runs.part(1, 2);
        assert_eq!((part.start, part.ends.clone(), part.first_of_each()), (103, Some(vec![1, 6]), vec![103, 104]));
        assert_eq!(runs.part(3, 9).ends, Some(vec![11]));
        let rows = AlikeRows::all(7..12);
        assert_eq!((rows.len(), rows.row(4), rows.part(2, 9).first_of_each()), (5, 11, vec![9, 10, 11]));
    }
}
