//! How many different values; those of codes in very many groups are in `distinct_pairs`.

use std::any::Any;
use std::collections::HashSet;

use super::entries::Entries;
use super::results::{counted, tally};
use super::spec::Spec;
use super::state::{At, KeptTexts, State, same};
use crate::value::{Data, Type, Value, Vector};

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

/// A value that is told by its bits, in a group.
type SeenNumbers = HashSet<(u32, u64), foldhash::fast::RandomState>;

/// Numbers, days and truth values without codes.
#[derive(Debug)]
pub(super) struct DistinctNumbers {
    seen: SeenNumbers,
    /// Those that take more than 64 bits.
    large: DistinctValues,
}

impl DistinctNumbers {
    /// `None` where there are several values to a row, or texts.
    pub(super) fn new(spec: &Spec, groups: usize) -> Option<DistinctNumbers> {
        let is_one = spec.inputs.len() == 1 && spec.inputs[0] != Type::Text;
        is_one.then(|| DistinctNumbers { seen: SeenNumbers::default(), large: DistinctValues::new(spec, groups) })
    }

    fn keep_each<T: Copy>(&mut self, entries: Entries<'_>, vector: &Vector, values: &[T], bits: impl Fn(T) -> u64) {
        let mut last = None;
        for (i, value) in values.iter().enumerate().filter(|(i, _)| vector.is_valid(*i)) {
            let one = (entries.group(i) as u32, bits(*value));
            // Rows next to each other often have the same.
            if last != Some(one) {
                self.seen.insert(one);
                last = Some(one);
            }
        }
    }
}

impl State for DistinctNumbers {
    fn resize(&mut self, groups: usize) {
        self.large.resize(groups);
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let entries = entries.one_by_one();
        match &first.data {
            Data::I64(values) => self.keep_each(entries, first, values, |v| v as u64),
            Data::F64(values) => self.keep_each(entries, first, values, |v| (v + 0.0).to_bits()),
            Data::Bool(values) => self.keep_each(entries, first, values, u64::from),
            Data::I128(values) => {
                for (i, value) in values.iter().enumerate().filter(|(i, _)| first.is_valid(*i)) {
                    match i64::try_from(*value) {
                        Ok(small) => drop(self.seen.insert((entries.group(i) as u32, small as u64))),
                        Err(_) => self.large.keep(entries.group(i), vec![first.get(i, self.large.spec.inputs[0])]),
                    }
                }
            }
            Data::Text(_) => self.large.add_values(entries, vectors),
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(DistinctNumbers { seen, large }) = same(other) else { return };
        self.seen.extend(seen.into_iter().map(|(group, bits)| (at.of(group as usize) as u32, bits)));
        self.large.merge(Box::new(large), at);
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let groups =
            self.seen.into_iter().map(|(group, _)| group).chain(self.large.seen.into_iter().map(|(group, _)| group));
        Ok(counted(tally(groups, self.large.groups)))
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
