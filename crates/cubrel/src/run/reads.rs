//! The reads of one plan, each done once, and what they cost.

use crate::plan::ReadId;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use super::frame::{BoundValue, Frame, KeyColumn, KeyKind};
use super::read::{self, ReadResult, ReadStats};
use super::tables::Tables;
use super::{Options, RunError};
use crate::plan::{Read, ReadRef};
use crate::value::{Type, Value, units};

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
type Done = HashMap<(ReadId, Vec<BoundValue>), Arc<ReadResult>>;

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
    profile: Mutex<Vec<ReadProfile>>,
}

impl<'a> PlanReads<'a> {
    pub(super) fn new(tables: Tables<'a>, reads: &'a [Read], options: &'a Options) -> PlanReads<'a> {
        PlanReads {
            tables: tables.limited(options),
            reads,
            options,
            done: Mutex::default(),
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
            if let Some(result) = read::rolled_up(self.tables, plan, finer, &groups)? {
                return Ok(Some(Arc::new(result)));
            }
        }
        Ok(None)
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

crate::plan::ids::listed_by!(ReadProfile, crate::plan::ReadId);
