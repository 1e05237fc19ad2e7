//! Where the values of a row come from: everything that hangs off one key of the table is computed once for each
//! code of that key, whatever the number of rows.
//!
//! An *anchor* is a column of the table that is read (or a reference to another table's row). A filter on a
//! dimension table, a group-by column of it, an expression of its columns: each is an array over the anchor's codes.

use std::ops::Range;
use std::sync::Arc;

use rayon::prelude::*;

use super::frame::{Held, Members};
use super::located::{Far, columns_of, in_row};
use super::{Options, RunError};
use crate::formula::scalar::{EvalError, Leaves, Scalar, ScalarKind};
use crate::formula::schema::{ColumnId, RelationshipId, Schema, TableId};
use crate::formula::typed::Op;
use crate::plan::{RowExpr, RowLeaf, Slot};
use crate::store::{Column, Cuts, Encoding, Lookup, NO_ROW, Segment, Store, Target};
use crate::value::exact::bits_of;
use crate::value::{Data, Type, Value, Vector, VectorBuilder};

/// Arrays over codes are made while there are at most this many codes,
const SMALL_DOMAIN: u64 = 1 << 16;
/// or at most this many codes for each row.
const CODES_PER_ROW: u64 = 2;
/// Something is computed by code where there are at least so many rows for each.
const ROWS_PER_CODE: u64 = 2;

/// What a row's values hang off.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Anchor {
    /// The codes of one of the table's columns.
    Column(u32),
    /// The row that a relationship points at, where that is kept by row.
    Reference(RelationshipId),
    /// The row itself.
    Row,
}

/// A table of the store with the schema around it.
#[derive(Clone, Copy)]
pub struct Tables<'a> {
    /// What there is.
    pub schema: &'a Schema,
    /// The data.
    pub store: &'a Store,
    /// The limits under which it is looked at.
    limits: Option<&'a Options>,
}

impl<'a> Tables<'a> {
    /// Looked at without limits.
    pub fn new(schema: &'a Schema, store: &'a Store) -> Tables<'a> {
        Tables { schema, store, limits: None }
    }

    /// Looked at under the limits of a run.
    #[must_use]
    pub fn limited(self, options: &'a Options) -> Tables<'a> {
        Tables { limits: Some(options), ..self }
    }

    /// Whether there is time to go on.
    fn check(&self) -> Result<(), RunError> {
        self.limits.map_or(Ok(()), Options::check)
    }

    /// How many rows a table has.
    pub fn rows(&self, table: TableId) -> usize {
        self.store.tables[table.0 as usize].rows
    }

    /// Where the segments of a table begin; `None` when it has no columns.
    pub fn cuts(&self, table: TableId) -> Option<&'a Cuts> {
        self.store.tables[table.0 as usize].columns.first().map(|c| c.cuts())
    }

    /// A column's data.
    pub fn column(&self, column: ColumnId) -> &'a Arc<Column> {
        self.store.tables[column.table.0 as usize].columns[column.index as usize].proven()
    }

    /// A relationship's data.
    pub fn lookup(&self, relationship: RelationshipId) -> &'a Lookup {
        self.store.lookups[relationship.0 as usize].proven()
    }

    /// The rows of a table in steps that end where its segments do.
    pub fn batches(&self, table: TableId, most: usize) -> Vec<Range<usize>> {
        let rows = self.rows(table);
        // A table without columns has no segments.
        self.cuts(table).cloned().unwrap_or_else(|| Cuts::even(rows, rows)).batches(most).collect()
    }

    /// The anchor from which a path starts.
    pub fn anchor_of_path(&self, relationship: RelationshipId) -> Anchor {
        match &self.lookup(relationship).target {
            Target::ByCode(_) => Anchor::Column(self.schema.relationship(relationship).many_columns[0]),
            Target::ByRow(_) => Anchor::Reference(relationship),
        }
    }

    /// The anchor of a column that a table looks up.
    pub fn anchor(&self, column: ColumnId, path: &[RelationshipId]) -> Anchor {
        match path.first() {
            None => Anchor::Column(column.index),
            Some(relationship) => self.anchor_of_path(*relationship),
        }
    }

    /// How many codes an anchor has, null's included.
    pub fn codes_of(&self, table: TableId, anchor: Anchor) -> u64 {
        match anchor {
            Anchor::Column(index) => self.column(ColumnId { table, index }).domain() + 1,
            Anchor::Reference(relationship) => self.rows(self.schema.relationship(relationship).one) as u64 + 1,
            Anchor::Row => self.rows(table) as u64,
        }
    }

    /// Whether arrays over an anchor's codes are worth making.
    pub fn is_small(&self, table: TableId, anchor: Anchor) -> bool {
        anchor != Anchor::Row
            && self.codes_of(table, anchor) <= SMALL_DOMAIN.max(CODES_PER_ROW * self.rows(table) as u64)
    }

    /// The rows that some rows point at.
    fn follow(&self, relationship: RelationshipId, from: &[u32]) -> Vec<u32> {
        let def = self.schema.relationship(relationship);
        if from.len() > self.rows(def.many) / MANY {
            let targets = self.targets(relationship);
            return each(from, |row| targets.get(*row as usize).copied().unwrap_or(NO_ROW));
        }
        match &self.lookup(relationship).target {
            Target::ByCode(rows) => {
                let key = self.column(ColumnId { table: def.many, index: def.many_columns[0] });
                key.codes_at(from).into_iter().map(|code| rows[code as usize]).collect()
            }
            Target::ByRow(packed) => {
                let none = self.rows(def.one) as u64;
                let target = |row: &u32| match row {
                    &NO_ROW => NO_ROW,
                    row => match packed.get(*row as usize) {
                        target if target == none => NO_ROW,
                        target => target as u32,
                    },
                };
                from.iter().map(target).collect()
            }
        }
    }

    /// For every row of the many side the row that it points at: unpacked in the order in which they stand.
    fn targets(&self, relationship: RelationshipId) -> Vec<u32> {
        let def = self.schema.relationship(relationship);
        let mut targets = vec![NO_ROW; self.rows(def.many)];
        match &self.lookup(relationship).target {
            Target::ByCode(rows) => {
                let key = self.column(ColumnId { table: def.many, index: def.many_columns[0] });
                let mut left = targets.as_mut_slice();
                let parts: Vec<(&Segment, &mut [u32])> = key
                    .segments()
                    .iter()
                    .zip(key.cuts().ranges())
                    .map(|(segment, range)| (segment, left.split_off_mut(..range.len()).unwrap_or_default()))
                    .collect();
                parts.into_par_iter().for_each(|(segment, out)| segment.map_rows(0, out, |code| rows[code as usize]));
            }
            Target::ByRow(packed) => {
                let none = self.rows(def.one) as u64;
                packed.map_rows(0, &mut targets, |target| if target == none { NO_ROW } else { target as u32 });
            }
        }
        targets
    }

    /// For each code of the anchor at the start of a path, the row at its end.
    pub fn rows_by_code(&self, path: &[RelationshipId]) -> Vec<u32> {
        let Some((first, rest)) = path.split_first() else {
            return Vec::new();
        };
        let mut rows: Vec<u32> = match &self.lookup(*first).target {
            Target::ByCode(rows) => rows.to_vec(),
            Target::ByRow(_) => {
                let count = self.rows(self.schema.relationship(*first).one) as u32;
                (0..count).chain([NO_ROW]).collect()
            }
        };
        for relationship in rest {
            rows = self.follow(*relationship, &rows);
        }
        rows
    }

    /// The rows that some rows point at over a path.
    pub fn follow_path(&self, path: &[RelationshipId], rows: Vec<u32>) -> Vec<u32> {
        path.iter().fold(rows, |rows, r| self.follow(*r, &rows))
    }

    /// The codes that a column at the end of a path has for some rows at its start.
    pub fn far_codes(&self, column: &Column, path: &[RelationshipId], rows: Vec<u32>) -> Vec<u64> {
        column.codes_at(&self.follow_path(path, rows))
    }

    /// For each code of the anchor, the code of a column at the end of a path.
    pub fn codes_by_code(&self, column: ColumnId, path: &[RelationshipId]) -> Vec<u64> {
        let data = self.column(column);
        if path.is_empty() {
            return (0..=data.domain()).collect();
        }
        let codes = data.codes();
        let null = data.null_code();
        let code = |row: u32| {
            if row == NO_ROW { null } else { codes[row as usize] }
        };
        each(&self.rows_by_code(path), |row| code(*row))
    }
}

/// More than one of so many rows are looked at in the order in which they stand.
const MANY: usize = 4;
/// So many values are worth a thread.
const WORTH_A_THREAD: usize = 1 << 16;

/// What `map` makes of each of some values, on all threads where they are many.
fn each<A: Sync, B: Send>(values: &[A], map: impl Fn(&A) -> B + Sync + Send) -> Vec<B> {
    values.par_iter().with_min_len(WORTH_A_THREAD).map(map).collect()
}

/// A row expression made ready for a table: as much of it as possible is an array over an anchor's codes.
#[derive(Clone, Debug)]
pub struct CompiledRow {
    scalar: Scalar,
    leaves: Vec<CompiledLeaf>,
    /// The columns that it looks at, for errors.
    looked_at: Arc<[Far]>,
}

/// Where a leaf's values come from.
#[derive(Clone, Debug)]
pub enum CompiledLeaf {
    /// A column of the table, decoded row by row.
    Own(Arc<Column>, u32),
    /// A looked-up column with too many keys for an array: looked up row by row.
    Far(ColumnId, Vec<RelationshipId>),
    /// An array over an anchor's codes.
    Mapped(Anchor, Arc<Vector>),
    /// The same value in every row.
    Constant(Value, Type),
    /// A truth value for each row of the table.
    ByRow(Arc<Vec<bool>>),
    /// Whether a value is in a set from outside.
    Member(Arc<Members>, Box<CompiledRow>),
}

impl CompiledLeaf {
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
            _ => None,
        }
    }
}

/// Values from outside, by slot.
pub type Outer<'a> = &'a [(Slot, Held, Type)];

/// Compiles row expressions of one table.
pub struct RowCompiler<'a> {
    tables: Tables<'a>,
    table: TableId,
    outer: Outer<'a>,
    /// Whether arrays over codes are used; off, every row is computed by itself, which tests hold against it.
    hoist: bool,
}

impl<'a> RowCompiler<'a> {
    /// A compiler for expressions over rows of `table`.
    pub fn new(tables: Tables<'a>, table: TableId, outer: Outer<'a>, hoist: bool) -> RowCompiler<'a> {
        RowCompiler { tables, table, outer, hoist }
    }

    /// Makes an expression ready.
    pub fn compile(&self, row: &RowExpr) -> CompiledRow {
        let mut leaves = Vec::new();
        let scalar = self.scalar(&row.scalar, row, &mut leaves);
        let mut looked_at = Vec::new();
        columns_of(row, &mut looked_at);
        CompiledRow { scalar, leaves, looked_at: looked_at.into() }
    }

    /// The anchor that all leaves below hang off, if it is one and small.
    fn common_anchor(&self, scalar: &Scalar, row: &RowExpr) -> Option<Anchor> {
        let mut anchors = Vec::new();
        let mut fixed = true;
        scalar.each_leaf(&mut |leaf| fixed &= self.leaf_anchors(&row.leaves[leaf], &mut anchors));
        match anchors.as_slice() {
            [anchor] if fixed && self.pays_by_code(*anchor) => Some(*anchor),
            _ => None,
        }
    }

    /// Whether there are so few codes that computing something for each of them is less work than for each row, with a look
    /// into an array for each row on top.
    fn pays_by_code(&self, anchor: Anchor) -> bool {
        let rows = self.tables.rows(self.table) as u64;
        self.tables.is_small(self.table, anchor)
            && self.tables.codes_of(self.table, anchor) <= SMALL_DOMAIN.max(rows / ROWS_PER_CODE)
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
            RowLeaf::Outer(slot) => self.held(*slot).is_some(),
            RowLeaf::Member { slot, of } => {
                let mut fixed = self.held(*slot).is_some();
                of.scalar.each_leaf(&mut |leaf| fixed &= self.leaf_anchors(&of.leaves[leaf], anchors));
                fixed
            }
        }
    }

    fn held(&self, slot: Slot) -> Option<&(Slot, Held, Type)> {
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
            && !has_free_let(scalar, &mut Vec::new())
            && let Some(anchor) = self.common_anchor(scalar, row)
            && let Some(values) = self.over_codes(scalar, row, anchor)
        {
            leaves.push(CompiledLeaf::Mapped(anchor, Arc::new(self.without_unused_null(anchor, values))));
            return Scalar { kind: ScalarKind::Leaf(leaves.len() - 1), ..scalar.clone() };
        }
        let mut part = |s: &Scalar| self.scalar(s, row, leaves);
        let kind = match &scalar.kind {
            ScalarKind::Constant(v) => ScalarKind::Constant(v.clone()),
            ScalarKind::Leaf(i) => {
                leaves.push(self.leaf(&row.leaves[*i]));
                ScalarKind::Leaf(leaves.len() - 1)
            }
            ScalarKind::LetRef(id) => ScalarKind::LetRef(*id),
            ScalarKind::Fault(what) => ScalarKind::Fault(what),
            ScalarKind::Let(id, a, b) => ScalarKind::Let(*id, Box::new(part(a)), Box::new(part(b))),
            ScalarKind::And(a, b) => ScalarKind::And(Box::new(part(a)), Box::new(part(b))),
            ScalarKind::Or(a, b) => ScalarKind::Or(Box::new(part(a)), Box::new(part(b))),
            ScalarKind::Call(op, args) => ScalarKind::Call(*op, args.iter().map(part).collect()),
            ScalarKind::Coalesce(args) => ScalarKind::Coalesce(args.iter().map(part).collect()),
            ScalarKind::Case(arms, otherwise) => {
                let arms = arms.iter().map(|(c, r)| (part(c), part(r))).collect();
                ScalarKind::Case(arms, otherwise.as_ref().map(|e| Box::new(part(e))))
            }
        };
        Scalar { kind, ..scalar.clone() }
    }

    fn leaf(&self, leaf: &RowLeaf) -> CompiledLeaf {
        match leaf {
            RowLeaf::Outer(slot) => {
                self.held(*slot).map_or(CompiledLeaf::Constant(Value::Null, Type::Null), |(_, held, ty)| {
                    CompiledLeaf::Constant(held.value(), *ty)
                })
            }
            RowLeaf::Member { slot, of } => match self.held(*slot) {
                Some((_, Held::Members(members), _)) => {
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
                let codes = self.tables.codes_by_code(*column, path);
                CompiledLeaf::Mapped(anchor, Arc::new(self.without_unused_null(anchor, data.vector_of(&codes))))
            }
        }
    }

    /// An array over codes ends with null's code. Where that code never occurs and it alone has no value, nothing read
    /// through the array is null.
    fn without_unused_null(&self, anchor: Anchor, mut values: Vector) -> Vector {
        let occurs = match anchor {
            Anchor::Column(index) => self.tables.column(ColumnId { table: self.table, index }).nulls() > 0,
            Anchor::Reference(relationship) => self.tables.lookup(relationship).unmatched_rows > 0,
            Anchor::Row => true,
        };
        let alone = |valid: &Vec<bool>| valid.split_last().is_some_and(|(_, rest)| !rest.contains(&false));
        if !occurs && values.valid.as_ref().is_some_and(alone) {
            values.valid = None;
        }
        values
    }

    /// The expression for each code of an anchor; `None` when that fails for some code, which need not occur.
    fn over_codes(&self, scalar: &Scalar, row: &RowExpr, anchor: Anchor) -> Option<Vector> {
        let codes = self.tables.codes_of(self.table, anchor) as usize;
        let leaves: Vec<Option<Vector>> = (0..row.leaves.len())
            .map(|i| {
                let mut used = false;
                scalar.each_leaf(&mut |leaf| used |= leaf == i);
                used.then(|| self.leaf_over_codes(&row.leaves[i], anchor))
            })
            .map(|leaf| leaf.map_or(Some(None), |vector| vector.map(Some)))
            .collect::<Option<_>>()?;
        scalar.eval(&WholeLeaves { values: leaves, tables: self.tables }, codes).ok()
    }

    fn leaf_over_codes(&self, leaf: &RowLeaf, anchor: Anchor) -> Option<Vector> {
        let codes = self.tables.codes_of(self.table, anchor) as usize;
        match leaf {
            RowLeaf::Column { column, path } => {
                Some(self.tables.column(*column).vector_of(&self.tables.codes_by_code(*column, path)))
            }
            RowLeaf::Outer(slot) => {
                let (_, held, ty) = self.held(*slot)?;
                Some(Vector::constant(&held.value(), *ty, codes))
            }
            RowLeaf::Member { slot, of } => {
                let (_, Held::Members(members), _) = self.held(*slot)? else {
                    return None;
                };
                Some(membership(&self.over_codes(&of.scalar, of, anchor)?, of.scalar.ty, members))
            }
        }
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

/// Whether a `let` is used that is bound outside of the tree.
fn has_free_let(scalar: &Scalar, bound: &mut Vec<crate::formula::typed::LetId>) -> bool {
    match &scalar.kind {
        ScalarKind::Constant(_) | ScalarKind::Leaf(_) | ScalarKind::Fault(_) => false,
        ScalarKind::LetRef(id) => !bound.contains(id),
        ScalarKind::Let(id, a, b) => {
            if has_free_let(a, bound) {
                return true;
            }
            bound.push(*id);
            let free = has_free_let(b, bound);
            bound.pop();
            free
        }
        ScalarKind::And(a, b) | ScalarKind::Or(a, b) => has_free_let(a, bound) || has_free_let(b, bound),
        ScalarKind::Call(_, args) | ScalarKind::Coalesce(args) => args.iter().any(|a| has_free_let(a, bound)),
        ScalarKind::Case(arms, otherwise) => {
            arms.iter().any(|(c, r)| has_free_let(c, bound) || has_free_let(r, bound))
                || otherwise.as_ref().is_some_and(|e| has_free_let(e, bound))
        }
    }
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

/// Whole numbers by code, all there.
#[derive(Clone, Copy, Debug)]
pub enum Ints<'a> {
    /// One by one.
    ByCode(&'a [i64]),
    /// `base + code × step`
    Line {
        /// The number of the first code.
        base: i64,
        /// From one code to the next.
        step: i64,
        /// The number of the last code.
        last: i64,
    },
}

/// What is done with two numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PairOp {
    /// `a + b`
    Add,
    /// `a - b`
    Subtract,
    /// `a * b`
    Multiply,
}

/// Bits of a result that leave room for its sign.
const MOST_BITS: u32 = 62;

/// The bits that the largest result of a pair takes; `None` where it could leave 64.
pub fn pair_bits(op: PairOp, sides: [Ints<'_>; 2]) -> Option<u32> {
    let [a, b] = sides.map(Ints::bits);
    let bits = if op == PairOp::Multiply { a + b } else { a.max(b) + 1 };
    (bits <= MOST_BITS).then_some(bits)
}

impl PairOp {
    /// Does it with numbers whose results fit, and leaves them in place of the first ones.
    pub fn apply(self, to: &mut [i64], with: &[i64]) {
        let both = to.iter_mut().zip(with);
        match self {
            PairOp::Add => both.for_each(|(a, b)| *a += b),
            PairOp::Subtract => both.for_each(|(a, b)| *a -= b),
            PairOp::Multiply => both.for_each(|(a, b)| *a *= b),
        }
    }
}

impl Ints<'_> {
    /// The number of a code.
    #[inline]
    pub fn of(self, code: u64) -> i64 {
        match self {
            Ints::ByCode(values) => values[code as usize],
            Ints::Line { base, step, .. } => base.wrapping_add((code as i64).wrapping_mul(step)),
        }
    }

    /// The bits that the largest of them takes.
    pub fn bits(self) -> u32 {
        match self {
            Ints::ByCode(values) => bits_of(values),
            Ints::Line { base, last, .. } => bits_of(&[base, last]),
        }
    }
}

/// Delivers codes of anchors for a batch of rows.
pub trait BatchCodes {
    /// The codes of an anchor in the rows at `positions` of the batch.
    fn anchor(&self, anchor: Anchor, positions: &[u32]) -> Arc<Vec<u32>>;
    /// The codes of a column of the table.
    fn column(&self, column: &Column, index: u32, positions: &[u32]) -> Vec<u64>;
    /// The numbers that go with the codes of an anchor.
    fn ints(&self, anchor: Anchor, ints: Ints<'_>, positions: &[u32]) -> Vec<i64>;
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
        CompiledRow { scalar, leaves: vec![CompiledLeaf::ByRow(Arc::new(passes))], looked_at: [].into() }
    }

    /// The table's columns that are decoded row by row.
    pub fn own_columns(&self) -> Vec<u32> {
        let of_leaf = |l: &CompiledLeaf| match l {
            CompiledLeaf::Own(_, index) => vec![*index],
            CompiledLeaf::Member(_, of) => of.own_columns(),
            _ => Vec::new(),
        };
        self.leaves.iter().flat_map(of_leaf).collect()
    }

    /// The anchors whose codes it needs.
    pub fn anchors(&self) -> Vec<Anchor> {
        let of_leaf = |l: &CompiledLeaf| match l {
            CompiledLeaf::Mapped(anchor, _) => vec![*anchor],
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
            CompiledLeaf::Own(..) | CompiledLeaf::Mapped(..) | CompiledLeaf::Constant(..) => false,
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

    /// Whether a value can be null, as far as that is easily told.
    pub fn nullable(&self) -> bool {
        self.can_be_null(&self.scalar)
    }

    fn can_be_null(&self, scalar: &Scalar) -> bool {
        match &scalar.kind {
            ScalarKind::Constant(value) => value.is_null(),
            ScalarKind::Leaf(leaf) => match &self.leaves[*leaf] {
                CompiledLeaf::Mapped(_, values) => values.valid.is_some(),
                CompiledLeaf::Own(column, _) => column.nulls() > 0,
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
        Ok(match &self.row.leaves[leaf] {
            CompiledLeaf::Own(column, index) => column.vector_of(&self.batch.column(column, *index, positions)),
            CompiledLeaf::Mapped(anchor, values) => values.gather(&self.batch.anchor(*anchor, positions)),
            CompiledLeaf::Constant(value, ty) => Vector::constant(value, *ty, positions.len()),
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
