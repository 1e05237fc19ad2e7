//! One read: a pass over a table's codes that filters, groups and aggregates.
//!
//! Everything that hangs off one anchor (see [`super::anchors`]) is folded into one array over the anchor's codes: whether
//! the row passes, and what it adds to the number of its group. A row then costs one look into such an array for each
//! anchor, and what its aggregates need.

//!
//! * `prepare`: filters, keys and aggregates made ready
//! * `filters`: which rows a filter lets through
//! * `bridges`: keys and filters that come back from the many side
//! * `batch`: unpacking of codes
//! * `result`: groups and aggregates

mod batch;
mod bridges;
mod filters;
mod prepare;
mod result;

use rayon::prelude::*;

use super::accumulate::{Accumulator, GroupNumbers, Groups, Input};
use super::anchors::{Anchor, BatchCodes, Outer, Tables};
use super::{Options, RunError};
use crate::formula::schema::{ColumnId, TableId};
use crate::plan::Read;
use crate::value::Vector;
pub(crate) use batch::Batch;
use prepare::{DROPPED, Feed, Prepared, key_sizes, prepare};
use result::Numbering;

pub(super) use bridges::pointed_at;
pub use filters::{far_rows as filter_rows, null_passes};
pub use result::{ReadResult, ReadStats};

/// Rows of a batch: small enough for the caches, large enough to hide what a batch costs by itself.
const BATCH: usize = 4096;
/// Rows of a part that one thread works on. Parts do not depend on the number of threads, so sums of floats come out
/// the same on every machine.
const PART: usize = 1 << 16;
/// More parts than this would cost more in merging than they gain.
const MAX_PARTS: usize = 8;

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

/// The rows that the filters of a read let through, in order, at most so many.
///
/// # Errors
/// As for [`run`].
pub fn passing_rows(
    tables: Tables<'_>,
    read: &Read,
    outer: Outer<'_>,
    options: &Options,
    most: usize,
) -> Result<Vec<u32>, RunError> {
    let prepared = prepare(tables, read, outer, options)?;
    let mut found = Vec::new();
    prepared.each_batch(read.table, options, |at, positions, _| {
        found.extend(positions.iter().map(|p| at + p));
        found.dedup();
        found.len() < most
    })?;
    found.truncate(most);
    Ok(found)
}

/// The rows of one group of a read, in order.
///
/// # Errors
/// As for [`run`].
pub fn rows_of_group(
    tables: Tables<'_>,
    read: &Read,
    outer: Outer<'_>,
    options: &Options,
    codes: &[u64],
) -> Result<Vec<u32>, RunError> {
    let options = Options { hash_groups: true, ..options.clone() };
    let prepared = prepare(tables, read, outer, &options)?;
    let strides = result::strides(&key_sizes(tables, read));
    let wanted: u128 = codes.iter().zip(&strides).map(|(code, stride)| u128::from(*code) * stride).sum();
    let mut found = Vec::new();
    prepared.each_batch(read.table, &options, |at, positions, keys| {
        let rows = positions.iter().zip(keys).filter(|(_, key)| **key == wanted).map(|(p, _)| at + p);
        found.extend(rows);
        true
    })?;
    found.dedup();
    Ok(found)
}

/// How many combinations the keys of a read could have.
pub fn room(tables: Tables<'_>, read: &Read) -> Option<u128> {
    key_sizes(tables, read).iter().try_fold(1u128, |p, s| p.checked_mul(u128::from(*s)))
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
    /// Calls `visit` with the first row of each batch, the places in it that pass, and their keys, until it says no.
    fn each_batch(
        &self,
        table: TableId,
        options: &Options,
        mut visit: impl FnMut(u32, &[u32], &[u128]) -> bool,
    ) -> Result<(), RunError> {
        let rows = self.tables.rows(table);
        let mut at = 0;
        while at < rows {
            options.check()?;
            let len = BATCH.min(self.segment_at(at, rows).1.end - at);
            let batch = Batch::new(self.tables, table, at, len);
            let all: Vec<u32> = (0..len as u32).collect();
            let (mut positions, mut keys) = self.passing(&batch, &all)?;
            for bridge in &self.bridges {
                bridge.spread(self.tables, &batch, &mut positions, &mut keys);
            }
            if !visit(at as u32, &positions, &keys) {
                break;
            }
            at += len;
        }
        Ok(())
    }

    fn part(&self, start: usize, end: usize, options: &Options) -> Result<Part, RunError> {
        let mut part = Part {
            accumulators: self.aggregates.iter().map(|(spec, _)| Accumulator::new(spec, self.groups)).collect(),
            seen: vec![false; self.groups],
            numbers: GroupNumbers::default(),
            keys: Vec::new(),
            stats: ReadStats::default(),
        };
        let mut at = start;
        while at < end {
            let (segment, rows) = self.segment_at(at, end);
            if self.skips(segment) {
                // A segment is counted where it begins, so that parts do not count it twice.
                part.stats.segments_skipped += u64::from(at == rows.start);
                at = rows.end.min(end);
                continue;
            }
            let len = BATCH.min(end - at).min(rows.end - at);
            options.check()?;
            self.batch(at, len, &mut part)?;
            at += len;
        }
        Ok(part)
    }

    /// The segment of a row, and its rows; a table without columns is one segment.
    fn segment_at(&self, row: usize, rows: usize) -> (usize, std::ops::Range<usize>) {
        self.tables.cuts(self.table).map_or((0, 0..rows), |cuts| {
            let segment = cuts.find(row).0;
            (segment, cuts.range(segment))
        })
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
        let (mut positions, mut keys) = self.passing(batch, all)?;
        for bridge in &self.bridges {
            bridge.spread(self.tables, batch, &mut positions, &mut keys);
        }
        let groups = keys
            .into_iter()
            .map(|key| {
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

    /// The rows that pass, and the key of each.
    fn passing(&self, batch: &Batch<'_>, all: &[u32]) -> Result<(Vec<u32>, Vec<u128>), RunError> {
        let mut keys = vec![0u128; all.len()];
        let mut passes = vec![true; all.len()];
        for plan in &self.anchors {
            for (i, code) in batch.anchor(plan.anchor, all).iter().enumerate() {
                keys[i] += plan.wide.get(*code as usize).copied().unwrap_or(0);
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
        let keys = positions.iter().map(|i| keys[*i as usize]).collect();
        Ok((positions, keys))
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
