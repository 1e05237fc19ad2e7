//! The cells of a grid that show, line by line: codes on the axes, values of the items.

use super::super::RunError;
use super::super::assemble::Executor;
use super::super::cells::Cells;
use super::super::compiled::Outer;
use super::super::domain::{expand, is_missed};
use super::super::frame::{Frame, SharedCodes};
use super::super::outside::outer_values;
use super::super::read::null_passes;
use std::sync::Arc;

use cubrel_plan::Assembly;
use cubrel_plan::query::{GridPart, GridPlan};
use cubrel_value::{Type, Value, Vector};

/// In place of a code: the axis is totalled.
pub(super) const TOTAL: u64 = u64::MAX;
/// In place of a code: the axis stands for what a limit drops.
pub(super) const OTHERS: u64 = u64::MAX - 1;

/// Lines, column by column.
pub(super) struct Lines {
    /// By axis, for each line its code, [`TOTAL`] or [`OTHERS`].
    pub(super) codes: Vec<SharedCodes>,
    /// Runs of lines that were evaluated together.
    pieces: Vec<EvaluatedLines>,
    count: usize,
}

/// Lines that were evaluated together: the types of items need not be those of other lines.
struct EvaluatedLines {
    /// The first line.
    start: usize,
    /// By item.
    items: Vec<(Vector, Type)>,
}

/// Whether the null combination is tried, for each group of a part's domain.
pub(super) fn null_groups(
    executor: &Executor<'_>,
    plan: &GridPlan,
    part: &GridPart,
    outer: Outer<'_>,
) -> Result<Vec<bool>, RunError> {
    let mut with_null = Vec::new();
    for (group, filters) in part.domain.groups.iter().zip(&part.null_filters) {
        let table = plan.reads[group.read.read].table;
        let mut null = !group.keys.is_empty() && is_missed(executor.reads(), table, &plan.both_ways);
        for filter in filters {
            null = null && null_passes(executor.tables(), filter, outer, executor.options())?;
        }
        with_null.push(null);
    }
    Ok(with_null)
}

impl Lines {
    pub(super) fn new(plan: &GridPlan) -> Lines {
        Lines { codes: vec![SharedCodes::default(); plan.axes.len()], pieces: Vec::new(), count: 0 }
    }

    pub(super) fn len(&self) -> usize {
        self.count
    }

    /// Whether no two lines have the same codes on all axes.
    pub(super) fn are_distinct(&self) -> bool {
        self.pieces.len() <= 1
    }

    /// What an item that says the same as `wanted` has on some lines, where all lines have been evaluated together.
    pub(super) fn known(&self, items: &[Assembly], wanted: &Assembly, lines: &[u32]) -> Option<Vector> {
        let [piece] = self.pieces.as_slice() else { return None };
        let place = items.iter().position(|item| item.bare() == wanted.bare())?;
        let (values, _) = &piece.items[place];
        Some(if lines.len() == self.count { values.clone() } else { values.gather(lines) })
    }

    /// The values of the items on one line.
    pub(super) fn figures(&self, line: usize) -> impl Iterator<Item = Value> {
        let piece = self.pieces.partition_point(|p| p.start <= line).checked_sub(1).map(|p| &self.pieces[p]);
        piece.into_iter().flat_map(move |p| p.items.iter().map(move |(values, ty)| values.get(line - p.start, *ty)))
    }

    /// Evaluates the items in all combinations of a part that are tried, and keeps those that show.
    pub(super) fn evaluate(
        &mut self,
        executor: &Executor<'_>,
        plan: &GridPlan,
        part: &GridPart,
        base: &Frame,
    ) -> Result<(), RunError> {
        let outer = outer_values(base, &plan.outer);
        let with_null = null_groups(executor, plan, part, &outer)?;
        let alone = part.axes.is_empty() && part.readings.is_empty();
        let expanded = expand(executor.reads(), &part.domain, base, &with_null, || {
            // Without axes there is one line, whatever is in it.
            if plan.with_empty || alone { Ok(None) } else { executor.supports(&part.items) }
        })?;
        self.take(executor, part, &expanded.frame, base.dims.len(), plan.with_empty || alone, |_, _| TOTAL)
    }

    /// Takes the cells of a frame that show, or all; `fixed` gives the code of an axis that is no dimension of the part
    /// in a cell.
    pub(super) fn take(
        &mut self,
        executor: &Executor<'_>,
        part: &GridPart,
        frame: &Frame,
        first: usize,
        all: bool,
        fixed: impl Fn(usize, usize) -> u64,
    ) -> Result<(), RunError> {
        let mut items = Vec::new();
        for item in &part.items {
            items.push((executor.eval(item, frame)?, item.scalar.ty));
        }
        let shows = |cell: &usize| all || items.iter().any(|(c, _)| c.read[*cell] && c.values.is_valid(*cell));
        let cells: Vec<u32> = (0..frame.cells as u32).filter(|cell| shows(&(*cell as usize))).collect();
        if cells.is_empty() {
            return Ok(());
        }
        let all_show = cells.len() == frame.cells;
        for (axis, shared) in self.codes.iter_mut().enumerate() {
            let dim = part.axes.iter().position(|a| *a == axis);
            let reading = part.readings.iter().find(|(a, _)| *a == axis);
            if let (Some(dim), true, true) = (dim, all_show, shared.is_empty()) {
                *shared = frame.dims[first + dim].codes.clone();
                continue;
            }
            let codes = Arc::make_mut(shared);
            match (dim, reading) {
                (Some(dim), _) => {
                    let of_cell = &frame.dims[first + dim].codes;
                    codes.extend(cells.iter().map(|cell| of_cell[*cell as usize]));
                }
                (None, Some((_, reading))) => codes.resize(codes.len() + cells.len(), *reading),
                (None, None) => codes.extend(cells.iter().map(|cell| fixed(axis, *cell as usize))),
            }
        }
        let shown = |(c, ty): (Cells, Type)| (if all_show { c.values } else { c.values.gather(&cells) }, ty);
        self.pieces.push(EvaluatedLines { start: self.count, items: items.into_iter().map(shown).collect() });
        self.count += cells.len();
        Ok(())
    }
}
