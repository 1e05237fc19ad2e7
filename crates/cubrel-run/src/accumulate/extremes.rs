//! Smallest and largest values.

use std::any::Any;
use std::cmp::Ordering;

use super::entries::{Entries, Groups, RunGroups};
use super::keyed::{NO_KEY, keys_of, value_of};
use super::results::{NONE, collected, decoded};
use super::spec::Spec;
use super::state::{At, State, same};
use cubrel_store::SegmentTotal;
use cubrel_value::{Value, Vector};

/// The smallest codes, or for the largest their complements.
#[derive(Debug)]
pub(super) struct ExtremeCodes {
    best: Vec<u64>,
    max: bool,
    spec: Spec,
}

impl ExtremeCodes {
    pub(super) fn new(spec: &Spec, groups: usize, max: bool) -> ExtremeCodes {
        ExtremeCodes { best: vec![NONE; groups], max, spec: spec.clone() }
    }
}

/// Takes what is the least of each group into account. Whether rows count several times says nothing of the smallest of them.
#[inline(always)]
fn keep_least(best: &mut [u64], groups: Groups<'_>, codes: &[u64], candidate: impl Fn(u64) -> u64) {
    let least = |codes: &[u64]| codes.iter().fold(NONE, |least, code| candidate(*code).min(least));
    match groups {
        Groups::One => best[0] = least(codes).min(best[0]),
        Groups::Many(groups) => groups.iter().zip(codes).for_each(|(group, code)| {
            let slot = &mut best[*group as usize];
            *slot = candidate(*code).min(*slot);
        }),
        Groups::InRuns(runs) => runs.each(|group, rows| best[group] = least(&codes[rows]).min(best[group])),
    }
}

/// What is held against the smallest so far. Null has the largest code: never the smallest, and no candidate for the largest.
#[inline(always)]
fn candidate<const MAX: bool>(code: u64, null: u64) -> u64 {
    if MAX && code == null { NONE } else { turned(code, MAX) }
}

/// The largest of some codes is what the smallest of their complements is. No complement is [`NONE`].
#[inline(always)]
fn turned(code: u64, max: bool) -> u64 {
    if max { NONE - 1 - code } else { code }
}

impl State for ExtremeCodes {
    fn resize(&mut self, groups: usize) {
        self.best.resize(groups, NONE);
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64], null: u64) {
        match self.max {
            true => keep_least(&mut self.best, entries.groups, codes, |code| candidate::<true>(code, null)),
            false => keep_least(&mut self.best, entries.groups, codes, |code| candidate::<false>(code, null)),
        }
    }

    fn add_codes_in_runs(&mut self, runs: &RunGroups, codes: &[u64], null: u64) -> bool {
        self.add_codes(Groups::InRuns(runs).into(), codes, null);
        true
    }

    fn add_total(&mut self, total: &SegmentTotal) {
        if total.count > 0 {
            let (least, most) = total.codes;
            self.add_codes(Groups::One.into(), &[least, most], NONE);
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(ExtremeCodes { best, .. }) = same(other) else { return };
        at.each(best, |group, code| self.best[group] = code.min(self.best[group]));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let code = |code: u64| if code == NONE { NONE } else { turned(code, self.max) };
        Ok(decoded(&self.spec, self.best.iter().map(|best| code(*best)).collect()))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// Values that have no codes: numbers and days by keys in the same order, and what has no such key one by one.
#[derive(Debug)]
pub(super) struct ExtremeValues {
    /// The smallest keys, or for the largest their complements; [`NO_KEY`] where there was none.
    best: Vec<u64>,
    /// The best of all others. Empty as long as there is none.
    others: Vec<Value>,
    max: bool,
    spec: Spec,
}

impl ExtremeValues {
    pub(super) fn new(spec: &Spec, groups: usize, max: bool) -> ExtremeValues {
        ExtremeValues { best: vec![NO_KEY; groups], others: Vec::new(), max, spec: spec.clone() }
    }

    fn keep(&mut self, group: usize, value: Value) {
        if value.is_null() {
            return;
        }
        if self.others.is_empty() {
            self.others.resize(self.best.len(), Value::Null);
        }
        let best = std::mem::replace(&mut self.others[group], Value::Null);
        self.others[group] = self.better(best, value);
    }

    /// The smaller of two values, or the larger.
    fn better(&self, a: Value, b: Value) -> Value {
        let wanted = if self.max { Ordering::Greater } else { Ordering::Less };
        if a.is_null() || !b.is_null() && b.total_cmp(&a) == wanted { b } else { a }
    }
}

impl State for ExtremeValues {
    fn resize(&mut self, groups: usize) {
        self.best.resize(groups, NO_KEY);
        if !self.others.is_empty() {
            self.others.resize(groups, Value::Null);
        }
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        if let Some(keys) = keys_of(first, self.max) {
            return keep_least(&mut self.best, entries.groups, &keys, |key| key);
        }
        let entries = entries.one_by_one();
        for i in (0..first.len()).filter(|i| first.is_valid(*i)) {
            self.keep(entries.group(i), first.get(i, self.spec.input));
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(ExtremeValues { best, others, .. }) = same(other) else { return };
        at.each(best, |group, key| self.best[group] = key.min(self.best[group]));
        at.each(others, |group, value| self.keep(group, value));
    }

    fn finish(mut self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let mut others = std::mem::take(&mut self.others).into_iter();
        let value =
            |key: &u64| self.better(value_of(*key, self.max, self.spec.input), others.next().unwrap_or(Value::Null));
        Ok(collected(self.best.iter().map(value), self.spec.ty))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
