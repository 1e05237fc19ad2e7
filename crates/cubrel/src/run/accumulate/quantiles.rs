//! Medians and percentiles from how often each value comes.

use std::any::Any;
use std::cmp::Ordering;

use super::entries::Entries;
use super::spec::{Spec, floats};
use super::state::{At, State, same};
use crate::formula::typed::AggregateKind;
use crate::value::threads::{map_chunks, part_size};
use crate::value::{Value, Vector};

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

fn quantiles_of_codes(spec: &Spec, lists: Vec<Vec<(u64, u32)>>) -> Vector {
    quantiles(spec, of_groups(lists, |list| bounds_in(spec, list, u64::cmp)))
}

/// What `make` gives for each group.
fn of_groups<A: Default + Send, B: Copy + Send>(mut groups: Vec<A>, make: impl Fn(A) -> B + Sync) -> Vec<B> {
    let some = |_, groups: &mut [A]| groups.iter_mut().map(|group| make(std::mem::take(group))).collect::<Vec<B>>();
    let size = part_size(groups.len(), 1);
    map_chunks(&mut groups, size, some).concat()
}

/// Between which two values of a list the wanted share lies. Where each comes once they are selected (C. Hoare, "Algorithm
/// 65: find", CACM 4(7), 1961), which is less work than sorting them all.
fn bounds_in<T: Copy>(spec: &Spec, mut list: Vec<(T, u32)>, by: fn(&T, &T) -> Ordering) -> Option<(T, T, f64)> {
    if list.is_empty() || list.iter().any(|(_, n)| *n != 1) {
        list.sort_unstable_by(|(a, _), (b, _)| by(a, b));
        let (low, high, between) = bounds_of(spec, list.iter().map(|(_, n)| *n))?;
        return Some((list[low].0, list[high].0, between));
    }
    let (low, high, between) = place_of(spec, list.len() as u64);
    let (_, (at_low, _), above) = list.select_nth_unstable_by(low as usize, |(a, _), (b, _)| by(a, b));
    let next = above.iter().map(|(value, _)| *value).min_by(by);
    let at_high = if high == low { *at_low } else { next.unwrap_or(*at_low) };
    Some((*at_low, at_high, between))
}

/// The wanted share of each group's doubles.
fn quantiles_of_numbers(spec: &Spec, lists: Vec<Vec<(f64, u32)>>) -> Vector {
    let of_group = |list: Vec<(f64, u32)>| match bounds_in(spec, list, f64::total_cmp) {
        None => f64::NAN,
        Some((low, _, 0.0)) => low,
        Some((low, high, between)) => low + (high - low) * between,
    };
    floats(of_groups(lists, of_group).into_iter())
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
    fn grow(&mut self, groups: usize) {
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

/// The codes of each group with how often each came.
#[derive(Debug)]
pub(super) struct CodeLists {
    lists: Vec<Vec<(u64, u32)>>,
    spec: Spec,
}

impl CodeLists {
    pub(super) fn new(spec: &Spec, groups: usize) -> CodeLists {
        CodeLists { lists: vec![Vec::new(); groups], spec: spec.clone() }
    }
}

impl State for CodeLists {
    fn grow(&mut self, groups: usize) {
        self.lists.resize(groups, Vec::new());
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64], null: u64) {
        let valid = codes.iter().copied().enumerate().filter(|(_, code)| *code != null);
        valid.for_each(|(i, code)| self.lists[entries.group(i)].push((code, entries.weight(i) as u32)));
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(CodeLists { lists, .. }) = same(other) else { return };
        at.each(lists, |group, list| self.lists[group].extend(list));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        Ok(quantiles_of_codes(&self.spec, self.lists))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// The numbers of each group, as doubles, with how often each came.
#[derive(Debug)]
pub(super) struct NumberLists {
    lists: Vec<Vec<(f64, u32)>>,
    spec: Spec,
}

impl NumberLists {
    pub(super) fn new(spec: &Spec, groups: usize) -> NumberLists {
        NumberLists { lists: vec![Vec::new(); groups], spec: spec.clone() }
    }
}

impl State for NumberLists {
    fn grow(&mut self, groups: usize) {
        self.lists.resize(groups, Vec::new());
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let (entries, values) = (entries.one_by_one(), first.to_f64(self.spec.input));
        let valid = (0..first.len()).filter(|i| first.is_valid(*i));
        valid.for_each(|i| self.lists[entries.group(i)].push((values[i], entries.weight(i) as u32)));
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(NumberLists { lists, .. }) = same(other) else { return };
        at.each(lists, |group, list| self.lists[group].extend(list));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        Ok(quantiles_of_numbers(&self.spec, self.lists))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
