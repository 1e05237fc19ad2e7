//! A row expression that is ready.

use std::sync::Arc;

use super::super::RunError;
use super::super::coded_numbers::{Floats, Ints, SomeInts, Steps};
use super::super::frame::Members;
use super::super::fused::{Fused, LeafSource, Loaded};
use super::super::located::{Far, in_row};
use super::super::pairs::PairOp;
use super::super::tables::{Anchor, Tables};
use super::numbered::numbered;
use super::whole::membership;
use cubrel_formula::scalar::{EvalError, Leaves, Scalar, ScalarKind};
use cubrel_formula::schema::{ColumnId, RelationshipId};
use cubrel_formula::typed::Op;
use cubrel_store::CodedColumn;
use cubrel_value::{Data, Type, Value, Vector};

/// A row expression made ready for a table: as much of it as possible is an array over an anchor's codes.
#[derive(Clone, Debug)]
pub struct CompiledRow {
    pub(super) scalar: Scalar,
    pub(super) leaves: Vec<CompiledLeaf>,
    /// The columns that it looks at, for errors.
    pub(super) looked_at: Arc<[Far]>,
    /// Whether it may be told from whole vectors of numbers; off, it is evaluated, which tests hold against it.
    pub(super) vectors: bool,
    /// The same in steps over vectors of whole numbers, where it has that form.
    pub(super) fused: Option<Arc<Fused>>,
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
    pub(super) fn source(&self) -> Option<LeafSource<'_>> {
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
        let place = cubrel_formula::scalar::Place {
            source: cubrel_formula::source::Source::new("", ""),
            span: Default::default(),
        };
        let scalar = Scalar { kind: ScalarKind::Leaf(0), ty: Type::Bool, place };
        let leaves = vec![CompiledLeaf::ByRow(Arc::new(passes))];
        CompiledRow { scalar, leaves, looked_at: [].into(), vectors: true, fused: None }
    }

    /// Texts by the codes of an anchor as numbers, the same for the same text, of which no more is wanted than whether they differ; `None`
    /// where it is anything else.
    pub fn as_numbered_texts(&self) -> Option<CompiledRow> {
        let (anchor, vector) = self.as_mapped()?;
        let Data::Text(texts) = &vector.data else { return None };
        let numbers = Data::I64(numbered(texts, vector.valid.as_deref()));
        let leaf = CompiledLeaf::Mapped(anchor, Arc::new(Vector { data: numbers, valid: vector.valid.clone() }));
        let scalar = Scalar { ty: Type::Int, ..self.scalar.clone() };
        Some(CompiledRow { scalar, leaves: vec![leaf], fused: None, ..self.clone() })
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

    fn are_same(&self, a: usize, b: usize) -> bool {
        let index = |leaf: usize| match &self.row.leaves[leaf] {
            CompiledLeaf::Own(_, index) => Some(*index),
            _ => None,
        };
        a == b || index(a).is_some() && index(a) == index(b)
    }

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
