//! `records`: rows of a table with what they look up.

use std::cmp::Ordering;

use super::super::assemble::Executor;
use super::super::frame::{Frame, KeyColumn};
use super::super::outside::{base_frame, outer_values};
use super::super::{RunError, read};
use super::result::{Grid, GridColumnKind, GridLine, item_column};
use cubrel_formula::scalar::ScalarKind;
use cubrel_formula::schema::ColumnId;
use cubrel_plan::query::RecordsPlan;
use cubrel_plan::{Key, Leaf};

/// The rows that pass, ordered and cut.
pub(super) fn run(executor: &Executor<'_>, plan: &RecordsPlan) -> Result<Grid, RunError> {
    let base = base_frame(executor, &plan.outer)?;
    let outer = outer_values(&base, &plan.outer);
    let limit = plan.limit.unwrap_or(usize::MAX);
    let (tables, options) = (executor.tables(), executor.options());
    let mut rows = match first_column(plan) {
        Some(order) => read::first_rows(tables, &plan.rows, &outer, options, order, limit)?,
        None => {
            let most = if plan.order.is_empty() { limit } else { usize::MAX };
            read::passing_rows(tables, &plan.rows, &outer, options, most)?
        }
    };
    if !plan.order.is_empty() {
        rows = ordered(executor, plan, &base, &rows)?;
        rows.truncate(limit);
    }
    executor.reads().check_cells(rows.len().saturating_mul(plan.items.len()))?;
    let frame = frame(plan, &base, &rows);
    let mut columns = Vec::new();
    for (item, assembly) in &plan.items {
        columns.push((executor.eval(assembly, &frame)?.values, item.ty));
    }
    let lines = (0..rows.len()).map(|row| GridLine {
        values: columns.iter().map(|(values, ty)| values.get(row, *ty)).collect(),
        totalled: Vec::new(),
        others: Vec::new(),
    });
    Ok(Grid {
        columns: plan.items.iter().map(|(item, _)| item_column(item, GridColumnKind::Field)).collect(),
        lines: lines.collect(),
        headers: vec![GridLine { values: Vec::new(), totalled: Vec::new(), others: Vec::new() }],
        totals: false,
        others: false,
    })
}

/// Where there is a limit, and a column of the table comes first in the order: that, and whether it descends.
fn first_column(plan: &RecordsPlan) -> Option<(ColumnId, bool)> {
    let (assembly, _, descending) = plan.order.first().filter(|_| plan.limit.is_some())?;
    match (&assembly.scalar.kind, assembly.leaves.as_slice()) {
        (ScalarKind::Leaf(0), [Leaf::Current { column, path, .. }])
            if path.is_empty() && column.table == plan.table =>
        {
            Some((*column, *descending))
        }
        _ => None,
    }
}

fn frame(plan: &RecordsPlan, base: &Frame, rows: &[u32]) -> Frame {
    let codes: Vec<u64> = rows.iter().map(|r| u64::from(*r)).collect();
    base.select(&vec![0; rows.len()]).with([KeyColumn::of_codes(codes, Key::Row(plan.table))])
}

/// By `order by`, equal ones as they stand in the table.
fn ordered(executor: &Executor<'_>, plan: &RecordsPlan, base: &Frame, rows: &[u32]) -> Result<Vec<u32>, RunError> {
    let frame = frame(plan, base, rows);
    let mut keys: Vec<Vec<u64>> = Vec::new();
    for (assembly, _, descending) in &plan.order {
        keys.push(executor.eval(assembly, &frame)?.values.order_keys(*descending));
    }
    let mut places: Vec<u32> = (0..rows.len() as u32).collect();
    let compare = |a: &u32, b: &u32| {
        let by_key = keys.iter().map(|keys| keys[*a as usize].cmp(&keys[*b as usize]));
        by_key.reduce(Ordering::then).unwrap_or(Ordering::Equal).then(a.cmp(b))
    };
    if let Some(limit) = plan.limit.filter(|limit| (1..rows.len()).contains(limit)) {
        places.select_nth_unstable_by(limit - 1, compare);
        places.truncate(limit);
    }
    places.sort_unstable_by(compare);
    Ok(places.into_iter().map(|p| rows[p as usize]).collect())
}
