//! Rows in another order, where that takes less.

use super::table::Table;
use cubrel_load::loaded::LoadedColumn;
use cubrel_store::encode::recoded;
use cubrel_store::order::{RowOrder, SortColumns};
use cubrel_store::{CodedColumn, RawColumn};
use cubrel_value::threads::map_each;

/// Rows from which on an order is worth a thought.
const FEWEST_ROWS: usize = 100_000;
/// Rows that are tried.
const TRIED: usize = 1 << 14;
/// Columns that are tried as the first of an order.
const COLUMNS: usize = 4;
/// So much of a table an order has to save, in parts of a hundred.
const WORTH_PERCENT: usize = 10;

/// Proposes an order of rows, tried on some of them: by one column, then by one more.
pub(super) fn order(table: &mut Table) {
    let rows = table.loaded.rows;
    if rows < FEWEST_ROWS || table.loaded.columns.is_empty() {
        return;
    }
    let step = rows.div_ceil(TRIED);
    let some: Vec<u32> = (0..rows as u32).step_by(step).collect();
    let of_some = |c: &LoadedColumn| {
        let raw = RawColumn::from_vector(c.data.vector_of(&c.data.codes_at(&some)), c.data.ty()).ok()?;
        Some(CodedColumn::encode(&raw, some.len()))
    };
    let tried = map_each(&table.loaded.columns, of_some).into_iter().collect::<Option<Vec<CodedColumn>>>();
    let Some(tried) = tried else {
        return;
    };
    let columns: Vec<&CodedColumn> = tried.iter().collect();
    let count = vec![true; columns.len()];
    let weight = |order: RowOrder<'_>| -> usize {
        recoded(&columns, order).iter().map(CodedColumn::heap_bytes).map(|(codes, dictionary)| codes + dictionary).sum()
    };
    let before = weight(RowOrder::Best { count: &count, sort_by: &SortColumns::default() });
    let mut best: (Vec<usize>, usize) = (Vec::new(), before);
    for _ in 0..2 {
        let first = best.0.clone();
        for column in promising(&columns).into_iter().filter(|c| !first.contains(c)) {
            let by: Vec<usize> = first.iter().copied().chain([column]).collect();
            let after = weight(RowOrder::By(&by));
            if after < best.1 {
                best = (by, after);
            }
        }
    }
    let (by, after) = best;
    if before.saturating_sub(after) * 100 < before * WORTH_PERCENT {
        return;
    }
    table.section.order = by.iter().map(|c| table.loaded.columns[*c].name.clone()).collect();
    let saved = (before - after) * 100 / before.max(1);
    table.notes.push(format!("in the order of {} the rows take {saved} % less", table.section.order.join(", ")));
}

/// Columns that may come first in an order: those with few values, and not so few that nothing is gained.
fn promising(columns: &[&CodedColumn]) -> Vec<usize> {
    let rows = columns.first().map_or(0, |c| c.rows()) as u64;
    let mut found: Vec<(u64, usize)> = columns.iter().enumerate().map(|(i, c)| (c.distinct(), i)).collect();
    found.retain(|(distinct, _)| *distinct > 1 && *distinct * 4 < rows);
    found.sort_by_key(|(distinct, _)| std::cmp::Reverse(*distinct));
    let middle = found.len().saturating_sub(COLUMNS) / 2;
    found.into_iter().skip(middle).take(COLUMNS).map(|(_, column)| column).collect()
}
