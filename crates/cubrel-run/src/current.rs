//! Columns of bound rows: what a cell's own row has, or looks up.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::{Arc, Mutex};

use super::compiled::{BatchCodes, CompiledRow, RowCompiler};
use super::frame::{BoundValue, KeyColumn, KeyKind, Pool, distinct};
use super::read::Batch;
use super::reads::kept;
use super::tables::Tables;
use super::{Options, RunError};
use cubrel_formula::scalar::{Place, Scalar, ScalarKind};
use cubrel_formula::schema::{ColumnId, RelationshipId, TableId};
use cubrel_formula::source::Source;
use cubrel_plan::{RowExpr, RowLeaf};
use cubrel_store::NO_ROW;
use cubrel_value::{Vector, VectorBuilder};

/// Rows that are unpacked together.
const BATCH: usize = 1 << 14;

/// A column of a table, or one that it looks up.
type CurrentColumn = (TableId, ColumnId, Vec<RelationshipId>);

/// Rows that lie together: one in so many of them at least is asked for.
const TOGETHER: u64 = 64;

/// The stretch of a table in which rows lie together, one after the other.
fn stretch(rows: &[u64]) -> Option<Range<usize>> {
    let (first, last) = (*rows.first()?, *rows.last()?);
    let lie_together = last.checked_sub(first)? < TOGETHER * rows.len() as u64;
    let range = first as usize..last as usize + 1;
    (lie_together && rows.windows(2).all(|pair| pair[0] < pair[1])).then_some(range)
}

/// Columns of the rows that cells are bound to.
pub(super) struct CurrentRows<'a> {
    tables: Tables<'a>,
    hoist: bool,
    /// Columns that have been made ready.
    compiled: Mutex<HashMap<CurrentColumn, Arc<CompiledRow>>>,
}

impl<'a> CurrentRows<'a> {
    pub(super) fn new(tables: Tables<'a>, options: &Options) -> CurrentRows<'a> {
        CurrentRows { tables, hoist: options.hoist, compiled: Mutex::default() }
    }

    /// A column in the row of each cell.
    ///
    /// # Errors
    /// As for expressions over rows.
    pub(super) fn column(
        &self,
        dim: &KeyColumn,
        table: TableId,
        column: ColumnId,
        path: &[RelationshipId],
    ) -> Result<Vector, RunError> {
        let codes = dim.codes.as_slice();
        match stretch(codes) {
            // Rows that lie together in the table are unpacked together.
            Some(range) if self.hoist => {
                let compiled = self.compiled((table, column, path.to_vec()));
                self.together(&compiled, (table, column), range, codes)
            }
            _ => {
                let data = self.tables.column(column);
                let none = self.tables.rows(table) as u64;
                let rows = codes.iter().map(|row| if *row >= none { NO_ROW } else { *row as u32 }).collect();
                Ok(data.vector_of(&self.tables.far_codes(data, path, rows)))
            }
        }
    }

    /// What the column has in the row of each cell, each different value once.
    pub(super) fn held(&self, dim: &KeyColumn, table: TableId, column: ColumnId, path: &[RelationshipId]) -> KeyColumn {
        let data = self.tables.column(column);
        let codes = match stretch(&dim.codes) {
            Some(range) if path.is_empty() => self.own_codes(table, column, range, &dim.codes),
            _ => self.tables.far_codes(data, path, dim.codes.iter().map(|row| *row as u32).collect()),
        };
        let (places, first) = distinct(&[&codes], codes.len());
        let values = first.iter().map(|cell| BoundValue::Value(data.value_of(codes[*cell as usize]))).collect();
        let codes = Arc::new(places.into_iter().map(u64::from).collect());
        KeyColumn { codes, kind: KeyKind::Values(Arc::new(Pool { values, ty: data.ty() })) }
    }

    fn own_codes(&self, table: TableId, column: ColumnId, range: Range<usize>, rows: &[u64]) -> Vec<u64> {
        let mut codes = Vec::with_capacity(rows.len());
        for (batch, positions) in self.batches(table, range, rows) {
            codes.extend(batch.column(self.tables.column(column), column.index, &positions));
        }
        codes
    }

    /// Ascending rows of a stretch in batches that lie in one segment each, with their places in these.
    fn batches<'b>(
        &'b self,
        table: TableId,
        range: Range<usize>,
        rows: &'b [u64],
    ) -> impl Iterator<Item = (Batch<'b>, Vec<u32>)> {
        let cuts = self.tables.segment_bounds(table);
        let (mut at, mut left) = (range.start, rows);
        std::iter::from_fn(move || {
            let start = at;
            let segment_end = cuts.filter(|_| at < range.end).map_or(range.end, |cuts| cuts.range(cuts.find(at).0).end);
            at += BATCH.min(segment_end.min(range.end) - at);
            let (own, others) = left.split_at(left.partition_point(|row| (*row as usize) < at));
            left = others;
            let positions = own.iter().map(|row| (*row as usize - start) as u32).collect();
            (at > start).then(|| (Batch::new(self.tables, table, start, at - start), positions))
        })
    }

    fn together(
        &self,
        row: &CompiledRow,
        (table, column): (TableId, ColumnId),
        range: Range<usize>,
        rows: &[u64],
    ) -> Result<Vector, RunError> {
        let ty = self.tables.schema.column(column).ty;
        let mut all = VectorBuilder::new(ty, rows.len());
        for (batch, positions) in self.batches(table, range, rows) {
            let values = row.eval(self.tables, &batch, &positions)?;
            if positions.len() == rows.len() {
                return Ok(values);
            }
            all.append(&values, ty);
        }
        Ok(all.finish())
    }

    /// A column made ready once for all rows that will ask for it.
    fn compiled(&self, column: CurrentColumn) -> Arc<CompiledRow> {
        if let Some(known) = kept(&self.compiled).get(&column).cloned() {
            return known;
        }
        let (table, id, path) = &column;
        let place = Place { source: Source::new("", ""), span: Default::default() };
        let scalar = Scalar { kind: ScalarKind::Leaf(0), ty: self.tables.schema.column(*id).ty, place };
        let row = RowExpr { scalar, leaves: vec![RowLeaf::Column { column: *id, path: path.clone() }] };
        let compiled = Arc::new(RowCompiler::new(self.tables, *table, &[], true).compile(&row));
        kept(&self.compiled).insert(column, compiled.clone());
        compiled
    }
}
