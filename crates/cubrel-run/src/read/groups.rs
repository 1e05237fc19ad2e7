//! Which entries of a batch pass, and the numbers of their groups: places in an array, or by hash.

use super::super::accumulate::RunGroups;
use super::super::compiled::CompiledRow;
use super::super::{Options, RunError};
use super::anchors::AnchorPlan;
use super::batch::{Batch, FEW};
use super::compared::compared;
use super::kept::{keep, kept, kept_beside, true_at};
use super::keys::DROPPED;
use super::parts::{Grouped, PartResult, Passed, Scratch, sized};
use super::prepare::{Grouping, Narrowed, Prepared};
use super::spared::dropped;

/// Whether so few numbers are not dropped that what comes after is looked at for these alone.
fn are_few(numbers: &[u32]) -> bool {
    (numbers.len() - dropped(numbers)) * FEW < numbers.len()
}

/// What the first anchor adds to the numbers of all entries; or the entries that pass and what it adds to theirs, where it is told before which
/// do, and these are few.
fn first_numbers(plan: &AnchorPlan, batch: &Batch<'_>, numbers: &mut [u32]) -> Option<(Vec<u32>, Vec<u32>)> {
    if !plan.sieves() || batch.is_in_runs() {
        plan.numbers(batch, numbers);
        return None;
    }
    plan.sieved(batch, numbers);
    if are_few(numbers) {
        let (positions, mut of_few) = kept(numbers);
        plan.look_up(of_few.iter_mut());
        return Some((positions, of_few));
    }
    plan.look_up(numbers.iter_mut().filter(|number| **number & DROPPED == 0));
    None
}

impl Prepared<'_> {
    /// The entries that pass, or `None` for all, and the numbers of their groups; no numbers when there is one group.
    pub(super) fn dense_groups(
        &self,
        batch: &Batch<'_>,
        all: &[u32],
        scratch: &mut Scratch,
    ) -> Result<Passed, RunError> {
        let mut numbers = std::mem::take(&mut scratch.numbers);
        let mut narrowed = !self.row_filters.is_empty();
        for (place, plan) in self.anchors.iter().enumerate() {
            let may_be_few = place > 0 && self.anchors[place - 1].filters() && !batch.is_in_runs();
            if may_be_few && are_few(&numbers) {
                let few = self.few_groups(batch, place, kept(&numbers));
                scratch.numbers = numbers;
                return few;
            }
            narrowed |= plan.filters();
            if place == 0 {
                if let Some(few) = first_numbers(plan, batch, sized(&mut numbers, all.len())) {
                    scratch.numbers = numbers;
                    return self.few_groups(batch, 1, few);
                }
                continue;
            }
            let more = sized(&mut scratch.more, all.len());
            plan.numbers(batch, more);
            for (number, more) in numbers.iter_mut().zip(more) {
                *number = number.wrapping_add(*more) | (*number | *more) & DROPPED;
            }
        }
        // Where rows could be dropped, often none is.
        if narrowed && self.row_filters.is_empty() {
            let dropped = dropped(&numbers[..all.len()]);
            narrowed = dropped != 0;
            if narrowed && self.spares_in(batch, all.len() - dropped) {
                return Ok((None, self.with_spared(numbers, dropped)));
            }
        }
        if !narrowed {
            return Ok((None, self.numbers_of(numbers, scratch)));
        }
        let (mut positions, mut stay) = match self.anchors.is_empty() {
            true => (self.first_row_filter(batch, all)?, Vec::new()),
            false => kept(&numbers[..all.len()]),
        };
        let is_one_group = self.is_one_group();
        if !self.row_filters.is_empty() {
            self.apply_row_filters(batch, &mut positions, usize::from(self.anchors.is_empty()))?;
            if self.spares_others_in(batch, positions.len()) {
                let groups = self.with_others_spared(&numbers, all.len(), &positions);
                scratch.numbers = numbers;
                return Ok((None, groups));
            }
            stay = if is_one_group { Vec::new() } else { positions.iter().map(|i| numbers[*i as usize]).collect() };
        }
        let groups = if is_one_group { Grouped::One } else { Grouped::Each(stay) };
        scratch.numbers = numbers;
        Ok((Some(positions), groups))
    }

    /// The same when few entries have passed the first anchors, with what these add: what comes after is looked at for these alone.
    fn few_groups(
        &self,
        batch: &Batch<'_>,
        from: usize,
        (mut positions, mut numbers): (Vec<u32>, Vec<u32>),
    ) -> Result<Passed, RunError> {
        for plan in &self.anchors[from..] {
            if positions.is_empty() {
                break;
            }
            let more = plan.few_numbers(batch, &positions);
            numbers.iter_mut().zip(more).for_each(|(number, more)| {
                *number = number.wrapping_add(more & !DROPPED) | (*number | more) & DROPPED;
            });
            if plan.filters() {
                (positions, numbers) = kept_beside(&numbers, &positions);
            }
        }
        if self.row_filters.is_empty() {
            let groups = if self.is_one_group() { Grouped::One } else { Grouped::Each(numbers) };
            return Ok((Some(positions), groups));
        }
        let before = positions.clone();
        self.apply_row_filters(batch, &mut positions, 0)?;
        let groups = match self.is_one_group() {
            false => {
                let mut of_before = before.iter().zip(&numbers);
                let number = |position: &u32| of_before.find(|(p, _)| *p == position).map_or(0, |(_, number)| *number);
                Grouped::Each(positions.iter().map(number).collect())
            }
            true => Grouped::One,
        };
        Ok((Some(positions), groups))
    }

    pub(super) fn is_one_group(&self) -> bool {
        self.grouping == Grouping::Dense && self.groups <= 1
    }

    fn numbers_of(&self, numbers: Vec<u32>, scratch: &mut Scratch) -> Grouped {
        if self.is_one_group() {
            scratch.numbers = numbers;
            return Grouped::One;
        }
        Grouped::Each(numbers)
    }

    /// As [`Prepared::dense_groups`], told once for each run of rows that are alike in all that it takes.
    pub(super) fn groups_by_run(&self, batch: &Batch<'_>, scratch: &mut Scratch) -> Result<Passed, RunError> {
        let runs = batch.again_in_runs(self.needs.base.iter().copied());
        let all: Vec<u32> = (0..runs.entries() as u32).collect();
        let (passing, groups) = self.dense_groups(&runs, &all, scratch)?;
        let (positions, ends) = match &passing {
            None => (None, runs.ends().to_vec()),
            Some(passing) => {
                let (positions, ends) = runs.rows_of(passing);
                (Some(positions), ends)
            }
        };
        let groups = match groups {
            Grouped::Each(numbers) => Grouped::InRuns(RunGroups::new(ends, numbers)),
            other => other,
        };
        Ok((positions, groups))
    }

    /// Those of all entries that the first of the filters on rows lets through.
    fn first_row_filter(&self, batch: &Batch<'_>, all: &[u32]) -> Result<Vec<u32>, RunError> {
        match self.row_filters.first() {
            Some(filter) => Ok(true_at(&self.truths(filter, batch, all)?)),
            None => Ok(all.to_vec()),
        }
    }

    /// Leaves those positions that the filters on rows let through, from one of them on.
    fn apply_row_filters(&self, batch: &Batch<'_>, positions: &mut Vec<u32>, from: usize) -> Result<(), RunError> {
        for filter in self.row_filters.iter().skip(from) {
            if positions.is_empty() {
                break;
            }
            let truths = self.truths(filter, batch, positions)?;
            keep(positions, truths.into_iter());
        }
        Ok(())
    }

    /// Whether a filter lets some entries of a batch through.
    fn truths(&self, filter: &CompiledRow, batch: &Batch<'_>, positions: &[u32]) -> Result<Vec<bool>, RunError> {
        if let Some(truths) = filter.fused_truths(batch, positions) {
            return Ok(truths);
        }
        match filter.as_float_comparison() {
            Some(comparison) => Ok(compared(&comparison, batch, positions)),
            None => Ok(filter.eval(self.tables, batch, positions)?.truths()),
        }
    }

    pub(super) fn hashed_groups(
        &self,
        batch: &Batch<'_>,
        all: &[u32],
        options: &Options,
        part: &mut PartResult,
    ) -> Result<Passed, RunError> {
        let (mut positions, mut keys) = self.passing(batch, all)?;
        for bridge in &self.bridges {
            bridge.spread(self.tables, batch, &mut positions, &mut keys);
        }
        let groups = self.numbered(keys.into_iter(), options, part)?;
        Ok((Some(positions), Grouped::Each(groups)))
    }

    /// As [`Prepared::dense_groups`], with numbers for those groups alone that come.
    pub(super) fn thin_groups(
        &self,
        batch: &Batch<'_>,
        all: &[u32],
        options: &Options,
        part: &mut PartResult,
    ) -> Result<Passed, RunError> {
        let (positions, groups) = self.dense_groups(batch, all, &mut part.scratch)?;
        let Grouped::Each(places) = groups else { return Ok((positions, groups)) };
        let groups = self.numbered(places.iter().map(|place| u128::from(*place)), options, part)?;
        Ok((positions, Grouped::Each(groups)))
    }

    /// A number for each key: the same as before, or the next.
    fn numbered(
        &self,
        keys: impl Iterator<Item = u128>,
        options: &Options,
        part: &mut PartResult,
    ) -> Result<Vec<u32>, RunError> {
        let groups = part.numbers.of(keys, &mut part.keys);
        self.check_room(part.keys.len(), options)?;
        part.resize(part.keys.len());
        Ok(groups)
    }

    /// The entries that one of the other reads of the pass lets through, of those that pass what all have in common, and their groups.
    pub(super) fn narrowed_groups(
        &self,
        narrowed: &Narrowed,
        batch: &Batch<'_>,
        positions: &[u32],
        groups: &Grouped,
    ) -> Result<(Vec<u32>, Grouped), RunError> {
        let mut places: Vec<u32> = (0..positions.len() as u32).collect();
        let mut passing = positions.to_vec();
        let narrow = |passes: Vec<bool>, places: &mut Vec<u32>, passing: &mut Vec<u32>| {
            keep(places, passes.iter().copied());
            keep(passing, passes.into_iter());
        };
        for plan in &narrowed.anchors {
            let codes = batch.wide_codes(plan.anchor, &passing);
            narrow(codes.into_iter().map(|code| plan.passes(code)).collect(), &mut places, &mut passing);
        }
        for filter in &narrowed.row_filters {
            if passing.is_empty() {
                break;
            }
            narrow(self.truths(filter, batch, &passing)?, &mut places, &mut passing);
        }
        Ok((passing, groups.some(&places)))
    }

    /// The rows that pass, and the key of each. Filters come first, so that keys are put together for what is left alone.
    pub(super) fn passing(&self, batch: &Batch<'_>, all: &[u32]) -> Result<(Vec<u32>, Vec<u128>), RunError> {
        let mut filters = self.anchors.iter().filter(|plan| plan.filters());
        let mut positions = match filters.next() {
            Some(first) => {
                let mut numbers = vec![0; all.len()];
                first.drops(batch, &mut numbers);
                kept(&numbers).0
            }
            None => all.to_vec(),
        };
        for plan in filters {
            if positions.is_empty() {
                break;
            }
            let codes = batch.wide_codes(plan.anchor, &positions);
            keep(&mut positions, codes.into_iter().map(|code| plan.passes(code)));
        }
        self.apply_row_filters(batch, &mut positions, 0)?;
        let mut keys = vec![0u128; positions.len()];
        for plan in self.anchors.iter().filter(|plan| !plan.only_filters()) {
            let codes = batch.wide_codes(plan.anchor, &positions);
            keys.iter_mut().zip(codes).for_each(|(key, code)| *key += plan.worth(code));
        }
        for loose in &self.loose {
            let codes = batch.key_codes(loose, &positions);
            keys.iter_mut().zip(codes).for_each(|(key, code)| *key += u128::from(code) * loose.stride);
        }
        Ok((positions, keys))
    }
}
