//! How many rows, and how many values are not null.

use std::any::Any;
use std::ops::Range;

use super::entries::{Entries, RunGroups};
use super::results::counted;
use super::spec::zeros;
use super::state::{At, State, same};
use cubrel_store::SegmentTotal;
use cubrel_value::Vector;

#[derive(Debug)]
pub(super) struct Count(Vec<u64>);

impl Count {
    pub(super) fn new(groups: usize) -> Count {
        Count(zeros(groups))
    }

    /// What was counted elsewhere.
    pub(super) fn of(counts: Vec<u64>) -> Count {
        Count(counts)
    }
}

impl State for Count {
    fn resize(&mut self, groups: usize) {
        self.0.resize(groups, 0);
    }

    fn add_rows(&mut self, entries: Entries<'_>, rows: usize) {
        entries.count(rows, &mut self.0);
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64], null: u64) {
        let valid = codes.iter().enumerate().filter(|(_, code)| **code != null);
        valid.for_each(|(i, _)| self.0[entries.group(i)] += entries.weight(i));
    }

    fn add_codes_in_runs(&mut self, runs: &RunGroups, codes: &[u64], null: u64) -> bool {
        let count = |rows: Range<usize>| codes[rows].iter().filter(|code| **code != null).count() as u64;
        runs.each(|group, rows| self.0[group] += count(rows));
        true
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let entries = entries.one_by_one();
        let valid = (0..first.len()).filter(|i| first.is_valid(*i));
        valid.for_each(|i| self.0[entries.group(i)] += entries.weight(i));
    }

    fn add_total(&mut self, total: &SegmentTotal) {
        self.0[0] += total.count;
    }

    fn counts(&self) -> Option<&[u64]> {
        Some(&self.0)
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(Count(other)) = same(other) else { return };
        at.each(other, |group, count| self.0[group] += count);
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        Ok(counted(self.0))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
