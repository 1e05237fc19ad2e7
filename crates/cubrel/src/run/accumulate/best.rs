//! `first` and `last`: the value where another one is smallest or greatest.

use std::any::Any;

use super::entries::Entries;
use super::results::{collected, compare_order, order_values};
use super::spec::Spec;
use super::state::{At, State, same};
use crate::formula::typed::AggregateKind;
use crate::value::{Value, Vector};

/// What a value is ordered by, and the value.
type Candidate = (Vec<Value>, Value);

#[derive(Debug)]
pub(super) struct Best {
    of_groups: Vec<Option<Candidate>>,
    spec: Spec,
}

impl Best {
    pub(super) fn new(spec: &Spec, groups: usize) -> Best {
        Best { of_groups: vec![None; groups], spec: spec.clone() }
    }

    /// `first` keeps the smallest, `last` the greatest; of equal ones the smallest or greatest value. A row whose order is
    /// null comes after all others.
    fn keep(&mut self, group: usize, candidate: Candidate) {
        let best = &mut self.of_groups[group];
        let better = best.as_ref().is_none_or(|(order, value)| {
            let by_order = compare_order(&candidate.0, order, &self.spec.order);
            let compared = by_order.then_with(|| candidate.1.total_cmp(value));
            if self.spec.kind == AggregateKind::Last { compared.is_gt() } else { compared.is_lt() }
        });
        if better {
            *best = Some(candidate);
        }
    }
}

impl State for Best {
    fn grow(&mut self, groups: usize) {
        self.of_groups.resize(groups, None);
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some((first, order)) = vectors.split_first() else { return };
        let entries = entries.one_by_one();
        for i in (0..first.len()).filter(|i| first.is_valid(*i)) {
            let candidate = (order_values(order, &self.spec.order, i), first.get(i, self.spec.input));
            self.keep(entries.group(i), candidate);
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(Best { of_groups, .. }) = same(other) else { return };
        at.each(of_groups, |group, candidate| {
            if let Some(candidate) = candidate {
                self.keep(group, candidate);
            }
        });
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let value = |best: Option<Candidate>| best.map_or(Value::Null, |(_, value)| value);
        Ok(collected(self.of_groups.into_iter().map(value), self.spec.ty))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
