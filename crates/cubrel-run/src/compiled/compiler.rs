//! Makes row expressions ready.

use std::sync::Arc;

use super::super::coded_numbers::line_of;
use super::super::frame::BoundValue;
use super::super::fused::Fused;
use super::super::located::columns_of;
use super::super::tables::{Anchor, SMALL_DOMAIN, Tables};
use super::row::{CompiledLeaf, CompiledRow};
use cubrel_formula::scalar::{Scalar, ScalarKind};
use cubrel_formula::schema::{ColumnId, TableId};
use cubrel_formula::typed::Op;
use cubrel_plan::{ParameterId, RowExpr, RowLeaf};
use cubrel_store::Encoding;
use cubrel_store::dictionary::TextDictionary;
use cubrel_value::{Data, Type, Value, Vector};

/// Something is computed by code where there are at least so many rows for each.
const ROWS_PER_CODE: u64 = 2;

/// To take one text out of the block that it is packed in costs about what going through so many of them in order does.
const CODES_PER_TEXT: u64 = 32;

/// So many doubles stay in a cache that is near.
const NEAR_CODES: u64 = 1 << 17;

/// Whether a double comes of nothing but sums, differences and products.
fn is_arithmetic_of_floats(scalar: &Scalar) -> bool {
    fn is_arithmetic(scalar: &Scalar) -> bool {
        match &scalar.kind {
            ScalarKind::Constant(_) | ScalarKind::Leaf(_) => true,
            ScalarKind::Call(Op::Add | Op::Sub | Op::Mul | Op::Negate | Op::ToFloat, args) => {
                args.iter().all(is_arithmetic)
            }
            _ => false,
        }
    }
    scalar.ty == Type::Float && is_arithmetic(scalar)
}

/// Values from outside, by slot.
pub type Outer<'a> = &'a [(ParameterId, BoundValue, Type)];

/// Compiles row expressions of one table.
pub struct RowCompiler<'a> {
    pub(crate) tables: Tables<'a>,
    table: TableId,
    outer: Outer<'a>,
    /// Whether arrays over codes are used; off, every row is computed by itself, which tests hold against it.
    hoist: bool,
    /// How many rows it will be computed for, as far as that is known.
    rows: u64,
}

impl<'a> RowCompiler<'a> {
    /// A compiler for expressions over rows of `table`.
    pub fn new(tables: Tables<'a>, table: TableId, outer: Outer<'a>, hoist: bool) -> RowCompiler<'a> {
        RowCompiler { tables, table, outer, hoist, rows: tables.rows(table) as u64 }
    }

    /// The same for expressions that are computed for some of the rows only.
    #[must_use]
    pub(crate) fn for_rows(self, rows: u64) -> RowCompiler<'a> {
        RowCompiler { rows, ..self }
    }

    /// Makes an expression ready.
    pub fn compile(&self, row: &RowExpr) -> CompiledRow {
        let mut leaves = Vec::new();
        let scalar = self.scalar(&row.scalar, row, &mut leaves);
        let mut looked_at = Vec::new();
        columns_of(row, &mut looked_at);
        let row = CompiledRow { scalar, leaves, looked_at: looked_at.into(), vectors: self.hoist, fused: None };
        // Two numbers are put together as they are: what their ends are need not be known.
        let is_worth_it = self.hoist && row.as_pair().is_none();
        let fused = is_worth_it.then(|| Fused::of(&row.scalar, &|leaf: usize| row.leaves[leaf].source())).flatten();
        CompiledRow { fused: fused.map(Arc::new), ..row }
    }

    /// The anchor that all leaves below hang off, if it is one and small.
    fn common_anchor(&self, scalar: &Scalar, row: &RowExpr) -> Option<Anchor> {
        let mut anchors = Vec::new();
        let mut fixed = true;
        scalar.each_leaf(&mut |leaf| fixed &= self.leaf_anchors(&row.leaves[leaf], &mut anchors));
        match anchors.as_slice() {
            [anchor] if fixed && self.pays_by_code(*anchor, scalar, row) => Some(*anchor),
            _ => None,
        }
    }

    /// Whether there are so few codes that computing something for each of them is less work than for each row, with a look
    /// into an array for each row on top.
    fn pays_by_code(&self, anchor: Anchor, scalar: &Scalar, row: &RowExpr) -> bool {
        let (rows, codes) = (self.tables.rows(self.table) as u64, self.tables.codes_of(self.table, anchor));
        if let Some(codes_per_text) = self.codes_per_text(scalar, row) {
            // One of the codes is null's.
            let worth = codes <= SMALL_DOMAIN.max(self.rows.saturating_mul(codes_per_text).saturating_add(1));
            return worth && self.tables.is_small(self.table, anchor);
        }
        let pays = self.tables.is_small(self.table, anchor) && codes <= SMALL_DOMAIN.max(rows / ROWS_PER_CODE);
        // Some is worked out faster than looked up, where the array leaves the caches.
        pays && (codes <= NEAR_CODES || !is_arithmetic_of_floats(scalar) && !self.is_fused(scalar, row))
    }

    /// Whether a part of an expression, but for a condition that stands alone, comes in steps over vectors of whole numbers that follow
    /// from codes.
    fn is_fused(&self, scalar: &Scalar, row: &RowExpr) -> bool {
        let leaf = |leaf: &RowLeaf| match leaf {
            RowLeaf::Column { column, path } if path.is_empty() => {
                Some(CompiledLeaf::Own(self.tables.column(*column).clone(), column.index))
            }
            RowLeaf::Parameter(slot) => self.held(*slot).map(|(_, held, ty)| CompiledLeaf::Constant(held.value(), *ty)),
            _ => None,
        };
        let leaves: Vec<Option<CompiledLeaf>> = row.leaves.iter().map(leaf).collect();
        let source = |leaf: usize| leaves[leaf].as_ref().and_then(CompiledLeaf::source);
        let stands_alone = std::ptr::eq(scalar, &row.scalar) && scalar.ty == Type::Bool;
        !stands_alone && Fused::of(scalar, &source).is_some()
    }

    /// How many texts are gone through in order at the cost of taking one out by itself, where it looks at texts.
    fn codes_per_text(&self, scalar: &Scalar, row: &RowExpr) -> Option<u64> {
        let mut found = None;
        scalar.each_leaf(&mut |leaf| {
            if let RowLeaf::Column { column, .. } = &row.leaves[leaf] {
                let codes = match self.tables.column(*column).encoding() {
                    Encoding::Texts(TextDictionary::Blocks(_)) => Some(CODES_PER_TEXT),
                    Encoding::Texts(_) => Some(1),
                    _ => None,
                };
                found = found.max(codes);
            }
        });
        found
    }

    /// Adds the anchors that a leaf hangs off; false when a value from outside is missing.
    fn leaf_anchors(&self, leaf: &RowLeaf, anchors: &mut Vec<Anchor>) -> bool {
        match leaf {
            RowLeaf::Column { column, path } => {
                let anchor = self.tables.anchor(*column, path);
                if !anchors.contains(&anchor) {
                    anchors.push(anchor);
                }
                true
            }
            RowLeaf::Parameter(slot) => self.held(*slot).is_some(),
            RowLeaf::Member { slot, of } => {
                let mut fixed = self.held(*slot).is_some();
                of.scalar.each_leaf(&mut |leaf| fixed &= self.leaf_anchors(&of.leaves[leaf], anchors));
                fixed
            }
        }
    }

    pub(crate) fn held(&self, slot: ParameterId) -> Option<&(ParameterId, BoundValue, Type)> {
        self.outer.iter().find(|(s, ..)| *s == slot)
    }

    fn scalar(&self, scalar: &Scalar, row: &RowExpr, leaves: &mut Vec<CompiledLeaf>) -> Scalar {
        if let ScalarKind::Leaf(leaf) = scalar.kind
            && !(self.hoist && matches!(row.leaves[leaf], RowLeaf::Member { .. }))
        {
            let compiled = self.leaf(&row.leaves[leaf]);
            leaves.push(compiled);
            return Scalar { kind: ScalarKind::Leaf(leaves.len() - 1), ..scalar.clone() };
        }
        if self.hoist
            && !scalar.has_free_let()
            && let Some(anchor) = self.common_anchor(scalar, row)
            && let Some(values) = self.by_code(scalar, row, anchor, self.tables.codes_of(self.table, anchor) as usize)
        {
            leaves.push(self.mapped(anchor, values));
            return Scalar { kind: ScalarKind::Leaf(leaves.len() - 1), ..scalar.clone() };
        }
        if let ScalarKind::Leaf(leaf) = scalar.kind {
            leaves.push(self.leaf(&row.leaves[leaf]));
            return Scalar { kind: ScalarKind::Leaf(leaves.len() - 1), ..scalar.clone() };
        }
        scalar.with_parts(&mut |part| self.scalar(part, row, leaves))
    }

    fn leaf(&self, leaf: &RowLeaf) -> CompiledLeaf {
        match leaf {
            RowLeaf::Parameter(slot) => {
                self.held(*slot).map_or(CompiledLeaf::Constant(Value::Null, Type::Null), |(_, held, ty)| {
                    CompiledLeaf::Constant(held.value(), *ty)
                })
            }
            RowLeaf::Member { slot, of } => match self.held(*slot) {
                Some((_, BoundValue::Members(members), _)) => {
                    CompiledLeaf::Member(members.clone(), Box::new(self.compile(of)))
                }
                _ => CompiledLeaf::Constant(Value::Null, Type::Bool),
            },
            RowLeaf::Column { column, path } => {
                let data = self.tables.column(*column);
                let anchor = self.tables.anchor(*column, path);
                let computed = matches!(data.encoding(), Encoding::Offset { .. });
                if path.is_empty() && (computed || !self.hoist || !self.tables.is_small(self.table, anchor)) {
                    return CompiledLeaf::Own(data.clone(), column.index);
                }
                if !self.hoist || !self.tables.is_small(self.table, anchor) {
                    return CompiledLeaf::Far(*column, path.clone());
                }
                let values = match self.values_by_code(*column, path, self.tables.codes_of(self.table, anchor)) {
                    Some(values) => values,
                    None => data.vector_of(&self.tables.own_or_far_codes(*column, path)),
                };
                self.mapped(anchor, values)
            }
        }
    }

    /// Values by the codes of an anchor. Those on a line need not be looked up.
    fn mapped(&self, anchor: Anchor, values: Vector) -> CompiledLeaf {
        let values = self.without_unused_null(anchor, values);
        if let (Data::I64(all), None, false) = (&values.data, &values.valid, self.null_occurs(anchor))
            && let Some((base, step, last)) = all.split_last().and_then(|(_, but_null)| line_of(but_null))
        {
            return CompiledLeaf::Line { anchor, base, step, last };
        }
        CompiledLeaf::Mapped(anchor, Arc::new(values))
    }

    /// Whether the last of an anchor's codes, null's, occurs in any row.
    fn null_occurs(&self, anchor: Anchor) -> bool {
        match anchor {
            Anchor::Column(index) => self.tables.column(ColumnId { table: self.table, index }).nulls() > 0,
            Anchor::Reference(relationship) => self.tables.lookup(relationship).unmatched_rows > 0,
            Anchor::Row => true,
        }
    }

    /// An array over codes ends with null's code. Where that code never occurs and it alone has no value, nothing read
    /// through the array is null.
    fn without_unused_null(&self, anchor: Anchor, mut values: Vector) -> Vector {
        let occurs = self.null_occurs(anchor);
        let alone = |valid: &Vec<bool>| valid.split_last().is_some_and(|(_, rest)| !rest.contains(&false));
        if !occurs && values.valid.as_ref().is_some_and(alone) {
            values.valid = None;
        }
        if let (Data::F64(all), Some(valid)) = (&mut values.data, &values.valid) {
            // So that whoever looks at doubles alone sees which are none.
            all.iter_mut().zip(valid).filter(|(_, valid)| !**valid).for_each(|(v, _)| *v = f64::NAN);
        }
        values
    }
}
