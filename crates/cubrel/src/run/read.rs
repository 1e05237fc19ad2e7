//! One read: a pass over a table's codes that filters, groups and aggregates.
//!
//! Everything that hangs off one anchor (see [`super::anchors`]) is folded into one array over the anchor's codes: whether
//! the row passes, and what it adds to the number of its group. A row then costs one look into such an array for each
//! anchor, and what its aggregates need.

use std::collections::BTreeSet;
use std::sync::Arc;

use rayon::prelude::*;

use super::accumulate::{Accumulator, GroupNumbers, Groups, Input, Spec, bits_of};
use super::anchors::{Anchor, BatchCodes, CompiledRow, Outer, RowCompiler, Tables};
use super::frame::Frame;
use super::{Options, RunError};
use crate::formula::schema::{ColumnId, RelationshipId, TableId};
use crate::formula::typed::AggregateKind;
use crate::plan::{Filter, FilterTest, Key, Predicate, Read, ReadAggregate, RowExpr, RowLeaf};
use crate::store::{Column, NO_ROW, Target};
use crate::value::{Data, Vector};

/// Rows of a batch: small enough for the caches, large enough to hide what a batch costs by itself.
const BATCH: usize = 4096;
/// Rows of a part that one thread works on. Parts do not depend on the number of threads, so sums of floats come out
/// the same on every machine.
const PART: usize = 1 << 16;
/// More parts than this would cost more in merging than they gain.
const MAX_PARTS: usize = 8;
/// Groups are numbered by place in an array up to this many; beyond it, by a hash table.
const DENSE_GROUPS: u128 = 1 << 20;
/// Set in a group's number when the row does not pass.
const DROPPED: u32 = 1 << 31;
/// No group.
pub const NO_GROUP: u32 = u32::MAX;

/// What a read gives.
#[derive(Debug)]
pub struct ReadResult {
    /// How many codes each key has, null's included.
    sizes: Vec<u64>,
    numbering: Numbering,
    /// Whether a group has rows; one more for "no group".
    pub seen: Vec<bool>,
    /// The aggregates of each group, and after them the result over no rows.
    pub columns: Vec<Vector>,
    /// What the read went through.
    pub stats: ReadStats,
}

/// What a read went through: exact, and the same in every run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ReadStats {
    /// Rows of the table.
    pub rows: u64,
    /// Rows looked at.
    pub rows_read: u64,
    /// Rows that passed.
    pub rows_passed: u64,
    /// Segments in which no row could pass.
    pub segments_skipped: u64,
    /// Bytes of packed codes that were unpacked.
    pub bytes_read: u64,
    /// Groups that have rows.
    pub groups: u64,
}

#[derive(Debug)]
enum Numbering {
    /// By place: the sum of code × stride.
    Dense,
    /// By hash of that sum.
    Hashed(GroupNumbers, Vec<u128>),
}

impl ReadResult {
    /// How many groups there is room for.
    pub fn groups(&self) -> usize {
        self.seen.len() - 1
    }

    /// For each cell its group, or the number of groups for none.
    pub fn find(&self, frame: &Frame, dims: &[usize]) -> Vec<u32> {
        let none = self.groups() as u32;
        if dims.is_empty() {
            return vec![0; frame.cells];
        }
        let columns: Vec<&[u64]> = dims.iter().map(|d| frame.dims[*d].codes.as_slice()).collect();
        let strides = strides(&self.sizes);
        (0..frame.cells)
            .map(|cell| {
                let key: u128 = columns.iter().zip(&strides).map(|(c, s)| u128::from(c[cell]) * s).sum();
                match &self.numbering {
                    Numbering::Dense => key as u32,
                    Numbering::Hashed(numbers, _) => numbers.get(&key).copied().unwrap_or(none),
                }
            })
            .collect()
    }

    /// The codes of every group that has rows, key by key.
    pub fn present(&self) -> Vec<Vec<u64>> {
        let strides = strides(&self.sizes);
        let groups = (0..self.groups()).filter(|g| self.seen[*g]);
        let mut columns = vec![Vec::new(); self.sizes.len()];
        for group in groups {
            let key = match &self.numbering {
                Numbering::Dense => group as u128,
                Numbering::Hashed(_, keys) => keys[group],
            };
            for ((column, size), stride) in columns.iter_mut().zip(&self.sizes).zip(&strides) {
                column.push((key / stride % u128::from(*size)) as u64);
            }
        }
        columns
    }
}

fn strides(sizes: &[u64]) -> Vec<u128> {
    let mut strides = vec![1u128; sizes.len()];
    for i in (0..sizes.len().saturating_sub(1)).rev() {
        strides[i] = strides[i + 1].saturating_mul(u128::from(sizes[i + 1]));
    }
    strides
}

/// What one anchor decides of a row.
struct AnchorPlan {
    anchor: Anchor,
    /// By code: whether the row passes; all do when empty.
    pass: Vec<bool>,
    /// By code: what it adds to the group's number, with [`DROPPED`] where it does not pass.
    dense: Vec<u32>,
    /// The same for large numbers of groups.
    wide: Vec<u128>,
}

/// Keys that are taken row by row, because their anchor has too many codes for an array.
struct LooseKey {
    key: Key,
    stride: u128,
    path: Vec<RelationshipId>,
}

struct Prepared<'a> {
    tables: Tables<'a>,
    table: TableId,
    anchors: Vec<AnchorPlan>,
    loose: Vec<LooseKey>,
    /// Filters that need several anchors, row by row.
    row_filters: Vec<CompiledRow>,
    aggregates: Vec<(Spec, Feed)>,
    dense: bool,
    groups: usize,
    /// Columns whose codes are unpacked.
    columns: BTreeSet<u32>,
}

/// Where an aggregate's input comes from.
enum Feed {
    Rows,
    /// Exact numbers without nulls, by the codes of an anchor; with the bits of the largest.
    Gathered(Anchor, Vec<i64>, u32),
    Codes {
        anchor: Option<Anchor>,
        map: Vec<u64>,
        column: ColumnId,
    },
    Values(Vec<CompiledRow>),
}

/// Does one read.
///
/// # Errors
/// An error in a row expression or a sum that does not fit; a read that was cancelled.
pub fn run(tables: Tables<'_>, read: &Read, outer: Outer<'_>, options: &Options) -> Result<ReadResult, RunError> {
    let prepared = prepare(tables, read, outer, options)?;
    let rows = tables.rows(read.table);
    let part_rows = rows.div_ceil(MAX_PARTS).max(options.part_rows.unwrap_or(PART)).next_multiple_of(BATCH).max(BATCH);
    let parts: Vec<(usize, usize)> = (0..rows).step_by(part_rows).map(|s| (s, (s + part_rows).min(rows))).collect();
    let work = |(start, end): &(usize, usize)| prepared.part(*start, *end, options);
    let done: Vec<Part> = if parts.len() > 1 && !options.one_thread {
        parts.par_iter().map(work).collect::<Result<_, _>>()?
    } else {
        parts.iter().map(work).collect::<Result<_, _>>()?
    };
    prepared.finish(done, read, rows)
}

fn prepare<'a>(tables: Tables<'a>, read: &Read, outer: Outer<'_>, options: &Options) -> Result<Prepared<'a>, RunError> {
    let table = read.table;
    let sizes = key_sizes(tables, read);
    let product = sizes.iter().try_fold(1u128, |p, s| p.checked_mul(u128::from(*s)));
    let Some(product) = product else {
        return Err(RunError::Limit(
            "the group-by columns together have more than 2^128 combinations: group by fewer columns".into(),
        ));
    };
    let room = DENSE_GROUPS.min(4 * tables.rows(table) as u128 + 4096);
    let strides = strides(&sizes);
    let mut builder =
        Builder { tables, table, outer, options, anchors: Vec::new(), loose: Vec::new(), row_filters: Vec::new() };
    for filter in &read.filters {
        builder.filter(filter, read)?;
    }
    for (key, stride) in read.keys.iter().zip(&strides) {
        builder.key(*key, *stride, read);
    }
    let dense = product <= room && builder.loose.is_empty() && !options.hash_groups;
    for anchor in &mut builder.anchors {
        anchor.seal(dense);
    }
    let compiler = RowCompiler::new(tables, table, outer, options.hoist);
    let aggregates: Vec<(Spec, Feed)> =
        read.aggregates.iter().map(|a| feed(tables, table, a, &compiler, options)).collect();
    let columns = needed_columns(&builder, &aggregates, tables);
    Ok(Prepared {
        tables,
        table,
        anchors: builder.anchors,
        loose: builder.loose,
        row_filters: builder.row_filters,
        aggregates,
        dense,
        groups: if dense { product as usize } else { 0 },
        columns,
    })
}

fn key_sizes(tables: Tables<'_>, read: &Read) -> Vec<u64> {
    let size = |key: &Key| match key {
        Key::Column(column) => tables.column(*column).domain().saturating_add(1),
        Key::Row(table) => tables.rows(*table) as u64 + 1,
        Key::Value(_) => 1,
    };
    read.keys.iter().map(size).collect()
}

struct Builder<'a, 'o> {
    tables: Tables<'a>,
    table: TableId,
    outer: Outer<'o>,
    options: &'o Options,
    anchors: Vec<AnchorPlan>,
    loose: Vec<LooseKey>,
    row_filters: Vec<CompiledRow>,
}

impl Builder<'_, '_> {
    fn anchor(&mut self, anchor: Anchor) -> &mut AnchorPlan {
        let place = self.anchors.iter().position(|a| a.anchor == anchor).unwrap_or_else(|| {
            let codes = self.tables.codes_of(self.table, anchor) as usize;
            self.anchors.push(AnchorPlan { anchor, pass: Vec::new(), dense: Vec::new(), wide: vec![0; codes] });
            self.anchors.len() - 1
        });
        &mut self.anchors[place]
    }

    fn path(&self, read: &Read, to: TableId) -> Vec<RelationshipId> {
        self.tables.schema.reach(self.table, &read.detours).remove(&to).unwrap_or_default()
    }

    fn key(&mut self, key: Key, stride: u128, read: &Read) {
        let (table, column) = match key {
            Key::Column(column) => (column.table, Some(column)),
            Key::Row(table) => (table, None),
            Key::Value(_) => return,
        };
        let path = self.path(read, table);
        let anchor = match (column, path.first()) {
            (Some(column), _) => self.tables.anchor(column, &path),
            (None, Some(relationship)) => self.tables.anchor_of_path(*relationship),
            (None, None) => Anchor::Row,
        };
        if !self.tables.is_small(self.table, anchor) {
            self.loose.push(LooseKey { key, stride, path });
            return;
        }
        let codes: Vec<u64> = match column {
            Some(column) => self.tables.codes_by_code(column, &path),
            None => {
                let none = self.tables.rows(table) as u64;
                self.tables
                    .rows_by_code(&path)
                    .into_iter()
                    .map(|r| if r == NO_ROW { none } else { u64::from(r) })
                    .collect()
            }
        };
        let plan = self.anchor(anchor);
        for (slot, code) in plan.wide.iter_mut().zip(codes) {
            *slot += u128::from(code) * stride;
        }
    }

    /// A filter becomes a truth value for each code of one anchor where that is possible.
    fn filter(&mut self, filter: &Filter, read: &Read) -> Result<(), RunError> {
        let predicate = filter.predicate();
        let path = self.path(read, predicate.table);
        if let FilterTest::Predicate(predicate) = &filter.test
            && path.is_empty()
        {
            return self.own_filter(predicate);
        }
        let (passes, null_passes) = far_rows(self.tables, filter, self.outer, self.options)?;
        let pass_row = |row: u32| {
            if row == NO_ROW { null_passes } else { passes[row as usize] }
        };
        let Some(first) = path.first() else {
            // What a projection leaves of a filter of the table itself.
            self.row_filters.push(CompiledRow::of_rows(passes));
            return Ok(());
        };
        let anchor = self.tables.anchor_of_path(*first);
        let pass: Vec<bool> = self.tables.rows_by_code(&path).into_iter().map(pass_row).collect();
        self.anchor(anchor).narrow(&pass);
        Ok(())
    }

    fn own_filter(&mut self, predicate: &Predicate) -> Result<(), RunError> {
        let compiler = RowCompiler::new(self.tables, self.table, self.outer, self.options.hoist);
        let compiled = compiler.compile(&predicate.test);
        if let Some((anchor, values)) = compiled.as_mapped() {
            let pass = values.truths();
            self.anchor(anchor).narrow(&pass);
        } else {
            self.row_filters.push(compiled);
        }
        Ok(())
    }
}

impl AnchorPlan {
    fn narrow(&mut self, pass: &[bool]) {
        if self.pass.is_empty() {
            self.pass = pass.to_vec();
        } else {
            self.pass.iter_mut().zip(pass).for_each(|(a, b)| *a &= b);
        }
    }

    /// Brings the sums into the form that the rows are looked up in.
    fn seal(&mut self, dense: bool) {
        if !dense {
            return;
        }
        let wide = std::mem::take(&mut self.wide);
        let drop = |i: usize| {
            if self.pass.get(i).copied().unwrap_or(true) { 0 } else { DROPPED }
        };
        self.dense = wide.into_iter().enumerate().map(|(i, sum)| sum as u32 | drop(i)).collect();
    }
}

/// Which rows of a filter's table pass, and whether a row that points at nothing does.
fn far_rows(
    tables: Tables<'_>,
    filter: &Filter,
    outer: Outer<'_>,
    options: &Options,
) -> Result<(Vec<bool>, bool), RunError> {
    let predicate = filter.predicate();
    let passes = rows_where(tables, predicate, outer, options)?;
    let null_passes = null_row_passes(tables, predicate, outer)?;
    match &filter.test {
        FilterTest::Predicate(_) => Ok((passes, null_passes)),
        FilterTest::Projected(_, kept) => project(tables, predicate, kept, &passes, null_passes),
    }
}

/// Which rows of a predicate's table satisfy it.
pub fn rows_where(
    tables: Tables<'_>,
    predicate: &Predicate,
    outer: Outer<'_>,
    options: &Options,
) -> Result<Vec<bool>, RunError> {
    let compiled = RowCompiler::new(tables, predicate.table, outer, options.hoist).compile(&predicate.test);
    let rows = tables.rows(predicate.table);
    let mut passes = Vec::with_capacity(rows);
    for start in (0..rows).step_by(BATCH) {
        let len = BATCH.min(rows - start);
        let batch = Batch::new(tables, predicate.table, start, len);
        let all: Vec<u32> = (0..len as u32).collect();
        passes.extend(compiled.eval(tables, &batch, &all)?.truths());
    }
    Ok(passes)
}

/// Whether a row of nulls satisfies a predicate.
pub fn null_row_passes(tables: Tables<'_>, predicate: &Predicate, outer: Outer<'_>) -> Result<bool, RunError> {
    let test = &predicate.test;
    let leaves = test.leaves.iter().map(|leaf| {
        Some(match leaf {
            RowLeaf::Column { column, .. } => Vector::nulls(tables.schema.column(*column).ty, 1),
            RowLeaf::Outer(slot) => match outer.iter().find(|(s, ..)| s == slot) {
                Some((_, value, ty)) => Vector::constant(value, *ty, 1),
                None => Vector::nulls(crate::value::Type::Null, 1),
            },
        })
    });
    let values = test.scalar.eval(&super::anchors::WholeLeaves(leaves.collect()), 1)?;
    Ok(values.truths()[0])
}

/// What is left of a filter of which only some columns are kept: rows whose values of these occur in a row that passes.
fn project(
    tables: Tables<'_>,
    predicate: &Predicate,
    kept: &[ColumnId],
    passes: &[bool],
    null_passes: bool,
) -> Result<(Vec<bool>, bool), RunError> {
    let path = |c: &ColumnId| {
        let leaf = predicate.test.leaves.iter().find_map(|l| match l {
            RowLeaf::Column { column, path } if column == c => Some(path.clone()),
            _ => None,
        });
        leaf.unwrap_or_default()
    };
    let columns: Vec<Vec<u64>> = kept
        .iter()
        .map(|column| {
            let (data, path) = (tables.column(*column), path(column));
            (0..passes.len() as u32)
                .map(|row| match tables.follow_path(&path, row) {
                    NO_ROW => data.null_code(),
                    row => data.code(row as usize),
                })
                .collect()
        })
        .collect();
    let nulls: Vec<u64> = kept.iter().map(|c| tables.column(*c).null_code()).collect();
    let combination = |row: usize| columns.iter().map(|c| c[row]).collect::<Vec<u64>>();
    let mut allowed: std::collections::HashSet<Vec<u64>> =
        passes.iter().enumerate().filter(|(_, p)| **p).map(|(row, _)| combination(row)).collect();
    if null_passes {
        allowed.insert(nulls.clone());
    }
    let all = (0..passes.len()).map(|row| allowed.contains(&combination(row))).collect();
    Ok((all, allowed.contains(&nulls)))
}

fn feed(
    tables: Tables<'_>,
    table: TableId,
    a: &ReadAggregate,
    compiler: &RowCompiler<'_>,
    options: &Options,
) -> (Spec, Feed) {
    use AggregateKind::*;
    let mut spec = Spec {
        kind: a.kind,
        input: a.args.first().map_or(a.ty, |e| e.scalar.ty),
        inputs: a.args.iter().map(|e| e.scalar.ty).collect(),
        order: a.order.iter().map(|(e, d)| (e.scalar.ty, *d)).collect(),
        constant: a.constant.clone(),
        ty: a.ty,
        coded: None,
        nullable: true,
    };
    if a.kind == Rows {
        return (spec, Feed::Rows);
    }
    if options.hoist
        && matches!(a.kind, Min | Max | CountDistinct | Single | Count)
        && let [only] = a.args.as_slice()
        && let Some((column, path)) = bare_column(only)
    {
        let anchor = tables.anchor(column, path);
        if path.is_empty() {
            spec.coded = Some(tables.column(column).clone());
            return (spec, Feed::Codes { anchor: None, map: Vec::new(), column });
        }
        if tables.is_small(table, anchor) {
            spec.coded = Some(tables.column(column).clone());
            return (spec, Feed::Codes { anchor: Some(anchor), map: tables.codes_by_code(column, path), column });
        }
    }
    let rows: Vec<CompiledRow> =
        a.args.iter().chain(a.order.iter().map(|(e, _)| e)).map(|e| compiler.compile(e)).collect();
    spec.nullable = rows.iter().any(CompiledRow::nullable);
    if let (Sum, false, Some((anchor, Vector { data: Data::I64(values), .. }))) =
        (a.kind, spec.nullable, rows.first().and_then(CompiledRow::as_mapped))
    {
        return (spec, Feed::Gathered(anchor, values.clone(), bits_of(values)));
    }
    (spec, Feed::Values(rows))
}

/// A row expression that is just a column.
fn bare_column(row: &RowExpr) -> Option<(ColumnId, &[RelationshipId])> {
    match (&row.scalar.kind, row.leaves.as_slice()) {
        (crate::formula::scalar::ScalarKind::Leaf(0), [RowLeaf::Column { column, path }]) => Some((*column, path)),
        _ => None,
    }
}

/// The table's columns whose codes are unpacked, for counting bytes.
fn needed_columns(builder: &Builder<'_, '_>, aggregates: &[(Spec, Feed)], tables: Tables<'_>) -> BTreeSet<u32> {
    let mut columns = BTreeSet::new();
    let mut anchor = |a: Anchor| {
        if let Anchor::Column(index) = a {
            columns.insert(index);
        }
    };
    builder.anchors.iter().for_each(|a| anchor(a.anchor));
    for compiled in &builder.row_filters {
        compiled.anchors().for_each(&mut anchor);
        compiled.own_columns().for_each(|i| anchor(Anchor::Column(i)));
    }
    for (_, feed) in aggregates {
        match feed {
            Feed::Rows => {}
            Feed::Gathered(a, ..) => anchor(*a),
            Feed::Codes { anchor: Some(a), .. } => anchor(*a),
            Feed::Codes { column, .. } => anchor(Anchor::Column(column.index)),
            Feed::Values(rows) => {
                for compiled in rows {
                    compiled.anchors().for_each(&mut anchor);
                    compiled.own_columns().for_each(|i| anchor(Anchor::Column(i)));
                }
            }
        }
    }
    for loose in &builder.loose {
        if let Key::Column(column) = loose.key {
            anchor(tables.anchor(column, &loose.path));
        }
    }
    columns
}

/// What one part of the rows gives.
struct Part {
    accumulators: Vec<Accumulator>,
    seen: Vec<bool>,
    numbers: GroupNumbers,
    keys: Vec<u128>,
    stats: ReadStats,
}

impl Prepared<'_> {
    fn part(&self, start: usize, end: usize, options: &Options) -> Result<Part, RunError> {
        let mut part = Part {
            accumulators: self.aggregates.iter().map(|(spec, _)| Accumulator::new(spec, self.groups)).collect(),
            seen: vec![false; self.groups],
            numbers: GroupNumbers::default(),
            keys: Vec::new(),
            stats: ReadStats::default(),
        };
        let segment_rows = self.segment_rows(end);
        let mut at = start;
        while at < end {
            let segment_end = (at / segment_rows + 1) * segment_rows;
            if self.skips(at / segment_rows) {
                // A segment is counted where it begins, so that parts do not count it twice.
                part.stats.segments_skipped += u64::from(at % segment_rows == 0);
                at = segment_end.min(end);
                continue;
            }
            let len = BATCH.min(end - at).min(segment_end - at);
            options.check()?;
            self.batch(at, len, &mut part)?;
            at += len;
        }
        Ok(part)
    }

    fn segment_rows(&self, rows: usize) -> usize {
        let columns = &self.tables.store.tables[self.table.0 as usize].columns;
        columns.first().and_then(|c| c.segments().first()).map_or(rows, |s| s.codes.len()).max(1)
    }

    /// Whether no code of a segment passes.
    fn skips(&self, segment: usize) -> bool {
        self.anchors.iter().any(|plan| {
            let Anchor::Column(index) = plan.anchor else {
                return false;
            };
            let column = self.tables.column(ColumnId { table: self.table, index });
            let Some(segment) = column.segments().get(segment) else {
                return false;
            };
            !plan.pass.is_empty() && !plan.pass[segment.base as usize..=segment.max as usize].contains(&true)
        })
    }

    fn batch(&self, start: usize, len: usize, part: &mut Part) -> Result<(), RunError> {
        let batch = Batch::new(self.tables, self.table, start, len);
        part.stats.rows_read += len as u64;
        part.stats.bytes_read += self.columns.iter().map(|c| batch.packed_bytes(*c)).sum::<u64>();
        let all: Vec<u32> = (0..len as u32).collect();
        let (positions, groups) =
            if self.dense { self.dense_groups(&batch, &all)? } else { self.hashed_groups(&batch, &all, part)? };
        if positions.is_empty() {
            return Ok(());
        }
        part.stats.rows_passed += positions.len() as u64;
        let groups = match &groups {
            None => Groups::One,
            Some(groups) => Groups::Many(groups),
        };
        match groups {
            Groups::One => part.seen[0] = true,
            Groups::Many(groups) => groups.iter().for_each(|g| part.seen[*g as usize] = true),
        }
        for ((_, feed), accumulator) in self.aggregates.iter().zip(&mut part.accumulators) {
            self.feed(feed, &batch, &positions, groups, accumulator)?;
        }
        Ok(())
    }

    fn feed(
        &self,
        feed: &Feed,
        batch: &Batch<'_>,
        positions: &[u32],
        groups: Groups<'_>,
        to: &mut Accumulator,
    ) -> Result<(), RunError> {
        match feed {
            Feed::Rows => to.add(groups, &Input::Rows(positions.len())),
            Feed::Gathered(anchor, values, bits) => {
                let places = batch.anchor(*anchor, positions);
                to.add(groups, &Input::Gathered(values, &places, *bits));
            }
            Feed::Codes { anchor: None, column, .. } => {
                let codes = batch.column(self.tables.column(*column), column.index, positions);
                to.add(groups, &Input::Codes(&codes));
            }
            Feed::Codes { anchor: Some(anchor), map, .. } => {
                let codes: Vec<u64> = batch.anchor(*anchor, positions).iter().map(|c| map[*c as usize]).collect();
                to.add(groups, &Input::Codes(&codes));
            }
            Feed::Values(rows) => {
                let vectors =
                    rows.iter().map(|row| row.eval(self.tables, batch, positions)).collect::<Result<Vec<_>, _>>()?;
                to.add(groups, &Input::Values(&vectors));
            }
        }
        Ok(())
    }

    /// The rows that pass, and their groups' numbers by place; no numbers when there is one group.
    fn dense_groups(&self, batch: &Batch<'_>, all: &[u32]) -> Result<(Vec<u32>, Option<Vec<u32>>), RunError> {
        let mut numbers: Option<Vec<u32>> = None;
        let mut narrowed = !self.row_filters.is_empty();
        for plan in &self.anchors {
            let codes = batch.anchor(plan.anchor, all);
            narrowed |= !plan.pass.is_empty();
            match &mut numbers {
                None => numbers = Some(codes.iter().map(|c| plan.dense[*c as usize]).collect()),
                Some(numbers) => {
                    for (number, code) in numbers.iter_mut().zip(codes.iter()) {
                        let more = plan.dense[*code as usize];
                        *number = number.wrapping_add(more) | (*number | more) & DROPPED;
                    }
                }
            }
        }
        if !narrowed {
            return Ok((all.to_vec(), numbers.filter(|_| self.groups > 1)));
        }
        let mut positions: Vec<u32> = match &numbers {
            Some(numbers) => all.iter().copied().filter(|i| numbers[*i as usize] & DROPPED == 0).collect(),
            None => all.to_vec(),
        };
        self.apply_row_filters(batch, &mut positions)?;
        let groups =
            numbers.filter(|_| self.groups > 1).map(|numbers| positions.iter().map(|i| numbers[*i as usize]).collect());
        Ok((positions, groups))
    }

    fn apply_row_filters(&self, batch: &Batch<'_>, positions: &mut Vec<u32>) -> Result<(), RunError> {
        for filter in &self.row_filters {
            if positions.is_empty() {
                break;
            }
            let truths = filter.eval(self.tables, batch, positions)?.truths();
            let mut keep = truths.iter();
            positions.retain(|_| keep.next().copied().unwrap_or(false));
        }
        Ok(())
    }

    fn hashed_groups(
        &self,
        batch: &Batch<'_>,
        all: &[u32],
        part: &mut Part,
    ) -> Result<(Vec<u32>, Option<Vec<u32>>), RunError> {
        let mut keys = vec![0u128; all.len()];
        let mut passes = vec![true; all.len()];
        for plan in &self.anchors {
            for (i, code) in batch.anchor(plan.anchor, all).iter().enumerate() {
                keys[i] += plan.wide[*code as usize];
                passes[i] &= plan.pass.get(*code as usize).copied().unwrap_or(true);
            }
        }
        for loose in &self.loose {
            for (key, code) in keys.iter_mut().zip(batch.key_codes(loose, all)) {
                *key += u128::from(code) * loose.stride;
            }
        }
        let mut positions: Vec<u32> = all.iter().copied().filter(|i| passes[*i as usize]).collect();
        self.apply_row_filters(batch, &mut positions)?;
        let groups = positions
            .iter()
            .map(|i| {
                let key = keys[*i as usize];
                *part.numbers.entry(key).or_insert_with(|| {
                    part.keys.push(key);
                    part.keys.len() as u32 - 1
                })
            })
            .collect();
        part.seen.resize(part.keys.len(), false);
        part.accumulators.iter_mut().for_each(|a| a.grow(part.keys.len()));
        Ok((positions, Some(groups)))
    }

    fn finish(self, parts: Vec<Part>, read: &Read, rows: usize) -> Result<ReadResult, RunError> {
        let sizes = key_sizes(self.tables, read);
        let mut stats = ReadStats { rows: rows as u64, ..ReadStats::default() };
        let mut accumulators: Vec<Accumulator> =
            self.aggregates.iter().map(|(s, _)| Accumulator::new(s, self.groups)).collect();
        let mut seen = vec![false; self.groups];
        let (mut numbers, mut keys) = (GroupNumbers::default(), Vec::new());
        let identity: Vec<u32> = (0..self.groups as u32).collect();
        for (place, part) in parts.into_iter().enumerate() {
            stats.rows_read += part.stats.rows_read;
            stats.rows_passed += part.stats.rows_passed;
            stats.segments_skipped += part.stats.segments_skipped;
            stats.bytes_read += part.stats.bytes_read;
            if place == 0 {
                (accumulators, seen, numbers, keys) = (part.accumulators, part.seen, part.numbers, part.keys);
                continue;
            }
            let to = if self.dense {
                identity.clone()
            } else {
                let number = |key: &u128| {
                    *numbers.entry(*key).or_insert_with(|| {
                        keys.push(*key);
                        keys.len() as u32 - 1
                    })
                };
                part.keys.iter().map(number).collect()
            };
            if !self.dense {
                seen.resize(keys.len(), false);
                accumulators.iter_mut().for_each(|a| a.grow(keys.len()));
            }
            for (group, present) in to.iter().zip(&part.seen) {
                seen[*group as usize] |= present;
            }
            for (accumulator, other) in accumulators.iter_mut().zip(part.accumulators) {
                accumulator.merge(other, &to);
            }
        }
        stats.groups = seen.iter().filter(|s| **s).count() as u64;
        seen.push(false);
        let columns: Result<Vec<Vector>, RunError> = accumulators
            .into_iter()
            .zip(&read.aggregates)
            .map(|(a, spec)| {
                a.finish(&seen).map_err(|message| match spec.args.first() {
                    Some(arg) => RunError::in_formula(message, &arg.scalar.place),
                    None => RunError::Limit(message),
                })
            })
            .collect();
        let numbering = if self.dense { Numbering::Dense } else { Numbering::Hashed(numbers, keys) };
        Ok(ReadResult { sizes, numbering, seen, columns: columns?, stats })
    }
}

/// Consecutive rows of one segment, whose codes are unpacked when they are asked for.
struct Batch<'a> {
    tables: Tables<'a>,
    table: TableId,
    start: usize,
    len: usize,
    segment: usize,
    within: usize,
    /// Codes that were already unpacked.
    unpacked: std::cell::RefCell<Vec<(Anchor, Arc<Vec<u32>>)>>,
}

impl<'a> Batch<'a> {
    fn new(tables: Tables<'a>, table: TableId, start: usize, len: usize) -> Batch<'a> {
        let columns = &tables.store.tables[table.0 as usize].columns;
        let segment_rows = columns.first().and_then(|c| c.segments().first()).map_or(1, |s| s.codes.len().max(1));
        let (segment, within) = (start / segment_rows, start % segment_rows);
        Batch { tables, table, start, len, segment, within, unpacked: Default::default() }
    }

    fn packed_bytes(&self, column: u32) -> u64 {
        let column = self.tables.column(ColumnId { table: self.table, index: column });
        column.segments().get(self.segment).map_or(0, |s| u64::from(s.codes.bits()) * self.len as u64 / 8)
    }

    fn unpack(&self, anchor: Anchor) -> Arc<Vec<u32>> {
        if let Some((_, codes)) = self.unpacked.borrow().iter().find(|(a, _)| *a == anchor) {
            return codes.clone();
        }
        let mut codes = vec![0u32; self.len];
        match anchor {
            Anchor::Row => codes.iter_mut().enumerate().for_each(|(i, c)| *c = (self.start + i) as u32),
            Anchor::Reference(relationship) => {
                if let Target::ByRow(packed) = &self.tables.lookup(relationship).target {
                    packed.unpack32(self.start, 0, &mut codes);
                }
            }
            Anchor::Column(index) => {
                let column = self.tables.column(ColumnId { table: self.table, index });
                let segment = &column.segments()[self.segment];
                segment.codes.unpack32(self.within, segment.base as u32, &mut codes);
            }
        }
        let codes = Arc::new(codes);
        self.unpacked.borrow_mut().push((anchor, codes.clone()));
        codes
    }

    /// The codes of a key that has too many for an array.
    fn key_codes(&self, loose: &LooseKey, positions: &[u32]) -> Vec<u64> {
        if let (Key::Column(column), true) = (loose.key, loose.path.is_empty()) {
            return self.column(self.tables.column(column), column.index, positions);
        }
        let target = |i: &u32| self.tables.follow_path(&loose.path, self.start as u32 + i);
        let (code_of, none): (Box<dyn Fn(u32) -> u64>, u64) = match loose.key {
            Key::Column(column) => {
                let data = self.tables.column(column);
                (Box::new(|row| data.code(row as usize)), data.null_code())
            }
            Key::Row(table) => (Box::new(u64::from), self.tables.rows(table) as u64),
            Key::Value(_) => (Box::new(|_| 0), 0),
        };
        positions
            .iter()
            .map(|i| match target(i) {
                NO_ROW => none,
                row => code_of(row),
            })
            .collect()
    }
}

impl BatchCodes for Batch<'_> {
    fn anchor(&self, anchor: Anchor, positions: &[u32]) -> Arc<Vec<u32>> {
        let codes = self.unpack(anchor);
        if positions.len() == self.len {
            return codes;
        }
        Arc::new(positions.iter().map(|i| codes[*i as usize]).collect())
    }

    fn column(&self, column: &Column, _: u32, positions: &[u32]) -> Vec<u64> {
        let segment = &column.segments()[self.segment];
        let mut codes = vec![0u64; self.len];
        segment.codes.unpack(self.within, segment.base, &mut codes);
        if positions.len() == self.len {
            return codes;
        }
        positions.iter().map(|i| codes[*i as usize]).collect()
    }

    fn rows(&self, positions: &[u32]) -> Vec<u32> {
        positions.iter().map(|i| self.start as u32 + i).collect()
    }
}
