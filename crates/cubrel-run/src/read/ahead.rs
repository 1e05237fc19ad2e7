//! Groups that are numbered ahead of the pass. Where nearly each row brings a group of its own, the keys of all rows are sorted at
//! once: each would have to be looked up in a table that the caches do not hold, in each part again. All parts have the same numbers then.

use std::collections::HashSet;
use std::ops::Range;
use std::sync::Arc;

use super::super::{Options, RunError, Runs};
use super::batch::{BATCH, Batch};
use super::group_keys::GroupKeys;
use super::keys::DROPPED;
use super::parts::{Grouped, Passed};
use super::prepare::{Grouping, Prepared};
use super::stretches::in_batches;
use cubrel_store::Ranks;
use cubrel_value::threads::map_each;

/// So many batches, from all over the table, tell whether many groups come.
const BATCHES_OF_SAMPLE: usize = 16;
/// At least one in so many rows of them has to pass, and one in so many of those has to be of another group.
const ROWS_PER_GROUP: usize = 2;
/// Rows whose keys are found by one thread at a time.
const ROWS_OF_PART: usize = 1 << 18;
/// Bytes that a row takes while keys are sorted.
const BYTES_PER_ROW: u64 = 40;

/// Rows that pass, and their keys.
type KeysOfRows = (Vec<u32>, Vec<u64>);

impl Prepared<'_> {
    /// Numbers the groups by their keys' order where it seems worth it.
    pub(super) fn number_ahead(&mut self, options: &Options) -> Result<(), RunError> {
        let rows = self.tables.rows(self.table);
        let fits = rows < DROPPED as usize && options.max_bytes.is_none_or(|most| rows as u64 * BYTES_PER_ROW <= most);
        if self.grouping != Grouping::Hashed || rows <= options.sorted_above || !fits || !self.has_narrow_keys() {
            return Ok(());
        }
        if options.sorted_above > 0 && !self.many_come(rows, options)? {
            return Ok(());
        }
        let parts: Vec<Range<usize>> =
            (0..rows).step_by(ROWS_OF_PART).map(|start| start..rows.min(start + ROWS_OF_PART)).collect();
        let keys = |rows: &Range<usize>| self.keys_of(rows.clone(), options);
        let parts = match options.one_thread {
            true => parts.iter().map(keys).collect(),
            false => map_each(&parts, keys),
        };
        let parts = parts.into_iter().collect::<Result<Vec<KeysOfRows>, _>>()?;
        let (passing, keys): (Vec<Vec<u32>>, Vec<Vec<u64>>) = parts.into_iter().unzip();
        let all = keys.concat();
        drop(keys);
        let ranks = Ranks::of_list(all);
        let mut numbers = vec![DROPPED; rows];
        passing.iter().flatten().zip(ranks.places).for_each(|(row, place)| numbers[*row as usize] = place);
        self.groups = ranks.numbers.len();
        self.ranked = Some(Arc::new(GroupKeys::of_codes(ranks.numbers)));
        self.numbers = numbers;
        self.grouping = Grouping::Numbered;
        // Each row has a number of its own.
        self.runs = Runs::Never;
        Ok(())
    }

    /// Whether each key fits 64 bits, and there is one for each row.
    fn has_narrow_keys(&self) -> bool {
        let bound = self.sizes.iter().try_fold(1u64, |all, size| all.checked_mul(*size));
        bound.is_some() && self.bridges.is_empty()
    }

    /// Whether many different keys come in some batches.
    fn many_come(&self, rows: usize, options: &Options) -> Result<bool, RunError> {
        let step = (rows / BATCHES_OF_SAMPLE).max(BATCH);
        let mut keys = Vec::new();
        for start in (0..rows).step_by(step) {
            keys.extend(self.keys_of(start..rows.min(start + BATCH), options)?.1);
        }
        let different = keys.iter().collect::<HashSet<_, foldhash::fast::RandomState>>().len();
        let seen = BATCHES_OF_SAMPLE.min(rows.div_ceil(step)) * BATCH;
        Ok(keys.len() * ROWS_PER_GROUP >= seen && different * ROWS_PER_GROUP >= keys.len())
    }

    fn keys_of(&self, rows: Range<usize>, options: &Options) -> Result<KeysOfRows, RunError> {
        let (mut passing, mut keys) = (Vec::with_capacity(rows.len()), Vec::with_capacity(rows.len()));
        let mut at = rows.start;
        while at < rows.end {
            let (segment, of_segment) = self.segment_at(at, rows.end);
            let end = of_segment.end.min(rows.end);
            if !self.skips(segment) {
                for rows in in_batches(&self.stretches(segment, at..end), BATCH) {
                    options.check()?;
                    let batch = Batch::new(self.tables, self.table, rows.start, rows.len());
                    let all: Vec<u32> = (0..rows.len() as u32).collect();
                    let (positions, of_positions) = self.passing(&batch, &all)?;
                    passing.extend(positions.iter().map(|position| rows.start as u32 + position));
                    keys.extend(of_positions.iter().map(|key| *key as u64));
                }
            }
            at = end;
        }
        Ok((passing, keys))
    }

    /// The rows of a batch that pass, and their groups.
    pub(super) fn numbered_groups(&self, rows: Range<usize>) -> Passed {
        let numbers = &self.numbers[rows];
        if !numbers.contains(&DROPPED) {
            return (None, Grouped::Each(numbers.to_vec()));
        }
        let passing = || (0u32..).zip(numbers).filter(|(_, number)| **number != DROPPED);
        let positions = passing().map(|(position, _)| position).collect();
        (Some(positions), Grouped::Each(passing().map(|(_, number)| *number).collect()))
    }
}
