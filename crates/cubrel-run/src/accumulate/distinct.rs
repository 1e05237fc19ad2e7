//! How many different values; those of codes in very many groups are in `distinct_pairs`.

use std::any::Any;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

use super::entries::Entries;
use super::results::{counted, tally};
use super::spec::Spec;
use super::state::{At, KeptTexts, State, same};
use cubrel_value::{Data, Type, Value, Vector};

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
        let per_group = spec.codes()?.div_ceil(64).max(1);
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

/// Values without codes, and combinations of up to three, each as 64 bits: numbers as they are, texts by numbers of their own.
#[derive(Debug)]
pub(super) struct DistinctRows<const N: usize> {
    seen: HashSet<(u32, [u64; N]), foldhash::fast::RandomState>,
    recent: RecentRows<N>,
    /// The numbers of the texts that have come.
    numbers: HashMap<Arc<str>, u64, foldhash::fast::RandomState>,
    /// Rows in which a number takes more than 64 bits.
    large: DistinctValues,
}

/// Rows that came of late, each at a place of its own: of values of which few differ, hardly one is looked for among all.
#[derive(Debug, Default)]
struct RecentRows<const N: usize>(Vec<(u32, [u64; N])>);

impl<const N: usize> RecentRows<N> {
    /// How many, as bits.
    const BITS: u32 = 10;

    /// Whether a row is the last one that came to its place; it is now.
    #[inline]
    fn knows(&mut self, row: (u32, [u64; N])) -> bool {
        if self.0.is_empty() {
            // No group has this number.
            self.0.resize(1 << Self::BITS, (u32::MAX, [0; N]));
        }
        let mix = |mixed: u64, word: &u64| (mixed.rotate_left(29) ^ word).wrapping_mul(0x9E37_79B9_7F4A_7C15);
        let place = row.1.iter().fold(mix(0, &row.0.into()), mix) >> (u64::BITS - Self::BITS);
        std::mem::replace(&mut self.0[place as usize], row) == row
    }
}

impl<const N: usize> DistinctRows<N> {
    pub(super) fn new(spec: &Spec, groups: usize) -> DistinctRows<N> {
        let large = DistinctValues::new(spec, groups);
        DistinctRows { seen: HashSet::default(), recent: RecentRows::default(), numbers: HashMap::default(), large }
    }

    /// The number of a text. Those that are too many have none of their own: there is no result then.
    fn number(&mut self, text: &Arc<str>) -> u64 {
        if let Some(number) = self.numbers.get(text) {
            return *number;
        }
        let number = self.numbers.len() as u64;
        if self.large.texts.take(&Value::Text(text.clone()), 1) {
            self.numbers.insert(text.clone(), number);
        }
        number
    }

    /// The values of a vector as 64 bits; `is_large` is set where one takes more.
    fn bits(&mut self, vector: &Vector, is_large: &mut [bool]) -> Vec<u64> {
        match &vector.data {
            Data::I64(values) => values.iter().map(|v| *v as u64).collect(),
            Data::F64(values) => values.iter().map(|v| (v + 0.0).to_bits()).collect(),
            Data::Bool(values) => values.iter().map(|v| u64::from(*v)).collect(),
            Data::Text(texts) => {
                let number = |(i, text)| if vector.is_valid(i) { self.number(text) } else { 0 };
                texts.iter().enumerate().map(number).collect()
            }
            Data::I128(values) => {
                for ((i, value), is_large) in values.iter().enumerate().zip(is_large) {
                    *is_large |= vector.is_valid(i) && i64::try_from(*value).is_err();
                }
                values.iter().map(|v| *v as u64).collect()
            }
        }
    }
}

impl<const N: usize> State for DistinctRows<N> {
    fn resize(&mut self, groups: usize) {
        self.large.resize(groups);
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(rows) = vectors.first().map(Vector::len) else { return };
        let entries = entries.one_by_one();
        let mut is_large = vec![false; rows];
        let bits: Vec<Vec<u64>> = vectors.iter().map(|vector| self.bits(vector, &mut is_large)).collect();
        for i in (0..rows).filter(|i| vectors.iter().all(|vector| vector.is_valid(*i))) {
            if is_large[i] {
                let row = vectors.iter().zip(&self.large.spec.inputs).map(|(v, ty)| v.get(i, *ty)).collect();
                self.large.keep(entries.group(i), row);
                continue;
            }
            let row = (entries.group(i) as u32, std::array::from_fn(|value| bits[value][i]));
            if !self.recent.knows(row) {
                self.seen.insert(row);
            }
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(DistinctRows { seen, numbers, large, .. }) = same::<DistinctRows<N>>(other) else { return };
        let mut here = vec![0; numbers.len()];
        numbers.iter().for_each(|(text, number)| here[*number as usize] = self.number(text));
        let is_text: [bool; N] = std::array::from_fn(|value| self.large.spec.inputs[value] == Type::Text);
        self.seen.extend(seen.into_iter().map(|(group, mut row)| {
            for (value, _) in row.iter_mut().zip(is_text).filter(|(_, is_text)| *is_text) {
                *value = here.get(*value as usize).copied().unwrap_or(0);
            }
            (at.of(group as usize) as u32, row)
        }));
        self.large.merge(Box::new(large), at);
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        self.large.texts.check()?;
        let large = self.large.seen.into_iter().map(|(group, _)| group);
        Ok(counted(tally(self.seen.into_iter().map(|(group, _)| group).chain(large), self.large.groups)))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// Rows of any values, by their groups.
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
