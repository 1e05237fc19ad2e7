//! The line for what a limit drops: `limit 5 within port.region others`.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::super::RunError;
use super::super::assemble::Executor;
use super::super::domain::expand;
use super::super::frame::{BoundValue, Frame, KeyColumn, Members};
use super::super::outside::outer_values;
use super::arrange::Arranged;
use super::lines::{Lines, OTHERS, TOTAL, null_groups};
use cubrel_plan::Key;
use cubrel_plan::query::{GridPlan, Others};
use cubrel_value::Type;

/// Adds the lines of the rest: for each combination of the axes within, under a filter on the combinations dropped.
pub(super) fn evaluate(
    executor: &Executor<'_>,
    plan: &GridPlan,
    others: &Others,
    base: &Frame,
    arranged: &Arranged,
    lines: &mut Lines,
) -> Result<(), RunError> {
    let mut groups: BTreeMap<Vec<u64>, Vec<Vec<u64>>> = BTreeMap::new();
    for (within, rest) in arranged.dropped(&others.within).zip(arranged.dropped(&others.rest)) {
        groups.entry(within).or_default().push(rest);
    }
    if groups.is_empty() {
        return Ok(());
    }
    let sets = groups.values().map(|list| {
        let mut list = list.clone();
        list.sort_unstable();
        list.dedup();
        BoundValue::Members(Arc::new(Members::Lines(list)))
    });
    let rest = KeyColumn::of_held(sets, Type::Null);
    let within = others.within.iter().enumerate().filter_map(|(i, axis)| {
        let column = plan.axes[*axis].column()?;
        Some(KeyColumn::of_codes(groups.keys().map(|k| k[i]).collect::<Vec<u64>>(), Key::Column(column)))
    });
    let outer = base.select(&vec![0; groups.len()]).with(std::iter::once(rest).chain(within));
    let held = outer_values(base, &plan.outer);
    let keys: Vec<&Vec<u64>> = groups.keys().collect();
    for part in &others.parts {
        let with_null = null_groups(executor, plan, part, &held)?;
        let expanded = expand(executor.reads(), &part.domain, &outer, &with_null, || Ok(None))?;
        let fixed = |axis: usize, cell: usize| {
            if others.rest.contains(&axis) {
                return OTHERS;
            }
            let place = others.within.iter().position(|a| *a == axis);
            place.map_or(TOTAL, |place| keys[expanded.parents[cell] as usize][place])
        };
        lines.take(executor, part, &expanded.frame, outer.dims.len(), plan.with_empty, fixed)?;
    }
    Ok(())
}
