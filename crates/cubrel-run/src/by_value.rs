//! Reads that compare a column with a value from outside, for many such values: answered from one read that is grouped
//! by the column.
//!
//! For `=` the answer is that of one group. For `<` and the like it is that of all groups up to one: the groups are gone
//! through in their order once, and at each stands what came together until there.

use cubrel_plan::{AggregateId, DimId, ReadId};
use std::cmp::Ordering;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use super::RunError;
use super::cells::Cells;
use super::frame::{BoundValue, Frame, KeyColumn, KeyKind, Pool, SharedCodes, distinct};
use super::read::ReadResult;
use super::reads::{PlanReads, kept};
use cubrel_formula::typed::{AggregateKind, Op};
use cubrel_plan::{ByValue, Key, ReadAggregate, ReadRef};
use cubrel_store::CodedColumn;
use cubrel_value::{Type, Value, Vector, VectorBuilder, exact};

/// Fewer values than this are compared one after the other.
const FEW_VALUES: u64 = 3;
/// A group costs as much as so many rows of a read that only compares.
const ROWS_PER_GROUP: u64 = 8;
/// A table with fewer rows costs no less to read.
const FEWEST_ROWS: u64 = 4096;

/// What came together up to each group, for one aggregate of a grouped read.
#[derive(Debug)]
struct Running {
    /// Key by key, the codes of the groups that have rows, in order; the last key is the column.
    codes: Vec<SharedCodes>,
    /// What came together at each, and after them the result over no rows.
    values: Vector,
}

/// The place of a result, the number of an aggregate, and whether groups come together from the last on.
type RunningKey = (usize, AggregateId, bool);

/// What reads have for cells.
pub struct CellReads<'a> {
    reads: PlanReads<'a>,
    running: Mutex<HashMap<RunningKey, Arc<Running>>>,
}

impl<'a> CellReads<'a> {
    pub(super) fn new(reads: PlanReads<'a>) -> CellReads<'a> {
        CellReads { reads, running: Mutex::default() }
    }

    /// The reads by themselves.
    pub fn reads(&self) -> &PlanReads<'a> {
        &self.reads
    }

    pub(super) fn into_reads(self) -> PlanReads<'a> {
        self.reads
    }

    /// An aggregate of a read in every cell.
    ///
    /// # Errors
    /// As for the read.
    pub(super) fn of(&self, read: &ReadRef, aggregate: AggregateId, frame: &Frame) -> Result<Cells, RunError> {
        if read.outer.is_empty() {
            return Ok(of_groups(&*self.reads.result_of_cells(read, frame)?, read, aggregate, frame));
        }
        if let Some(cells) = self.by_value(read, aggregate, frame)? {
            return Ok(cells);
        }
        let results = self.reads.results(read, frame)?;
        if let [(_, result)] = results.as_slice() {
            return Ok(of_groups(result, read, aggregate, frame));
        }
        let ty = self.reads.read_plan(read.read).aggregates[aggregate].ty;
        let mut values = vec![Value::Null; frame.cells];
        let mut seen = vec![false; frame.cells];
        for (cells, result) in results {
            let groups = result.find(&frame.select(&cells), &read.dims);
            for (cell, group) in cells.iter().zip(groups.iter()) {
                values[*cell as usize] = result.columns[aggregate.index()].get(*group as usize, ty);
                seen[*cell as usize] = result.seen[*group as usize];
            }
        }
        let mut builder = VectorBuilder::new(ty, frame.cells);
        values.into_iter().for_each(|v| builder.push(v));
        Ok(Cells { values: builder.finish(), read: seen })
    }

    /// An aggregate in every cell, from a read that is grouped by what is compared; `None` where there is none, or where
    /// it does not pay.
    fn by_value(&self, read: &ReadRef, aggregate: AggregateId, frame: &Frame) -> Result<Option<Cells>, RunError> {
        let Some(by) = self.reads.read_plan(read.read).by_value else { return Ok(None) };
        let dim = read.outer[by.outer.index()];
        let KeyKind::Values(pool) = &frame.dims[dim].kind else { return Ok(None) };
        if !self.pays(read.read, by, &frame.dims[dim].codes) {
            return Ok(None);
        }
        let mut grouped = ReadRef { read: by.read, ..read.clone() };
        grouped.outer.remove(by.outer.index());
        if by.op == Op::Eq {
            return self.of_equal(by, grouped, dim, pool, aggregate, frame).map(Some);
        }
        self.up_to_value(by, &grouped, dim, pool, aggregate, frame)
    }

    /// Whether grouping costs less than comparing with each value, those that have been compared with counted.
    fn pays(&self, read: ReadId, by: ByValue, places: &[u64]) -> bool {
        let table = self.reads.read_plan(by.read).table;
        let rows = (self.reads.tables().rows(table) as u64).max(FEWEST_ROWS);
        let groups = self.reads.tables().column(by.column).domain();
        let least = FEW_VALUES + ROWS_PER_GROUP.saturating_mul(groups) / rows;
        distinct(&[places], places.len()).1.len() as u64 + self.reads.times_done(read) >= least
    }

    fn of_equal(
        &self,
        by: ByValue,
        mut grouped: ReadRef,
        dim: DimId,
        pool: &Pool,
        aggregate: AggregateId,
        frame: &Frame,
    ) -> Result<Cells, RunError> {
        let column = self.reads.tables().column(by.column);
        // Nothing is equal to null, and nothing to a value that does not occur.
        let code = |held: &BoundValue| Some(held.value()).filter(|v| !v.is_null()).and_then(|v| column.code_of(&v));
        let code_of: Vec<Option<u64>> = pool.values.iter().map(code).collect();
        let codes: Vec<Option<u64>> = frame.dims[dim].codes.iter().map(|place| code_of[*place as usize]).collect();
        grouped.dims.push(DimId::new(frame.dims.len()));
        if codes.iter().all(Option::is_some) {
            let codes: Vec<u64> = codes.into_iter().flatten().collect();
            let with = frame.with([KeyColumn::of_codes(codes, Key::Column(by.column))]);
            return self.of(&grouped, aggregate, &with);
        }
        let known: Vec<u32> = (0..frame.cells as u32).filter(|cell| codes[*cell as usize].is_some()).collect();
        let some: Vec<u64> = codes.into_iter().flatten().collect();
        let plan = &self.reads.read_plan(by.read).aggregates[aggregate];
        if known.is_empty() {
            return Ok(spread(frame.cells, Vec::new(), plan));
        }
        let with = frame.select(&known).with([KeyColumn::of_codes(some, Key::Column(by.column))]);
        let found = self.of(&grouped, aggregate, &with)?;
        Ok(spread(frame.cells, vec![(known, found)], plan))
    }

    fn up_to_value(
        &self,
        by: ByValue,
        grouped: &ReadRef,
        dim: DimId,
        pool: &Pool,
        aggregate: AggregateId,
        frame: &Frame,
    ) -> Result<Option<Cells>, RunError> {
        let column = self.reads.tables().column(by.column);
        let bounds: Vec<Option<u64>> = pool.values.iter().map(|held| bound(column, by, &held.value())).collect();
        let plan = &self.reads.read_plan(by.read).aggregates[aggregate];
        let mut parts = Vec::new();
        for (cells, result) in self.reads.results(grouped, frame)? {
            let Some(running) = self.running(&result, by, aggregate) else { return Ok(None) };
            let of_cells = frame.select(&cells);
            let keys: Vec<&[u64]> = grouped.dims.iter().map(|dim| of_cells.dims[*dim].codes.as_slice()).collect();
            let places: Vec<u32> = match keys.as_slice() {
                // Without other keys, the place depends on the value alone.
                [] => {
                    let place_of: Vec<u32> = bounds.iter().map(|b| running.place(by.op, &[], 0, *b)).collect();
                    of_cells.dims[dim].codes.iter().map(|place| place_of[*place as usize]).collect()
                }
                keys => {
                    let bounds = of_cells.dims[dim].codes.iter().map(|place| bounds[*place as usize]);
                    bounds.enumerate().map(|(cell, bound)| running.place(by.op, keys, cell, bound)).collect()
                }
            };
            let none = running.values.len() as u32 - 1;
            let read = places.iter().map(|place| *place != none).collect();
            parts.push((cells, Cells { values: running.values.gather(&places), read }));
        }
        Ok(Some(spread(frame.cells, parts, plan)))
    }

    /// What comes together in the order of a result's groups; `None` where that leaves what numbers can hold.
    fn running(&self, result: &Arc<ReadResult>, by: ByValue, aggregate: AggregateId) -> Option<Arc<Running>> {
        let descends = matches!(by.op, Op::Gt | Op::Ge);
        // Results are kept as long as the executor, so that each has a place of its own.
        let key = (Arc::as_ptr(result) as usize, aggregate, descends);
        if let Some(running) = kept(&self.running).get(&key).cloned() {
            return Some(running);
        }
        let plan = &self.reads.read_plan(by.read).aggregates[aggregate];
        let null = self.reads.tables().column(by.column).null_code();
        let running = Arc::new(Running::new(result, aggregate, plan, null, descends)?);
        kept(&self.running).insert(key, running.clone());
        Some(running)
    }
}

/// An aggregate of one result in every cell.
fn of_groups(result: &ReadResult, read: &ReadRef, aggregate: AggregateId, frame: &Frame) -> Cells {
    let groups = result.find(frame, &read.dims);
    let seen = groups.iter().map(|g| result.seen[*g as usize]).collect();
    Cells { values: result.columns[aggregate.index()].gather(&groups), read: seen }
}

/// Cells put together from those of several parts; those of none have no rows.
fn spread(cells: usize, parts: Vec<(Vec<u32>, Cells)>, aggregate: &ReadAggregate) -> Cells {
    let none = Vector::constant(&of_no_rows(aggregate), aggregate.ty, 1);
    let mut from = vec![Some((parts.len() as u32, 0)); cells];
    let mut read = vec![false; cells];
    let mut vectors = Vec::with_capacity(parts.len() + 1);
    for (part, (places, found)) in parts.into_iter().enumerate() {
        for (i, cell) in places.into_iter().enumerate() {
            from[cell as usize] = Some((part as u32, i as u32));
            read[cell as usize] = found.read[i];
        }
        vectors.push(found.values);
    }
    vectors.push(none);
    Cells { values: Vector::interleaved(&vectors, &from, aggregate.ty), read }
}

/// What an aggregate is over no rows.
fn of_no_rows(aggregate: &ReadAggregate) -> Value {
    use AggregateKind::*;
    if matches!(aggregate.kind, Rows | Count | CountDistinct) { Value::Int(0) } else { Value::Null }
}

/// How many codes of a column hold values that a comparison has on the near side of a value, which are the first ones;
/// `None` for null.
fn bound(column: &CodedColumn, by: ByValue, value: &Value) -> Option<u64> {
    if value.is_null() {
        return None;
    }
    let order = |code: u64| {
        let own = column.value_of(code);
        match (by.as_float, own.as_f64(), value.as_f64()) {
            (true, Some(own), Some(value)) => own.partial_cmp(&value).unwrap_or(Ordering::Equal),
            _ => own.total_cmp(value),
        }
    };
    let is_near = |code: u64| match order(code) {
        Ordering::Less => true,
        Ordering::Equal => matches!(by.op, Op::Le | Op::Gt),
        Ordering::Greater => false,
    };
    let (mut low, mut high) = (0, column.domain());
    while low < high {
        let middle = low + (high - low) / 2;
        if is_near(middle) { low = middle + 1 } else { high = middle }
    }
    Some(low)
}

impl Running {
    fn new(
        result: &ReadResult,
        aggregate: AggregateId,
        plan: &ReadAggregate,
        null: u64,
        descends: bool,
    ) -> Option<Running> {
        let present = result.present();
        let (column, others) = present.codes.split_last()?;
        let codes_at = |place: usize| present.codes.iter().map(move |codes| codes[place]);
        // Null is neither less nor greater than anything.
        let mut order: Vec<u32> = (0..present.groups.len() as u32).filter(|at| column[*at as usize] != null).collect();
        order.sort_by(|a, b| codes_at(*a as usize).cmp(codes_at(*b as usize)));
        let alike = |a: u32, b: u32| others.iter().all(|codes| codes[a as usize] == codes[b as usize]);
        let mut values = vec![of_no_rows(plan); order.len() + 1];
        let mut before: Option<(u32, Value)> = None;
        let places: Box<dyn Iterator<Item = usize>> =
            if descends { Box::new((0..order.len()).rev()) } else { Box::new(0..order.len()) };
        for place in places {
            let at = order[place];
            let own = result.columns[aggregate.index()].get(present.groups[at as usize] as usize, plan.ty);
            let together = match before.take() {
                Some((last, sum)) if alike(last, at) => together(plan, sum, own)?,
                _ => own,
            };
            values[place] = together.clone();
            before = Some((at, together));
        }
        let mut builder = VectorBuilder::new(plan.ty, values.len());
        values.into_iter().for_each(|value| builder.push(value));
        let sorted = |codes: &SharedCodes| super::frame::gathered(codes, &order);
        Some(Running { codes: present.codes.iter().map(sorted).collect(), values: builder.finish() })
    }

    /// Where it stands what came together for a cell: with its codes in the other keys, and up to a bound of the last.
    fn place(&self, op: Op, keys: &[&[u64]], cell: usize, bound: Option<u64>) -> u32 {
        let count = self.values.len() - 1;
        let (Some(bound), Some((column, others))) = (bound, self.codes.split_last()) else { return count as u32 };
        let against = |place: usize| {
            let others = others.iter().zip(keys).map(|(codes, key)| codes[place].cmp(&key[cell]));
            others.fold(Ordering::Equal, Ordering::then)
        };
        let (mut low, mut high) = (0, count);
        while low < high {
            let middle = low + (high - low) / 2;
            if against(middle).then(column[middle].cmp(&bound)).is_lt() { low = middle + 1 } else { high = middle }
        }
        let place = if matches!(op, Op::Gt | Op::Ge) { Some(low) } else { low.checked_sub(1) };
        place.filter(|place| *place < count && against(*place).is_eq()).unwrap_or(count) as u32
    }
}

/// What an aggregate of two groups is, from what it is of each.
fn together(aggregate: &ReadAggregate, a: Value, b: Value) -> Option<Value> {
    if a.is_null() || b.is_null() {
        return Some(if a.is_null() { b } else { a });
    }
    Some(match aggregate.kind {
        AggregateKind::Min => std::cmp::min_by(a, b, Value::total_cmp),
        AggregateKind::Max => std::cmp::max_by(a, b, Value::total_cmp),
        _ => {
            let scale = aggregate.ty.scale();
            let sum = exact::checked(a.as_exact(scale)?.checked_add(b.as_exact(scale)?))?;
            match aggregate.ty {
                Type::Int => i64::try_from(sum).map_or(Value::Decimal { unscaled: sum, scale: 0 }, Value::Int),
                _ => Value::Decimal { unscaled: sum, scale },
            }
        }
    })
}
