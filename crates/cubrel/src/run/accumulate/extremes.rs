//! Smallest and largest values.

use std::any::Any;
use std::cmp::Ordering;

use super::entries::{Entries, Groups};
use super::results::{NONE, collected, decoded};
use super::spec::Spec;
use super::state::{At, State, same};
use crate::store::SegmentTotal;
use crate::value::{Value, Vector};

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

/// The largest of some codes is what the smallest of their complements is. No complement is [`NONE`].
fn turned(code: u64, max: bool) -> u64 {
    if max { NONE - 1 - code } else { code }
}

impl State for ExtremeCodes {
    fn grow(&mut self, groups: usize) {
        self.best.resize(groups, NONE);
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64], null: u64) {
        for (i, code) in codes.iter().enumerate() {
            let slot = &mut self.best[entries.group(i)];
            // Null has the largest code: never the smallest, and no candidate for the largest.
            let candidate = if self.max && *code == null { NONE } else { turned(*code, self.max) };
            *slot = candidate.min(*slot);
        }
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

/// Values that have no codes.
#[derive(Debug)]
pub(super) struct ExtremeValues {
    best: Vec<Value>,
    max: bool,
    spec: Spec,
}

impl ExtremeValues {
    pub(super) fn new(spec: &Spec, groups: usize, max: bool) -> ExtremeValues {
        ExtremeValues { best: vec![Value::Null; groups], max, spec: spec.clone() }
    }

    fn keep(&mut self, group: usize, value: Value) {
        if value.is_null() {
            return;
        }
        let best = &mut self.best[group];
        let wanted = if self.max { Ordering::Greater } else { Ordering::Less };
        if best.is_null() || value.total_cmp(best) == wanted {
            *best = value;
        }
    }
}

impl State for ExtremeValues {
    fn grow(&mut self, groups: usize) {
        self.best.resize(groups, Value::Null);
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let entries = entries.one_by_one();
        for i in (0..first.len()).filter(|i| first.is_valid(*i)) {
            self.keep(entries.group(i), first.get(i, self.spec.input));
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(ExtremeValues { best, .. }) = same(other) else { return };
        at.each(best, |group, value| self.keep(group, value));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        Ok(collected(self.best.into_iter(), self.spec.ty))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
