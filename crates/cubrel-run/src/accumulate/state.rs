//! What each kind of aggregate keeps, and what all of them can be asked.

use std::any::Any;
use std::fmt;

use super::entries::{Entries, RunGroups};
use super::spec::Spec;
use cubrel_store::SegmentTotal;
use cubrel_value::{Value, Vector, units};

/// What one kind of aggregate keeps for all groups. What it does not take it is never given.
pub(super) trait State: fmt::Debug + Send {
    /// Makes room for so many groups. Sums, counts and extremes forget those behind them.
    fn resize(&mut self, groups: usize);

    /// Takes rows that are only counted.
    fn add_rows(&mut self, _entries: Entries<'_>, _rows: usize) {
        debug_assert!(false, "an aggregate is given rows that it does not count: {self:?}");
    }

    /// Takes codes of the column of [`Spec::coded`](super::Spec::coded); null's comes after all others.
    fn add_codes(&mut self, _entries: Entries<'_>, _codes: &[u64], _null: u64) {
        debug_assert!(false, "an aggregate is given codes that it does not take: {self:?}");
    }

    /// Takes codes of rows that stand in runs of one group each; false where it takes them row by row alone.
    fn add_codes_in_runs(&mut self, _runs: &RunGroups, _codes: &[u64], _null: u64) -> bool {
        false
    }

    /// Takes values of the arguments, then of the order.
    fn add_values(&mut self, _entries: Entries<'_>, _vectors: &[Vector]) {
        debug_assert!(false, "an aggregate is given values that it does not take: {self:?}");
    }

    /// Takes exact numbers, 0 for null, and which of them are there.
    fn add_exact_or_null(&mut self, _entries: Entries<'_>, _values: &[i64], _valid: &[bool]) {
        debug_assert!(false, "an aggregate is given numbers that it does not take: {self:?}");
    }

    /// Takes doubles, not a number for null.
    fn add_floats(&mut self, _entries: Entries<'_>, _values: &[f64]) {
        debug_assert!(false, "an aggregate is given doubles that it does not take: {self:?}");
    }

    /// Takes exact numbers without nulls, none of which takes more than so many bits.
    fn add_exact(&mut self, _entries: Entries<'_>, _values: &[i64], _bits: u32) {
        debug_assert!(false, "an aggregate is given numbers that it does not take: {self:?}");
    }

    /// As [`State::add_exact`] for entries that are rows, and marks their groups as seen on the way; false where this is not
    /// the way.
    fn add_and_mark(&mut self, _groups: &[u32], _values: &[i64], _bits: u32, _seen: &mut [bool]) -> bool {
        false
    }

    /// Takes what many rows of the first group come to together.
    fn add_total(&mut self, _total: &SegmentTotal) {
        debug_assert!(false, "an aggregate is given totals that it does not take: {self:?}");
    }

    /// Takes over what another one of the same kind has seen.
    fn merge(&mut self, other: Box<dyn State>, at: At<'_>);

    /// How many values each group has, where that is known.
    fn counts(&self) -> Option<&[u64]> {
        None
    }

    /// Takes over how many values each group has, which it has not counted.
    fn take_counts(&mut self, _counts: Vec<u64>) {
        debug_assert!(false, "an aggregate is given counts that it does not take: {self:?}");
    }

    /// As much for an aggregate of another kind that would have been fed the same.
    fn copied(&self, _spec: &Spec) -> Option<Box<dyn State>> {
        None
    }

    /// The result of every group, and after them the result over no rows; `seen` tells which groups have rows.
    ///
    /// # Errors
    /// When there is too much of it, or it has too many digits.
    fn finish(self: Box<Self>, seen: &[bool]) -> Result<Vector, String>;

    /// To tell of which kind it is.
    fn into_any(self: Box<Self>) -> Box<dyn Any>;
}

/// Another one, which is of this kind.
pub(super) fn same<S: State + 'static>(other: Box<dyn State>) -> Option<S> {
    let same = other.into_any().downcast::<S>().ok().map(|same| *same);
    debug_assert!(same.is_some(), "parts of two different aggregates");
    same
}

/// Where the groups of another one are among one's own.
#[derive(Clone, Copy)]
pub(super) struct At<'a>(pub(super) Option<&'a [u32]>);

impl At<'_> {
    /// The place of a group.
    pub(super) fn of(self, group: usize) -> usize {
        self.0.map_or(group, |to| to[group] as usize)
    }

    /// Calls `take` with each of the other's groups: its place here, and what it has.
    pub(super) fn each<T>(self, of_groups: impl IntoIterator<Item = T>, mut take: impl FnMut(usize, T)) {
        of_groups.into_iter().enumerate().for_each(|(group, has)| take(self.of(group), has));
    }
}

/// Bytes of texts that one aggregate keeps; there is no telling how long they are.
const MOST_TEXTS: u64 = 512 << 20;

/// Counts the texts that an aggregate keeps, and those that it would have had to.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct KeptTexts(u64);

impl KeptTexts {
    /// Takes a text a number of times; false where there are too many by now.
    pub(super) fn take(&mut self, value: &Value, times: u64) -> bool {
        let bytes = if let Value::Text(text) = value { text.len() as u64 } else { 0 };
        self.0 = self.0.saturating_add(bytes.saturating_mul(times));
        self.fit()
    }

    /// Whether there is room.
    pub(super) fn fit(self) -> bool {
        self.0 <= MOST_TEXTS
    }

    /// Takes over what another one has counted.
    pub(super) fn join(&mut self, other: KeptTexts) {
        self.0 = self.0.saturating_add(other.0);
    }

    /// # Errors
    /// When there were too many.
    pub(super) fn check(self) -> Result<(), String> {
        let most = units::bytes(MOST_TEXTS);
        match self.fit() {
            true => Ok(()),
            false => {
                Err(format!("the texts that this has to keep take more than {most}: filter, or take shorter ones"))
            }
        }
    }
}
