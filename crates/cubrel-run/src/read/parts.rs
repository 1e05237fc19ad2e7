//! One part of the rows: gone through batch by batch, and the parts brought together.

use std::collections::BTreeSet;
use std::ops::Range;
use std::sync::{Arc, OnceLock};

use super::super::accumulate::{Accumulator, Entries, GroupNumbers, Groups, RunGroups, Spec, zeros};
use super::super::{Options, RunError, Runs};
use super::anchors::AnchorPlan;
use super::batch::{BATCH, Batch, RUN_BATCH};
use super::group_keys::GroupKeys;
use super::inputs::Feed;
use super::prepare::{Grouping, Prepared};
use super::result::{Numbering, PassGroups, ReadResult, ReadStats, Stays, seen_groups};
use super::shared::completed;
use super::stretches::{in_batches, rows_of};
use cubrel_formula::schema::ColumnId;
use cubrel_plan::{Read, ReadAggregate};
use cubrel_value::threads::map_owned;
use cubrel_value::{Vector, units};

/// Rows are taken together where there is at most one run for so many of them.
pub(super) const ROWS_PER_RUN: usize = 4;
/// The groups of rows are complete once for each run where there is at most one run for so many of them.
pub(super) const ROWS_PER_GROUP_RUN: usize = 2;

/// Aggregates that are fed in one way.
pub(super) struct Feeds {
    pub(super) places: Vec<usize>,
    /// The columns that this takes, where rows are taken together that are alike in them.
    pub(super) in_runs: Option<BTreeSet<u32>>,
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
    /// The number of each entry, of those that do not pass that of the group behind all others; and how many pass.
    Spared(Vec<u32>, usize),
}

impl Grouped {
    /// Those of some of the entries.
    pub(super) fn some(&self, places: &[u32]) -> Grouped {
        let of = |numbers: &[u32]| Grouped::Each(places.iter().map(|place| numbers[*place as usize]).collect());
        match self {
            Grouped::One => Grouped::One,
            Grouped::Each(numbers) | Grouped::Spared(numbers, _) => of(numbers),
            Grouped::InRuns(runs) => of(runs.of_rows()),
        }
    }

    fn as_groups(&self) -> Groups<'_> {
        match self {
            Grouped::One => Groups::One,
            Grouped::Each(numbers) | Grouped::Spared(numbers, _) => Groups::Many(numbers),
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
    /// Whether the rows of a batch belong to many groups, as far as was seen: what comes is not asked again.
    many_come: bool,
}

impl Scratch {
    /// The numbers of all entries; to be given back.
    pub(super) fn all(&mut self, entries: usize) -> Vec<u32> {
        let mut all = std::mem::take(&mut self.identity);
        all.truncate(entries);
        all.extend(all.len() as u32..entries as u32);
        all
    }

    /// The groups that come, of so many that there could be, where they are few.
    fn coming(&mut self, groups: Groups<'_>, most: usize) -> Option<Vec<u32>> {
        let coming = if self.many_come { None } else { groups.coming(most) };
        self.many_come |= matches!(groups, Groups::Many(_)) && coming.is_none();
        coming
    }

    fn take_back(&mut self, all: Vec<u32>, groups: Grouped) {
        self.identity = all;
        if let Grouped::Each(numbers) | Grouped::Spared(numbers, _) = groups {
            self.numbers = numbers;
        }
    }
}

/// A vector of so many values, whatever they are.
pub(super) fn sized<T: Copy + Default>(buffer: &mut Vec<T>, len: usize) -> &mut [T] {
    buffer.resize(len, T::default());
    buffer
}

/// Where a batch is added to.
pub(super) struct To<'a> {
    pub(super) accumulator: &'a mut Accumulator,
    /// Groups that still have to be marked as seen.
    pub(super) seen: Option<&'a mut [bool]>,
}

/// What one part of the rows gives.
pub(super) struct PartResult {
    pub(super) scratch: Scratch,
    pub(super) accumulators: Vec<Accumulator>,
    pub(super) numbers: GroupNumbers,
    pub(super) keys: Vec<u128>,
    /// What the read has seen, then what those have that are done in the same pass.
    pub(super) seen: Vec<Seen>,
}

/// Which groups of a read have rows, and what was gone through for them.
#[derive(Debug)]
pub(super) struct Seen {
    pub(super) groups: Vec<bool>,
    /// Those that have not been seen, where they are few.
    unseen: Option<Vec<u32>>,
    /// The aggregate that counts all rows of each group, by which it is known which have been seen.
    counted_by: Option<usize>,
    pub(super) stats: ReadStats,
}

/// Marks of so many groups do not stay in the nearest cache.
const MANY_GROUPS: usize = 1 << 15;

/// Looking for so many groups among those of a batch costs less than marking them all.
const FEW_UNSEEN: usize = 2;

impl Seen {
    fn nothing(groups: usize, counted_by: Option<usize>) -> Seen {
        Seen { groups: zeros(groups), unseen: None, counted_by, stats: ReadStats::default() }
    }

    /// Marks groups as seen; false where they are so many that this is better done while something is added to them. Groups that
    /// are numbered as they come are not all known.
    fn see(&mut self, entries: Entries<'_>, all_known: bool) -> bool {
        if self.counted_by.is_some() {
            return true;
        }
        let numbers = entries.coming.unwrap_or(entries.groups.of_runs_or_rows());
        if let Some(unseen) = &mut self.unseen {
            unseen.retain(|group| !numbers.contains(group));
            return true;
        }
        if self.groups.len() > MANY_GROUPS {
            return false;
        }
        numbers.iter().for_each(|group| self.groups[*group as usize] = true);
        if all_known && self.groups.len() <= numbers.len() {
            let unseen = || (0..self.groups.len() as u32).filter(|g| !self.groups[*g as usize]);
            self.unseen = (unseen().count() <= FEW_UNSEEN).then(|| unseen().collect());
        }
        true
    }

    /// Makes room for so many groups; those behind them are forgotten.
    fn resize(&mut self, groups: usize) {
        self.groups.resize(groups, false);
        if let Some(unseen) = &mut self.unseen {
            unseen.retain(|group| (*group as usize) < groups);
        }
    }

    /// Whether each group has been seen.
    fn take(&mut self, accumulators: &[Accumulator]) -> Vec<bool> {
        if let Some(counts) = self.counted_by.and_then(|place| accumulators[place].counts()) {
            self.groups.iter_mut().zip(counts).for_each(|(seen, count)| *seen = *count > 0);
        }
        if let Some(unseen) = &self.unseen {
            self.groups.fill(true);
            unseen.iter().for_each(|g| self.groups[*g as usize] = false);
        }
        std::mem::take(&mut self.groups)
    }
}

impl Prepared<'_> {
    pub(super) fn nothing_seen(&self) -> PartResult {
        PartResult {
            scratch: Scratch::default(),
            accumulators: self.aggregates.iter().map(|of| self.accumulator(of)).collect(),
            numbers: GroupNumbers::below(self.sizes.iter().fold(1, |all, size| all.saturating_mul(u128::from(*size)))),
            keys: Vec::new(),
            seen: self.aggregates_of_reads().map(|of| Seen::nothing(self.groups, self.counting_place(of))).collect(),
        }
    }

    /// The places of the aggregates of the read, then of each of those that are done in the same pass.
    fn aggregates_of_reads(&self) -> impl Iterator<Item = Range<usize>> + '_ {
        std::iter::once(0..self.own).chain(self.narrowed.iter().map(|narrowed| narrowed.aggregates.clone()))
    }

    /// The aggregate that counts rows, of some.
    fn counting_place(&self, mut aggregates: Range<usize>) -> Option<usize> {
        aggregates.find(|place| matches!(self.aggregates[*place].1, Feed::Rows))
    }

    fn accumulator(&self, (spec, feed): &(Spec, Feed)) -> Accumulator {
        match feed {
            Feed::As(_) => Accumulator::nothing(),
            _ => Accumulator::new(spec, self.groups),
        }
    }

    /// Goes through some rows, but for those of segments that are known.
    pub(super) fn part(
        &self,
        (start, end): (usize, usize),
        known: &[bool],
        options: &Options,
    ) -> Result<PartResult, RunError> {
        let mut part = self.nothing_seen();
        let spares = self.spares();
        if spares {
            part.resize(self.groups + 1);
        }
        let mut at = start;
        while at < end {
            let (segment, rows) = self.segment_at(at, end);
            if known.get(segment) == Some(&true) {
                at = rows.end.min(end);
                continue;
            }
            let narrowed: Vec<usize> =
                (0..self.narrowed.len()).filter(|n| !self.skips_for(&self.narrowed[*n].anchors, segment)).collect();
            let stats = &mut part.seen[0].stats;
            if self.skips(segment) || !self.wanted && narrowed.is_empty() {
                // A segment is counted where it begins, so that parts do not count it twice.
                stats.segments_skipped += u64::from(at == rows.start);
                at = rows.end.min(end);
                continue;
            }
            let to = end.min(rows.end);
            let stretches = self.stretches(segment, at..to);
            stats.rows_read += rows_of(&stretches);
            // A segment's bytes count where it begins, so that they are the same however rows are parted.
            if at == rows.start {
                let bytes: u64 = self.needs.all().into_iter().map(|c| self.packed_bytes(c, segment)).sum();
                let open = rows_of(&self.stretches(segment, rows.clone()));
                stats.bytes_read += (u128::from(bytes) * u128::from(open) / rows.len().max(1) as u128) as u64;
            }
            let (alike, apart) = self.ways(segment);
            for (feeds, most) in [(alike, RUN_BATCH), (apart, BATCH)] {
                let Some(feeds) = feeds else { continue };
                for rows in in_batches(&stretches, most) {
                    options.check()?;
                    self.batch(rows, &feeds, &narrowed, options, &mut part)?;
                }
            }
            at = to;
        }
        if spares {
            part.resize(self.groups);
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
        let is_fed = |place: &usize| !matches!(self.aggregates[*place].1, Feed::As(_));
        let all = || Feeds { places: (0..self.aggregates.len()).filter(is_fed).collect(), in_runs: None, first: true };
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
        let (mut alike, mut alike_in) = (Vec::new(), BTreeSet::new());
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
        if !take(&self.needs.base, &mut alike_in) {
            return (None, Some(all()));
        }
        let mut apart = Vec::new();
        for (place, (columns, complete)) in self.needs.feeds.iter().enumerate().filter(|(place, _)| is_fed(place)) {
            let taken = *complete && take(columns, &mut alike_in);
            if taken { alike.push(place) } else { apart.push(place) }
        }
        let in_runs = |places, columns| Some(Feeds { places, in_runs: Some(columns), first: true });
        if apart.is_empty() {
            return (in_runs(alike, alike_in), None);
        }
        if alike.is_empty() {
            return (None, Some(all()));
        }
        (in_runs(alike, alike_in), Some(Feeds { places: apart, in_runs: None, first: false }))
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
        self.skips_for(&self.anchors, segment)
    }

    fn skips_for(&self, anchors: &[AnchorPlan], segment: usize) -> bool {
        anchors.iter().any(|plan| plan.skips(self.tables, self.table, segment))
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

    /// Feeds some aggregates with rows of a segment, those of some of the reads that are done in the same pass as well.
    fn batch(
        &self,
        rows: Range<usize>,
        feeds: &Feeds,
        narrowed: &[usize],
        options: &Options,
        part: &mut PartResult,
    ) -> Result<(), RunError> {
        let mut batch = Batch::new(self.tables, self.table, rows.start, rows.len());
        if let Some(columns) = &feeds.in_runs {
            batch = batch.in_runs(columns.iter().copied());
        }
        let all = part.scratch.all(batch.entries());
        let passed = match self.grouping {
            Grouping::Dense if self.groups_stand_in_runs(&batch) => self.groups_by_run(&batch, &mut part.scratch),
            Grouping::Dense => self.dense_groups(&batch, &all, &mut part.scratch),
            Grouping::Thin => self.thin_groups(&batch, &all, options, part),
            Grouping::Hashed => self.hashed_groups(&batch, &all, options, part),
            Grouping::Numbered => Ok(self.numbered_groups(rows)),
        };
        let (positions, groups) = passed?;
        let positions = positions.as_deref().unwrap_or(&all);
        self.feed_rows(&batch, positions, &groups, (0, 0..self.own), feeds, part)?;
        for place in narrowed {
            let narrowed = &self.narrowed[*place];
            let (positions, groups) = self.narrowed_groups(narrowed, &batch, positions, &groups)?;
            self.feed_rows(&batch, &positions, &groups, (place + 1, narrowed.aggregates.clone()), feeds, part)?;
        }
        part.scratch.take_back(all, groups);
        Ok(())
    }

    /// Feeds the aggregates of one read with the rows that pass.
    fn feed_rows(
        &self,
        batch: &Batch<'_>,
        positions: &[u32],
        groups: &Grouped,
        (read, aggregates): (usize, Range<usize>),
        feeds: &Feeds,
        part: &mut PartResult,
    ) -> Result<(), RunError> {
        if positions.is_empty() {
            return Ok(());
        }
        let passing = match groups {
            Grouped::Spared(_, passing) => *passing,
            _ => positions.len(),
        };
        let groups = groups.as_groups();
        let weights = batch.weights(positions);
        let seen = &mut part.seen[read];
        let coming = part.scratch.coming(groups, seen.groups.len());
        let entries = Entries { groups, weights: weights.as_deref(), coming: coming.as_deref() };
        // Rows are gone through twice where aggregates are fed in both ways.
        if feeds.first {
            let rows = weights.as_ref().map_or(passing as u64, |w| w.iter().map(|w| u64::from(*w)).sum());
            seen.stats.rows_passed += rows;
        }
        let mut to_mark = (!seen.see(entries, part.keys.is_empty())).then_some(seen.groups.as_mut_slice());
        for place in feeds.places.iter().filter(|place| aggregates.contains(place)) {
            let to = To { accumulator: &mut part.accumulators[*place], seen: to_mark.take() };
            self.feed(*place, batch, positions, entries, to, &mut part.scratch)?;
        }
        if let Some(seen) = to_mark {
            groups.mark(seen);
        }
        Ok(())
    }

    /// What a read gives that was done by itself, for the groups that stay.
    pub(super) fn result(
        self,
        parts: Vec<PartResult>,
        read: &Read,
        stays: Option<&Stays<'_>>,
    ) -> Result<ReadResult, RunError> {
        let (mut whole, numbering) = self.merged(parts);
        let mut result = self.of_read(read, whole.seen.swap_remove(0), (0, whole.accumulators))?;
        if let Some(stays) = stays {
            result.keep(stays);
        }
        let of_pass = self.pass_groups(read, numbering, || result.seen.clone());
        Ok(result.numbered_by(Arc::new(of_pass)))
    }

    /// What several reads give that were done in this pass: the one that was prepared, then the others.
    pub(super) fn results(self, parts: Vec<PartResult>, reads: &[&Read]) -> Result<Vec<ReadResult>, RunError> {
        let Some(base) = reads.first() else { return Ok(Vec::new()) };
        let (whole, numbering) = self.merged(parts);
        let (mut first, mut accumulators) = (0, whole.accumulators.into_iter());
        let of = |(seen, read): (Seen, &&Read)| {
            let own = accumulators.by_ref().take(read.aggregates.len()).collect();
            let result = self.of_read(read, seen, (first, own));
            first += read.aggregates.len();
            result
        };
        let results: Vec<Groupless> = whole.seen.into_iter().zip(reads).map(of).collect::<Result<_, _>>()?;
        let asked = results.iter().skip(usize::from(!self.wanted));
        let of_pass = Arc::new(self.pass_groups(base, numbering, || in_some(asked.map(|result| &result.seen))));
        Ok(results.into_iter().map(|result| result.numbered_by(of_pass.clone())).collect())
    }

    fn of_read(
        &self,
        read: &Read,
        seen: Seen,
        (first, accumulators): (usize, Vec<Accumulator>),
    ) -> Result<Groupless, RunError> {
        let Seen { groups: mut seen, mut stats, .. } = seen;
        stats.rows = self.tables.rows(self.table) as u64;
        stats.groups = seen.iter().filter(|s| **s).count() as u64;
        // One more, for cells that have no group.
        seen.push(false);
        let finished = |(accumulator, spec): (Accumulator, &ReadAggregate)| {
            let in_argument = |message| RunError::in_argument(message, spec.args.first().map(|a| &a.scalar));
            accumulator.finish(&seen).map_err(in_argument)
        };
        let accumulators = completed(&self.aggregates[first..first + read.aggregates.len()], accumulators);
        let columns = map_owned(accumulators.into_iter().zip(&read.aggregates).collect(), finished);
        let columns = columns.into_iter().collect::<Result<Vec<Vector>, _>>()?;
        Ok(Groupless { left: stats.groups as usize, seen, columns, stats })
    }

    fn pass_groups(&self, read: &Read, numbering: Numbering, seen: impl FnOnce() -> Vec<bool>) -> PassGroups {
        let counting = (self.counting.as_slice(), self.sizes.clone(), self.strides.clone());
        PassGroups::of_read(self.tables, read, counting, numbering, seen)
    }

    /// The parts brought together. Groups by place have the same number in every part; others were numbered in each as they came, and get
    /// the place of their key among those of all parts.
    fn merged(&self, parts: Vec<PartResult>) -> (PartResult, Numbering) {
        match self.grouping {
            Grouping::Dense | Grouping::Numbered => {
                (self.by_place(parts), self.ranked.clone().map_or(Numbering::Dense, Numbering::Ranked))
            }
            _ => self.by_key(parts),
        }
    }

    fn by_place(&self, parts: Vec<PartResult>) -> PartResult {
        let mut parts = parts.into_iter();
        let mut whole = parts.next().unwrap_or_else(|| self.nothing_seen());
        whole.take_seen();
        parts.for_each(|part| merge(part, None, &mut whole));
        whole
    }

    fn by_key(&self, parts: Vec<PartResult>) -> (PartResult, Numbering) {
        let (keys, numbers) = GroupKeys::of_parts(&parts.iter().map(|part| part.keys.as_slice()).collect::<Vec<_>>());
        let mut whole = self.nothing_seen();
        whole.resize(keys.len());
        parts.into_iter().zip(numbers).for_each(|(part, numbers)| merge(part, Some(&numbers), &mut whole));
        (whole, Numbering::Ranked(Arc::new(keys)))
    }
}

/// Whether a group has rows in one of several reads.
fn in_some<'s>(mut reads: impl Iterator<Item = &'s Vec<bool>>) -> Vec<bool> {
    let first = reads.next().cloned().unwrap_or_default();
    reads.fold(first, |mut some, more| {
        some.iter_mut().zip(more).for_each(|(some, more)| *some |= more);
        some
    })
}

/// A read's result but for how its groups are numbered.
struct Groupless {
    left: usize,
    seen: Vec<bool>,
    columns: Vec<Vector>,
    stats: ReadStats,
}

impl Groupless {
    /// Keeps the groups that stay.
    fn keep(&mut self, stays: &Stays<'_>) {
        if let Some(stay) = stays(&self.columns, &seen_groups(&self.seen)) {
            self.seen.fill(false);
            stay.iter().for_each(|group| self.seen[*group as usize] = true);
            self.left = stay.len();
        }
    }

    fn numbered_by(self, of_pass: Arc<PassGroups>) -> ReadResult {
        let Groupless { left, seen, columns, stats } = self;
        ReadResult { of_pass, present: OnceLock::new(), left, seen, columns, stats }
    }
}

impl PartResult {
    /// Which groups have been seen, whatever tells it.
    fn take_seen(&mut self) {
        for seen in &mut self.seen {
            seen.groups = seen.take(&self.accumulators);
        }
    }

    /// Makes room for so many groups; those behind them are forgotten.
    pub(super) fn resize(&mut self, groups: usize) {
        self.seen.iter_mut().for_each(|seen| seen.resize(groups));
        self.accumulators.iter_mut().for_each(|a| a.resize(groups));
    }
}

/// Takes over what another part has; `to` tells which numbers its groups have here, where that is not the same.
fn merge(part: PartResult, to: Option<&[u32]>, whole: &mut PartResult) {
    for (seen, mut more) in whole.seen.iter_mut().zip(part.seen) {
        seen.stats.add(more.stats);
        let groups = more.take(&part.accumulators);
        match to {
            None => seen.groups.iter_mut().zip(&groups).for_each(|(seen, more)| *seen |= more),
            Some(to) => to.iter().zip(&groups).for_each(|(group, more)| seen.groups[*group as usize] |= more),
        }
    }
    for (accumulator, other) in whole.accumulators.iter_mut().zip(part.accumulators) {
        accumulator.merge(other, to);
    }
}
