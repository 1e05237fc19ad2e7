//! Operators over the results of reads, for all cells of a scope at once.

use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use super::accumulate::{Accumulator, Groups, Input, Spec};
use super::by_value::CellReads;
use super::cells::{Cells, Support};
use super::current::CurrentRows;
use super::domain::{Expanded, expand};
use super::frame::{BoundValue, Frame, KeyColumn, KeyKind};
use super::located::in_cell;
use super::reads::{PlanReads, ReadProfile, kept};
use super::sets::Candidates;
use super::tables::Tables;
use super::{Options, RunError, periods, sets};
use cubrel_formula::scalar::{EvalError, Leaves, Scalar, ScalarKind};
use cubrel_plan::{Assembly, Bound, Fold, Leaf, RankLeaf, Read, Scope};
use cubrel_value::{Data, Type, Value, Vector, VectorBuilder};

/// Evaluates the assemblies of one plan.
pub struct Executor<'a> {
    reads: CellReads<'a>,
    current: CurrentRows<'a>,
    parts: Mutex<HashMap<usize, Duration>>,
}

impl<'a> Executor<'a> {
    /// An executor for a plan's reads.
    pub fn new(tables: Tables<'a>, reads: &'a [Read], options: &'a Options) -> Executor<'a> {
        let reads = PlanReads::new(tables, reads, options);
        let current = CurrentRows::new(reads.tables(), options);
        Executor { reads: CellReads::new(reads), current, parts: Mutex::default() }
    }

    /// The reads of the plan.
    pub fn reads(&self) -> &PlanReads<'a> {
        self.reads.reads()
    }

    /// The data.
    pub fn tables(&self) -> Tables<'a> {
        self.reads().tables()
    }

    /// How to run.
    pub fn options(&self) -> &'a Options {
        self.reads().options()
    }

    /// How each read went, and how long each part of a formula took.
    pub fn into_profile(self) -> (Vec<ReadProfile>, HashMap<usize, Duration>) {
        let parts = self.parts.into_inner().unwrap_or_else(PoisonError::into_inner);
        (self.reads.into_reads().into_profile(), parts)
    }

    /// Evaluates an assembly in every cell.
    pub fn eval(&self, assembly: &Assembly, frame: &Frame) -> Result<Cells, RunError> {
        self.eval_knowing(assembly, frame, &|_| None)
    }

    /// The same where the values of some parts are known in these cells.
    pub fn eval_knowing(
        &self,
        assembly: &Assembly,
        frame: &Frame,
        known: &dyn Fn(&Assembly) -> Option<Vector>,
    ) -> Result<Cells, RunError> {
        self.options().check()?;
        let start = Instant::now();
        let leaves = CellLeaves::new(self, assembly, frame);
        leaves.take_known(known);
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
        if let Err(limit) = self.options().check() {
            return limit;
        }
        match e {
            RunError::Eval(e) if e.at.is_none() => {
                let at = Some(in_cell(self.tables(), scope, frame, e.slot));
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
            Leaf::Read(read, aggregate) => self.reads.of(read, *aggregate, frame),
            Leaf::Part(body) => self.eval(body, frame),
            Leaf::Dim(dim) => Ok(silent(values_of(self.tables(), &frame.dims[*dim]))),
            Leaf::Current { dim, table, column, path } => {
                Ok(silent(self.current.column(&frame.dims[*dim], *table, *column, path)?))
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
                let days = periods::days(self.reads(), period, frame)?;
                self.eval(&period.body, &frame.with([days]))
            }
            Leaf::OverDays(over) => periods::over_days(&self.reads, over, frame),
            Leaf::Member(of, dim) => {
                let cells = self.eval(of, frame)?;
                let mut values = VectorBuilder::new(Type::Bool, frame.cells);
                for cell in 0..frame.cells {
                    let value = cells.values.get(cell, of.scalar.ty);
                    let members = frame.dims[*dim].held(cell).and_then(BoundValue::members);
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
                if let (ScalarKind::Leaf(leaf), true) = (&value.scalar.kind, self.options().hoist)
                    && let Leaf::Current { dim, table, column, path } = &value.leaves[*leaf]
                {
                    let held = self.current.held(&frame.dims[*dim], *table, *column, path);
                    return Ok((held, vec![false; frame.cells]));
                }
                let cells = self.eval(value, frame)?;
                Ok((KeyColumn::of_values(&cells.values, value.scalar.ty), cells.read))
            }
            Bound::Set(set) => {
                let (outer, places) = frame.project(&set.keep);
                let expanded = expand(self.reads(), &set.domain, &outer, &[], || Ok(None))?;
                let figures = self.eval(&set.figure, &expanded.frame)?;
                let candidates = Candidates { outer, places, expanded, figures };
                Ok((sets::chosen(self.tables(), set, &candidates), vec![false; frame.cells]))
            }
        }
    }

    /// The combinations that a fold goes through in each cell.
    ///
    /// # Errors
    /// As for the reads that find them.
    pub fn combinations(&self, fold: &Fold, frame: &Frame) -> Result<Expanded, RunError> {
        expand(
            self.reads(),
            &fold.domain,
            frame,
            &[],
            || {
                if fold.sparse { self.supports(&fold.args) } else { Ok(None) }
            },
        )
    }

    fn fold(&self, fold: &Fold, frame: &Frame) -> Result<Cells, RunError> {
        let Expanded { frame: mut inner, mut parents } = self.combinations(fold, frame)?;
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
            combined: None,
            nullable: true,
            counted_by: None,
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
        let expanded = expand(self.reads(), &rank.domain, &outer, &[], || Ok(None))?;
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
                let Some(result) = self.reads().result_if_any(read.read)? else { return Ok(None) };
                if !result.seen.contains(&true) {
                    return Ok(Some(Vec::new()));
                }
                let keys = result.present().codes.clone();
                Ok(Some(vec![Support { read: Some(read.read), dims: read.dims.clone(), keys }]))
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
                    support.dims.iter_mut().for_each(|d| *d = keep[d.index()]);
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
            Leaf::OverDays(over) => periods::support(self.reads(), over),
        }
    }
}

/// The values of a dimension.
fn values_of(tables: Tables<'_>, dim: &KeyColumn) -> Vector {
    match &dim.kind {
        KeyKind::Column(column) => tables.column(*column).vector_of(&dim.codes),
        KeyKind::Row => Vector::new(Data::I64(dim.codes.iter().map(|c| *c as i64).collect())),
        KeyKind::Values(pool) => {
            let mut builder = VectorBuilder::new(pool.ty, dim.codes.len());
            dim.codes.iter().for_each(|c| builder.push(pool.values[*c as usize].value()));
            builder.finish()
        }
    }
}

/// Several aggregates of one read support the same cells.
fn add_new(all: &mut Vec<Support>, more: Vec<Support>) {
    for support in more {
        if !all.contains(&support) {
            all.push(support);
        }
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

    /// Takes the values of parts that are known.
    fn take_known(&self, known: &dyn Fn(&Assembly) -> Option<Vector>) {
        for (place, leaf) in self.assembly.leaves.iter().enumerate() {
            let Leaf::Part(body) = leaf else { continue };
            if let Some(values) = known(body) {
                self.shared.borrow_mut().insert(place, Cells { values, read: Vec::new() });
            }
        }
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
        self.executor.options().check().is_ok()
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
