//! Standard deviations and variances.
//!
//! Source: where a batch has several values of each group, their mean and then how far they are from it, in two passes; else Welford's method.
//! Both are merged as by Chan, Golub and LeVeque, "Updating Formulae and a Pairwise Algorithm for Computing
//! Sample Variances" (1979).

use std::any::Any;

use super::entries::{Entries, Groups};
use super::float::sums_and_counts;
use super::spec::{Spec, floats};
use super::state::{At, State, same};
use cubrel_formula::typed::AggregateKind;
use cubrel_value::Vector;

/// Count, mean and squared distance from it.
#[derive(Clone, Copy, Debug, Default)]
struct Moment {
    count: f64,
    mean: f64,
    squares: f64,
}

impl Moment {
    /// Takes the same number several times.
    fn add(&mut self, x: f64, times: f64) {
        self.count += times;
        let distance = x - self.mean;
        self.mean += distance * times / self.count;
        self.squares += times * distance * (x - self.mean);
    }

    fn merge(&mut self, other: Moment) {
        if other.count == 0.0 {
            return;
        }
        let count = self.count + other.count;
        let distance = other.mean - self.mean;
        self.squares += other.squares + distance * distance * self.count * other.count / count;
        self.mean += distance * other.count / count;
        self.count = count;
    }

    fn spread(self, kind: AggregateKind) -> f64 {
        let of_sample = matches!(kind, AggregateKind::StddevSamp | AggregateKind::VarSamp);
        let divisor = if of_sample { self.count - 1.0 } else { self.count };
        if divisor <= 0.0 {
            return f64::NAN;
        }
        let variance = self.squares / divisor;
        if matches!(kind, AggregateKind::StddevSamp | AggregateKind::StddevPop) { variance.sqrt() } else { variance }
    }
}

#[derive(Debug)]
pub(super) struct Moments {
    of_groups: Vec<Moment>,
    spec: Spec,
}

impl Moments {
    pub(super) fn new(spec: &Spec, groups: usize) -> Moments {
        Moments { of_groups: vec![Moment::default(); groups], spec: spec.clone() }
    }
}

/// From so many values of each group on they are looked at together: without a division for each of them.
const FEWEST: usize = 4;

impl Moments {
    /// Takes values, not a number for null, one after the other.
    fn add_each(&mut self, entries: Entries<'_>, values: &[f64]) {
        let some = values.iter().enumerate().filter(|(_, v)| !v.is_nan());
        some.for_each(|(i, v)| self.of_groups[entries.group(i)].add(*v, entries.weight(i) as f64));
    }

    /// Takes values, not a number for null, in two passes.
    fn add_batch(&mut self, entries: Entries<'_>, mut values: Vec<f64>) {
        let (sums, counts) = sums_and_counts(self.of_groups.len(), entries, &values);
        let means: Vec<f64> = sums.iter().zip(&counts).map(|(sum, count)| sum / (*count).max(1) as f64).collect();
        square_distances(entries.groups, &means, &mut values);
        let (squares, _) = sums_and_counts(self.of_groups.len(), entries, &values);
        for (moment, ((mean, count), squares)) in
            self.of_groups.iter_mut().zip(means.into_iter().zip(counts).zip(squares))
        {
            moment.merge(Moment { count: count as f64, mean, squares });
        }
    }
}

/// Puts in the place of each value the square of how far it is from the mean of its group.
fn square_distances(groups: Groups<'_>, means: &[f64], values: &mut [f64]) {
    let square = |v: &mut f64, mean: f64| *v = (*v - mean) * (*v - mean);
    match groups {
        Groups::One => values.iter_mut().for_each(|v| square(v, means[0])),
        Groups::Many(groups) => values.iter_mut().zip(groups).for_each(|(v, g)| square(v, means[*g as usize])),
        Groups::InRuns(runs) => {
            runs.each(|group, rows| values[rows].iter_mut().for_each(|v| square(v, means[group])));
        }
    }
}

impl State for Moments {
    fn resize(&mut self, groups: usize) {
        self.of_groups.resize(groups, Moment::default());
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let mut values = first.to_f64(self.spec.input);
        if let Some(valid) = &first.valid {
            values.iter_mut().zip(valid).for_each(|(v, valid)| *v = if *valid { *v } else { f64::NAN });
        }
        match self.of_groups.len() * FEWEST <= values.len() {
            true => self.add_batch(entries, values),
            false => self.add_each(entries.one_by_one(), &values),
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(Moments { of_groups, .. }) = same(other) else { return };
        at.each(of_groups, |group, moment| self.of_groups[group].merge(moment));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        Ok(floats(self.of_groups.into_iter().map(|moment| moment.spread(self.spec.kind))))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
