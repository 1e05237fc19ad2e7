//! One cell looked at from inside: what each part of its formula gives there, and the rows behind it.
//!
//! A plan is run for all cells at once. Who asks why a number is what it is goes the other way: from one cell into the parts of
//! its formula, each in the context that the part around it makes.

use super::assemble::Executor;
use super::compiled::RowCompiler;
use super::domain::expand;
use super::frame::{BoundValue, Frame, KeyColumn};
use super::outside::{base_frame, held_by};
use super::read::{self, Batch};
use super::{RunError, periods};
use cubrel_formula::scalar::Scalar;
use cubrel_formula::schema::{ColumnId, TableId};
use cubrel_plan::{
    Assembly, Bound, DimId, Domain, Fold, Key, ParameterId, PeriodLeaf, Planner, Read, ReadRef, RowExpr, Scope,
};
use cubrel_value::{Type, Value};

/// Rows that are unpacked together.
const NEAR: u32 = 4096;

/// One cell of a scope.
pub struct OneCell<'e, 'a> {
    executor: &'e Executor<'a>,
    frame: Frame,
}

impl<'e, 'a> OneCell<'e, 'a> {
    /// The cell of a grid in which columns have the values with these codes, and what its `where` takes from outside.
    ///
    /// # Errors
    /// As for evaluating what comes from outside.
    pub fn of_columns(
        executor: &'e Executor<'a>,
        outer: &[(ParameterId, Bound)],
        at: impl IntoIterator<Item = (ColumnId, u64)>,
    ) -> Result<OneCell<'e, 'a>, RunError> {
        let column = |(column, code)| KeyColumn::of_codes(vec![code], Key::Column(column));
        let frame = base_frame(executor, outer)?.with(at.into_iter().map(column));
        Ok(OneCell { executor, frame })
    }

    /// The cell of a row of a table.
    pub fn of_row(executor: &'e Executor<'a>, table: TableId, row: usize) -> OneCell<'e, 'a> {
        let dims = vec![KeyColumn::of_codes(vec![row as u64], Key::Row(table))];
        OneCell { executor, frame: Frame::new(1, dims) }
    }

    fn inner(&self, frame: Frame) -> OneCell<'e, 'a> {
        OneCell { executor: self.executor, frame }
    }

    /// How many dimensions it has.
    pub fn dims(&self) -> usize {
        self.frame.dims.len()
    }

    /// The code of the cell in each dimension: of a column's value, or a row's number.
    pub fn codes(&self) -> impl Iterator<Item = u64> {
        self.frame.dims.iter().map(|dim| dim.codes.first().copied().unwrap_or(0))
    }

    /// What the cell holds, in a dimension that holds values.
    pub fn held(&self, dim: DimId) -> Option<&BoundValue> {
        self.frame.dims.get(dim.index())?.held(0)
    }

    /// The value of a part of an assembly.
    ///
    /// # Errors
    /// As for the assembly.
    pub fn value(&self, part: &Scalar, assembly: &Assembly) -> Result<Value, RunError> {
        Ok(self.executor.eval_part(part, assembly, &self.frame)?.get(0, part.ty))
    }

    /// The cell that has some of the dimensions alone.
    pub fn keeping(&self, keep: &[DimId]) -> OneCell<'e, 'a> {
        self.inner(self.frame.project(keep).0)
    }

    /// The cell under a period edit.
    ///
    /// # Errors
    /// As for the reads that find its days.
    pub fn under(&self, period: &PeriodLeaf) -> Result<OneCell<'e, 'a>, RunError> {
        let days = periods::days(self.executor.reads(), period, &self.frame)?;
        Ok(self.inner(self.frame.with([days])))
    }

    /// The cell with a dimension more for each value that is taken inside.
    ///
    /// # Errors
    /// As for evaluating the values.
    pub fn holding(&self, values: &[Bound]) -> Result<OneCell<'e, 'a>, RunError> {
        let mut dims = Vec::new();
        for bound in values {
            dims.push(self.executor.bound(bound, &self.frame)?.0);
        }
        Ok(self.inner(self.frame.with(dims)))
    }

    /// The combinations that a `per` goes through here.
    ///
    /// # Errors
    /// As for the reads that find them.
    pub fn combinations_of(&self, fold: &Fold) -> Result<CellCombinations<'e, 'a>, RunError> {
        let all = self.executor.combinations(fold, &self.frame)?;
        Ok(CellCombinations { executor: self.executor, frame: all.frame })
    }

    /// All combinations of a domain.
    ///
    /// # Errors
    /// As for the reads that find them.
    pub fn combinations(&self, domain: &Domain) -> Result<CellCombinations<'e, 'a>, RunError> {
        let all = expand(self.executor.reads(), domain, &self.frame, &[], || Ok(None))?;
        Ok(CellCombinations { executor: self.executor, frame: all.frame })
    }

    /// What a read of the plan is.
    pub fn read(&self, read: &ReadRef) -> &Read {
        self.executor.reads().read_plan(read.read)
    }

    /// The rows that a read of the plan has here, in order.
    ///
    /// # Errors
    /// As for the read.
    pub fn rows_of(&self, reference: &ReadRef) -> Result<Vec<u32>, RunError> {
        let (tables, options, read) = (self.executor.tables(), self.executor.options(), self.read(reference));
        read::rows_of_group(tables, read, &self.outer_of(read, reference), options, &self.codes_of(reference))
    }

    /// How many rows of a table are left under the filters of a scope.
    ///
    /// # Errors
    /// As for a read of the table.
    pub fn rows_left(&self, table: TableId, scope: &Scope) -> Result<u64, RunError> {
        let mut planner = Planner::new(self.executor.tables().schema);
        let (reference, _) = planner.read(table, scope, None);
        let reads = planner.into_list();
        // The values from outside are those of the scope, wherever they stand.
        let outer = scope.dims.iter().zip(&self.frame.dims).filter_map(|(dim, at)| match dim.key {
            Key::Value(slot) => held_by(slot, at),
            _ => None,
        });
        let rows = read::rows_of_group(
            self.executor.tables(),
            &reads[reference.read],
            &outer.collect::<Vec<_>>(),
            self.executor.options(),
            &self.codes_of(&reference),
        )?;
        Ok(rows.len() as u64)
    }

    /// The values of an expression in some rows of a read, in order.
    ///
    /// # Errors
    /// What cannot be computed.
    pub fn row_values(&self, of: &ReadRef, row: &RowExpr, rows: &[u32]) -> Result<Vec<Value>, RunError> {
        let (tables, table, outer) = (self.executor.tables(), self.read(of).table, self.outer_of(self.read(of), of));
        let compiled = RowCompiler::new(tables, table, &outer, false).compile(row);
        let mut values = Vec::with_capacity(rows.len());
        let segment = |row: &u32| tables.segment_bounds(table).map_or(0, |cuts| cuts.find(*row as usize).0);
        // Rows that lie near each other in a segment are unpacked together.
        for near in rows.chunk_by(|a, b| a / NEAR == b / NEAR && segment(a) == segment(b)) {
            let (Some(start), Some(last)) = (near.first(), near.last()) else { continue };
            let batch = Batch::new(tables, table, *start as usize, (last - start) as usize + 1);
            let positions: Vec<u32> = near.iter().map(|row| row - start).collect();
            let vector = compiled.eval(tables, &batch, &positions)?;
            values.extend((0..near.len()).map(|i| vector.get(i, row.scalar.ty)));
        }
        Ok(values)
    }

    fn codes_of(&self, reference: &ReadRef) -> Vec<u64> {
        reference.dims.iter().map(|dim| self.frame.dims[*dim].codes[0]).collect()
    }

    /// The values from outside that a read takes.
    fn outer_of(&self, read: &Read, reference: &ReadRef) -> Vec<(ParameterId, BoundValue, Type)> {
        let held = read.outer.iter().zip(&reference.outer);
        held.filter_map(|(slot, dim)| held_by(*slot, &self.frame.dims[*dim])).collect()
    }
}

/// Combinations that are gone through in one cell.
pub struct CellCombinations<'e, 'a> {
    executor: &'e Executor<'a>,
    frame: Frame,
}

impl CellCombinations<'_, '_> {
    /// How many.
    pub fn count(&self) -> usize {
        self.frame.cells
    }

    /// The code of a combination in a dimension; those of the cell come first.
    pub fn code(&self, dim: usize, combination: usize) -> u64 {
        self.frame.dims[DimId::new(dim)].codes[combination]
    }

    /// The values of an assembly, one a combination.
    ///
    /// # Errors
    /// As for the assembly.
    pub fn values(&self, assembly: &Assembly) -> Result<Vec<Value>, RunError> {
        let values = self.executor.eval(assembly, &self.frame)?.values;
        Ok((0..self.count()).map(|i| values.get(i, assembly.scalar.ty)).collect())
    }
}
