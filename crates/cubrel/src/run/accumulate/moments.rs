//! Standard deviations and variances.
//!
//! Source: Welford's method, merged as by Chan, Golub and LeVeque, "Updating Formulae and a Pairwise Algorithm for Computing
//! Sample Variances" (1979).

use std::any::Any;

use super::entries::Entries;
use super::spec::{Spec, floats};
use super::state::{At, State, same};
use crate::formula::typed::AggregateKind;
use crate::value::Vector;

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

impl State for Moments {
    fn resize(&mut self, groups: usize) {
        self.of_groups.resize(groups, Moment::default());
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(first) = vectors.first() else { return };
        let (entries, values) = (entries.one_by_one(), first.to_f64(self.spec.input));
        let valid = (0..first.len()).filter(|i| first.is_valid(*i));
        valid.for_each(|i| self.of_groups[entries.group(i)].add(values[i], entries.weight(i) as f64));
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
