//! `sum(sum(t.a) * single(t.b) per t)` goes through the rows of `t` one by one and aggregates each of them. What an
//! aggregate says of one row is that row's value, so this is `sum(t.a * t.b)`.

use crate::ids::{AggregateId, DimId, ReadId};
use std::sync::Arc;

use super::super::rows::{Predicate, RowExpr, RowLeaf, intern_leaf};
use super::super::scope::{Filter, FilterOrigin, FilterTest, Key};
use super::super::tree::{Assembly, Fold, Leaf, Read, ReadAggregate, ReadRef};
use crate::walk::{Each, Visit};
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::schema::TableId;
use cubrel_formula::typed::AggregateKind;
use cubrel_value::{Type, Value};

/// Folds over the rows of a table become reads of it.
pub(super) fn apply(each: &mut Each<'_>, reads: &mut Vec<Read>) {
    each(&mut RowWise { reads });
}

struct RowWise<'a> {
    reads: &'a mut Vec<Read>,
}

impl Visit for RowWise<'_> {
    fn leaf(&mut self, leaf: &mut Leaf) {
        if let Leaf::Fold(fold) = leaf
            && let Some((read, aggregate, dims)) = as_read(fold, self.reads)
        {
            let outer = fold.domain.groups[0].read.outer.clone();
            let read = self.shared(read);
            let place = self.aggregate(read, aggregate);
            *leaf = Leaf::Read(ReadRef { read, dims, outer }, place);
        }
    }
}

impl RowWise<'_> {
    /// The place of a read, which is added where no equal one is there.
    fn shared(&mut self, read: Read) -> ReadId {
        let wanted = read.identity();
        let place = self.reads.iter().position(|r| r.identity() == wanted).unwrap_or_else(|| {
            self.reads.push(read);
            self.reads.len() - 1
        });
        ReadId::new(place)
    }

    fn aggregate(&mut self, read: ReadId, aggregate: ReadAggregate) -> AggregateId {
        self.reads[read.index()].place_of(aggregate)
    }
}

/// The read of a table that a fold over its rows is, without its aggregate; the aggregate; and where its keys come from.
fn as_read(fold: &Fold, reads: &[Read]) -> Option<(Read, ReadAggregate, Vec<DimId>)> {
    use AggregateKind::*;
    let ([Key::Row(table)], [group]) = (fold.domain.keys.as_slice(), fold.domain.groups.as_slice()) else {
        return None;
    };
    // What rows of other tables have under null is no row of this one. `single` sees nulls; `first` and `last` have an order.
    let plain = group.null_reads.is_empty() && fold.order.is_empty();
    if !plain || matches!(fold.kind, Single | First | Last | Rows) {
        return None;
    }
    let row = FoldRow { table: *table, dim: DimId::new(fold.domain.outer_dims), read: &group.read, reads };
    let args = fold.args.iter().map(|a| row.expression(a)).collect::<Option<Vec<_>>>()?;
    let by_row = &reads[group.read.read];
    let mut filters = by_row.filters.clone();
    if let Some(filter) = &fold.filter {
        filters.push(row.filter(row.expression(filter)?)?);
    }
    let others = || by_row.keys.iter().zip(&group.read.dims).filter(|(_, dim)| **dim != row.dim);
    let read = Read {
        keys: others().map(|(key, _)| *key).collect(),
        filters,
        aggregates: Vec::new(),
        roll_ups: Vec::new(),
        by_value: None,
        together: Vec::new(),
        ..by_row.clone()
    };
    let aggregate =
        ReadAggregate { kind: fold.kind, args, constant: fold.constant.clone(), order: Vec::new(), ty: fold.ty };
    (by_row.bridges.is_empty()).then(|| (read, aggregate, others().map(|(_, dim)| *dim).collect()))
}

/// One row of a table, as the inner scope of a fold has it.
struct FoldRow<'a> {
    table: TableId,
    /// The dimension that binds it.
    dim: DimId,
    /// The read that told which rows there are.
    read: &'a ReadRef,
    reads: &'a [Read],
}

impl FoldRow<'_> {
    /// What an assembly says of the row, with what it takes that from.
    fn expression(&self, assembly: &Assembly) -> Option<RowExpr> {
        let mut leaves = Vec::new();
        let scalar = self.scalar(assembly, &mut leaves)?;
        Some(RowExpr { scalar, leaves })
    }

    /// The rows for which an expression is true.
    fn filter(&self, test: RowExpr) -> Option<Filter> {
        let column = |leaf: &RowLeaf| if let RowLeaf::Column { column, .. } = leaf { Some(*column) } else { None };
        let columns = test.leaves.iter().map(column).collect::<Option<Vec<_>>>()?;
        let predicate = Predicate { table: self.table, columns, test, outer: Vec::new(), days: None };
        Some(Filter { test: FilterTest::Predicate(Arc::new(predicate)), origin: FilterOrigin::Edit })
    }

    /// What an assembly says of the row, as an expression over the row; `None` where it looks beyond it.
    fn scalar(&self, assembly: &Assembly, leaves: &mut Vec<RowLeaf>) -> Option<Scalar> {
        replaced(&assembly.scalar, &mut |leaf| self.leaf(&assembly.leaves[leaf], &assembly.scalar, leaves))
    }

    fn leaf(&self, leaf: &Leaf, around: &Scalar, leaves: &mut Vec<RowLeaf>) -> Option<Scalar> {
        match leaf {
            Leaf::Part(body) => self.scalar(body, leaves),
            Leaf::Current { dim, table, column, path } if (*dim, *table) == (self.dim, self.table) => {
                let leaf = RowLeaf::Column { column: *column, path: path.clone() };
                let kind = ScalarKind::Leaf(intern_leaf(leaves, leaf));
                Some(Scalar { kind, ty: Type::Null, place: around.place.clone() })
            }
            Leaf::Read(read, place) => self.aggregate(read, *place, around, leaves),
            _ => None,
        }
    }

    /// What an aggregate says of one row.
    fn aggregate(
        &self,
        read: &ReadRef,
        place: AggregateId,
        around: &Scalar,
        leaves: &mut Vec<RowLeaf>,
    ) -> Option<Scalar> {
        use AggregateKind::*;
        let same = (read.read, &read.dims, &read.outer) == (self.read.read, &self.read.dims, &self.read.outer);
        let aggregate = same.then(|| &self.reads[read.read].aggregates[place])?;
        if aggregate.kind == Rows {
            return Some(Scalar::constant(Value::Int(1), Type::Int, around.place.clone()));
        }
        let [arg] = aggregate.args.as_slice() else { return None };
        let (own, ty) = (arg.scalar.ty, aggregate.ty);
        let alike = own == ty || own.is_exact() && ty.is_exact() && own.scale() == ty.scale();
        if !alike || !matches!(aggregate.kind, Sum | Min | Max | Single) || !aggregate.order.is_empty() {
            return None;
        }
        replaced(&arg.scalar, &mut |leaf| {
            let kind = ScalarKind::Leaf(intern_leaf(leaves, arg.leaves[leaf].clone()));
            Some(Scalar { kind, ty: Type::Null, place: arg.scalar.place.clone() })
        })
    }
}

/// A tree with other trees in place of its leaves. A leaf's type stays, where a leaf comes in its place. `None` where one
/// has no other, and where there are names inside: those of two formulas could be the same.
fn replaced(scalar: &Scalar, leaf: &mut impl FnMut(usize) -> Option<Scalar>) -> Option<Scalar> {
    let all = |list: &[Scalar], leaf: &mut _| list.iter().map(|s| replaced(s, leaf)).collect::<Option<Vec<_>>>();
    let kind = match &scalar.kind {
        ScalarKind::Leaf(number) => {
            let other = leaf(*number)?;
            return Some(match other.kind {
                ScalarKind::Leaf(_) => Scalar { kind: other.kind, ..scalar.clone() },
                _ => other,
            });
        }
        ScalarKind::Let(..) | ScalarKind::LetRef(_) | ScalarKind::Fault(_) => return None,
        ScalarKind::Constant(value) => ScalarKind::Constant(value.clone()),
        ScalarKind::Call(op, args) => ScalarKind::Call(*op, all(args, leaf)?),
        ScalarKind::Coalesce(parts) => ScalarKind::Coalesce(all(parts, leaf)?),
        ScalarKind::And(a, b) => ScalarKind::And(Box::new(replaced(a, leaf)?), Box::new(replaced(b, leaf)?)),
        ScalarKind::Or(a, b) => ScalarKind::Or(Box::new(replaced(a, leaf)?), Box::new(replaced(b, leaf)?)),
        ScalarKind::Case(arms, otherwise) => {
            let arm = |(c, r): &(Scalar, Scalar)| Some((replaced(c, leaf)?, replaced(r, leaf)?));
            let arms = arms.iter().map(arm).collect::<Option<Vec<_>>>()?;
            let otherwise = match otherwise {
                Some(scalar) => Some(Box::new(replaced(scalar, leaf)?)),
                None => None,
            };
            ScalarKind::Case(arms, otherwise)
        }
    };
    Some(Scalar { kind, ty: scalar.ty, place: scalar.place.clone() })
}
