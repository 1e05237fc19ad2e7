//! What `having` and a limit drop, told from the groups of a read as soon as it has gone through the rows: of groups that go,
//! nobody looks up what they are called, nor makes cells of them.

use super::super::RunError;
use super::super::assemble::Executor;
use super::super::first::First;
use cubrel_formula::scalar::Leaves;
use cubrel_plan::query::{GridPlan, Judge};
use cubrel_plan::{Assembly, Leaf, ReadId};
use cubrel_value::Vector;

/// Does the read that a grid is made of, where it is made of one alone, for the groups that stay.
pub(super) fn drop_early(executor: &Executor<'_>, plan: &GridPlan) {
    let Some((read, judge)) = only_read(plan) else { return };
    let (reads, options) = (executor.reads(), executor.options());
    let rows = reads.tables().rows(reads.read_plan(read).table);
    if options.optimize && rows > options.wanted_above {
        reads.do_where(read, &|columns, groups| stays(plan, judge, columns, groups));
    }
}

/// The read that all figures of a grid come from, each line from a group of its own, and what judges the lines.
fn only_read(plan: &GridPlan) -> Option<(ReadId, &Judge)> {
    let ([part], Some(judge)) = (plan.parts.as_slice(), plan.judges.first()) else { return None };
    let plain = !plan.totals && !plan.with_empty && plan.others.is_none() && part.readings.is_empty();
    let by_line = plan.row_axes == plan.axes.len() && judge.axes == plan.row_axes;
    let drops = judge.having.is_some() || plan.limit.as_ref().is_some_and(|(_, within)| within.is_empty());
    if !plain || !by_line || !drops || plan.axes.is_empty() {
        return None;
    }
    let read = part.items.iter().find_map(first_read)?;
    let of_groups = |assembly: &Assembly| looks_at_groups(assembly, read, plan.axes.len(), false);
    // What order says besides may take the axes, but nothing else of the read.
    let order = |assembly: &Assembly| looks_at_groups(assembly, read, plan.axes.len(), true);
    let all = part.items.iter().chain(&judge.having).all(of_groups)
        && judge.order.iter().flatten().all(|(assembly, _)| order(assembly));
    all.then_some((read, judge))
}

fn first_read(assembly: &Assembly) -> Option<ReadId> {
    assembly.leaves.iter().find_map(|leaf| match leaf {
        Leaf::Read(read, _) => Some(read.read),
        Leaf::Part(body) => first_read(body),
        _ => None,
    })
}

/// Whether an assembly takes its values from the groups of a read by so many keys, and from nowhere else but axes.
fn looks_at_groups(assembly: &Assembly, read: ReadId, keys: usize, or_axes: bool) -> bool {
    assembly.leaves.iter().all(|leaf| match leaf {
        Leaf::Read(of, _) => of.read == read && of.outer.is_empty() && of.dims.len() == keys,
        Leaf::Part(body) => looks_at_groups(body, read, keys, or_axes),
        Leaf::Dim(_) => or_axes,
        _ => false,
    })
}

/// The groups that stay; `None` for all, also where something cannot be computed: that is told when the lines are.
fn stays(plan: &GridPlan, judge: &Judge, columns: &[Vector], groups: &[u32]) -> Option<Vec<u32>> {
    let mut stay = groups.to_vec();
    if let Some(having) = &judge.having {
        let truths = of_groups(having, columns, &stay).ok()?.truths();
        let mut truths = truths.iter();
        stay.retain(|_| truths.next() == Some(&true));
    }
    if let Some((count, within)) = &plan.limit
        && let (true, Some(Some((first, _))), [descends, ..]) =
            (within.is_empty(), judge.order.first(), plan.descending.as_slice())
        && *count < stay.len()
        && let Ok(values) = of_groups(first, columns, &stay)
    {
        let shown = shown(&plan.parts.first()?.items, columns, &stay)?;
        let keys = values.order_keys(*descends);
        let mut among_first = First::new(*count);
        let offered = stay.iter().zip(keys).zip(shown).filter(|(_, shown)| *shown);
        offered.for_each(|((group, key), _)| among_first.offer(key, *group));
        stay = among_first.finish();
        stay.sort_unstable();
    }
    Some(stay)
}

/// Whether a line of each group has a value for some item.
fn shown(items: &[Assembly], columns: &[Vector], groups: &[u32]) -> Option<Vec<bool>> {
    let mut shown = vec![false; groups.len()];
    for item in items {
        let values = of_groups(item, columns, groups).ok()?;
        shown.iter_mut().enumerate().for_each(|(place, shown)| *shown |= values.is_valid(place));
    }
    Some(shown)
}

/// What an assembly says of groups.
fn of_groups(assembly: &Assembly, columns: &[Vector], groups: &[u32]) -> Result<Vector, RunError> {
    assembly.scalar.eval(&GroupLeaves { assembly, columns, groups }, groups.len())
}

struct GroupLeaves<'a> {
    assembly: &'a Assembly,
    columns: &'a [Vector],
    groups: &'a [u32],
}

impl Leaves for GroupLeaves<'_> {
    type Error = RunError;

    fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, RunError> {
        let some: Vec<u32>;
        let groups = if slots.len() == self.groups.len() {
            self.groups
        } else {
            some = slots.iter().map(|slot| self.groups[*slot as usize]).collect();
            &some
        };
        match &self.assembly.leaves[leaf] {
            Leaf::Read(_, aggregate) => Ok(self.columns[aggregate.index()].gather(groups)),
            Leaf::Part(body) => of_groups(body, self.columns, groups),
            _ => Err(RunError::Limit("this is not told by groups".into())),
        }
    }
}
