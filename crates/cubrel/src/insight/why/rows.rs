//! The rows behind a number, and the plain aggregate over them.

use super::answer::WhyRows;
use super::explained::{Explained, written};
use crate::Error;
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::schema::{ColumnId, TableId};
use cubrel_formula::typed::AggregateKind;
use cubrel_plan::{AggregateId, Assembly, Leaf, ReadAggregate, ReadRef, RowExpr, RowLeaf};
use cubrel_run::OneCell;
use cubrel_value::{Type, Value, exact};

/// Columns of a row that are shown besides those that the aggregate takes.
const COLUMNS: usize = 6;

impl Explained<'_> {
    /// The rows behind each aggregate of an assembly that stands in the context of the whole.
    pub(super) fn rows_behind(&self, assembly: &Assembly, cell: &OneCell<'_, '_>) -> Result<Vec<WhyRows>, Error> {
        let mut found: Vec<WhyRows> = Vec::new();
        if self.rows > 0 {
            self.behind(assembly, cell, &mut found)?;
        }
        Ok(found)
    }

    fn behind(&self, assembly: &Assembly, cell: &OneCell<'_, '_>, found: &mut Vec<WhyRows>) -> Result<(), Error> {
        let mut add = |text: String, reference: &ReadRef, aggregate: AggregateId| -> Result<(), Error> {
            if !found.iter().any(|f| f.of == text) {
                let rows = self.rows_of(text, reference, aggregate, cell)?;
                found.push(rows);
            }
            Ok(())
        };
        for (place, leaf) in assembly.leaves.iter().enumerate() {
            match leaf {
                Leaf::Read(reference, aggregate) => add(text_of(assembly, place), reference, *aggregate)?,
                Leaf::OverDays(over) => add(text_of(assembly, place), &over.by_set, over.aggregate)?,
                _ => {}
            }
        }
        for leaf in &assembly.leaves {
            match leaf {
                Leaf::Part(body) => self.behind(body, cell, found)?,
                Leaf::Project { keep, body } => self.behind(body, &cell.keeping(keep), found)?,
                Leaf::Period(period) => self.behind(&period.body, &cell.under(period)?, found)?,
                Leaf::Bind { values, body } => self.behind(body, &cell.holding(values)?, found)?,
                _ => {}
            }
        }
        Ok(())
    }

    fn rows_of(
        &self,
        of: String,
        reference: &ReadRef,
        aggregate: AggregateId,
        cell: &OneCell<'_, '_>,
    ) -> Result<WhyRows, Error> {
        let read = cell.read(reference);
        let aggregate = &read.aggregates[aggregate];
        let rows = cell.rows_of(reference)?;
        let columns = self.shown_columns(read.table, aggregate);
        let is_shown = |e: &RowExpr| match e.leaves.as_slice() {
            [RowLeaf::Column { column, path }] => {
                path.is_empty() && columns.contains(column) && matches!(e.scalar.kind, ScalarKind::Leaf(0))
            }
            _ => false,
        };
        let args: Vec<&RowExpr> = aggregate.args.iter().collect();
        let extra: Vec<&RowExpr> = args.iter().copied().filter(|e| !is_shown(e)).collect();
        let shown = &rows[..rows.len().min(self.rows)];
        let value = |c: &ColumnId, row: u32| self.tables.column(*c).value_of(self.tables.column(*c).code(row as usize));
        let mut list: Vec<Vec<Value>> =
            shown.iter().map(|row| columns.iter().map(|c| value(c, *row)).collect()).collect();
        for e in &extra {
            let values = cell.row_values(reference, e, shown)?;
            list.iter_mut().zip(values).for_each(|(line, value)| line.push(value));
        }
        let values = match args.first() {
            Some(first) => cell.row_values(reference, first, &rows)?,
            None => Vec::new(),
        };
        let names = columns.iter().map(|c| self.schema.column(*c).name.clone());
        let types = columns.iter().map(|c| self.schema.column(*c).ty);
        Ok(WhyRows {
            table: self.schema.table(read.table).name.clone(),
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

/// How the leaf at a place is written in its formula.
fn text_of(assembly: &Assembly, place: usize) -> String {
    let mut text = String::new();
    find(&assembly.scalar, &mut |scalar| {
        if matches!(scalar.kind, ScalarKind::Leaf(leaf) if leaf == place) {
            text = written(&scalar.place);
        }
    });
    text
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
