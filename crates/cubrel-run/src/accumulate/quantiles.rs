//! Medians and percentiles from how often each value comes.

use std::any::Any;

use super::entries::{Entries, Groups};
use super::ranked::{RankKey, Ranked};
use super::spec::{Spec, floats};
use super::state::{At, State, same};
use cubrel_formula::typed::AggregateKind;
use cubrel_store::{float_key, float_of};
use cubrel_value::threads::{map_chunks, part_size};
use cubrel_value::{Value, Vector};

/// Between which two of so many values in order the wanted share lies, and how far on.
pub(super) fn place_of(spec: &Spec, count: u64) -> (u64, u64, f64) {
    let share = match spec.kind {
        AggregateKind::Median => 0.5,
        _ => spec.constant.as_ref().and_then(Value::as_f64).unwrap_or(0.5),
    };
    if spec.kind == AggregateKind::PercentileDisc {
        let place = ((share * count as f64).ceil().max(1.0) as u64 - 1).min(count - 1);
        return (place, place, 0.0);
    }
    let place = share * (count - 1) as f64;
    (place.floor() as u64, place.ceil() as u64, place - place.floor())
}

/// Between which two of the values the wanted share lies.
fn bounds_of(spec: &Spec, counts: impl Iterator<Item = u32> + Clone) -> Option<(usize, usize, f64)> {
    let count: u64 = counts.clone().map(u64::from).sum();
    if count == 0 {
        return None;
    }
    let (low, high, between) = place_of(spec, count);
    let (mut passed, mut first) = (0, None);
    for (i, n) in counts.enumerate() {
        passed += u64::from(n);
        if first.is_none() && passed > low {
            first = Some(i);
        }
        if let (Some(first), true) = (first, passed > high) {
            return Some((first, i, between));
        }
    }
    None
}

/// The result of each group from the codes that the wanted share lies between.
fn quantiles(spec: &Spec, bounds: Vec<Option<(u64, u64, f64)>>) -> Vector {
    let Some(column) = &spec.coded else { return Vector::nulls(spec.ty, bounds.len() + 1) };
    let null = column.null_code();
    let codes = |pick: fn(&(u64, u64, f64)) -> u64| -> Vec<u64> {
        bounds.iter().map(|b| b.as_ref().map_or(null, pick)).chain([null]).collect()
    };
    let low = column.vector_of(&codes(|b| b.0));
    if spec.kind == AggregateKind::PercentileDisc {
        return low;
    }
    let (low, high) = (low.to_f64(spec.input), column.vector_of(&codes(|b| b.1)).to_f64(spec.input));
    floats(bounds.iter().enumerate().map(|(i, bounds)| match bounds {
        None => f64::NAN,
        Some((.., 0.0)) => low[i],
        Some((.., between)) => low[i] + (high[i] - low[i]) * between,
    }))
}

fn quantiles_of_tallies(spec: &Spec, counts: &[u32], per_group: usize, groups: usize) -> Vector {
    let of_group = |group: usize| {
        let counts = &counts[group * per_group..][..per_group];
        bounds_of(spec, counts.iter().copied()).map(|(low, high, between)| (low as u64, high as u64, between))
    };
    quantiles(spec, (0..groups).map(of_group).collect())
}

/// What `make` gives for each group.
fn of_groups<A: Default + Send, B: Copy + Send>(mut groups: Vec<A>, make: impl Fn(A) -> B + Sync) -> Vec<B> {
    let some = |_, groups: &mut [A]| groups.iter_mut().map(|group| make(std::mem::take(group))).collect::<Vec<B>>();
    let size = part_size(groups.len(), 1);
    map_chunks(&mut groups, size, some).concat()
}

/// Between which two of a group's values the wanted share lies.
fn bounds_in<K: RankKey>(spec: &Spec, ranked: Ranked<K>) -> Option<(u64, u64, f64)> {
    let count = ranked.count();
    if count == 0 {
        return None;
    }
    let (low, high, between) = place_of(spec, count);
    ranked.at(low, high).map(|(low, high)| (low.wide(), high.wide(), between))
}

/// Codes of all groups together are tallied up to this many counts; beyond it, they are collected.
const MOST_TALLIES: u64 = 1 << 21;

/// How often each code occurs, group by group.
#[derive(Debug)]
pub(super) struct Tallies {
    counts: Vec<u32>,
    per_group: usize,
    spec: Spec,
}

impl Tallies {
    /// Room for all groups, if they and the codes are few enough.
    pub(super) fn new(spec: &Spec, groups: usize) -> Option<Tallies> {
        let codes = spec.coded.as_ref().map_or(1, |c| c.domain().max(1));
        let fits = groups > 0 && codes.saturating_mul(groups as u64) <= MOST_TALLIES;
        let per_group = codes as usize;
        fits.then(|| Tallies { counts: vec![0; groups * per_group], per_group, spec: spec.clone() })
    }
}

impl State for Tallies {
    fn resize(&mut self, groups: usize) {
        self.counts.resize(groups * self.per_group, 0);
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64], null: u64) {
        // At most 2^32 rows have a table, so no count is larger.
        for (i, code) in codes.iter().enumerate().filter(|(_, code)| **code != null) {
            self.counts[entries.group(i) * self.per_group + *code as usize] += entries.weight(i) as u32;
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(Tallies { counts, .. }) = same(other) else { return };
        at.each(counts.chunks(self.per_group), |group, counts| {
            let own = &mut self.counts[group * self.per_group..][..self.per_group];
            own.iter_mut().zip(counts).for_each(|(a, b)| *a += b);
        });
    }

    fn finish(self: Box<Self>, seen: &[bool]) -> Result<Vector, String> {
        Ok(quantiles_of_tallies(&self.spec, &self.counts, self.per_group, seen.len() - 1))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// The codes of each group.
#[derive(Debug)]
pub(super) struct CodeLists<K> {
    lists: Vec<Ranked<K>>,
    spec: Spec,
}

/// What keeps the codes of each group, as narrow as they are.
pub(super) fn code_lists(spec: &Spec, groups: usize) -> Box<dyn State> {
    match spec.coded.as_ref().is_some_and(|column| column.domain() <= 1 << u32::BITS) {
        true => Box::new(CodeLists::<u32> { lists: vec![Ranked::default(); groups], spec: spec.clone() }),
        false => Box::new(CodeLists::<u64> { lists: vec![Ranked::default(); groups], spec: spec.clone() }),
    }
}

impl<K: RankKey + std::fmt::Debug + 'static> State for CodeLists<K> {
    fn resize(&mut self, groups: usize) {
        self.lists.resize(groups, Ranked::default());
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64], null: u64) {
        let keys =
            codes.iter().copied().enumerate().filter(|(_, code)| *code != null).map(|(i, code)| (i, K::narrow(code)));
        match (entries.groups, entries.weights) {
            (Groups::One, None) => self.lists[0].take_all(keys.map(|(_, key)| key)),
            (Groups::Many(groups), None) => keys.for_each(|(i, key)| self.lists[groups[i] as usize].take(key, 1)),
            _ => keys.for_each(|(i, key)| self.lists[entries.group(i)].take(key, entries.weight(i) as u32)),
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(CodeLists { lists, .. }) = same::<CodeLists<K>>(other) else { return };
        at.each(lists, |group, list| self.lists[group].join(list));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let CodeLists { lists, spec } = *self;
        Ok(quantiles(&spec, of_groups(lists, |list| bounds_in(&spec, list))))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// The numbers of each group, as doubles, in the order of their keys.
#[derive(Debug)]
pub(super) struct NumberLists {
    lists: Vec<Ranked<u64>>,
    spec: Spec,
}

impl NumberLists {
    pub(super) fn new(spec: &Spec, groups: usize) -> NumberLists {
        NumberLists { lists: vec![Ranked::default(); groups], spec: spec.clone() }
    }
}

/// Makes the keys of doubles numbers without a sign, in the same order.
const SIGN: u64 = 1 << 63;

impl State for NumberLists {
    fn resize(&mut self, groups: usize) {
        self.lists.resize(groups, Ranked::default());
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let (entries, values) = (entries.one_by_one(), first.to_f64(self.spec.input));
        for (i, value) in values.iter().enumerate().filter(|(i, _)| first.is_valid(*i)) {
            self.lists[entries.group(i)].take(float_key(*value) as u64 ^ SIGN, entries.weight(i) as u32);
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(NumberLists { lists, .. }) = same(other) else { return };
        at.each(lists, |group, list| self.lists[group].join(list));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let NumberLists { lists, spec } = *self;
        let of_key = |key: u64| float_of((key ^ SIGN) as i64);
        let numbers = of_groups(lists, |list| match bounds_in(&spec, list) {
            None => f64::NAN,
            Some((low, _, 0.0)) => of_key(low),
            Some((low, high, between)) => of_key(low) + (of_key(high) - of_key(low)) * between,
        });
        Ok(floats(numbers.into_iter()))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
