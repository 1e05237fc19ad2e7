//! One part of the rows: gone through batch by batch, and the parts brought together.

use std::collections::BTreeSet;
use std::sync::OnceLock;

use super::super::accumulate::{Accumulator, Entries, GroupNumbers, Groups, RunGroups, zeros};
use super::super::{Options, RunError, Runs};
use super::batch::{BATCH, Batch, RUN_BATCH};
use super::dependent::Counting;
use super::keys::{DROPPED, key_sizes};
use super::prepare::{Grouping, Prepared};
use super::result::{Numbering, ReadResult, ReadStats};
use crate::formula::schema::ColumnId;
use crate::plan::Read;
use crate::value::{Vector, units};

/// Rows are taken together where there is at most one run for so many of them.
pub(super) const ROWS_PER_RUN: usize = 4;
/// The groups of rows are complete once for each run where there is at most one run for so many of them.
pub(super) const ROWS_PER_GROUP_RUN: usize = 8;

/// Aggregates that are fed in one way, and the columns that this takes.
pub(super) struct Feeds {
    pub(super) places: Vec<usize>,
    pub(super) columns: BTreeSet<u32>,
    /// Whether they are the first to go through the rows.
    pub(super) first: bool,
}

/// The entries of a batch that pass, `None` for all, and their groups.
pub(super) type Passed = (Option<Vec<u32>>, Grouped);

/// The groups of the entries that pass.
pub(super) enum Grouped {
    /// There is one group.
    One,
    /// The number of each entry.
    Each(Vec<u32>),
    /// The same number for several entries.
    InRuns(RunGroups),
}

impl Grouped {
    fn as_groups(&self) -> Groups<'_> {
        match self {
            Grouped::One => Groups::One,
            Grouped::Each(numbers) => Groups::Many(numbers),
            Grouped::InRuns(runs) => Groups::InRuns(runs),
        }
    }
}

/// Memory that one batch leaves to the next.
#[derive(Default)]
pub(super) struct Scratch {
    pub(super) identity: Vec<u32>,
    pub(super) numbers: Vec<u32>,
    pub(super) more: Vec<u32>,
    pub(super) values: Vec<i64>,
    pub(super) factors: Vec<i64>,
    pub(super) floats: Vec<f64>,
}

impl Scratch {
    /// The numbers of all entries; to be given back.
    pub(super) fn all(&mut self, entries: usize) -> Vec<u32> {
        let mut all = std::mem::take(&mut self.identity);
        all.truncate(entries);
        all.extend(all.len() as u32..entries as u32);
        all
    }

    fn take_back(&mut self, all: Vec<u32>, groups: Grouped) {
        self.identity = all;
        if let Grouped::Each(numbers) = groups {
            self.numbers = numbers;
        }
    }
}

/// A vector of so many values, whatever they are.
pub(super) fn sized<T: Copy + Default>(buffer: &mut Vec<T>, len: usize) -> &mut [T] {
    buffer.resize(len, T::default());
    buffer
}

/// Numbers that are looked at together.
const CHUNK: usize = 32;

/// The places of the numbers that are not dropped.
pub(super) fn kept(numbers: &[u32]) -> Vec<u32> {
    let mut places = vec![0u32; numbers.len()];
    let mut count = 0;
    for (i, chunk) in numbers.chunks(CHUNK).enumerate() {
        // Where all are dropped, that is told at once.
        if chunk.iter().fold(DROPPED, |all, number| all & number) != 0 {
            continue;
        }
        for (place, number) in chunk.iter().enumerate() {
            places[count] = (i * CHUNK + place) as u32;
            count += usize::from(number & DROPPED == 0);
        }
    }
    places.truncate(count);
    places
}

/// Where a batch is added to.
pub(super) struct To<'a> {
    pub(super) accumulator: &'a mut Accumulator,
    /// Groups that still have to be marked as seen.
    pub(super) seen: Option<&'a mut [bool]>,
}

/// What one part of the rows gives.
pub(super) struct Part {
    pub(super) scratch: Scratch,
    pub(super) accumulators: Vec<Accumulator>,
    pub(super) seen: Vec<bool>,
    /// The groups that have not been seen, where they are few.
    pub(super) unseen: Option<Vec<u32>>,
    pub(super) numbers: GroupNumbers,
    pub(super) keys: Vec<u128>,
    pub(super) stats: ReadStats,
}

/// Marks of so many groups do not stay in the nearest cache.
const MANY_GROUPS: usize = 1 << 15;

/// Looking for so many groups among those of a batch costs less than marking them all.
const FEW_UNSEEN: usize = 2;

impl Part {
    /// Marks groups as seen; false where they are so many that this is better done while something is added to them.
    fn see(&mut self, groups: Groups<'_>) -> bool {
        let numbers = groups.of_runs_or_rows();
        if let Some(unseen) = &mut self.unseen {
            unseen.retain(|group| !numbers.contains(group));
            return true;
        }
        if self.seen.len() > MANY_GROUPS {
            return false;
        }
        groups.mark(&mut self.seen);
        // Of groups that are numbered as they come there can always be more.
        if self.keys.is_empty() && self.seen.len() <= numbers.len() {
            let unseen = || (0..self.seen.len() as u32).filter(|g| !self.seen[*g as usize]);
            self.unseen = (unseen().count() <= FEW_UNSEEN).then(|| unseen().collect());
        }
        true
    }

    /// Whether each group has been seen.
    fn take_seen(&mut self) -> Vec<bool> {
        if let Some(unseen) = &self.unseen {
            self.seen.fill(true);
            unseen.iter().for_each(|g| self.seen[*g as usize] = false);
        }
        std::mem::take(&mut self.seen)
    }
}

impl Prepared<'_> {
    fn nothing_seen(&self) -> Part {
        Part {
            scratch: Scratch::default(),
            accumulators: self.aggregates.iter().map(|(spec, _)| Accumulator::new(spec, self.groups)).collect(),
            seen: zeros(self.groups),
            unseen: None,
            numbers: GroupNumbers::default(),
            keys: Vec::new(),
            stats: ReadStats::default(),
        }
    }

    pub(super) fn part(&self, start: usize, end: usize, options: &Options) -> Result<Part, RunError> {
        let mut part = self.nothing_seen();
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
            // A segment's bytes count where it begins, so that they are the same however rows are parted.
            if at == rows.start {
                part.stats.bytes_read +=
                    self.needs.all().into_iter().map(|c| self.packed_bytes(c, segment)).sum::<u64>();
            }
            at = to;
        }
        Ok(part)
    }

    fn packed_bytes(&self, column: u32, segment: usize) -> u64 {
        let column = self.tables.column(ColumnId { table: self.table, index: column });
        column.segments().get(segment).map_or(0, |s| s.codes.heap_bytes() as u64)
    }

    /// Whether so many groups are allowed.
    pub(super) fn check_room(&self, groups: usize, options: &Options) -> Result<(), RunError> {
        let per_group: u64 = self.aggregates.iter().map(|(spec, _)| spec.bytes_per_group()).sum();
        options.check_bytes(groups as u64 * (per_group + 1), || {
            let name = &self.tables.schema.table(self.table).name;
            format!("the {} groups that {name} is read by", units::count(groups as u64))
        })
    }

    /// Which aggregates of a segment are fed with runs of rows, and which row by row.
    pub(super) fn ways(&self, segment: usize) -> (Option<Feeds>, Option<Feeds>) {
        let all = || Feeds { places: (0..self.aggregates.len()).collect(), columns: BTreeSet::new(), first: true };
        let has_segments = self.tables.segment_bounds(self.table).is_some();
        if self.runs == Runs::Never || !self.needs.base_complete || !has_segments {
            return (None, Some(all()));
        }
        let most = match self.runs {
            Runs::Always => usize::MAX,
            _ => self.tables.segment_bounds(self.table).map_or(0, |cuts| cuts.range(segment).len()) / ROWS_PER_RUN,
        };
        // Feeding a run costs about what feeding a row does. Each column that is added cuts the runs of the others, so that
        // an aggregate whose columns cut them too often goes row by row, and leaves the others their long runs.
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
        for (place, (columns, complete)) in self.needs.feeds.iter().enumerate() {
            let taken = *complete && take(columns, &mut alike.columns);
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
    pub(super) fn runs_of(&self, column: u32, segment: usize) -> usize {
        let column = self.tables.column(ColumnId { table: self.table, index: column });
        let runs = column.segments().get(segment).and_then(|s| s.runs());
        match self.runs {
            Runs::Always => 0,
            _ => runs.unwrap_or(usize::MAX),
        }
    }

    /// The segment of a row, and its rows; a table without columns is one segment.
    pub(super) fn segment_at(&self, row: usize, rows: usize) -> (usize, std::ops::Range<usize>) {
        self.tables.segment_bounds(self.table).map_or((0, 0..rows), |cuts| {
            let segment = cuts.find(row).0;
            (segment, cuts.range(segment))
        })
    }

    /// Whether no code of a segment passes.
    pub(super) fn skips(&self, segment: usize) -> bool {
        self.anchors.iter().any(|plan| plan.skips(self.tables, self.table, segment))
    }

    /// Whether the rows of a batch are complete apart by few runs, where it has a row for each entry.
    fn groups_stand_in_runs(&self, batch: &Batch<'_>) -> bool {
        let needs = &self.needs;
        if batch.is_in_runs() || !needs.base_complete || needs.base.is_empty() || self.runs == Runs::Never {
            return false;
        }
        let runs = needs.base.iter().map(|c| self.runs_of(*c, batch.segment_number())).fold(0, usize::saturating_add);
        runs.saturating_mul(ROWS_PER_GROUP_RUN) <= batch.segment_rows()
    }

    /// How many rows pass, after feeding some aggregates with the rows from `start` on; those taken together that are alike in the columns `in_runs`.
    pub(super) fn batch(
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
        let passed = match self.grouping {
            Grouping::Dense if self.groups_stand_in_runs(&batch) => self.groups_by_run(&batch, &mut part.scratch),
            Grouping::Dense => self.dense_groups(&batch, &all, &mut part.scratch),
            Grouping::Thin => self.thin_groups(&batch, &all, options, part),
            Grouping::Hashed => self.hashed_groups(&batch, &all, options, part),
        };
        let (positions, groups) = passed?;
        let positions = positions.as_deref().unwrap_or(&all);
        let mut rows = 0;
        if !positions.is_empty() {
            let groups = groups.as_groups();
            let weights = batch.weights(positions);
            let entries = Entries { groups, weights: weights.as_deref() };
            rows = weights.as_ref().map_or(positions.len() as u64, |w| w.iter().map(|w| u64::from(*w)).sum());
            let mut to_mark = (!part.see(groups)).then_some(part.seen.as_mut_slice());
            for place in feeds {
                let to = To { accumulator: &mut part.accumulators[*place], seen: to_mark.take() };
                self.feed(*place, &batch, positions, entries, to, &mut part.scratch)?;
            }
            if let Some(seen) = to_mark {
                groups.mark(seen);
            }
        }
        part.scratch.take_back(all, groups);
        Ok(rows)
    }

    pub(super) fn finish(self, parts: Vec<Part>, read: &Read, rows: usize) -> Result<ReadResult, RunError> {
        let mut stats = ReadStats { rows: rows as u64, ..ReadStats::default() };
        let mut parts = parts.into_iter();
        let mut first = parts.next().unwrap_or_else(|| self.nothing_seen());
        stats.add(first.stats);
        let mut seen = first.take_seen();
        let Part { mut accumulators, mut numbers, mut keys, .. } = first;
        for mut part in parts {
            let part_seen = part.take_seen();
            stats.add(part.stats);
            // Dense groups have the same number in every part. Hashed ones were numbered as they came: each gets the number
            // that its key has here, a new one if it is new.
            let to = (self.grouping != Grouping::Dense).then(|| {
                let number = |key: &u128| {
                    *numbers.entry(*key).or_insert_with(|| {
                        keys.push(*key);
                        keys.len() as u32 - 1
                    })
                };
                part.keys.iter().map(number).collect::<Vec<u32>>()
            });
            match &to {
                None => seen.iter_mut().zip(&part_seen).for_each(|(seen, more)| *seen |= more),
                Some(to) => {
                    seen.resize(keys.len(), false);
                    accumulators.iter_mut().for_each(|a| a.grow(keys.len()));
                    to.iter().zip(&part_seen).for_each(|(group, more)| seen[*group as usize] |= more);
                }
            }
            for (accumulator, other) in accumulators.iter_mut().zip(part.accumulators) {
                accumulator.merge(other, to.as_deref());
            }
        }
        stats.groups = seen.iter().filter(|s| **s).count() as u64;
        // One more, for cells that have no group.
        seen.push(false);
        let columns: Result<Vec<Vector>, RunError> = accumulators
            .into_iter()
            .zip(&read.aggregates)
            .map(|(a, spec)| {
                a.finish(&seen).map_err(|message| RunError::in_argument(message, spec.args.first().map(|a| &a.scalar)))
            })
            .collect();
        let numbering = match self.grouping {
            Grouping::Dense => Numbering::Dense,
            Grouping::Thin | Grouping::Hashed => Numbering::Hashed(numbers, keys),
        };
        let result = ReadResult {
            sizes: key_sizes(self.tables, read),
            counted: self.sizes,
            strides: self.strides,
            follows: self.counting.iter().map(Counting::follows).collect(),
            by_row: self.counting.iter().any(|c| matches!(c, Counting::ByRow)),
            numbering,
            present: OnceLock::new(),
            seen,
            columns: columns?,
            stats,
        };
        Ok(result.with_codes(self.tables, read, &self.counting))
    }
}
