//! Exact sums and means.

use std::any::Any;

use super::count::Count;
use super::entries::{Entries, Groups};
use super::few::add_each;
use super::spec::{Spec, floats, zeros};
use super::state::{At, State, same};
use cubrel_formula::typed::AggregateKind;
use cubrel_store::{SegmentTotal, TotalSum};
use cubrel_value::exact::{self, bits_of};
use cubrel_value::{Data, Vector};

/// Exact sums: 64 bits while they surely suffice, and 128 behind them.
#[derive(Debug)]
pub(super) struct ExactSums {
    small: Vec<i64>,
    /// How much may still be added to `small` before it has to be emptied into `wide`.
    headroom: u128,
    wide: Vec<i128>,
    /// How many values, where that has to be known; else empty.
    counts: Vec<u64>,
    spec: Spec,
}

const HEADROOM: u128 = 1 << 62;

/// Whether it has to be known how many values there are.
fn is_counted(spec: &Spec) -> bool {
    (spec.nullable || spec.kind == AggregateKind::Avg) && spec.counted_by.is_none()
}

impl ExactSums {
    pub(super) fn new(spec: &Spec, groups: usize) -> ExactSums {
        let counts = if is_counted(spec) { zeros(groups) } else { Vec::new() };
        ExactSums { small: zeros(groups), headroom: HEADROOM, wide: Vec::new(), counts, spec: spec.clone() }
    }

    /// Makes sure that numbers of so many bits can be added so often without leaving 64 bits.
    fn reserve(&mut self, bits: u32, rows: usize) -> bool {
        let most = (1u128 << bits) * rows as u128;
        if most > HEADROOM {
            return false;
        }
        if most > self.headroom {
            self.flush();
        }
        self.headroom -= most;
        true
    }

    fn flush(&mut self) {
        self.wide.resize(self.small.len(), 0);
        for (wide, small) in self.wide.iter_mut().zip(&mut self.small) {
            *wide += i128::from(std::mem::take(small));
        }
        self.headroom = HEADROOM;
    }

    fn add_wide(&mut self, entries: Entries<'_>, values: &[i128], valid: Option<&[bool]>) {
        self.wide.resize(self.small.len(), 0);
        let entries = entries.one_by_one();
        for (i, v) in values.iter().enumerate().filter(|(i, _)| valid.is_none_or(|valid| valid[*i])) {
            let group = entries.group(i);
            // Values have at most 38 digits; beyond the range of 128 bits the sum stays at its end,
            // which has more than 38 digits and is reported when the sums are taken.
            let v = v.saturating_mul(i128::from(entries.weight(i)));
            self.wide[group] = self.wide[group].saturating_add(v);
            if let Some(count) = self.counts.get_mut(group) {
                *count += entries.weight(i);
            }
        }
    }

    /// Adds numbers of at most so many bits.
    fn add_small(&mut self, entries: Entries<'_>, values: &[i64], valid: Option<&[bool]>, bits: u32) {
        let rows = entries.weights.map_or(values.len(), |w| w.iter().map(|w| *w as usize).sum());
        if !self.reserve(bits, rows) {
            let wide: Vec<i128> = values.iter().map(|v| i128::from(*v)).collect();
            return self.add_wide(entries, &wide, valid);
        }
        let sums = &mut self.small;
        match (entries.groups, entries.weights, valid) {
            (Groups::One, None, None) => sums[0] += values.iter().sum::<i64>(),
            (Groups::One, Some(weights), None) => {
                sums[0] += values.iter().zip(weights).map(|(v, w)| v * i64::from(*w)).sum::<i64>();
            }
            (Groups::Many(groups), None, None) => add_each(sums, groups, entries.coming, values),
            (Groups::InRuns(runs), None, None) => runs.each_sum(values, |group, sum| sums[group] += sum),
            (Groups::InRuns(_), Some(_), None) => return self.add_small(entries.one_by_one(), values, valid, bits),
            (Groups::Many(groups), Some(weights), None) => {
                for ((group, v), w) in groups.iter().zip(values).zip(weights) {
                    sums[*group as usize] += v * i64::from(*w);
                }
            }
            (.., Some(valid)) => {
                let entries = entries.one_by_one();
                for (i, v) in values.iter().enumerate().filter(|(i, _)| valid[*i]) {
                    sums[entries.group(i)] += v * entries.weight(i) as i64;
                    if let Some(count) = self.counts.get_mut(entries.group(i)) {
                        *count += entries.weight(i);
                    }
                }
                return;
            }
        }
        if !self.counts.is_empty() {
            entries.count(values.len(), &mut self.counts);
        }
    }

    /// Takes over the sums of another one, group by group as `at` says.
    fn take_over(&mut self, other: &ExactSums, at: impl Fn(usize) -> usize) {
        let used = HEADROOM - other.headroom;
        if self.wide.is_empty() && other.wide.is_empty() && used <= self.headroom {
            self.headroom -= used;
            other.small.iter().enumerate().for_each(|(i, sum)| self.small[at(i)] += sum);
        } else {
            self.flush();
            for i in 0..other.small.len() {
                self.wide[at(i)] = self.wide[at(i)].saturating_add(other.sum(i));
            }
        }
        for (i, count) in other.counts.iter().enumerate() {
            self.counts[at(i)] += count;
        }
    }

    fn sum(&self, group: usize) -> i128 {
        i128::from(self.small[group]).saturating_add(self.wide.get(group).copied().unwrap_or(0))
    }
}

impl State for ExactSums {
    fn resize(&mut self, groups: usize) {
        self.small.resize(groups, 0);
        if is_counted(&self.spec) {
            self.counts.resize(groups, 0);
        }
        if !self.wide.is_empty() {
            self.wide.resize(groups, 0);
        }
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        match &first.data {
            Data::I64(values) => self.add_small(entries, values, first.valid.as_deref(), bits_of(values)),
            _ => self.add_wide(entries, &first.to_i128(), first.valid.as_deref()),
        }
    }

    /// What is null adds nothing, so that only counting asks which numbers are there.
    fn add_exact_or_null(&mut self, entries: Entries<'_>, values: &[i64], valid: &[bool]) {
        let bits = bits_of(values);
        let counts = std::mem::take(&mut self.counts);
        self.add_small(entries, values, None, bits);
        self.counts = counts;
        if self.counts.is_empty() {
            return;
        }
        match (entries.groups, entries.weights) {
            (Groups::One, None) => self.counts[0] += valid.iter().map(|v| u64::from(*v)).sum::<u64>(),
            (Groups::InRuns(runs), None) => runs.each(|group, rows| {
                self.counts[group] += valid[rows].iter().map(|v| u64::from(*v)).sum::<u64>();
            }),
            (Groups::Many(groups), None) => {
                groups.iter().zip(valid).for_each(|(g, v)| self.counts[*g as usize] += u64::from(*v));
            }
            (_, Some(_)) => {
                let entries = entries.one_by_one();
                for (i, _) in valid.iter().enumerate().filter(|(_, v)| **v) {
                    self.counts[entries.group(i)] += entries.weight(i);
                }
            }
        }
    }

    fn add_exact(&mut self, entries: Entries<'_>, values: &[i64], bits: u32) {
        self.add_small(entries, values, None, bits);
    }

    /// Adds numbers that are all there to groups of which there are many: going to a group's places costs more than what
    /// is done there. False where this is not the way.
    fn add_and_mark(&mut self, groups: &[u32], values: &[i64], bits: u32, seen: &mut [bool]) -> bool {
        if !self.counts.is_empty() || !self.reserve(bits, values.len()) {
            return false;
        }
        for (group, v) in groups.iter().zip(values) {
            self.small[*group as usize] += v;
            seen[*group as usize] = true;
        }
        true
    }

    fn add_total(&mut self, total: &SegmentTotal) {
        let Some(TotalSum::Exact(sum)) = total.sum else { return };
        self.wide.resize(self.small.len(), 0);
        self.wide[0] = self.wide[0].saturating_add(sum);
        if let Some(count) = self.counts.first_mut() {
            *count += total.count;
        }
    }

    fn counts(&self) -> Option<&[u64]> {
        is_counted(&self.spec).then_some(&self.counts)
    }

    fn take_counts(&mut self, counts: Vec<u64>) {
        self.counts = counts;
    }

    fn copied(&self, spec: &Spec) -> Option<Box<dyn State>> {
        if spec.kind == AggregateKind::Count {
            return Some(Box::new(Count::of(self.counts.clone())));
        }
        let (small, wide) = (with_room(&self.small), with_room(&self.wide));
        Some(Box::new(ExactSums {
            small,
            wide,
            counts: self.counts.clone(),
            headroom: self.headroom,
            spec: spec.clone(),
        }))
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(other) = same::<ExactSums>(other) else { return };
        match at.0 {
            None => self.take_over(&other, |group| group),
            Some(_) => self.take_over(&other, |group| at.of(group)),
        }
    }

    fn finish(self: Box<Self>, seen: &[bool]) -> Result<Vector, String> {
        finish(*self, seen)
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// A copy with room for one more: the result over no rows.
fn with_room<T: Copy>(values: &[T]) -> Vec<T> {
    let mut copy = Vec::with_capacity(values.len() + 1);
    copy.extend_from_slice(values);
    copy
}

/// Sums, or means, of all groups, and after them the result over no rows.
fn finish(sums: ExactSums, seen: &[bool]) -> Result<Vector, String> {
    let (groups, spec) = (sums.small.len(), &sums.spec);
    if spec.kind == AggregateKind::Avg {
        let mean = |g: usize| exact::to_f64(sums.sum(g), spec.input.scale()) / sums.counts[g] as f64;
        return Ok(floats((0..groups).map(|g| if sums.counts[g] == 0 { f64::NAN } else { mean(g) })));
    }
    let mut valid: Vec<bool> = zeros(groups);
    if spec.nullable {
        valid.iter_mut().zip(&sums.counts).for_each(|(valid, n)| *valid = *n > 0);
    } else {
        valid.copy_from_slice(&seen[..groups]);
    }
    valid.push(false);
    if sums.wide.is_empty() {
        let mut values = sums.small;
        values.push(0);
        return Ok(Vector::with_validity(Data::I64(values), valid));
    }
    let mut values = Vec::with_capacity(groups + 1);
    for g in 0..groups {
        values.push(exact::checked(Some(sums.sum(g))).ok_or("the sum has more than 38 digits")?);
    }
    values.push(0);
    let data = match values.iter().map(|v| i64::try_from(*v)).collect::<Result<Vec<_>, _>>() {
        Ok(small) => Data::I64(small),
        Err(_) => Data::I128(values),
    };
    Ok(Vector::with_validity(data, valid))
}

#[cfg(test)]
mod tests {
    use super::super::entries::RunGroups;
    use super::*;
    use cubrel_value::Type;

    /// Sums of which it has to be known how many values there are.
    fn counted(groups: usize) -> ExactSums {
        let ty = Type::Int;
        let spec = Spec {
            kind: AggregateKind::Sum,
            input: ty,
            inputs: vec![ty],
            order: Vec::new(),
            constant: None,
            ty,
            coded: None,
            combined: None,
            nullable: true,
            counted_by: None,
        };
        ExactSums::new(&spec, groups)
    }

    #[test]
    fn sums_of_runs_are_the_sums_of_their_rows() {
        let runs = RunGroups::new(vec![2, 3, 700, 1000], vec![1, 0, 1, 2]);
        for scale in [1i64, 1 << 55] {
            let values: Vec<i64> = (0..1000).map(|i| (i % 37 - 11) * scale).collect();
            let (valid, weights): (Vec<bool>, Vec<u32>) = (0..1000).map(|i| (i % 3 != 0, 1 + i as u32 % 5)).unzip();
            for (valid, weights) in [(None, None), (Some(valid.as_slice()), None), (None, Some(weights.as_slice()))] {
                let sums = |groups| {
                    let mut sums = counted(3);
                    sums.add_small(Entries { weights, ..Entries::from(groups) }, &values, valid, bits_of(&values));
                    (0..3).map(|group| (sums.sum(group), sums.counts[group])).collect::<Vec<_>>()
                };
                assert_eq!(sums(Groups::InRuns(&runs)), sums(Groups::Many(runs.of_rows())), "{scale}");
            }
        }
    }

    #[test]
    fn null_adds_nothing_and_is_not_counted() {
        let runs = RunGroups::new(vec![2, 3, 700, 1000], vec![1, 0, 1, 2]);
        for scale in [1i64, 1 << 55] {
            let valid: Vec<bool> = (0..1000).map(|i| i % 3 != 0).collect();
            let values: Vec<i64> =
                (0..1000).map(|i| if valid[i as usize] { (i % 37 - 11) * scale } else { 0 }).collect();
            let weights: Vec<u32> = (0..1000).map(|i| 1 + i % 5).collect();
            for weights in [None, Some(weights.as_slice())] {
                for groups in [Groups::InRuns(&runs), Groups::Many(runs.of_rows()), Groups::One] {
                    let entries = Entries { weights, ..Entries::from(groups) };
                    let (mut told, mut expected) = (counted(3), counted(3));
                    told.add_exact_or_null(entries, &values, &valid);
                    expected.add_small(entries.one_by_one(), &values, Some(&valid), bits_of(&values));
                    let all = |sums: &ExactSums| (0..3).map(|g| (sums.sum(g), sums.counts[g])).collect::<Vec<_>>();
                    assert_eq!(all(&told), all(&expected), "{scale} {weights:?}");
                }
            }
        }
    }

    #[test]
    fn sums_of_parts_are_merged_with_and_without_room_in_64_bits() {
        for value in [5i64, -3, i64::MAX / 3, i64::MIN / 3] {
            for to in [None, Some([1u32, 0])] {
                let part = |times: usize| {
                    let mut sums = counted(2);
                    let many = Entries::from(Groups::Many(&[0, 1]));
                    (0..times).for_each(|_| sums.add_small(many, &[value, 7], None, bits_of(&[value, 7])));
                    sums
                };
                let (mut all, more) = (part(4), part(9));
                match to {
                    None => all.take_over(&more, |i| i),
                    Some(to) => all.take_over(&more, |i| to[i] as usize),
                }
                let (value, moved) = (i128::from(value), to.is_some());
                let (first, second) = if moved { (4 * value + 63, 28 + 9 * value) } else { (13 * value, 91) };
                assert_eq!((all.sum(0), all.sum(1), all.counts), (first, second, vec![13, 13]), "{value} {to:?}");
            }
        }
    }
}
