//! Expressions over rows, made ready: as much of them as possible is computed once for each code of an anchor (see
//! [`super::tables`] and `by_code`).

use std::sync::Arc;

use super::RunError;
use super::coded_numbers::{Floats, Ints, SomeInts, Steps, line_of};
use super::frame::{BoundValue, Members};
use super::fused::{Fused, LeafSource, Loaded};
use super::located::{Far, columns_of, in_row};
use super::pairs::PairOp;
use super::tables::{Anchor, SMALL_DOMAIN, Tables};
use crate::formula::scalar::{EvalError, Leaves, Scalar, ScalarKind};
use crate::formula::schema::{ColumnId, RelationshipId, TableId};
use crate::formula::typed::Op;
use crate::plan::{ParameterId, RowExpr, RowLeaf};
use crate::store::dictionary::TextDictionary;
use crate::store::{CodedColumn, Encoding};
use crate::value::{Data, Type, Value, Vector, VectorBuilder};

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

/// A row expression made ready for a table: as much of it as possible is an array over an anchor's codes.
#[derive(Clone, Debug)]
pub struct CompiledRow {
    scalar: Scalar,
    leaves: Vec<CompiledLeaf>,
    /// The columns that it looks at, for errors.
    looked_at: Arc<[Far]>,
    /// Whether it may be told from whole vectors of numbers; off, it is evaluated, which tests hold against it.
    vectors: bool,
    /// The same in steps over vectors of whole numbers, where it has that form.
    fused: Option<Arc<Fused>>,
}

/// Where a leaf's values come from.
#[derive(Clone, Debug)]
pub enum CompiledLeaf {
    /// A column of the table, decoded row by row.
    Own(Arc<CodedColumn>, u32),
    /// A looked-up column with too many keys for an array: looked up row by row.
    Far(ColumnId, Vec<RelationshipId>),
    /// An array over an anchor's codes.
    Mapped(Anchor, Arc<Vector>),
    /// Whole numbers that lie on a line over an anchor's codes: those of the first code and of the last, and from one to the next.
    Line { anchor: Anchor, base: i64, step: i64, last: i64 },
    /// The same value in every row.
    Constant(Value, Type),
    /// A truth value for each row of the table.
    ByRow(Arc<Vec<bool>>),
    /// Whole numbers in steps over the codes of a column of the table.
    Stepped(u32, Arc<Steps>),
    /// Whether a value is in a set from outside.
    Member(Arc<Members>, Box<CompiledRow>),
}

/// Truth values by the code of an anchor, and which of them are there.
type CodedTruths<'a> = (Anchor, &'a [bool], Option<&'a [bool]>);

impl CompiledLeaf {
    /// Whole numbers by the code of a column in which some are null: the anchor, base, step and null's code.
    fn as_some_ints(&self) -> Option<(Anchor, SomeInts<'_>)> {
        match self {
            CompiledLeaf::Own(column, index) => {
                let (base, step) = column.line_or_null()?;
                Some((Anchor::Column(*index), SomeInts::Line { base, step, null: column.null_code() }))
            }
            CompiledLeaf::Mapped(anchor, values) => match values.as_ref() {
                Vector { data: Data::I64(values), valid: Some(valid) } => {
                    Some((*anchor, SomeInts::ByCode(values, valid)))
                }
                _ => None,
            },
            _ => None,
        }
    }

    /// Doubles by the code of an anchor, not a number where there is none; and whether there are such.
    fn as_floats(&self) -> Option<(Anchor, Floats<'_>, bool)> {
        match self {
            CompiledLeaf::Own(column, index) => {
                Some((Anchor::Column(*index), Floats::Line(column.float_line()?), column.nulls() > 0))
            }
            CompiledLeaf::Mapped(anchor, values) => match &values.data {
                Data::F64(all) => Some((*anchor, Floats::ByCode(all), values.valid.is_some())),
                _ => None,
            },
            _ => None,
        }
    }

    /// Whole numbers by the code of an anchor, none of them null.
    fn as_ints(&self) -> Option<(Anchor, Ints<'_>)> {
        match self {
            CompiledLeaf::Own(column, index) => {
                let (base, step, last) = column.line()?;
                Some((Anchor::Column(*index), Ints::Line { base, step, last }))
            }
            CompiledLeaf::Mapped(anchor, values) => match values.as_ref() {
                Vector { data: Data::I64(values), valid: None } => Some((*anchor, Ints::ByCode(values))),
                _ => None,
            },
            CompiledLeaf::Line { anchor, base, step, last } => {
                Some((*anchor, Ints::Line { base: *base, step: *step, last: *last }))
            }
            CompiledLeaf::Stepped(index, steps) => Some((Anchor::Column(*index), Ints::Steps(steps))),
            _ => None,
        }
    }

    /// Truth values by the code of an anchor.
    fn as_truths(&self) -> Option<CodedTruths<'_>> {
        match self {
            CompiledLeaf::Mapped(anchor, values) => match &values.data {
                Data::Bool(truths) => Some((*anchor, truths, values.valid.as_deref())),
                _ => None,
            },
            _ => None,
        }
    }

    /// What it delivers to steps over vectors.
    fn source(&self) -> Option<LeafSource<'_>> {
        if let CompiledLeaf::Constant(value, _) = self {
            return Some(LeafSource::Constant(value.clone()));
        }
        if let Some((_, ints)) = self.as_ints() {
            return Some(LeafSource::Numbers { ends: Box::new(move || ints.ends()), nullable: false });
        }
        if let Some((_, ints)) = self.as_some_ints() {
            return Some(LeafSource::Numbers { ends: Box::new(move || ints.ends()), nullable: true });
        }
        self.as_truths().map(|(.., valid)| LeafSource::Truths { nullable: valid.is_some() })
    }

    /// What it has in some rows of a batch, for steps over vectors; `once` where each row is asked for once.
    fn loaded<'a>(&'a self, batch: &'a dyn BatchCodes, positions: &[u32], once: bool) -> Loaded<'a> {
        if let Some((anchor, ints)) = self.as_ints() {
            if once && batch.unpacks_in_parts(positions) {
                return Loaded::InParts(Box::new(move |from, out| batch.ints_in_part(anchor, ints, from, out)));
            }
            return Loaded::Numbers(batch.ints(anchor, ints, positions), None);
        }
        if let Some((anchor, ints)) = self.as_some_ints() {
            let (values, there) = batch.some_ints(anchor, ints, positions);
            return Loaded::Numbers(values, Some(there));
        }
        let Some((anchor, truths, valid)) = self.as_truths() else { return Loaded::Truths(Vec::new(), None) };
        let codes = batch.anchor(anchor, positions);
        let of = |known: &[bool]| codes.iter().map(|code| known[*code as usize]).collect();
        Loaded::Truths(of(truths), valid.map(of))
    }
}

/// A comparison of doubles by the codes of anchors, not a number where there is none. Whole numbers are compared in steps over vectors.
pub struct FloatComparison<'a> {
    /// The operator.
    pub op: Op,
    /// What is compared.
    pub sides: [(Anchor, Floats<'a>); 2],
}

/// Values from outside, by slot.
pub type Outer<'a> = &'a [(ParameterId, BoundValue, Type)];

/// Compiles row expressions of one table.
pub struct RowCompiler<'a> {
    pub(super) tables: Tables<'a>,
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
    pub(super) fn for_rows(self, rows: u64) -> RowCompiler<'a> {
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
        if self.looks_at_packed_texts(scalar, row) {
            let worth = codes <= SMALL_DOMAIN.max(self.rows.saturating_mul(CODES_PER_TEXT));
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

    /// Whether it looks at texts that are packed in blocks.
    fn looks_at_packed_texts(&self, scalar: &Scalar, row: &RowExpr) -> bool {
        let mut found = false;
        scalar.each_leaf(&mut |leaf| {
            if let RowLeaf::Column { column, .. } = &row.leaves[leaf] {
                let encoding = self.tables.column(*column).encoding();
                found |= matches!(encoding, Encoding::Texts(TextDictionary::Blocks(_)));
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

    pub(super) fn held(&self, slot: ParameterId) -> Option<&(ParameterId, BoundValue, Type)> {
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

/// For each value whether it is among the members; null for null.
pub fn membership(values: &Vector, ty: Type, members: &Members) -> Vector {
    let mut builder = VectorBuilder::new(Type::Bool, values.len());
    for i in 0..values.len() {
        let value = values.get(i, ty);
        builder.push(if value.is_null() { Value::Null } else { Value::Bool(members.contains(&value)) });
    }
    builder.finish()
}

/// Leaves that are whole vectors.
pub struct WholeLeaves<'a> {
    /// By leaf; none where it is not used.
    pub values: Vec<Option<Vector>>,
    /// Where they come from.
    pub tables: Tables<'a>,
}

impl Leaves for WholeLeaves<'_> {
    type Error = EvalError;

    fn is_at_hand(&self, _: usize) -> bool {
        true
    }

    fn may_go_on(&self) -> bool {
        self.tables.check().is_ok()
    }

    fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, EvalError> {
        let Some(Some(vector)) = self.values.get(leaf) else {
            return Ok(Vector::nulls(Type::Null, slots.len()));
        };
        if slots.len() == vector.len() { Ok(vector.clone()) } else { Ok(vector.gather(slots)) }
    }
}

/// Delivers codes of anchors for a batch of rows.
pub trait BatchCodes {
    /// The codes of an anchor in the rows at `positions` of the batch.
    fn anchor(&self, anchor: Anchor, positions: &[u32]) -> Arc<Vec<u32>>;
    /// The codes of a column of the table.
    fn column(&self, column: &CodedColumn, index: u32, positions: &[u32]) -> Vec<u64>;
    /// Whether the rows at `positions` are all of the batch, and can be unpacked some at a time.
    fn unpacks_in_parts(&self, _positions: &[u32]) -> bool {
        false
    }
    /// The numbers that go with the codes of an anchor in rows from one on, where the batch can be unpacked some at a time.
    fn ints_in_part(&self, _anchor: Anchor, _ints: Ints<'_>, _from: usize, _out: &mut [i64]) {}
    /// The numbers that go with the codes of an anchor.
    fn ints(&self, anchor: Anchor, ints: Ints<'_>, positions: &[u32]) -> Vec<i64>;
    /// The numbers that go with the codes of an anchor, 0 for null, and which of them are there.
    fn some_ints(&self, anchor: Anchor, ints: SomeInts<'_>, positions: &[u32]) -> (Vec<i64>, Vec<bool>);
    /// The doubles that go with the codes of an anchor, not a number for null.
    fn floats(&self, anchor: Anchor, floats: Floats<'_>, positions: &[u32]) -> Vec<f64>;
    /// The rows' numbers.
    fn rows(&self, positions: &[u32]) -> Vec<u32>;
}

impl CompiledRow {
    /// A filter of which it is known for each row whether it passes.
    pub fn of_rows(passes: Vec<bool>) -> CompiledRow {
        let place = crate::formula::scalar::Place {
            source: crate::formula::source::Source::new("", ""),
            span: Default::default(),
        };
        let scalar = Scalar { kind: ScalarKind::Leaf(0), ty: Type::Bool, place };
        let leaves = vec![CompiledLeaf::ByRow(Arc::new(passes))];
        CompiledRow { scalar, leaves, looked_at: [].into(), vectors: true, fused: None }
    }

    /// The same expression, which is known to be numbers in steps over the codes of a column.
    #[must_use]
    pub fn stepped(&self, column: u32, steps: Steps) -> CompiledRow {
        let scalar = Scalar { kind: ScalarKind::Leaf(0), ..self.scalar.clone() };
        let leaves = vec![CompiledLeaf::Stepped(column, Arc::new(steps))];
        CompiledRow { scalar, leaves, fused: None, ..self.clone() }
    }

    /// The table's columns that are decoded row by row.
    pub fn own_columns(&self) -> Vec<u32> {
        let of_leaf = |l: &CompiledLeaf| match l {
            CompiledLeaf::Own(_, index) | CompiledLeaf::Stepped(index, _) => vec![*index],
            CompiledLeaf::Member(_, of) => of.own_columns(),
            _ => Vec::new(),
        };
        self.leaves.iter().flat_map(of_leaf).collect()
    }

    /// The anchors whose codes it needs.
    pub fn anchors(&self) -> Vec<Anchor> {
        let of_leaf = |l: &CompiledLeaf| match l {
            CompiledLeaf::Mapped(anchor, _) | CompiledLeaf::Line { anchor, .. } => vec![*anchor],
            CompiledLeaf::Member(_, of) => of.anchors(),
            _ => Vec::new(),
        };
        self.leaves.iter().flat_map(of_leaf).collect()
    }

    /// Whether it asks for the numbers of rows.
    pub fn needs_rows(&self) -> bool {
        self.leaves.iter().any(|leaf| match leaf {
            CompiledLeaf::Far(..) | CompiledLeaf::ByRow(_) => true,
            CompiledLeaf::Member(_, of) => of.needs_rows(),
            CompiledLeaf::Own(..)
            | CompiledLeaf::Mapped(..)
            | CompiledLeaf::Line { .. }
            | CompiledLeaf::Constant(..)
            | CompiledLeaf::Stepped(..) => false,
        })
    }

    /// When the whole expression is an array over one anchor's codes: that.
    pub fn as_mapped(&self) -> Option<(Anchor, &Vector)> {
        match (&self.scalar.kind, self.leaves.as_slice()) {
            (ScalarKind::Leaf(0), [CompiledLeaf::Mapped(anchor, vector)]) => Some((*anchor, vector)),
            _ => None,
        }
    }

    /// When the whole expression is whole numbers by the code of an anchor, none of them null: these.
    pub fn as_ints(&self) -> Option<(Anchor, Ints<'_>)> {
        match (&self.scalar.kind, self.leaves.as_slice()) {
            (ScalarKind::Leaf(0), [leaf]) => leaf.as_ints(),
            _ => None,
        }
    }

    /// When the whole expression is whole numbers by the code of an anchor, some of them null: these.
    pub fn as_some_ints(&self) -> Option<(Anchor, SomeInts<'_>)> {
        match (&self.scalar.kind, self.leaves.as_slice()) {
            (ScalarKind::Leaf(0), [leaf]) => leaf.as_some_ints(),
            _ => None,
        }
    }

    /// When the whole expression is doubles by the code of an anchor: these, and whether any can be null.
    pub fn as_floats(&self) -> Option<(Anchor, Floats<'_>, bool)> {
        match (&self.scalar.kind, self.leaves.as_slice()) {
            (ScalarKind::Leaf(0), [leaf]) => leaf.as_floats(),
            _ => None,
        }
    }

    /// The expression itself.
    pub fn scalar(&self) -> &Scalar {
        &self.scalar
    }

    /// When it looks at one column of the table and else at constants: the column, and its number.
    pub fn only_column(&self) -> Option<(&CodedColumn, u32)> {
        let mut only = None;
        for leaf in &self.leaves {
            match (leaf, only) {
                (CompiledLeaf::Constant(..), _) => {}
                (CompiledLeaf::Own(column, index), None) => only = Some((&**column, *index)),
                (CompiledLeaf::Own(_, index), Some((_, known))) if *index == known => {}
                _ => return None,
            }
        }
        only
    }

    /// Whether a leaf is a column of the table.
    pub fn is_own(&self, leaf: usize) -> bool {
        matches!(self.leaves.get(leaf), Some(CompiledLeaf::Own(..)))
    }

    /// The value of a part that is the same in every row.
    pub fn constant(&self, part: &Scalar) -> Option<Value> {
        part.constant_with(&|leaf| match self.leaves.get(leaf)? {
            CompiledLeaf::Constant(value, _) => Some(value.clone()),
            _ => None,
        })
    }

    /// When the whole expression is `a + b`, `a - b` or `a * b` of exact numbers by code, none of them null: the operator
    /// and both sides.
    pub fn as_pair(&self) -> Option<(PairOp, [(Anchor, Ints<'_>); 2])> {
        let ScalarKind::Call(op, args) = &self.scalar.kind else { return None };
        let [ScalarKind::Leaf(a), ScalarKind::Leaf(b)] = [&args.first()?.kind, &args.get(1)?.kind] else { return None };
        let sides = [self.leaves[*a].as_ints()?, self.leaves[*b].as_ints()?];
        let op = match op {
            Op::Add => PairOp::Add,
            Op::Sub => PairOp::Subtract,
            Op::Mul => PairOp::Multiply,
            _ => return None,
        };
        self.scalar.ty.is_exact().then_some((op, sides))
    }

    /// When it compares two columns of doubles, or what hangs off two anchors: these.
    pub fn as_float_comparison(&self) -> Option<FloatComparison<'_>> {
        let ScalarKind::Call(op @ (Op::Eq | Op::Ne | Op::Lt | Op::Le | Op::Gt | Op::Ge), args) = &self.scalar.kind
        else {
            return None;
        };
        let [ScalarKind::Leaf(a), ScalarKind::Leaf(b)] = [&args.first()?.kind, &args.get(1)?.kind] else { return None };
        let side = |leaf: usize| self.leaves[leaf].as_floats().map(|(anchor, floats, _)| (anchor, floats));
        let sides = [side(*a)?, side(*b)?];
        self.vectors.then_some(FloatComparison { op: *op, sides })
    }

    /// Whether a value can be null, as far as that is easily told.
    pub fn nullable(&self) -> bool {
        self.fused.as_ref().map_or_else(|| self.can_be_null(&self.scalar), |fused| fused.nullable())
    }

    /// The bits that the largest number takes, where the expression comes in steps over vectors of whole numbers.
    pub fn fused_bits(&self) -> Option<u32> {
        self.fused.as_ref().filter(|fused| !fused.is_condition()).map(|fused| fused.bits())
    }

    /// In which of the rows at `positions` of a batch a condition is true, where it comes in steps over vectors of whole numbers.
    pub fn fused_truths(&self, batch: &dyn BatchCodes, positions: &[u32]) -> Option<Vec<bool>> {
        let fused = self.fused.as_ref().filter(|fused| fused.is_condition())?;
        Some(fused.truths(positions.len(), |leaf, once| self.leaves[leaf].loaded(batch, positions, once)))
    }

    fn can_be_null(&self, scalar: &Scalar) -> bool {
        match &scalar.kind {
            ScalarKind::Constant(value) => value.is_null(),
            ScalarKind::Leaf(leaf) => match &self.leaves[*leaf] {
                CompiledLeaf::Mapped(_, values) => values.valid.is_some(),
                CompiledLeaf::Own(column, _) => column.nulls() > 0,
                CompiledLeaf::Stepped(..) | CompiledLeaf::Line { .. } => false,
                _ => true,
            },
            // Doubles can leave what is finite, and are null then.
            ScalarKind::Call(Op::Add | Op::Sub | Op::Mul | Op::Negate | Op::Rescale { .. }, args) => {
                !scalar.ty.is_exact() || args.iter().any(|arg| self.can_be_null(arg))
            }
            _ => true,
        }
    }

    /// The values in the rows at `positions` of a batch.
    pub fn eval(&self, tables: Tables<'_>, batch: &dyn BatchCodes, positions: &[u32]) -> Result<Vector, RunError> {
        self.eval_exact(tables, batch, positions).map_err(|e| {
            // What was broken off is no fault of the formula.
            let located = |()| self.located(e, tables, batch, positions).into();
            tables.check().map_or_else(|limit| limit, located)
        })
    }

    /// An error with the values that the expression looks at in its row.
    fn located(&self, e: EvalError, tables: Tables<'_>, batch: &dyn BatchCodes, positions: &[u32]) -> EvalError {
        let row = positions.get(e.slot).and_then(|at| batch.rows(&[*at]).first().copied());
        let here = || row.map_or(String::new(), |row| in_row(tables, &self.looked_at, row));
        EvalError { at: e.at.or_else(|| Some(here())), ..e }
    }

    fn eval_exact(&self, tables: Tables<'_>, batch: &dyn BatchCodes, positions: &[u32]) -> Result<Vector, EvalError> {
        if let Some(fused) = &self.fused {
            return Ok(fused.eval(positions.len(), |leaf, once| self.leaves[leaf].loaded(batch, positions, once)));
        }
        let leaves = BatchLeaves { row: self, tables, batch, positions };
        if let ScalarKind::Leaf(leaf) = self.scalar.kind {
            let slots: Vec<u32> = (0..positions.len() as u32).collect();
            return leaves.leaf(leaf, &slots);
        }
        self.scalar.eval(&leaves, positions.len())
    }
}

struct BatchLeaves<'a> {
    row: &'a CompiledRow,
    tables: Tables<'a>,
    batch: &'a dyn BatchCodes,
    positions: &'a [u32],
}

impl Leaves for BatchLeaves<'_> {
    type Error = EvalError;

    fn is_at_hand(&self, leaf: usize) -> bool {
        // Whether something is in a set is told of an expression, which can fail.
        !matches!(self.row.leaves[leaf], CompiledLeaf::Member(..))
    }

    fn may_go_on(&self) -> bool {
        self.tables.check().is_ok()
    }

    fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, EvalError> {
        let picked: Vec<u32>;
        let positions = if slots.len() == self.positions.len() {
            self.positions
        } else {
            picked = slots.iter().map(|s| self.positions[*s as usize]).collect();
            &picked
        };
        if let Some((anchor, ints)) = self.row.leaves[leaf].as_ints() {
            return Ok(Vector::new(Data::I64(self.batch.ints(anchor, ints, positions))));
        }
        if let Some((anchor, ints)) = self.row.leaves[leaf].as_some_ints() {
            let (values, valid) = self.batch.some_ints(anchor, ints, positions);
            return Ok(Vector::with_validity(Data::I64(values), valid));
        }
        if let Some((anchor, floats, nullable)) = self.row.leaves[leaf].as_floats() {
            let values = self.batch.floats(anchor, floats, positions);
            let valid = nullable.then(|| values.iter().map(|v| !v.is_nan()).collect());
            return Ok(Vector { data: Data::F64(values), valid });
        }
        Ok(match &self.row.leaves[leaf] {
            CompiledLeaf::Own(column, index) => column.vector_of(&self.batch.column(column, *index, positions)),
            CompiledLeaf::Mapped(anchor, values) => values.gather(&self.batch.anchor(*anchor, positions)),
            CompiledLeaf::Constant(value, ty) => Vector::constant(value, *ty, positions.len()),
            CompiledLeaf::Line { .. } | CompiledLeaf::Stepped(..) => unreachable!("these are whole numbers by code"),
            CompiledLeaf::Member(members, of) => {
                let values = of.eval_exact(self.tables, self.batch, positions)?;
                membership(&values, of.scalar.ty, members)
            }
            CompiledLeaf::ByRow(passes) => {
                let rows = self.batch.rows(positions);
                Vector::new(Data::Bool(rows.iter().map(|r| passes[*r as usize]).collect()))
            }
            CompiledLeaf::Far(column, path) => {
                let data = self.tables.column(*column);
                data.vector_of(&self.tables.far_codes(data, path, self.batch.rows(positions)))
            }
        })
    }
}
