//! How many different values; those of codes in very many groups are in `distinct_pairs`.

use std::any::Any;
use std::collections::HashSet;

use super::entries::Entries;
use super::results::{counted, tally};
use super::spec::Spec;
use super::state::{At, KeptTexts, State, same};
use crate::value::{Value, Vector};

/// Codes of all groups together are counted with one bit each up to this many bytes; beyond it, by a hash set.
const DISTINCT_BYTES: u64 = 1 << 23;

/// One bit for each group and code.
#[derive(Debug)]
pub(super) struct DistinctBits {
    words: Vec<u64>,
    per_group: usize,
}

impl DistinctBits {
    /// Room for all groups, if they and the codes are few enough.
    pub(super) fn new(groups: usize, spec: &Spec) -> Option<DistinctBits> {
        let per_group = spec.coded.as_ref()?.domain().div_ceil(64).max(1);
        let bytes = per_group.saturating_mul(8).saturating_mul(groups as u64);
        // Groups that are numbered as they come are not known yet.
        (groups > 0 && bytes <= DISTINCT_BYTES)
            .then(|| DistinctBits { words: vec![0; groups * per_group as usize], per_group: per_group as usize })
    }
}

impl State for DistinctBits {
    fn resize(&mut self, groups: usize) {
        self.words.resize(groups * self.per_group, 0);
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64], null: u64) {
        for (i, code) in codes.iter().enumerate().filter(|(_, code)| **code != null) {
            self.words[entries.group(i) * self.per_group + (code / 64) as usize] |= 1 << (code % 64);
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(DistinctBits { words, .. }) = same(other) else { return };
        at.each(words.chunks(self.per_group), |group, words| {
            let start = group * self.per_group;
            self.words[start..start + self.per_group].iter_mut().zip(words).for_each(|(a, b)| *a |= b);
        });
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let ones = |words: &[u64]| words.iter().map(|w| u64::from(w.count_ones())).sum();
        Ok(counted(self.words.chunks(self.per_group).map(ones).collect()))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// Values without codes, and combinations of several, by their groups.
#[derive(Debug)]
pub(super) struct DistinctValues {
    seen: HashSet<(u32, Vec<Value>)>,
    groups: usize,
    texts: KeptTexts,
    spec: Spec,
}

impl DistinctValues {
    pub(super) fn new(spec: &Spec, groups: usize) -> DistinctValues {
        DistinctValues { seen: HashSet::new(), groups, texts: KeptTexts::default(), spec: spec.clone() }
    }

    fn keep(&mut self, group: usize, row: Vec<Value>) {
        let mut texts = self.texts;
        for value in &row {
            texts.take(value, 1);
        }
        if self.texts.fit() && self.seen.insert((group as u32, row)) {
            self.texts = texts;
        }
    }
}

impl State for DistinctValues {
    fn resize(&mut self, groups: usize) {
        self.groups = groups;
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let entries = entries.one_by_one();
        for i in 0..vectors.first().map_or(0, Vector::len) {
            let row: Vec<Value> = vectors.iter().zip(&self.spec.inputs).map(|(v, ty)| v.get(i, *ty)).collect();
            if row.iter().all(|v| !v.is_null()) {
                self.keep(entries.group(i), row);
            }
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(DistinctValues { seen, texts, .. }) = same(other) else { return };
        // Of values that both have seen one is kept; what was too much for one of them is lost.
        if !texts.fit() {
            self.texts.join(texts);
        }
        seen.into_iter().for_each(|(group, row)| self.keep(at.of(group as usize), row));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        self.texts.check()?;
        Ok(counted(tally(self.seen.into_iter().map(|(group, _)| group), self.groups)))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
