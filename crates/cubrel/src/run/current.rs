//! Columns of bound rows: what a cell's own row has, or looks up.

use std::sync::Arc;

use super::RunError;
use super::anchors::{CompiledRow, RowCompiler};
use super::assemble::Executor;
use super::frame::KeyColumn;
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
        let stands_in_order = codes.windows(2).all(|pair| pair[0] + 1 == pair[1]);
        match codes.first() {
            // Rows as they stand in the table are unpacked together.
            Some(first) if stands_in_order && self.options().hoist => {
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
        let (mut at, end) = (first, first + count);
        while at < end {
            let segment_end = self.tables().cuts(table).map_or(end, |cuts| cuts.range(cuts.find(at).0).end);
            let rows = BATCH.min(segment_end.min(end) - at);
            let batch = Batch::new(self.tables(), table, at, rows);
            let positions: Vec<u32> = (0..rows as u32).collect();
            let values = row.eval(self.tables(), &batch, &positions)?;
            if rows == count {
                return Ok(values);
            }
            all.append(&values, ty);
            at += rows;
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
