//! The leaves of a plan, wherever they stand.

use super::query::{GridPart, QueryPlan};
use super::rows::ParameterId;
use super::scope::Key;
use super::tree::{Assembly, Bound, Domain, Leaf, ReadRef};

/// What is done on the way.
pub(super) trait Visit {
    /// With a leaf, after what is inside it.
    fn leaf(&mut self, _leaf: &mut Leaf) {}
    /// With a reference to a read.
    fn read(&mut self, _read: &mut ReadRef) {}
}

/// Takes a visit to all leaves and references of a plan.
pub(super) type Each<'a> = dyn FnMut(&mut dyn Visit) + 'a;

/// Goes through all leaves and references of a plan.
pub(super) fn each(plan: &mut QueryPlan, visit: &mut dyn Visit) {
    match plan {
        QueryPlan::Grid(plan) => {
            plan.outer.iter_mut().for_each(|(_, value)| bound(value, visit));
            plan.parts.iter_mut().for_each(|p| part(p, visit));
            for judge in &mut plan.judges {
                judge.having.iter_mut().for_each(|a| assembly(a, visit));
                judge.order.iter_mut().flatten().for_each(|(a, _)| assembly(a, visit));
            }
            plan.others.iter_mut().flat_map(|o| &mut o.parts).for_each(|p| part(p, visit));
        }
        QueryPlan::Records(plan) => {
            plan.outer.iter_mut().for_each(|(_, value)| bound(value, visit));
            plan.items.iter_mut().for_each(|(_, a)| assembly(a, visit));
            plan.order.iter_mut().for_each(|(a, ..)| assembly(a, visit));
        }
    }
}

fn part(part: &mut GridPart, visit: &mut dyn Visit) {
    domain(&mut part.domain, visit);
    part.items.iter_mut().for_each(|a| assembly(a, visit));
}

fn domain(domain: &mut Domain, visit: &mut dyn Visit) {
    for group in &mut domain.groups {
        visit.read(&mut group.read);
        group.null_reads.iter_mut().for_each(|(read, _)| visit.read(read));
    }
}

/// The values from outside that a plan has, and what each is computed from.
pub fn outer_values(plan: &QueryPlan) -> Vec<(ParameterId, Bound)> {
    struct Found(Vec<(ParameterId, Bound)>);
    impl Visit for Found {
        fn leaf(&mut self, leaf: &mut Leaf) {
            let Leaf::Bind { values, body } = leaf else { return };
            let dims = &body.scope.dims[body.scope.dims.len().saturating_sub(values.len())..];
            for (value, dim) in values.iter().zip(dims) {
                if let Key::Value(slot) = dim.key {
                    self.0.push((slot, value.clone()));
                }
            }
        }
    }
    let mut found = Found(match plan {
        QueryPlan::Grid(plan) => plan.outer.clone(),
        QueryPlan::Records(plan) => plan.outer.clone(),
    });
    each(&mut plan.clone(), &mut found);
    found.0
}

/// Goes through the leaves and references of an assembly.
pub(super) fn assembly(assembly: &mut Assembly, visit: &mut dyn Visit) {
    assembly.leaves.iter_mut().for_each(|l| leaf(l, visit));
}

fn bound(value: &mut Bound, visit: &mut dyn Visit) {
    match value {
        Bound::Value(value) => assembly(value, visit),
        Bound::Set(set) => {
            domain(&mut set.domain, visit);
            assembly(&mut set.figure, visit);
        }
    }
}

fn leaf(leaf: &mut Leaf, visit: &mut dyn Visit) {
    match leaf {
        Leaf::Read(read, _) => visit.read(read),
        Leaf::Dim(_) | Leaf::Current { .. } => {}
        Leaf::Part(body) | Leaf::Project { body, .. } | Leaf::Member(body, _) => assembly(body, visit),
        Leaf::Bind { values, body } => {
            values.iter_mut().for_each(|v| bound(v, visit));
            assembly(body, visit);
        }
        Leaf::Fold(fold) => {
            domain(&mut fold.domain, visit);
            let parts = fold.filter.iter_mut().chain(&mut fold.args).chain(fold.order.iter_mut().map(|(a, _)| a));
            parts.for_each(|a| assembly(a, visit));
        }
        Leaf::Rank(rank) => {
            assembly(&mut rank.mine, visit);
            rank.single.iter_mut().for_each(|l| self::leaf(l, visit));
            domain(&mut rank.domain, visit);
            assembly(&mut rank.figure, visit);
        }
        Leaf::Period(period) => {
            visit.read(&mut period.visible);
            period.with_rows.iter_mut().for_each(|read| visit.read(read));
            assembly(&mut period.body, visit);
        }
        Leaf::OverDays(over) => {
            visit.read(&mut over.by_day);
            visit.read(&mut over.by_set);
        }
    }
    visit.leaf(leaf);
}
