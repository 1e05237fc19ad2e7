//! Columns of bound rows: what a cell's own row has, or looks up.

use std::sync::Arc;

use super::RunError;
use super::anchors::{Anchor, CompiledRow, RowCompiler};
use super::assemble::Executor;
use super::frame::{Held, KeyColumn, KeyKind, Pool, distinct};
use super::read::Batch;
use crate::formula::scalar::{Place, Scalar, ScalarKind};
use crate::formula::schema::{ColumnId, RelationshipId, TableId};
use crate::formula::source::Source;
use crate::plan::{RowExpr, RowLeaf};
use crate::value::{Vector, VectorBuilder};

/// Rows that are unpacked together.
const BATCH: usize = 1 << 14;

/// A column of a table, or one that it looks up.
pub(super) type CurrentColumn = (TableId, ColumnId, Vec<RelationshipId>);

/// Whether rows follow one after the other.
fn stands_in_order(rows: &[u64]) -> bool {
    rows.windows(2).all(|pair| pair[0] + 1 == pair[1])
}

impl Executor<'_> {
    /// A column in the row of each cell.
    ///
    /// # Errors
    /// As for expressions over rows.
    pub(super) fn current(
        &self,
        dim: &KeyColumn,
        table: TableId,
        column: ColumnId,
        path: &[RelationshipId],
    ) -> Result<Vector, RunError> {
        let codes = dim.codes.as_slice();
        match codes.first() {
            // Rows as they stand in the table are unpacked together.
            Some(first) if stands_in_order(codes) && self.options().hoist => {
                let compiled = self.compiled((table, column, path.to_vec()));
                self.consecutive(&compiled, table, column, *first as usize, codes.len())
            }
            _ => {
                let data = self.tables().column(column);
                let rows = codes.iter().map(|row| *row as u32).collect();
                Ok(data.vector_of(&self.tables().far_codes(data, path, rows)))
            }
        }
    }

    /// What the column has in the row of each cell, each different value once.
    pub(super) fn current_held(
        &self,
        dim: &KeyColumn,
        table: TableId,
        column: ColumnId,
        path: &[RelationshipId],
    ) -> KeyColumn {
        let data = self.tables().column(column);
        let codes = match dim.codes.first() {
            Some(first) if path.is_empty() && stands_in_order(&dim.codes) => {
                self.own_codes(table, column, *first as usize, dim.codes.len())
            }
            _ => self.tables().far_codes(data, path, dim.codes.iter().map(|row| *row as u32).collect()),
        };
        let (places, first) = distinct(&[&codes], codes.len());
        let values = first.iter().map(|cell| Held::Value(data.value_of(codes[*cell as usize]))).collect();
        let codes = Arc::new(places.into_iter().map(u64::from).collect());
        KeyColumn { codes, kind: KeyKind::Values(Arc::new(Pool { values, ty: data.ty() })) }
    }

    fn own_codes(&self, table: TableId, column: ColumnId, first: usize, count: usize) -> Vec<u64> {
        let mut codes = vec![0; count];
        for (start, rows) in self.batches(table, first, count) {
            let batch = Batch::new(self.tables(), table, start, rows);
            batch.map(Anchor::Column(column.index), &mut codes[start - first..][..rows], |code| code);
        }
        codes
    }

    /// Consecutive rows in pieces that lie in one segment each: where they start, and how many they are.
    fn batches(&self, table: TableId, first: usize, count: usize) -> impl Iterator<Item = (usize, usize)> {
        let (cuts, end) = (self.tables().cuts(table), first + count);
        let mut at = first;
        std::iter::from_fn(move || {
            let segment_end = cuts.filter(|_| at < end).map_or(end, |cuts| cuts.range(cuts.find(at).0).end);
            let start = at;
            at += BATCH.min(segment_end.min(end) - at);
            (at > start).then_some((start, at - start))
        })
    }

    fn consecutive(
        &self,
        row: &CompiledRow,
        table: TableId,
        column: ColumnId,
        first: usize,
        count: usize,
    ) -> Result<Vector, RunError> {
        let ty = self.tables().schema.column(column).ty;
        let mut all = VectorBuilder::new(ty, count);
        for (start, rows) in self.batches(table, first, count) {
            let batch = Batch::new(self.tables(), table, start, rows);
            let positions: Vec<u32> = (0..rows as u32).collect();
            let values = row.eval(self.tables(), &batch, &positions)?;
            if rows == count {
                return Ok(values);
            }
            all.append(&values, ty);
        }
        Ok(all.finish())
    }

    /// A column made ready once for all rows that will ask for it.
    fn compiled(&self, column: CurrentColumn) -> Arc<CompiledRow> {
        if let Some(known) = self.known_column(&column) {
            return known;
        }
        let (table, id, path) = &column;
        let place = Place { source: Source::new("", ""), span: Default::default() };
        let scalar = Scalar { kind: ScalarKind::Leaf(0), ty: self.tables().schema.column(*id).ty, place };
        let row = RowExpr { scalar, leaves: vec![RowLeaf::Column { column: *id, path: path.clone() }] };
        let compiled = Arc::new(RowCompiler::new(self.tables(), *table, &[], true).compile(&row));
        self.keep_column(column, compiled.clone());
        compiled
    }
}
