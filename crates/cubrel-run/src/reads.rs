//! The reads of one plan, each done once, and what they cost.

use cubrel_plan::{ListedBy, ReadId};
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use super::frame::{BoundValue, Frame, KeyColumn, KeyKind};
use super::read::{self, ReadResult, ReadStats, Stays, WantedGroups};
use super::tables::Tables;
use super::{Options, RunError};
use cubrel_plan::{Read, ReadRef};
use cubrel_value::{Type, Value, units};

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
    /// The read whose pass did this one as well, and has what it cost.
    pub with: Option<ReadId>,
}

/// What a cell takes at least: codes on two axes, its place in a read, a value, and a line.
const CELL_BYTES: u64 = 64;

/// Results by read and by values from outside.
type Done = HashMap<(ReadId, Vec<BoundValue>), Arc<ReadResult>>;

/// A result for those groups that were wanted.
type Partial = (Arc<WantedGroups>, Arc<ReadResult>);

/// Cells, and the result of a read that is for them.
pub type ForCells = (Vec<u32>, Arc<ReadResult>);

/// What is kept under a lock. Nothing that panics while it holds one leaves half of a change behind.
pub(super) fn kept<T>(kept: &Mutex<T>) -> MutexGuard<'_, T> {
    kept.lock().unwrap_or_else(PoisonError::into_inner)
}

fn value_of(dim: &KeyColumn, cell: usize) -> (BoundValue, Type) {
    match &dim.kind {
        KeyKind::Values(pool) => (pool.values[dim.codes[cell] as usize].clone(), pool.ty),
        KeyKind::Column(_) | KeyKind::Row => (BoundValue::Value(Value::Null), Type::Null),
    }
}

/// The reads of a plan.
pub struct PlanReads<'a> {
    tables: Tables<'a>,
    reads: &'a [Read],
    options: &'a Options,
    done: Mutex<Done>,
    /// Reads that have been done for some of their groups.
    partial: Mutex<HashMap<ReadId, Partial>>,
    profile: Mutex<Vec<ReadProfile>>,
}

impl<'a> PlanReads<'a> {
    pub(super) fn new(tables: Tables<'a>, reads: &'a [Read], options: &'a Options) -> PlanReads<'a> {
        PlanReads {
            tables: tables.limited(options),
            reads,
            options,
            done: Mutex::default(),
            partial: Mutex::default(),
            profile: Mutex::new(vec![ReadProfile::default(); reads.len()]),
        }
    }

    /// The data.
    pub fn tables(&self) -> Tables<'a> {
        self.tables
    }

    /// How to run.
    pub fn options(&self) -> &'a Options {
        self.options
    }

    /// How each read went.
    pub(super) fn into_profile(self) -> Vec<ReadProfile> {
        self.profile.into_inner().unwrap_or_else(PoisonError::into_inner)
    }

    /// A read of the plan.
    pub fn read_plan(&self, read: ReadId) -> &Read {
        &self.reads[read]
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

    /// The result of a read without values from outside; nothing where it cannot be computed: whether somebody asks for it at all,
    /// who only wants to know which groups it has does not know.
    pub(super) fn result_if_any(&self, read: ReadId) -> Result<Option<Arc<ReadResult>>, RunError> {
        match self.result(read, &[]) {
            Err(RunError::Eval(_)) => Ok(None),
            result => result.map(Some),
        }
    }

    /// The result of a read for given values from outside.
    pub(super) fn result(&self, read: ReadId, outer: &[(BoundValue, Type)]) -> Result<Arc<ReadResult>, RunError> {
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
        if let Some(result) = self.together(read, None, start) {
            return Ok(result);
        }
        let bound: Vec<_> = plan.outer.iter().zip(outer).map(|(slot, (v, ty))| (*slot, v.clone(), *ty)).collect();
        let result = Arc::new(read::run(self.tables, plan, &bound, self.options)?);
        self.record(read, start.elapsed(), result.stats, false);
        kept(&self.done).insert(key, result.clone());
        Ok(result)
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
                let outer: Vec<(BoundValue, Type)> = classes.dims.iter().map(|d| value_of(d, class)).collect();
                Ok((cells, self.result(read.read, &outer)?))
            })
            .collect()
    }

    /// How often a read has been done, for different values from outside.
    pub(super) fn times_done(&self, read: ReadId) -> u64 {
        kept(&self.profile)[read].times
    }

    /// The result of a read put together from that of a finer one, where that has been done and has few groups.
    fn rolled_up(&self, plan: &Read, outer: &[BoundValue]) -> Result<Option<Arc<ReadResult>>, RunError> {
        for finer in &plan.roll_ups {
            let done = kept(&self.done);
            let Some(groups) = done.get(&(finer.read, outer.to_vec())).cloned() else { continue };
            drop(done);
            if let Some(result) = read::rolled_up(self.tables, (plan, &self.reads[finer.read]), finer, &groups)? {
                return Ok(Some(Arc::new(result)));
            }
        }
        Ok(None)
    }

    /// Does a read without values from outside that nothing but the lines of a grid is made of, and keeps the groups that stay. What
    /// goes wrong is told when it is asked for.
    pub fn do_where(&self, read: ReadId, stays: &Stays<'_>) {
        let (start, plan) = (Instant::now(), &self.reads[read]);
        if let (true, Ok(result)) = (plan.outer.is_empty(), read::run_where(self.tables, plan, stays, self.options)) {
            self.record(read, start.elapsed(), result.stats, false);
            kept(&self.done).insert((read, Vec::new()), Arc::new(result));
        }
    }

    /// The result of a read without values from outside for the cells of a frame. Where these ask for few of its groups, it is done
    /// for those alone.
    ///
    /// # Errors
    /// As for the read.
    pub(super) fn result_of_cells(&self, of: &ReadRef, frame: &Frame) -> Result<Arc<ReadResult>, RunError> {
        let read = of.read;
        if let Some((wanted, result)) = kept(&self.partial).get(&read)
            && wanted.covers(of, frame)
        {
            return Ok(result.clone());
        }
        // What has been asked for in part, and now for more, is better done once for all.
        let again = kept(&self.partial).contains_key(&read);
        let (tables, plan) = (self.tables, &self.reads[read]);
        let wanted = match !again && self.options.optimize && self.is_open(read) {
            true => WantedGroups::of_cells(tables, plan, of, frame, self.options.wanted_above).map(Arc::new),
            false => None,
        };
        let Some(wanted) = wanted else { return self.result(read, &[]) };
        let start = Instant::now();
        if let Some(result) = self.together(read, Some(&wanted), start) {
            return Ok(result);
        }
        let result = Arc::new(read::run_for(tables, plan, &wanted, self.options)?);
        self.record(read, start.elapsed(), result.stats, false);
        kept(&self.partial).insert(read, (wanted, result.clone()));
        Ok(result)
    }

    /// The result of a read, done in one pass with others that have not been done; `None` where it is better done by itself. What
    /// goes wrong in another one is told when that is asked for.
    fn together(&self, read: ReadId, wanted: Option<&Arc<WantedGroups>>, start: Instant) -> Option<Arc<ReadResult>> {
        // Whether one that only tells which groups there are will be asked for, nobody knows. Where it is, others may join that look
        // for theirs among its rows.
        let asked = &self.reads[read];
        let may_join = |other: ReadId| {
            let other_read = &self.reads[other];
            let is_within = || asked.filters.iter().all(|f| other_read.filters.iter().any(|own| own.test == f.test));
            !other_read.aggregates.is_empty() && self.is_open(other) && (!asked.aggregates.is_empty() || is_within())
        };
        let is_open = |other: &&ReadId| **other == read || may_join(**other);
        let open: Vec<ReadId> = self.reads[read].together.iter().filter(is_open).copied().collect();
        if open.len() < 2 {
            return None;
        }
        let plans: Vec<&Read> = open.iter().map(|read| &self.reads[*read]).collect();
        let (results, cost) =
            read::run_together(self.tables, &plans, wanted.map(|wanted| &**wanted), self.options).ok()??;
        let mut found = None;
        for (other, result) in open.into_iter().zip(results) {
            let result = Arc::new(result);
            self.record(other, Duration::ZERO, result.stats, false);
            kept(&self.profile)[other.index()].with = (other != read).then_some(read);
            match wanted {
                Some(wanted) => drop(kept(&self.partial).insert(other, (wanted.clone(), result.clone()))),
                None => drop(kept(&self.done).insert((other, Vec::new()), result.clone())),
            }
            found = if other == read { Some(result) } else { found };
        }
        let mut profile = kept(&self.profile);
        profile[read.index()].elapsed += start.elapsed();
        profile[read.index()].stats.add(cost);
        found
    }

    /// Whether a read without values from outside has still to go through rows.
    fn is_open(&self, read: ReadId) -> bool {
        let done = kept(&self.done);
        let is_done = |read: ReadId| done.contains_key(&(read, Vec::new()));
        !is_done(read) && !self.reads[read].roll_ups.iter().any(|finer| is_done(finer.read))
    }

    fn record(&self, read: ReadId, elapsed: Duration, stats: ReadStats, rolled_up: bool) {
        let mut profile = kept(&self.profile);
        let entry = &mut profile[read.index()];
        entry.times += 1;
        entry.rolled_up += u64::from(rolled_up);
        entry.elapsed += elapsed;
        entry.stats.rows += stats.rows;
        entry.stats.add(stats);
    }
}

impl ListedBy<ReadId> for ReadProfile {}
