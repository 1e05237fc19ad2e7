//! Rows that do not pass, taken along in a group of their own.
//!
//! Where most rows of a batch pass, taking out what belongs to those that do costs more, for each aggregate, than adding up the others to a
//! place that is thrown away.

use super::super::accumulate::Spec;
use super::batch::Batch;
use super::inputs::Feed;
use super::keys::DROPPED;
use super::parts::Grouped;
use super::prepare::{Grouping, Prepared};
use cubrel_formula::typed::AggregateKind;

/// Adding to one of more groups costs what taking out does.
const MOST_GROUPS: usize = 255;
/// One of so many rows passes, at least.
const MOST: usize = 2;

impl Prepared<'_> {
    /// Whether there is a group for rows that do not pass, behind all others.
    pub(super) fn spares(&self) -> bool {
        let alone = self.grouping == Grouping::Dense && self.narrowed.is_empty() && self.groups <= MOST_GROUPS;
        alone && self.aggregates.iter().all(|(spec, feed)| self.takes_any_row(spec.kind, feed))
    }

    /// Whether an aggregate takes rows that do not pass: nothing can fail there, and nothing of them stays behind. One sum of doubles is added up
    /// fastest by itself.
    fn takes_any_row(&self, kind: AggregateKind, feed: &Feed) -> bool {
        match feed {
            Feed::Rows | Feed::As(_) | Feed::Ints(..) | Feed::Pair(..) | Feed::SomeInts(_) | Feed::Fused(..) => true,
            Feed::Codes(_) => matches!(kind, AggregateKind::Count | AggregateKind::Min | AggregateKind::Max),
            Feed::Floats(_) => !self.is_one_group(),
            Feed::Values(_) | Feed::Combined(_) | Feed::CodesBy(..) => false,
        }
    }

    /// Whether the entries of a batch that do not pass are taken along.
    pub(super) fn spares_in(&self, batch: &Batch<'_>, passing: usize) -> bool {
        passing * MOST >= batch.entries() && !batch.is_in_runs() && self.spares()
    }

    /// The same where it is not told before which these are, but for each by itself, which costs what taking out once does.
    pub(super) fn spares_others_in(&self, batch: &Batch<'_>, passing: usize) -> bool {
        let is_fed_values = |(_, feed): &&(Spec, Feed)| !matches!(feed, Feed::Rows | Feed::As(_));
        self.spares_in(batch, passing) && self.aggregates.iter().filter(is_fed_values).nth(1).is_some()
    }

    /// The groups of all entries, of which `dropped` are marked as such.
    pub(super) fn with_spared(&self, mut numbers: Vec<u32>, dropped: usize) -> Grouped {
        let passing = numbers.len() - dropped;
        let spare = self.groups as u32;
        numbers.iter_mut().for_each(|number| *number = (*number).min(spare));
        Grouped::Spared(numbers, passing)
    }

    /// The groups of all entries, given the numbers of all and which of them pass.
    pub(super) fn with_others_spared(&self, numbers: &[u32], entries: usize, positions: &[u32]) -> Grouped {
        let mut all = vec![self.groups as u32; entries];
        match self.is_one_group() {
            true => positions.iter().for_each(|i| all[*i as usize] = 0),
            false => positions.iter().for_each(|i| all[*i as usize] = numbers[*i as usize]),
        }
        Grouped::Spared(all, positions.len())
    }
}

/// How many entries are dropped.
pub(super) fn dropped(numbers: &[u32]) -> usize {
    numbers.iter().map(|number| u32::from(number & DROPPED != 0)).sum::<u32>() as usize
}
