//! The rows behind a number, and the plain aggregate over them.

use super::answer::WhyRows;
use super::explained::{Explained, written};
use crate::Error;
use crate::formula::scalar::{Scalar, ScalarKind};
use crate::formula::schema::{ColumnId, TableId};
use crate::formula::typed::AggregateKind;
use crate::plan::AggregateId;
use crate::plan::{Assembly, Leaf, ReadAggregate, ReadRef, RowExpr, RowLeaf};
use crate::run::compiled::{CompiledRow, RowCompiler};
use crate::run::frame::{BoundValue, Frame};
use crate::run::read::{self, Batch};
use crate::value::{Type, Value, exact};

/// Columns of a row that are shown besides those that the aggregate takes.
const COLUMNS: usize = 6;
/// Rows that are unpacked together.
const NEAR: u32 = 4096;

impl Explained<'_> {
    /// The rows that a read has for the one cell of a frame.
    pub(super) fn rows_read(&self, reference: &ReadRef, frame: &Frame) -> Result<Vec<u32>, Error> {
        let plan = self.executor.reads().read_plan(reference.read);
        let outer = self.outer_of(reference, frame);
        let codes: Vec<u64> = reference.dims.iter().map(|d| frame.dims[*d].codes[0]).collect();
        Ok(read::rows_of_group(self.executor.tables(), plan, &outer, self.executor.options(), &codes)?)
    }

    fn outer_of(&self, reference: &ReadRef, frame: &Frame) -> Vec<(crate::plan::ParameterId, BoundValue, Type)> {
        let plan = self.executor.reads().read_plan(reference.read);
        let held = plan.outer.iter().zip(&reference.outer).filter_map(|(slot, dim)| {
            let ty = match &frame.dims[*dim].kind {
                crate::run::frame::KeyKind::Values(pool) => pool.ty,
                _ => Type::Null,
            };
            Some((*slot, frame.dims[*dim].held(0)?.clone(), ty))
        });
        held.collect()
    }

    /// The rows behind each aggregate of an assembly that stands in the context of the whole.
    pub(super) fn rows_behind(&self, assembly: &Assembly, frame: &Frame) -> Result<Vec<WhyRows>, Error> {
        let mut found: Vec<WhyRows> = Vec::new();
        if self.rows > 0 {
            self.behind(assembly, frame, &mut found)?;
        }
        Ok(found)
    }

    fn behind(&self, assembly: &Assembly, frame: &Frame, found: &mut Vec<WhyRows>) -> Result<(), Error> {
        let mut add = |text: String, reference: &ReadRef, aggregate: AggregateId| -> Result<(), Error> {
            if !found.iter().any(|f| f.of == text) {
                let rows = self.rows_of(text, reference, aggregate, frame)?;
                found.push(rows);
            }
            Ok(())
        };
        for leaf in &assembly.leaves {
            match leaf {
                Leaf::Read(reference, aggregate) => add(self.text_of(assembly, leaf), reference, *aggregate)?,
                Leaf::OverDays(over) => add(self.text_of(assembly, leaf), &over.by_set, over.aggregate)?,
                _ => {}
            }
        }
        for leaf in &assembly.leaves {
            match leaf {
                Leaf::Part(body) => self.behind(body, frame, found)?,
                Leaf::Project { keep, body } => self.behind(body, &frame.project(keep).0, found)?,
                Leaf::Period(period) => {
                    let days = crate::run::periods::days(self.executor.reads(), period, frame)?;
                    self.behind(&period.body, &frame.with([days]), found)?;
                }
                Leaf::Bind { values, body } => {
                    let mut dims = Vec::new();
                    for bound in values {
                        dims.push(self.executor.bound(bound, frame)?.0);
                    }
                    self.behind(body, &frame.with(dims), found)?;
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// How a leaf is written in its formula.
    fn text_of(&self, assembly: &Assembly, wanted: &Leaf) -> String {
        let mut text = String::new();
        let place = assembly.leaves.iter().position(|l| std::ptr::eq(l, wanted));
        find(&assembly.scalar, &mut |scalar| {
            if let ScalarKind::Leaf(i) = scalar.kind
                && Some(i) == place
            {
                text = written(&scalar.place);
            }
        });
        text
    }

    fn rows_of(
        &self,
        of: String,
        reference: &ReadRef,
        aggregate: AggregateId,
        frame: &Frame,
    ) -> Result<WhyRows, Error> {
        let plan = self.executor.reads().read_plan(reference.read);
        let aggregate = &plan.aggregates[aggregate];
        let rows = self.rows_read(reference, frame)?;
        let tables = self.executor.tables();
        let columns = self.shown_columns(plan.table, aggregate);
        let outer = self.outer_of(reference, frame);
        let compiler = RowCompiler::new(tables, plan.table, &outer, false);
        let is_shown = |e: &RowExpr| match e.leaves.as_slice() {
            [RowLeaf::Column { column, path }] => {
                path.is_empty() && columns.contains(column) && matches!(e.scalar.kind, ScalarKind::Leaf(0))
            }
            _ => false,
        };
        let args: Vec<&RowExpr> = aggregate.args.iter().collect();
        let extra: Vec<&RowExpr> = args.iter().copied().filter(|e| !is_shown(e)).collect();
        let compiled: Vec<_> = extra.iter().map(|e| compiler.compile(e)).collect();
        let first = args.first().map(|e| compiler.compile(e));
        let shown = &rows[..rows.len().min(self.rows)];
        let mut list: Vec<Vec<Value>> = shown
            .iter()
            .map(|row| {
                let cell = |c: &ColumnId| tables.column(*c).value_of(tables.column(*c).code(*row as usize));
                columns.iter().map(cell).collect()
            })
            .collect();
        for (compiled, e) in compiled.iter().zip(&extra) {
            let values = self.values(compiled, plan.table, shown, e.scalar.ty)?;
            list.iter_mut().zip(values).for_each(|(line, value)| line.push(value));
        }
        let values = match (&first, args.first()) {
            (Some(first), Some(e)) => self.values(first, plan.table, &rows, e.scalar.ty)?,
            _ => Vec::new(),
        };
        let names = columns.iter().map(|c| self.schema.column(*c).name.clone());
        let types = columns.iter().map(|c| self.schema.column(*c).ty);
        Ok(WhyRows {
            table: self.schema.table(plan.table).name.clone(),
            count: rows.len() as u64,
            columns: names.chain(extra.iter().map(|e| written(&e.scalar.place))).collect(),
            types: types.chain(extra.iter().map(|e| e.scalar.ty)).collect(),
            rows: list,
            again: match args.as_slice() {
                [_, _, ..] => None,
                one => plain(aggregate.kind, &values, rows.len(), one.first().map_or(Type::Int, |e| e.scalar.ty)),
            },
            of,
        })
    }

    /// The values of an expression in some rows, in order.
    fn values(&self, compiled: &CompiledRow, table: TableId, rows: &[u32], ty: Type) -> Result<Vec<Value>, Error> {
        let tables = self.executor.tables();
        let mut values = Vec::with_capacity(rows.len());
        let segment = |row: &u32| tables.segment_bounds(table).map_or(0, |cuts| cuts.find(*row as usize).0);
        // Rows that lie near each other in a segment are unpacked together.
        for near in rows.chunk_by(|a, b| a / NEAR == b / NEAR && segment(a) == segment(b)) {
            let (Some(start), Some(last)) = (near.first(), near.last()) else { continue };
            let batch = Batch::new(tables, table, *start as usize, (last - start) as usize + 1);
            let positions: Vec<u32> = near.iter().map(|row| row - start).collect();
            let vector = compiled.eval(tables, &batch, &positions)?;
            values.extend((0..near.len()).map(|i| vector.get(i, ty)));
        }
        Ok(values)
    }

    /// Columns of the table that the aggregate takes, then others from the front.
    fn shown_columns(&self, table: TableId, aggregate: &ReadAggregate) -> Vec<ColumnId> {
        let mut columns: Vec<ColumnId> = (0..self.schema.table(table).columns.len() as u32)
            .map(|index| ColumnId { table, index })
            .filter(|c| !self.schema.column(*c).hidden)
            .take(COLUMNS)
            .collect();
        for e in &aggregate.args {
            for leaf in &e.leaves {
                if let RowLeaf::Column { column, path } = leaf
                    && path.is_empty()
                    && !columns.contains(column)
                {
                    columns.push(*column);
                }
            }
        }
        columns
    }
}

fn find(scalar: &Scalar, visit: &mut dyn FnMut(&Scalar)) {
    use ScalarKind::{And, Call, Case, Coalesce, Constant, Fault, Leaf, Let, LetRef, Or};
    visit(scalar);
    match &scalar.kind {
        Constant(_) | Leaf(_) | LetRef(_) | Fault(_) => {}
        Let(_, a, b) | And(a, b) | Or(a, b) => {
            find(a, visit);
            find(b, visit);
        }
        Call(_, args) | Coalesce(args) => args.iter().for_each(|a| find(a, visit)),
        Case(arms, otherwise) => {
            for (c, r) in arms {
                find(c, visit);
                find(r, visit);
            }
            otherwise.iter().for_each(|e| find(e, visit));
        }
    }
}

/// The aggregate of values one after the other; nothing for those that need more than that.
fn plain(kind: AggregateKind, values: &[Value], rows: usize, ty: Type) -> Option<Value> {
    let present: Vec<&Value> = values.iter().filter(|v| !v.is_null()).collect();
    let sum = || -> Option<Value> {
        if !ty.is_exact() {
            return Some(Value::float(present.iter().filter_map(|v| v.as_f64()).sum()));
        }
        let mut total = 0i128;
        for v in &present {
            total = total.checked_add(v.as_exact(ty.scale())?)?;
        }
        Some(match (ty.scale(), i64::try_from(total)) {
            (0, Ok(small)) => Value::Int(small),
            (scale, _) => Value::Decimal { unscaled: total, scale },
        })
    };
    match kind {
        AggregateKind::Rows => Some(Value::Int(rows as i64)),
        AggregateKind::Count => Some(Value::Int(present.len() as i64)),
        _ if present.is_empty() => Some(Value::Null),
        AggregateKind::Sum => sum(),
        AggregateKind::Avg => {
            let total = match sum()? {
                Value::Decimal { unscaled, scale } => exact::to_f64(unscaled, scale),
                other => other.as_f64()?,
            };
            Some(Value::float(total / present.len() as f64))
        }
        AggregateKind::Min => present.iter().min_by(|a, b| a.total_cmp(b)).map(|v| (*v).clone()),
        AggregateKind::Max => present.iter().max_by(|a, b| a.total_cmp(b)).map(|v| (*v).clone()),
        AggregateKind::CountDistinct => {
            let distinct: std::collections::HashSet<&Value> = present.into_iter().collect();
            Some(Value::Int(distinct.len() as i64))
        }
        _ => None,
    }
}
