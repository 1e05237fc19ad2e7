//! Operators over the results of reads, for all cells of a scope at once.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use super::accumulate::{Accumulator, Groups, Input, Spec};
use super::anchors::{CompiledRow, Tables};
use super::by_value::Running;
use super::current::CurrentColumn;
use super::domain::{Expanded, Support, expand};
use super::frame::{Frame, Held, KeyColumn, KeyKind, gathered};
use super::located::in_cell;
use super::read::{self, ReadResult, ReadStats};
use super::{Options, RunError, periods, sets};
use crate::formula::scalar::{EvalError, Leaves, Scalar, ScalarKind};
use crate::plan::{Assembly, Bound, Fold, Leaf, RankLeaf, Read, ReadRef, Scope};
use crate::value::{Data, Type, Value, Vector, VectorBuilder, units};

/// Values of cells, and whether an aggregate read a row for them.
pub struct Cells {
    /// The values.
    pub values: Vector,
    /// For each cell, whether a row was read.
    pub read: Vec<bool>,
}

/// How one read of a plan went.
#[derive(Clone, Debug, Default)]
pub struct ReadProfile {
    /// How often it was done: more than once only for values from outside.
    pub times: u64,
    /// How long it took in all.
    pub elapsed: Duration,
    /// What it went through, summed.
    pub stats: ReadStats,
    /// How often it was put together from the groups of another read instead.
    pub rolled_up: u64,
}

/// What a cell takes at least: codes on two axes, its place in a read, a value, and a line.
const CELL_BYTES: u64 = 64;

/// Results by read and by values from outside.
type Done = HashMap<(usize, Vec<Held>), Arc<ReadResult>>;
/// The place of a result, the number of an aggregate, and whether groups come together from the last on.
type RunningKey = (usize, usize, bool);
/// Cells, and the result of a read that is for them.
pub type ForCells = (Vec<u32>, Arc<ReadResult>);

/// Evaluates the assemblies of one plan; every read is done once.
pub struct Executor<'a> {
    tables: Tables<'a>,
    reads: &'a [Read],
    options: &'a Options,
    done: Mutex<Done>,
    profile: Mutex<Vec<ReadProfile>>,
    parts: Mutex<HashMap<usize, Duration>>,
    running: Mutex<HashMap<RunningKey, Arc<Running>>>,
    columns: Mutex<HashMap<CurrentColumn, Arc<CompiledRow>>>,
}

impl<'a> Executor<'a> {
    /// An executor for a plan's reads.
    pub fn new(tables: Tables<'a>, reads: &'a [Read], options: &'a Options) -> Executor<'a> {
        Executor {
            tables: tables.limited(options),
            reads,
            options,
            done: Mutex::default(),
            profile: Mutex::new(vec![ReadProfile::default(); reads.len()]),
            parts: Mutex::default(),
            running: Mutex::default(),
            columns: Mutex::default(),
        }
    }

    /// The data.
    pub fn tables(&self) -> Tables<'a> {
        self.tables
    }

    /// A read of the plan.
    pub fn read_plan(&self, read: usize) -> &Read {
        &self.reads[read]
    }

    /// How to run.
    pub fn options(&self) -> &Options {
        self.options
    }

    /// How each read went.
    pub fn into_profile(self) -> (Vec<ReadProfile>, HashMap<usize, Duration>) {
        let reads = self.profile.into_inner().unwrap_or_else(PoisonError::into_inner);
        (reads, self.parts.into_inner().unwrap_or_else(PoisonError::into_inner))
    }

    /// # Errors
    /// When there are more cells than the limit.
    pub fn check_cells(&self, cells: usize) -> Result<(), RunError> {
        self.options.check()?;
        let most = self.options.max_cells;
        if cells > most {
            return Err(RunError::Limit(format!(
                "this needs {cells} cells, more than the limit of {most}: filter, or use fewer axes"
            )));
        }
        self.options.check_bytes(cells as u64 * CELL_BYTES, || format!("{} cells", units::count(cells as u64)))
    }

    /// The result of a read for given values from outside.
    pub(super) fn result(&self, read: usize, outer: &[(Held, Type)]) -> Result<Arc<ReadResult>, RunError> {
        let key = (read, outer.iter().map(|(held, _)| held.clone()).collect::<Vec<_>>());
        if let Some(result) = kept(&self.done).get(&key) {
            return Ok(result.clone());
        }
        let plan = &self.reads[read];
        let start = Instant::now();
        if let Some(result) = self.rolled_up(plan, &key.1)? {
            self.record(read, start.elapsed(), result.stats, true);
            kept(&self.done).insert(key, result.clone());
            return Ok(result);
        }
        let bound: Vec<_> = plan.outer.iter().zip(outer).map(|(slot, (v, ty))| (*slot, v.clone(), *ty)).collect();
        let result = Arc::new(read::run(self.tables, plan, &bound, self.options)?);
        self.record(read, start.elapsed(), result.stats, false);
        kept(&self.done).insert(key, result.clone());
        Ok(result)
    }

    /// How often a read has been done, for different values from outside.
    pub(super) fn times_done(&self, read: usize) -> u64 {
        kept(&self.profile)[read].times
    }

    pub(super) fn known_running(&self, key: RunningKey) -> Option<Arc<Running>> {
        kept(&self.running).get(&key).cloned()
    }

    pub(super) fn keep_running(&self, key: RunningKey, running: Arc<Running>) {
        kept(&self.running).insert(key, running);
    }

    pub(super) fn known_column(&self, column: &CurrentColumn) -> Option<Arc<CompiledRow>> {
        kept(&self.columns).get(column).cloned()
    }

    pub(super) fn keep_column(&self, column: CurrentColumn, compiled: Arc<CompiledRow>) {
        kept(&self.columns).insert(column, compiled);
    }

    /// The result of a read put together from that of a finer one, where that has been done and has few groups.
    fn rolled_up(&self, plan: &Read, outer: &[Held]) -> Result<Option<Arc<ReadResult>>, RunError> {
        for finer in &plan.finer {
            let done = kept(&self.done);
            let Some(groups) = done.get(&(finer.read, outer.to_vec())).cloned() else { continue };
            drop(done);
            if let Some(result) = read::rolled_up(self.tables, plan, finer, &groups)? {
                return Ok(Some(Arc::new(result)));
            }
        }
        Ok(None)
    }

    fn record(&self, read: usize, elapsed: Duration, stats: ReadStats, rolled_up: bool) {
        let mut profile = kept(&self.profile);
        let entry = &mut profile[read];
        entry.times += 1;
        entry.rolled_up += u64::from(rolled_up);
        entry.elapsed += elapsed;
        entry.stats.rows += stats.rows;
        entry.stats.add(stats);
    }

    /// The results that a read has for the cells of a frame: one, or one for each combination of values from outside;
    /// with the cells that each is for.
    pub fn results(&self, read: &ReadRef, frame: &Frame) -> Result<Vec<ForCells>, RunError> {
        if read.outer.is_empty() {
            let all = (0..frame.cells as u32).collect();
            return Ok(vec![(all, self.result(read.read, &[])?)]);
        }
        let (classes, places) = frame.project(&read.outer);
        let mut cells: Vec<Vec<u32>> = vec![Vec::new(); classes.cells];
        places.iter().enumerate().for_each(|(cell, class)| cells[*class as usize].push(cell as u32));
        cells
            .into_iter()
            .enumerate()
            .map(|(class, cells)| {
                let outer: Vec<(Held, Type)> = classes.dims.iter().map(|d| value_of(d, class)).collect();
                Ok((cells, self.result(read.read, &outer)?))
            })
            .collect()
    }

    /// Evaluates an assembly in every cell.
    pub fn eval(&self, assembly: &Assembly, frame: &Frame) -> Result<Cells, RunError> {
        self.options.check()?;
        let start = Instant::now();
        let leaves = CellLeaves::new(self, assembly, frame);
        let values = assembly.scalar.eval(&leaves, frame.cells).map_err(|e| self.located(e, &assembly.scope, frame))?;
        if !assembly.label.is_empty() {
            let mut parts = kept(&self.parts);
            *parts.entry(part_key(assembly)).or_default() += start.elapsed();
        }
        Ok(Cells { values, read: leaves.read.into_inner() })
    }

    /// An error of a formula's own with its cell; what went wrong inside of a part says that by itself.
    fn located(&self, e: RunError, scope: &Scope, frame: &Frame) -> RunError {
        // What was broken off is no fault of the formula.
        if let Err(limit) = self.options.check() {
            return limit;
        }
        match e {
            RunError::Eval(e) if e.at.is_none() => {
                let at = Some(in_cell(self.tables, scope, frame, e.slot));
                RunError::Eval(Box::new(EvalError { at, ..*e }))
            }
            other => other,
        }
    }

    /// Evaluates a part of an assembly in every cell.
    ///
    /// # Errors
    /// As for the assembly.
    pub fn eval_part(&self, part: &Scalar, assembly: &Assembly, frame: &Frame) -> Result<Vector, RunError> {
        let leaves = CellLeaves::new(self, assembly, frame);
        part.eval(&leaves, frame.cells)
    }

    fn leaf(&self, leaf: &Leaf, frame: &Frame) -> Result<Cells, RunError> {
        let silent = |values: Vector| Cells { read: vec![false; values.len()], values };
        match leaf {
            Leaf::Read(read, aggregate) => self.read_leaf(read, *aggregate, frame),
            Leaf::Part(body) => self.eval(body, frame),
            Leaf::Dim(dim) => Ok(silent(self.dim_values(&frame.dims[*dim]))),
            Leaf::Current { dim, table, column, path } => {
                Ok(silent(self.current(&frame.dims[*dim], *table, *column, path)?))
            }
            Leaf::Bind { values, body } => {
                let mut read = vec![false; frame.cells];
                let mut dims = Vec::new();
                for value in values {
                    let (dim, rows) = self.bound(value, frame)?;
                    read.iter_mut().zip(rows).for_each(|(a, b)| *a |= b);
                    dims.push(dim);
                }
                let mut cells = self.eval(body, &frame.with(dims))?;
                cells.read.iter_mut().zip(read).for_each(|(a, b)| *a |= b);
                Ok(cells)
            }
            Leaf::Project { keep, body } => {
                let (inner, places) = frame.project(keep);
                let cells = self.eval(body, &inner)?;
                let read = places.iter().map(|p| cells.read[*p as usize]).collect();
                Ok(Cells { values: cells.values.gather(&places), read })
            }
            Leaf::Fold(fold) => self.fold(fold, frame),
            Leaf::Rank(rank) => self.rank(rank, frame),
            Leaf::Period(period) => {
                let days = periods::days(self, period, frame)?;
                self.eval(&period.body, &frame.with([days]))
            }
            Leaf::OverDays(over) => periods::over_days(self, over, frame),
            Leaf::Member(of, dim) => {
                let cells = self.eval(of, frame)?;
                let mut values = VectorBuilder::new(Type::Bool, frame.cells);
                for cell in 0..frame.cells {
                    let value = cells.values.get(cell, of.scalar.ty);
                    let members = frame.dims[*dim].held(cell).and_then(Held::members);
                    values.push(match members {
                        Some(members) if !value.is_null() => Value::Bool(members.contains(&value)),
                        _ => Value::Null,
                    });
                }
                Ok(Cells { values: values.finish(), read: cells.read })
            }
        }
    }

    /// What is held in each cell, and whether a row was read for that.
    ///
    /// # Errors
    /// As for evaluating an assembly.
    pub fn bound(&self, bound: &Bound, frame: &Frame) -> Result<(KeyColumn, Vec<bool>), RunError> {
        match bound {
            Bound::Value(value) => {
                if let (ScalarKind::Leaf(leaf), true) = (&value.scalar.kind, self.options.hoist)
                    && let Leaf::Current { dim, table, column, path } = &value.leaves[*leaf]
                {
                    let held = self.current_held(&frame.dims[*dim], *table, *column, path);
                    return Ok((held, vec![false; frame.cells]));
                }
                let cells = self.eval(value, frame)?;
                Ok((KeyColumn::of_values(&cells.values, value.scalar.ty), cells.read))
            }
            Bound::Set(set) => Ok((sets::chosen(self, set, frame)?, vec![false; frame.cells])),
        }
    }

    fn dim_values(&self, dim: &KeyColumn) -> Vector {
        match &dim.kind {
            KeyKind::Column(column) => self.tables.column(*column).vector_of(&dim.codes),
            KeyKind::Row => Vector::new(Data::I64(dim.codes.iter().map(|c| *c as i64).collect())),
            KeyKind::Values(pool) => {
                let mut builder = VectorBuilder::new(pool.ty, dim.codes.len());
                dim.codes.iter().for_each(|c| builder.push(pool.values[*c as usize].value()));
                builder.finish()
            }
        }
    }

    pub(super) fn read_leaf(&self, read: &ReadRef, aggregate: usize, frame: &Frame) -> Result<Cells, RunError> {
        if read.outer.is_empty() {
            return Ok(of_groups(&*self.result(read.read, &[])?, read, aggregate, frame));
        }
        if let Some(cells) = self.by_value(read, aggregate, frame)? {
            return Ok(cells);
        }
        let results = self.results(read, frame)?;
        if let [(_, result)] = results.as_slice() {
            return Ok(of_groups(result, read, aggregate, frame));
        }
        let ty = self.reads[read.read].aggregates[aggregate].ty;
        let mut values = vec![Value::Null; frame.cells];
        let mut seen = vec![false; frame.cells];
        for (cells, result) in results {
            let groups = result.find(&frame.select(&cells), &read.dims);
            for (cell, group) in cells.iter().zip(groups.iter()) {
                values[*cell as usize] = result.columns[aggregate].get(*group as usize, ty);
                seen[*cell as usize] = result.seen[*group as usize];
            }
        }
        let mut builder = VectorBuilder::new(ty, frame.cells);
        values.into_iter().for_each(|v| builder.push(v));
        Ok(Cells { values: builder.finish(), read: seen })
    }

    fn fold(&self, fold: &Fold, frame: &Frame) -> Result<Cells, RunError> {
        let expanded =
            expand(self, &fold.domain, frame, &[], || if fold.sparse { self.supports(&fold.args) } else { Ok(None) })?;
        let Expanded { frame: mut inner, mut parents } = expanded;
        if let Some(filter) = &fold.filter {
            let truths = self.eval(filter, &inner)?.values.truths();
            let keep: Vec<u32> = (0..inner.cells as u32).filter(|i| truths[*i as usize]).collect();
            inner = inner.select(&keep);
            parents = keep.iter().map(|i| parents[*i as usize]).collect();
        }
        let mut read = vec![false; frame.cells];
        let mut vectors = Vec::new();
        for assembly in fold.args.iter().chain(fold.order.iter().map(|(a, _)| a)) {
            let cells = self.eval(assembly, &inner)?;
            // A body without aggregates of its own goes through the combinations themselves.
            let reads = reads_rows(assembly);
            for (parent, seen) in parents.iter().zip(&cells.read) {
                read[*parent as usize] |= *seen || !reads;
            }
            vectors.push(cells.values);
        }
        let spec = Spec {
            kind: fold.kind,
            input: fold.args.first().map_or(fold.ty, |a| a.scalar.ty),
            inputs: fold.args.iter().map(|a| a.scalar.ty).collect(),
            order: fold.order.iter().map(|(a, d)| (a.scalar.ty, *d)).collect(),
            constant: fold.constant.clone(),
            ty: fold.ty,
            coded: None,
            nullable: true,
        };
        let mut accumulator = Accumulator::new(&spec, frame.cells);
        accumulator.add(Groups::Many(&parents), &Input::Values(&vectors));
        let result = accumulator.finish(&[]);
        let result = result.map_err(|message| RunError::in_argument(message, fold.args.first().map(|a| &a.scalar)))?;
        let all: Vec<u32> = (0..frame.cells as u32).collect();
        Ok(Cells { values: result.gather(&all), read })
    }

    fn rank(&self, rank: &RankLeaf, frame: &Frame) -> Result<Cells, RunError> {
        let mine = self.eval(&rank.mine, frame)?;
        let single = rank.single.as_ref().map(|leaf| self.leaf(leaf, frame)).transpose()?;
        let (outer, places) = frame.project(&rank.keep);
        let expanded = expand(self, &rank.domain, &outer, &[], || Ok(None))?;
        let figures = self.eval(&rank.figure, &expanded.frame)?;
        let ty = rank.figure.scalar.ty;
        let mut sorted: Vec<Vec<Value>> = vec![Vec::new(); outer.cells];
        for (i, parent) in expanded.parents.iter().enumerate() {
            let value = figures.values.get(i, ty);
            if !value.is_null() {
                sorted[*parent as usize].push(value);
            }
        }
        sorted.iter_mut().for_each(|list| list.sort_by(Value::total_cmp));
        let mut builder = VectorBuilder::new(Type::Int, frame.cells);
        for cell in 0..frame.cells {
            let value = mine.values.get(cell, ty);
            let fixed = single.as_ref().is_none_or(|s| s.values.is_valid(cell));
            if value.is_null() || !fixed {
                builder.push(Value::Null);
                continue;
            }
            let list = &sorted[places[cell] as usize];
            let ahead = if rank.ascending {
                list.partition_point(|v| v.total_cmp(&value).is_lt())
            } else {
                list.len() - list.partition_point(|v| v.total_cmp(&value).is_le())
            };
            builder.push(Value::Int(ahead as i64 + 1));
        }
        Ok(Cells { values: builder.finish(), read: mine.read })
    }

    /// The cells for which some assembly reads rows; `None` when that cannot be told.
    pub fn supports(&self, assemblies: &[Assembly]) -> Result<Option<Vec<Support>>, RunError> {
        let mut all: Vec<Support> = Vec::new();
        for assembly in assemblies {
            for leaf in &assembly.leaves {
                match self.support(leaf)? {
                    Some(more) => add_new(&mut all, more),
                    None => return Ok(None),
                }
            }
        }
        Ok(Some(all))
    }

    fn support(&self, leaf: &Leaf) -> Result<Option<Vec<Support>>, RunError> {
        match leaf {
            Leaf::Read(read, _) if read.outer.is_empty() => {
                let result = self.result(read.read, &[])?;
                if !result.seen.contains(&true) {
                    return Ok(Some(Vec::new()));
                }
                Ok(Some(vec![Support { dims: read.dims.clone(), keys: result.present().codes.clone() }]))
            }
            Leaf::Read(..) => Ok(None),
            Leaf::Dim(_) | Leaf::Current { .. } => Ok(Some(Vec::new())),
            Leaf::Part(body) => self.supports(std::slice::from_ref(body)),
            Leaf::Bind { values, body } => {
                let Some(mut all) = self.supports(std::slice::from_ref(body))? else {
                    return Ok(None);
                };
                for value in values {
                    let more = match value {
                        Bound::Value(value) => self.supports(std::slice::from_ref(value))?,
                        // What the set is found from is no row of the cell.
                        Bound::Set(_) => Some(Vec::new()),
                    };
                    let Some(more) = more else {
                        return Ok(None);
                    };
                    add_new(&mut all, more);
                }
                Ok(Some(all))
            }
            Leaf::Project { keep, body } => {
                let mut inner = self.supports(std::slice::from_ref(body))?;
                for support in inner.iter_mut().flatten() {
                    support.dims.iter_mut().for_each(|d| *d = keep[*d]);
                }
                Ok(inner)
            }
            Leaf::Fold(fold) => {
                if !fold.args.iter().any(reads_rows) {
                    return Ok(None);
                }
                let mut inner = self.supports(&fold.args)?;
                for support in inner.iter_mut().flatten() {
                    support.keep_below(fold.domain.outer_dims);
                }
                Ok(inner)
            }
            Leaf::Rank(rank) => self.supports(std::slice::from_ref(&rank.mine)),
            Leaf::Member(of, _) => self.supports(std::slice::from_ref(&**of)),
            Leaf::Period(period) => self.supports(std::slice::from_ref(&period.body)),
            Leaf::OverDays(over) => periods::support(self, over),
        }
    }
}

/// What is kept under a lock. Nothing that panics while it holds one leaves half of a change behind.
fn kept<T>(kept: &Mutex<T>) -> MutexGuard<'_, T> {
    kept.lock().unwrap_or_else(PoisonError::into_inner)
}

/// An aggregate of one result in every cell.
fn of_groups(result: &ReadResult, read: &ReadRef, aggregate: usize, frame: &Frame) -> Cells {
    let groups = result.find(frame, &read.dims);
    let seen = groups.iter().map(|g| result.seen[*g as usize]).collect();
    Cells { values: result.columns[aggregate].gather(&groups), read: seen }
}

/// Several aggregates of one read support the same cells.
fn add_new(all: &mut Vec<Support>, more: Vec<Support>) {
    for support in more {
        if !all.contains(&support) {
            all.push(support);
        }
    }
}

impl Support {
    /// Drops dimensions that the outer scope does not have.
    pub(super) fn keep_below(&mut self, dims: usize) {
        let places: Vec<usize> = (0..self.dims.len()).filter(|i| self.dims[*i] < dims).collect();
        if places.len() == self.dims.len() {
            return;
        }
        let rows = self.keys.first().map_or(1, |codes| codes.len());
        let slices: Vec<&[u64]> = places.iter().map(|p| self.keys[*p].as_slice()).collect();
        let (_, first) = super::frame::distinct(&slices, rows);
        let keys = slices.iter().map(|codes| gathered(codes, &first)).collect();
        self.dims = places.iter().map(|p| self.dims[*p]).collect();
        self.keys = keys;
    }
}

/// Tells the parts of one plan apart: they do not move while it runs.
pub fn part_key(assembly: &Assembly) -> usize {
    std::ptr::from_ref(assembly) as usize
}

/// Whether an assembly has reads of its own, those of domains not counted.
pub fn reads_rows(assembly: &Assembly) -> bool {
    assembly.leaves.iter().any(|leaf| match leaf {
        Leaf::Read(..) => true,
        Leaf::Dim(_) | Leaf::Current { .. } => false,
        Leaf::Part(body) | Leaf::Project { body, .. } => reads_rows(body),
        Leaf::Bind { values, body } => {
            values.iter().any(|v| matches!(v, Bound::Value(value) if reads_rows(value))) || reads_rows(body)
        }
        // A fold without reads in its body goes through combinations, which are rows read, too.
        Leaf::Fold(_) => true,
        Leaf::Rank(rank) => reads_rows(&rank.mine),
        Leaf::Member(of, _) => reads_rows(of),
        Leaf::Period(period) => reads_rows(&period.body),
        Leaf::OverDays(_) => true,
    })
}

fn value_of(dim: &KeyColumn, cell: usize) -> (Held, Type) {
    match &dim.kind {
        KeyKind::Values(pool) => (pool.values[dim.codes[cell] as usize].clone(), pool.ty),
        KeyKind::Column(_) | KeyKind::Row => (Held::Value(Value::Null), Type::Null),
    }
}

struct CellLeaves<'a, 'e> {
    executor: &'a Executor<'e>,
    assembly: &'a Assembly,
    frame: &'a Frame,
    read: RefCell<Vec<bool>>,
    /// Parts that are named several times, once they are known for all cells.
    shared: RefCell<HashMap<usize, Cells>>,
}

impl<'a, 'e> CellLeaves<'a, 'e> {
    fn new(executor: &'a Executor<'e>, assembly: &'a Assembly, frame: &'a Frame) -> CellLeaves<'a, 'e> {
        let read = RefCell::new(vec![false; frame.cells]);
        CellLeaves { executor, assembly, frame, read, shared: RefCell::default() }
    }

    /// Whether a leaf is a part that the formula names several times.
    fn is_shared(&self, leaf: usize) -> bool {
        let mut times = 0;
        if matches!(self.assembly.leaves[leaf], Leaf::Part(_)) {
            self.assembly.scalar.each_leaf(&mut |l| times += usize::from(l == leaf));
        }
        times > 1
    }
}

impl Leaves for CellLeaves<'_, '_> {
    type Error = RunError;

    fn may_go_on(&self) -> bool {
        self.executor.options.check().is_ok()
    }

    fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, RunError> {
        if let Some(cells) = self.shared.borrow().get(&leaf) {
            return Ok(cells.values.gather(slots));
        }
        let (place, leaf) = (leaf, &self.assembly.leaves[leaf]);
        let cells = if slots.len() == self.frame.cells {
            let cells = self.executor.leaf(leaf, self.frame)?;
            if self.is_shared(place) {
                let kept = Cells { values: cells.values.clone(), read: Vec::new() };
                self.shared.borrow_mut().insert(place, kept);
            }
            cells
        } else {
            self.executor.leaf(leaf, &self.frame.select(slots))?
        };
        let mut read = self.read.borrow_mut();
        for (slot, seen) in slots.iter().zip(&cells.read) {
            read[*slot as usize] |= seen;
        }
        Ok(cells.values)
    }
}
