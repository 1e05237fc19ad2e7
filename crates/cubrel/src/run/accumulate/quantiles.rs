//! Medians and percentiles from how often each value comes.

use std::cmp::Ordering;

use rayon::prelude::*;

use super::spec::{Spec, floats};
use crate::formula::typed::AggregateKind;
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

pub(super) fn quantiles_of_tallies(spec: &Spec, counts: &[u32], per_group: usize, groups: usize) -> Vector {
    let of_group = |group: usize| {
        let counts = &counts[group * per_group..][..per_group];
        bounds_of(spec, counts.iter().copied()).map(|(low, high, between)| (low as u64, high as u64, between))
    };
    quantiles(spec, (0..groups).map(of_group).collect())
}

pub(super) fn quantiles_of_codes(spec: &Spec, lists: Vec<Vec<(u64, u32)>>) -> Vector {
    quantiles(spec, lists.into_par_iter().map(|list| bounds_in(spec, list, u64::cmp)).collect())
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
pub(super) fn quantiles_of_numbers(spec: &Spec, lists: Vec<Vec<(f64, u32)>>) -> Vector {
    let of_group = |list: Vec<(f64, u32)>| match bounds_in(spec, list, f64::total_cmp) {
        None => f64::NAN,
        Some((low, _, 0.0)) => low,
        Some((low, high, between)) => low + (high - low) * between,
    };
    floats(lists.into_par_iter().map(of_group).collect::<Vec<f64>>().into_iter())
}
