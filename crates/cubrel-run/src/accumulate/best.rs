//! `first` and `last`: the value where another one is smallest or greatest.

use std::any::Any;
use std::cmp::Ordering;

use super::entries::Entries;
use super::keyed::{NO_KEY, keys_of, value_of};
use super::results::{NONE, collected, compare_order, compare_row, decoded, order_values};
use super::spec::Spec;
use super::state::{At, State, same};
use cubrel_formula::typed::AggregateKind;
use cubrel_value::{Type, Value, Vector};

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

    fn keep(&mut self, group: usize, candidate: Option<Candidate>) {
        let Some((by, value)) = candidate else { return };
        let better = self.of_groups[group].as_ref().is_none_or(|(best, of)| {
            let by_order = compare_order(&by, best, &self.spec.order);
            self.is_better(by_order.then_with(|| value.total_cmp(of)))
        });
        if better {
            self.of_groups[group] = Some((by, value));
        }
    }
}

/// As [`Best`] for numbers and days that are ordered by one or two of these each: by keys, which are compared as they are.
#[derive(Debug)]
pub(super) struct BestKeys {
    of_groups: Vec<RankKeys>,
    /// Those that have no keys; without groups as long as there are none.
    others: Best,
}

/// What one is ordered by, and its value, each as a key that is smaller the better it is. Where it is ordered by one thing alone, the
/// second is the same for all.
type RankKeys = [u64; 3];

/// After this comes nothing: no value yet.
const NOTHING_YET: RankKeys = [NO_KEY; 3];

impl BestKeys {
    /// `None` where values or what they are ordered by have no keys.
    pub(super) fn new(spec: &Spec, groups: usize) -> Option<BestKeys> {
        let has_keys = |ty: Type| ty.is_number() || matches!(ty, Type::Date | Type::Timestamp);
        let orders = &spec.order;
        (matches!(orders.len(), 1 | 2) && has_keys(spec.input) && orders.iter().all(|(ty, _)| has_keys(*ty)))
            .then(|| BestKeys { of_groups: vec![NOTHING_YET; groups], others: Best::new(spec, 0) })
    }

    fn is_last(&self) -> bool {
        self.others.spec.kind == AggregateKind::Last
    }

    /// The keys of one part of the order. Null comes after all others: it has the largest for `first` and the smallest for `last`.
    fn order_keys(&self, by: &Vector, descending: bool) -> Option<Vec<u64>> {
        let mut keys = keys_of(by, descending != self.is_last())?;
        if !self.is_last() {
            return Some(keys);
        }
        keys.iter_mut().for_each(|key| *key = if *key == NO_KEY { 0 } else { *key });
        let nulls = by.valid.as_ref().map_or(0, |valid| valid.iter().filter(|valid| !**valid).count());
        // Nothing else may have null's.
        (keys.iter().filter(|key| **key == 0).count() == nulls).then_some(keys)
    }

    fn keys(&self, vectors: &[Vector]) -> Option<Vec<RankKeys>> {
        let (first, by) = vectors.split_first()?;
        let parts = by.iter().zip(&self.others.spec.order);
        let mut parts = parts.map(|(by, (_, descending))| self.order_keys(by, *descending));
        let (major, minor) = (parts.next()??, parts.next());
        let minor = match minor {
            Some(minor) => minor?,
            None => vec![0; first.len()],
        };
        let values = keys_of(first, self.is_last())?;
        Some(major.into_iter().zip(minor).zip(values).map(|((major, minor), value)| [major, minor, value]).collect())
    }

    /// The value of some keys.
    fn value(&self, keys: RankKeys) -> Value {
        value_of(keys[2], self.is_last(), self.others.spec.input)
    }

    /// What some keys stand for.
    fn candidate(&self, keys: RankKeys) -> Option<Candidate> {
        let by = |(key, (ty, descending)): (&u64, &(Type, bool))| {
            let key = if self.is_last() && *key == 0 { NO_KEY } else { *key };
            value_of(key, *descending != self.is_last(), *ty)
        };
        (keys[2] != NO_KEY).then(|| (keys.iter().zip(&self.others.spec.order).map(by).collect(), self.value(keys)))
    }

    /// Those without keys, with room for all groups.
    fn others(&mut self) -> &mut Best {
        self.others.resize(self.of_groups.len());
        &mut self.others
    }
}

/// The values of all groups, which are codes where these were fed.
fn results(values: impl Iterator<Item = Value>, spec: &Spec) -> Vector {
    let code = |value| if let Value::Int(code) = value { code as u64 } else { NONE };
    match spec.coded {
        Some(_) => decoded(spec, values.map(code).collect()),
        None => collected(values, spec.ty),
    }
}

impl State for BestKeys {
    fn resize(&mut self, groups: usize) {
        self.of_groups.resize(groups, NOTHING_YET);
    }

    fn add_values(&mut self, entries: Entries<'_>, vectors: &[Vector]) {
        let Some(keys) = self.keys(vectors) else { return self.others().add_values(entries, vectors) };
        let entries = entries.one_by_one();
        for (i, keys) in keys.into_iter().enumerate() {
            let best = &mut self.of_groups[entries.group(i)];
            if keys < *best && keys[2] != NO_KEY {
                *best = keys;
            }
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(BestKeys { of_groups, others }) = same(other) else { return };
        at.each(of_groups, |group, keys| self.of_groups[group] = keys.min(self.of_groups[group]));
        if !others.of_groups.is_empty() {
            self.others().merge(Box::new(others), at);
        }
    }

    fn finish(mut self: Box<Self>, seen: &[bool]) -> Result<Vector, String> {
        if self.others.of_groups.is_empty() {
            return Ok(results(self.of_groups.iter().map(|keys| self.value(*keys)), &self.others.spec));
        }
        for group in 0..self.of_groups.len() {
            let candidate = self.candidate(self.of_groups[group]);
            self.others().keep(group, candidate);
        }
        Box::new(self.others).finish(seen)
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
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
            let group = entries.group(i);
            // Most rows are not better: what they are ordered by is looked at where it stands.
            let better = self.of_groups[group].as_ref().is_none_or(|(best, of)| {
                let by_order = compare_row(order, i, best, &self.spec.order);
                self.is_better(by_order.then_with(|| first.get(i, self.spec.input).total_cmp(of)))
            });
            if better {
                let by = order_values(order, &self.spec.order, i);
                self.of_groups[group] = Some((by, first.get(i, self.spec.input)));
            }
        }
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(Best { of_groups, .. }) = same(other) else { return };
        at.each(of_groups, |group, candidate| self.keep(group, candidate));
    }

    fn finish(self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        let value = |best: Option<Candidate>| best.map_or(Value::Null, |(_, value)| value);
        Ok(results(self.of_groups.into_iter().map(value), &self.spec))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
