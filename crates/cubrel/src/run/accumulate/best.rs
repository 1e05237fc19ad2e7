//! `first` and `last`: the value where another one is smallest or greatest.

use std::any::Any;
use std::cmp::Ordering;

use super::entries::Entries;
use super::results::{collected, compare_order, compare_row, order_values};
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
    fn is_better(&self, compared: Ordering) -> bool {
        if self.spec.kind == AggregateKind::Last { compared.is_gt() } else { compared.is_lt() }
    }
}

impl State for Best {
    fn resize(&mut self, groups: usize) {
        self.of_groups.resize(groups, None);
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some((first, order)) = vectors.split_first() else { return };
        let entries = entries.one_by_one();
        for i in (0..first.len()).filter(|i| first.is_valid(*i)) {
            let (group, value) = (entries.group(i), first.get(i, self.spec.input));
            // Most rows are not better: what they are ordered by is looked at where it stands.
            let better = self.of_groups[group].as_ref().is_none_or(|(best, of)| {
                let by_order = compare_row(order, i, best, &self.spec.order);
                self.is_better(by_order.then_with(|| value.total_cmp(of)))
            });
            if better {
                self.of_groups[group] = Some((order_values(order, &self.spec.order, i), value));
            }
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(Best { of_groups, .. }) = same(other) else { return };
        at.each(of_groups, |group, candidate| {
            let Some((by, value)) = candidate else { return };
            let better = self.of_groups[group].as_ref().is_none_or(|(best, of)| {
                let by_order = compare_order(&by, best, &self.spec.order);
                self.is_better(by_order.then_with(|| value.total_cmp(of)))
            });
            if better {
                self.of_groups[group] = Some((by, value));
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
