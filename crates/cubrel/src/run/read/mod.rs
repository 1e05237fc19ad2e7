//! One read: a pass over a table's codes that filters, groups and aggregates.
//!
//! Everything that hangs off one anchor (see [`super::anchors`]) is folded into one array over the anchor's codes: whether
//! the row passes, and what it adds to the number of its group. A row then costs one look into such an array for each
//! anchor, and what its aggregates need. Rows that are alike in all that is needed are taken together where they stand in
//! runs.
//!
//! * `prepare`: filters, keys and aggregates made ready
//! * `filters`: which rows a filter lets through
//! * `bridges`: keys and filters that come back from the many side
//! * `batch`: unpacking of codes
//! * `dependent`: keys that follow from others
//! * `result`: groups and aggregates

mod batch;
mod bridges;
mod dependent;
mod filters;
mod prepare;
mod result;

use std::collections::BTreeSet;

use rayon::prelude::*;

use super::accumulate::{Accumulator, Entries, GroupNumbers, Groups, Input};
use super::anchors::{Anchor, BatchCodes, CompiledRow, Outer, Tables};
use super::first::First;
use super::{Options, RunError, Runs};
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
/// Rows of a batch in which rows that are alike are taken together.
const RUN_BATCH: usize = 1 << 15;
/// Rows are taken together where there is at most one run for so many of them.
const ROWS_PER_RUN: usize = 4;
/// More parts than this would cost more in merging than they gain,
const MAX_PARTS: usize = 8;
/// or parts with more groups than this together.
const MAX_GROUPS: usize = 1 << 20;
/// But so many there are, for the cores.
const MIN_PARTS: usize = 2;

/// Does one read.
///
/// # Errors
/// An error in a row expression or a sum that does not fit; a read that was cancelled.
pub fn run(tables: Tables<'_>, read: &Read, outer: Outer<'_>, options: &Options) -> Result<ReadResult, RunError> {
    let prepared = prepare(tables, read, outer, options)?;
    let rows = tables.rows(read.table);
    let most_parts = (MAX_GROUPS / prepared.groups.max(1)).clamp(MIN_PARTS, MAX_PARTS);
    let part_rows = rows.div_ceil(most_parts).max(options.part_rows.unwrap_or(PART)).next_multiple_of(BATCH).max(BATCH);
    let copies = rows.div_ceil(part_rows).max(1) + 1;
    prepared.check_room(prepared.groups * copies, options)?;
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
    prepared.each_batch(read.table, options, |batch, positions, _| {
        // A row that stands in several groups is there several times, side by side.
        found.extend(positions.chunk_by(|a, b| a == b).map(|same| batch.row(same[0])));
        found.len() < most
    })?;
    found.truncate(most);
    Ok(found)
}

/// The rows that pass and come first in the order of a column, and all that are equal to the last of them, in the order
/// of the table. Null comes last.
///
/// # Errors
/// As for [`run`].
pub fn first_rows(
    tables: Tables<'_>,
    read: &Read,
    outer: Outer<'_>,
    options: &Options,
    (column, descending): (ColumnId, bool),
    count: usize,
) -> Result<Vec<u32>, RunError> {
    let prepared = prepare(tables, read, outer, options)?;
    let null = tables.column(column).null_code();
    let key = |code: u64| match code {
        code if code == null => u64::MAX,
        code if descending => null - code,
        code => code,
    };
    let mut first = First::new(count);
    prepared.each_batch(read.table, options, |batch, positions, _| {
        let mut once = positions.to_vec();
        // A row that stands in several groups is there several times, side by side.
        once.dedup();
        let codes = batch.column(tables.column(column), column.index, &once);
        codes.into_iter().zip(once).for_each(|(code, position)| first.offer(key(code), batch.row(position)));
        true
    })?;
    let mut rows = first.finish();
    rows.sort_unstable();
    Ok(rows)
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
    let follows = |key: usize| prepared.dependences[key].is_some();
    let strides = prepared.strides.iter().enumerate().filter(|(key, _)| !follows(*key));
    let wanted: u128 = strides.map(|(key, stride)| u128::from(codes[key]) * stride).sum();
    let mut found = Vec::new();
    prepared.each_batch(read.table, &options, |batch, positions, keys| {
        let rows = positions.iter().zip(keys).filter(|(_, key)| **key == wanted).map(|(p, _)| batch.row(*p));
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

/// Aggregates that are fed in one way, and the columns that this takes.
struct Feeds {
    places: Vec<usize>,
    columns: BTreeSet<u32>,
    /// Whether they are the first to go through the rows.
    first: bool,
}

/// The entries of a batch that pass, `None` for all, and the numbers of their groups, `None` for one group.
type Passed = (Option<Vec<u32>>, Option<Vec<u32>>);

/// Memory that one batch leaves to the next.
#[derive(Default)]
struct Scratch {
    identity: Vec<u32>,
    numbers: Vec<u32>,
    more: Vec<u32>,
    values: Vec<i64>,
}

impl Scratch {
    /// The numbers of all entries; to be given back.
    fn all(&mut self, entries: usize) -> Vec<u32> {
        let mut all = std::mem::take(&mut self.identity);
        all.truncate(entries);
        all.extend(all.len() as u32..entries as u32);
        all
    }

    fn take_back(&mut self, all: Vec<u32>, groups: Option<Vec<u32>>) {
        self.identity = all;
        if let Some(groups) = groups {
            self.numbers = groups;
        }
    }
}

/// A vector of so many values, whatever they are.
fn sized<T: Copy + Default>(buffer: &mut Vec<T>, len: usize) -> &mut [T] {
    buffer.resize(len, T::default());
    buffer
}

/// The places of the numbers that are not dropped.
fn kept(numbers: &[u32]) -> Vec<u32> {
    let mut places = vec![0u32; numbers.len()];
    let mut count = 0;
    for (place, number) in numbers.iter().enumerate() {
        places[count] = place as u32;
        count += usize::from(number & DROPPED == 0);
    }
    places.truncate(count);
    places
}

/// What one part of the rows gives.
struct Part {
    scratch: Scratch,
    accumulators: Vec<Accumulator>,
    seen: Vec<bool>,
    numbers: GroupNumbers,
    keys: Vec<u128>,
    stats: ReadStats,
}

impl Prepared<'_> {
    /// Calls `visit` with each batch, the places in it that pass, and their keys, until it says no.
    fn each_batch(
        &self,
        table: TableId,
        options: &Options,
        mut visit: impl FnMut(&Batch<'_>, &[u32], &[u128]) -> bool,
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
            if !visit(&batch, &positions, &keys) {
                break;
            }
            at += len;
        }
        Ok(())
    }

    fn part(&self, start: usize, end: usize, options: &Options) -> Result<Part, RunError> {
        let mut part = Part {
            scratch: Scratch::default(),
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
            let to = end.min(rows.end);
            let (alike, apart) = self.ways(segment);
            for (feeds, most, in_runs) in [(alike, RUN_BATCH, true), (apart, BATCH, false)] {
                let Some(feeds) = feeds else { continue };
                for start in (at..to).step_by(most) {
                    options.check()?;
                    let passed = self.batch(
                        start,
                        most.min(to - start),
                        in_runs.then_some(&feeds.columns),
                        &feeds.places,
                        options,
                        &mut part,
                    )?;
                    // Rows are gone through twice where aggregates are fed in both ways.
                    part.stats.rows_passed += if feeds.first { passed } else { 0 };
                }
            }
            part.stats.rows_read += (to - at) as u64;
            let batch = Batch::new(self.tables, self.table, at, to - at);
            part.stats.bytes_read += self.needs.all().into_iter().map(|c| batch.packed_bytes(c)).sum::<u64>();
            at = to;
        }
        Ok(part)
    }

    /// Whether so many groups are allowed.
    fn check_room(&self, groups: usize, options: &Options) -> Result<(), RunError> {
        let per_group: u64 = self.aggregates.iter().map(|(spec, _)| spec.bytes_per_group()).sum();
        options.check_bytes(groups as u64 * (per_group + 1), || {
            format!("the {groups} groups that {} is read by", self.tables.schema.table(self.table).name)
        })
    }

    /// Which aggregates of a segment are fed with runs of rows, and which row by row.
    fn ways(&self, segment: usize) -> (Option<Feeds>, Option<Feeds>) {
        let all = || Feeds { places: (0..self.aggregates.len()).collect(), columns: BTreeSet::new(), first: true };
        let has_segments = self.tables.cuts(self.table).is_some();
        if self.runs == Runs::Never || !self.needs.base_told || !has_segments {
            return (None, Some(all()));
        }
        let most = match self.runs {
            Runs::Always => usize::MAX,
            _ => self.tables.cuts(self.table).map_or(0, |cuts| cuts.range(segment).len()) / ROWS_PER_RUN,
        };
        let mut runs = 0usize;
        let mut alike = Feeds { places: Vec::new(), columns: BTreeSet::new(), first: true };
        let mut take = |columns: &BTreeSet<u32>, known: &mut BTreeSet<u32>| {
            let more: usize =
                columns.difference(known).map(|c| self.runs_of(*c, segment)).fold(0, usize::saturating_add);
            let fits = runs.saturating_add(more) <= most;
            if fits {
                runs += more;
                known.extend(columns);
            }
            fits
        };
        if !take(&self.needs.base, &mut alike.columns) {
            return (None, Some(all()));
        }
        let mut apart = Vec::new();
        for (place, (columns, told)) in self.needs.feeds.iter().enumerate() {
            let taken = *told && take(columns, &mut alike.columns);
            if taken { alike.places.push(place) } else { apart.push(place) }
        }
        if apart.is_empty() {
            return (Some(alike), None);
        }
        if alike.places.is_empty() {
            return (None, Some(all()));
        }
        (Some(alike), Some(Feeds { places: apart, columns: BTreeSet::new(), first: false }))
    }

    /// How many runs a column has in a segment; beyond all bounds where that is not known.
    fn runs_of(&self, column: u32, segment: usize) -> usize {
        let column = self.tables.column(ColumnId { table: self.table, index: column });
        let runs = column.segments().get(segment).and_then(|s| s.runs());
        match self.runs {
            Runs::Always => 0,
            _ => runs.unwrap_or(usize::MAX),
        }
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

    /// How many rows pass, after feeding some aggregates with the rows from `start` on; those taken together that are alike in the columns `in_runs`.
    fn batch(
        &self,
        start: usize,
        len: usize,
        in_runs: Option<&BTreeSet<u32>>,
        feeds: &[usize],
        options: &Options,
        part: &mut Part,
    ) -> Result<u64, RunError> {
        let mut batch = Batch::new(self.tables, self.table, start, len);
        if let Some(columns) = in_runs {
            batch = batch.in_runs(columns.iter().copied());
        }
        let all = part.scratch.all(batch.entries());
        let passed = if self.dense {
            self.dense_groups(&batch, &all, &mut part.scratch)
        } else {
            self.hashed_groups(&batch, &all, options, part)
        };
        let (positions, groups) = passed?;
        let positions = positions.as_deref().unwrap_or(&all);
        let mut rows = 0;
        if !positions.is_empty() {
            let groups = groups.as_deref().map_or(Groups::One, Groups::Many);
            let weights = batch.weights(positions);
            let entries = Entries { groups, weights: weights.as_deref() };
            rows = weights.as_ref().map_or(positions.len() as u64, |w| w.iter().map(|w| u64::from(*w)).sum());
            match groups {
                Groups::One => part.seen[0] = true,
                Groups::Many(groups) => groups.iter().for_each(|g| part.seen[*g as usize] = true),
            }
            for place in feeds {
                self.feed(*place, &batch, positions, entries, &mut part.accumulators[*place], &mut part.scratch)?;
            }
        }
        part.scratch.take_back(all, groups);
        Ok(rows)
    }

    fn feed(
        &self,
        place: usize,
        batch: &Batch<'_>,
        positions: &[u32],
        entries: Entries<'_>,
        to: &mut Accumulator,
        scratch: &mut Scratch,
    ) -> Result<(), RunError> {
        match &self.aggregates[place].1 {
            Feed::Rows => to.add(entries, &Input::Rows(positions.len())),
            Feed::Gathered(anchor, values, bits) => {
                let all = sized(&mut scratch.values, batch.entries());
                batch.map(*anchor, all, |code| values[code as usize]);
                if batch.is_whole(positions) {
                    to.add(entries, &Input::Exact(all, *bits));
                } else {
                    let passed: Vec<i64> = positions.iter().map(|i| all[*i as usize]).collect();
                    to.add(entries, &Input::Exact(&passed, *bits));
                }
            }
            Feed::Codes { anchor: None, column, .. } => {
                let codes = batch.column(self.tables.column(*column), column.index, positions);
                to.add(entries, &Input::Codes(&codes));
            }
            Feed::Codes { anchor: Some(anchor), map, .. } => {
                let codes: Vec<u64> = batch.anchor(*anchor, positions).iter().map(|c| map[*c as usize]).collect();
                to.add(entries, &Input::Codes(&codes));
            }
            Feed::Values(rows) => {
                let vectors = match self.values_by_run(place, rows, batch, positions) {
                    Some(vectors) => vectors,
                    None => self.values(rows, batch, positions)?,
                };
                to.add(entries, &Input::Values(&vectors));
            }
        }
        Ok(())
    }

    fn values(&self, rows: &[CompiledRow], batch: &Batch<'_>, positions: &[u32]) -> Result<Vec<Vector>, RunError> {
        rows.iter().map(|row| row.eval(self.tables, batch, positions)).collect()
    }

    /// Where rows stand apart only because of their groups: values worked out once for each run of rows that are alike
    /// in what the values need. `None` where there are too many runs, or where that fails in a row, which need not pass.
    fn values_by_run(
        &self,
        place: usize,
        rows: &[CompiledRow],
        batch: &Batch<'_>,
        positions: &[u32],
    ) -> Option<Vec<Vector>> {
        let (columns, told) = &self.needs.feeds[place];
        if !told || self.runs == Runs::Never || batch.is_in_runs() {
            return None;
        }
        let runs = columns.iter().map(|c| self.runs_of(*c, batch.segment_number())).fold(0, usize::saturating_add);
        if runs.saturating_mul(ROWS_PER_RUN) > batch.segment_rows() {
            return None;
        }
        let alike = batch.again_in_runs(columns.iter().copied());
        let all: Vec<u32> = (0..alike.entries() as u32).collect();
        let values = self.values(rows, &alike, &all).ok()?;
        let of_row = alike.entry_of_rows();
        if batch.is_whole(positions) {
            return Some(values.iter().map(|v| v.gather(&of_row)).collect());
        }
        let entries: Vec<u32> = positions.iter().map(|i| of_row[*i as usize]).collect();
        Some(values.iter().map(|v| v.gather(&entries)).collect())
    }

    /// The entries that pass, or `None` for all, and the numbers of their groups; no numbers when there is one group.
    fn dense_groups(&self, batch: &Batch<'_>, all: &[u32], scratch: &mut Scratch) -> Result<Passed, RunError> {
        let mut numbers = std::mem::take(&mut scratch.numbers);
        let mut narrowed = !self.row_filters.is_empty();
        for (place, plan) in self.anchors.iter().enumerate() {
            narrowed |= !plan.pass.is_empty();
            let of_code = |code: u64| plan.dense[code as usize];
            if place == 0 {
                batch.map(plan.anchor, sized(&mut numbers, all.len()), of_code);
                continue;
            }
            let more = sized(&mut scratch.more, all.len());
            batch.map(plan.anchor, more, of_code);
            for (number, more) in numbers.iter_mut().zip(more) {
                *number = number.wrapping_add(*more) | (*number | *more) & DROPPED;
            }
        }
        if !narrowed {
            return Ok((None, self.numbers_of(numbers, scratch)));
        }
        let mut positions = if self.anchors.is_empty() { all.to_vec() } else { kept(&numbers[..all.len()]) };
        self.apply_row_filters(batch, &mut positions)?;
        let groups = (self.groups > 1).then(|| positions.iter().map(|i| numbers[*i as usize]).collect());
        scratch.numbers = numbers;
        Ok((Some(positions), groups))
    }

    fn numbers_of(&self, numbers: Vec<u32>, scratch: &mut Scratch) -> Option<Vec<u32>> {
        if self.groups > 1 {
            return Some(numbers);
        }
        scratch.numbers = numbers;
        None
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
        options: &Options,
        part: &mut Part,
    ) -> Result<Passed, RunError> {
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
        self.check_room(part.keys.len(), options)?;
        part.seen.resize(part.keys.len(), false);
        part.accumulators.iter_mut().for_each(|a| a.grow(part.keys.len()));
        Ok((Some(positions), Some(groups)))
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
        Ok(ReadResult {
            sizes,
            strides: self.strides,
            dependences: self.dependences,
            numbering,
            seen,
            columns: columns?,
            stats,
        })
    }
}
