//! Sums and means of doubles. Each batch is added up in an order that depends on nothing but its rows, so that they come out
//! the same on every machine and any number of threads.

use std::any::Any;

use super::count::Count;
use super::entries::{Entries, Groups};
use super::spec::{Spec, floats};
use super::state::{At, State, same};
use cubrel_formula::typed::AggregateKind;
use cubrel_store::{SegmentTotal, TotalSum};
use cubrel_value::{Data, Vector};

#[derive(Debug)]
pub(super) struct FloatSums {
    sums: Vec<f64>,
    counts: Vec<u64>,
    is_mean: bool,
    /// Whether a value can be null, that is not a number.
    nullable: bool,
}

impl FloatSums {
    pub(super) fn new(groups: usize, spec: &Spec) -> FloatSums {
        let is_mean = spec.kind == AggregateKind::Avg;
        FloatSums { sums: vec![0.0; groups], counts: vec![0; groups], is_mean, nullable: spec.nullable }
    }

    /// Adds values to one group.
    fn add_to_one(&mut self, group: usize, values: &[f64]) {
        let (sum, count) = if self.nullable { added_some(values) } else { (added(values), values.len() as u64) };
        self.sums[group] += sum;
        self.counts[group] += count;
    }
}

/// What the doubles of a batch come to in each group, and how many there are; not a number stands for null.
pub(super) fn sums_and_counts(groups: usize, entries: Entries<'_>, values: &[f64]) -> (Vec<f64>, Vec<u64>) {
    let mut all = FloatSums { sums: vec![0.0; groups], counts: vec![0; groups], is_mean: false, nullable: true };
    all.add_floats(entries, values);
    (all.sums, all.counts)
}

/// Sums that are kept side by side: each waits for what was just added to it.
const LANES: usize = 8;

fn added(values: &[f64]) -> f64 {
    // Short runs have nothing to add up side by side.
    if values.len() < LANES {
        return 0.0 + values.iter().sum::<f64>();
    }
    let mut lanes = [0.0; LANES];
    let (chunks, rest) = values.as_chunks::<LANES>();
    for chunk in chunks {
        lanes.iter_mut().zip(chunk).for_each(|(lane, v)| *lane += v);
    }
    lanes.iter().sum::<f64>() + rest.iter().sum::<f64>()
}

/// The sum of those that are numbers, and how many are.
fn added_some(values: &[f64]) -> (f64, u64) {
    if values.len() < LANES {
        let some = values.iter().filter(|v| !v.is_nan());
        return (0.0 + some.clone().sum::<f64>(), some.count() as u64);
    }
    let (mut lanes, mut counts) = ([0.0; LANES], [0u64; LANES]);
    let (chunks, rest) = values.as_chunks::<LANES>();
    for chunk in chunks {
        for ((lane, count), v) in lanes.iter_mut().zip(&mut counts).zip(chunk) {
            *lane += if v.is_nan() { 0.0 } else { *v };
            *count += u64::from(!v.is_nan());
        }
    }
    let some = rest.iter().filter(|v| !v.is_nan());
    let count = counts.iter().sum::<u64>() + some.clone().count() as u64;
    (lanes.iter().sum::<f64>() + some.sum::<f64>(), count)
}

/// Few groups: doubles are added up in several places each, because adding to a place waits for what was just stored there.
const FEW_GROUPS: usize = 128;
const PLACES: usize = 4;

/// Adds each value to the sum of its group, and counts those that are numbers.
fn add_each(sums: &mut [f64], counts: &mut [u64], groups: &[u32], values: &[f64]) {
    if sums.len() > FEW_GROUPS || values.len() < FEW_GROUPS * PLACES {
        for (group, v) in groups.iter().zip(values) {
            let is_number = !v.is_nan();
            sums[*group as usize] += if is_number { *v } else { 0.0 };
            counts[*group as usize] += u64::from(is_number);
        }
        return;
    }
    let mut places = [[(0.0f64, 0u64); FEW_GROUPS]; PLACES];
    let (four_groups, last_groups) = groups.as_chunks::<PLACES>();
    let (four_values, last_values) = values.as_chunks::<PLACES>();
    for (groups, values) in four_groups.iter().zip(four_values) {
        for (place, (group, v)) in places.iter_mut().zip(groups.iter().zip(values)) {
            let (sum, count) = &mut place[*group as usize % FEW_GROUPS];
            let is_number = !v.is_nan();
            *sum += if is_number { *v } else { 0.0 };
            *count += u64::from(is_number);
        }
    }
    for place in &places {
        for ((sum, count), (more, number)) in sums.iter_mut().zip(counts.iter_mut()).zip(place) {
            *sum += more;
            *count += number;
        }
    }
    for (group, v) in last_groups.iter().zip(last_values).filter(|(_, v)| !v.is_nan()) {
        sums[*group as usize] += v;
        counts[*group as usize] += 1;
    }
}

impl State for FloatSums {
    fn resize(&mut self, groups: usize) {
        self.sums.resize(groups, 0.0);
        self.counts.resize(groups, 0);
    }

    fn add_floats(&mut self, entries: Entries<'_>, values: &[f64]) {
        match (entries.groups, entries.weights) {
            (Groups::One, None) => self.add_to_one(0, values),
            (Groups::InRuns(runs), None) => runs.each(|group, rows| self.add_to_one(group, &values[rows])),
            (Groups::Many(groups), None) => add_each(&mut self.sums, &mut self.counts, groups, values),
            (_, Some(_)) => {
                let entries = entries.one_by_one();
                for (i, v) in values.iter().enumerate().filter(|(_, v)| !v.is_nan()) {
                    self.sums[entries.group(i)] += v * entries.weight(i) as f64;
                    self.counts[entries.group(i)] += entries.weight(i);
                }
            }
        }
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let Data::F64(values) = &first.data else { return };
        let Some(valid) = &first.valid else { return self.add_floats(entries, values) };
        let some: Vec<f64> = values.iter().zip(valid).map(|(v, valid)| if *valid { *v } else { f64::NAN }).collect();
        self.add_floats(entries, &some);
    }

    fn add_total(&mut self, total: &SegmentTotal) {
        let Some(TotalSum::Float(sum)) = total.sum else { return };
        self.sums[0] += sum;
        self.counts[0] += total.count;
    }

    fn copied(&self, spec: &Spec) -> Option<Box<dyn State>> {
        if spec.kind == AggregateKind::Count {
            return Some(Box::new(Count::of(self.counts.clone())));
        }
        let is_mean = spec.kind == AggregateKind::Avg;
        Some(Box::new(FloatSums {
            sums: self.sums.clone(),
            counts: self.counts.clone(),
            is_mean,
            nullable: self.nullable,
        }))
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(FloatSums { sums, counts, .. }) = same(other) else { return };
        at.each(sums.into_iter().zip(counts), |group, (sum, count)| {
            self.sums[group] += sum;
            self.counts[group] += count;
        });
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let values = self.sums.iter().zip(&self.counts).map(|(sum, count)| match count {
            0 => f64::NAN,
            _ if self.is_mean => sum / *count as f64,
            _ => *sum,
        });
        Ok(floats(values))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

#[cfg(test)]
mod tests {
    use super::super::entries::RunGroups;
    use super::*;

    #[test]
    fn sums_in_several_places_are_the_sums_of_what_is_a_number() {
        for groups in [1u32, 7, 128, 129, 3000] {
            for rows in [0usize, 3, 511, 512, 1021, 4096] {
                let of_row: Vec<u32> = (0..rows as u32).map(|i| i.wrapping_mul(2_654_435_761) % groups).collect();
                // Small whole numbers, whose sums are the same in any order.
                let value = |i: usize| if i % 5 == 3 { f64::NAN } else { (i % 97) as f64 };
                let values: Vec<f64> = (0..rows).map(value).collect();
                let (mut sums, mut counts) = (vec![1.0; groups as usize], vec![2; groups as usize]);
                add_each(&mut sums, &mut counts, &of_row, &values);
                let (mut expected, mut number) = (vec![1.0; groups as usize], vec![2; groups as usize]);
                for (g, v) in of_row.iter().zip(&values).filter(|(_, v)| !v.is_nan()) {
                    expected[*g as usize] += v;
                    number[*g as usize] += 1;
                }
                assert_eq!((sums, counts), (expected, number), "{groups} groups, {rows} rows");
                let numbers: Vec<f64> = values.iter().copied().filter(|v| !v.is_nan()).collect();
                assert_eq!(added_some(&values), (added(&numbers), numbers.len() as u64), "{rows} rows");
            }
        }
    }

    #[test]
    fn rows_in_runs_and_with_weights_are_the_rows_that_they_stand_for() {
        let spec = Spec {
            kind: AggregateKind::Sum,
            input: cubrel_value::Type::Float,
            inputs: vec![cubrel_value::Type::Float],
            order: Vec::new(),
            constant: None,
            ty: cubrel_value::Type::Float,
            coded: None,
            combined: None,
            nullable: true,
            counted_by: None,
        };
        let runs = RunGroups::new(vec![2, 3, 700, 1000], vec![1, 0, 1, 2]);
        let values: Vec<f64> = (0..1000).map(|i| if i % 7 == 2 { f64::NAN } else { f64::from(i % 37) }).collect();
        let weights: Vec<u32> = (0..1000).map(|i| 1 + i % 5).collect();
        for weights in [None, Some(weights.as_slice())] {
            let sums = |groups| {
                let mut sums = FloatSums::new(3, &spec);
                sums.add_floats(Entries { weights, ..Entries::from(groups) }, &values);
                (sums.sums, sums.counts)
            };
            assert_eq!(sums(Groups::InRuns(&runs)), sums(Groups::Many(runs.of_rows())));
        }
    }
}
