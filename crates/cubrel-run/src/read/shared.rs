//! Aggregates of a read that take what another one of it has: a sum, a mean and a count of the same are found out once, and how many
//! rows each group has is counted once.

use std::collections::HashMap;
use std::collections::hash_map::Entry;

use super::super::Options;
use super::super::accumulate::{Accumulator, Spec};
use super::super::compiled::RowCompiler;
use super::super::tables::Tables;
use super::inputs::{Feed, feed};
use cubrel_formula::typed::AggregateKind::{Avg, Count, Sum};
use cubrel_plan::{Read, ReadAggregate, RowExpr};

/// What a read's aggregates are fed with.
pub(super) fn feeds(
    tables: Tables<'_>,
    read: &Read,
    compiler: &RowCompiler<'_>,
    options: &Options,
) -> Vec<(Spec, Feed)> {
    let mut feeds: Vec<(Spec, Feed)> =
        read.aggregates.iter().map(|a| feed(tables, read.table, a, compiler, options)).collect();
    if options.hoist {
        share(&read.aggregates, &mut feeds);
    }
    feeds
}

/// Tells which aggregates of a read take from others.
fn share(plans: &[ReadAggregate], made: &mut [(Spec, Feed)]) {
    share_sums(plans, made);
    share_counts(made);
}

/// A mean also counts, so that it has all that a sum of the same needs; and where some are null, a sum counts as well.
fn share_sums(plans: &[ReadAggregate], made: &mut [(Spec, Feed)]) {
    let mut first: HashMap<&[RowExpr], usize> = HashMap::new();
    for (place, plan) in plans.iter().enumerate().filter(|(_, plan)| matches!(plan.kind, Sum | Avg)) {
        match first.entry(plan.args.as_slice()) {
            Entry::Vacant(none) => _ = none.insert(place),
            Entry::Occupied(mut there) if plan.kind == Avg && plans[*there.get()].kind == Sum => {
                _ = there.insert(place)
            }
            Entry::Occupied(_) => {}
        }
    }
    for (place, plan) in plans.iter().enumerate() {
        let Some(holder) = first.get(plan.args.as_slice()).copied() else { continue };
        let has_it = match plan.kind {
            Sum | Avg => holder != place,
            Count => made[holder].0.nullable,
            _ => false,
        };
        if has_it {
            made[place].1 = Feed::As(holder);
        }
    }
}

/// Where none is null, there are as many values as rows.
fn share_counts(made: &mut [(Spec, Feed)]) {
    let is_mean = |(spec, feed): &(Spec, Feed)| {
        spec.kind == Avg && spec.input.is_exact() && !spec.nullable && !matches!(feed, Feed::As(_))
    };
    let by = made.iter().position(|(_, feed)| matches!(feed, Feed::Rows)).or_else(|| made.iter().position(is_mean));
    for (place, one) in made.iter_mut().enumerate().filter(|(_, one)| is_mean(one)) {
        one.0.counted_by = by.filter(|by| *by != place);
    }
}

/// The aggregates of a read with what they take from others.
pub(super) fn completed(made: &[(Spec, Feed)], mut accumulators: Vec<Accumulator>) -> Vec<Accumulator> {
    for (place, (spec, _)) in made.iter().enumerate() {
        if let Some(counts) = spec.counted_by.and_then(|by| accumulators[by].counts()).map(<[u64]>::to_vec) {
            accumulators[place].take_counts(counts);
        }
    }
    for (place, (spec, feed)) in made.iter().enumerate() {
        if let Feed::As(holder) = feed
            && let Some(same) = accumulators[*holder].copied(spec)
        {
            accumulators[place] = same;
        }
    }
    accumulators
}
