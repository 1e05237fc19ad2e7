//! Which rows of a table a filter lets through.

use std::collections::HashSet;
use std::ops::Range;

use super::super::compiled::{Outer, RowCompiler, WholeLeaves, membership};
use super::super::frame::{BoundValue, Members};
use super::super::tables::Tables;
use super::super::{Options, RunError};
use super::batch::{BATCH, Batch};
use cubrel_formula::schema::ColumnId;
use cubrel_plan::{Filter, FilterTest, Predicate, Read, RowExpr, RowLeaf};
use cubrel_value::threads::{map_ranges, part_size};
use cubrel_value::{Type, Vector};

/// So many batches are worth a thread.
const WORTH_A_THREAD: usize = 8;

/// Which rows of a filter's table pass, and whether a row that points at nothing does.
pub fn far_rows(
    tables: Tables<'_>,
    filter: &Filter,
    outer: Outer<'_>,
    options: &Options,
) -> Result<(Vec<bool>, bool), RunError> {
    let (FilterTest::Predicate(predicate) | FilterTest::Projected(predicate, _)) = &filter.test else {
        return Ok((Vec::new(), true));
    };
    let passes = rows_where(tables, predicate, outer, options)?;
    let null_passes = null_row_passes(tables, predicate, outer)?;
    match &filter.test {
        FilterTest::Projected(_, kept) => project(tables, predicate, kept, &passes, null_passes),
        _ => Ok((passes, null_passes)),
    }
}

/// Which rows of a table have one of the combinations that some lines have, in the columns that still count.
pub(super) fn rows_of_lines(
    tables: Tables<'_>,
    read: &Read,
    columns: &[ColumnId],
    kept: &[ColumnId],
    lines: &[Vec<u64>],
) -> Vec<bool> {
    let places: Vec<usize> = kept.iter().filter_map(|k| columns.iter().position(|c| c == k)).collect();
    let allowed: HashSet<Vec<u64>> = lines.iter().map(|line| places.iter().map(|p| line[*p]).collect()).collect();
    let reach = tables.schema.reach(read.table, &read.detours);
    let rows = tables.rows(read.table);
    let codes: Vec<Vec<u64>> = kept
        .iter()
        .map(|column| {
            let path = reach.get(&column.table).map_or(&[][..], Vec::as_slice);
            tables.far_codes(tables.column(*column), path, (0..rows as u32).collect())
        })
        .collect();
    (0..rows).map(|row| allowed.contains(&codes.iter().map(|c| c[row]).collect::<Vec<u64>>())).collect()
}

/// Whether a row that points at nothing passes a filter.
pub fn null_passes(tables: Tables<'_>, filter: &Filter, outer: Outer<'_>, options: &Options) -> Result<bool, RunError> {
    match &filter.test {
        FilterTest::Predicate(predicate) => null_row_passes(tables, predicate, outer),
        FilterTest::Projected(..) => Ok(far_rows(tables, filter, outer, options)?.1),
        FilterTest::Lines { columns, kept, slot } => {
            let held = outer.iter().find(|(s, ..)| s == slot);
            let Some((_, BoundValue::Members(members), _)) = held else { return Ok(true) };
            let Members::Lines(lines) = &**members else { return Ok(true) };
            let places: Vec<usize> = kept.iter().filter_map(|k| columns.iter().position(|c| c == k)).collect();
            let is_null = |line: &Vec<u64>| places.iter().all(|p| line[*p] == tables.column(columns[*p]).null_code());
            Ok(lines.iter().any(is_null))
        }
    }
}

/// Which rows of a predicate's table satisfy it.
pub fn rows_where(
    tables: Tables<'_>,
    predicate: &Predicate,
    outer: Outer<'_>,
    options: &Options,
) -> Result<Vec<bool>, RunError> {
    let compiled = RowCompiler::new(tables, predicate.table, outer, options.hoist).compile(&predicate.test);
    let of_batch = |range: &Range<usize>| {
        let len = range.len();
        let batch = Batch::new(tables, predicate.table, range.start, len);
        let all: Vec<u32> = (0..len as u32).collect();
        Ok(compiled.eval(tables, &batch, &all)?.truths())
    };
    let batches = tables.batches(predicate.table, BATCH);
    let some = |places: Range<usize>| batches[places].iter().map(of_batch).collect::<Result<Vec<_>, RunError>>();
    // Handing little to other threads costs more than doing it.
    let at_a_time = if options.one_thread { batches.len().max(1) } else { part_size(batches.len(), WORTH_A_THREAD) };
    let parts = map_ranges(batches.len(), at_a_time, |places| Ok(some(places)?.concat()));
    // Of several errors it is always the first one that is told.
    Ok(parts.into_iter().collect::<Result<Vec<_>, RunError>>()?.concat())
}

/// Whether a row of nulls satisfies a predicate.
pub fn null_row_passes(tables: Tables<'_>, predicate: &Predicate, outer: Outer<'_>) -> Result<bool, RunError> {
    Ok(of_null_row(tables, &predicate.test, outer)?.truths()[0])
}

/// The value of an expression for a row of nulls.
fn of_null_row(tables: Tables<'_>, row: &RowExpr, outer: Outer<'_>) -> Result<Vector, RunError> {
    let leaves = row.leaves.iter().map(|leaf| {
        Ok(match leaf {
            RowLeaf::Column { column, .. } => Vector::nulls(tables.schema.column(*column).ty, 1),
            RowLeaf::Parameter(slot) => match outer.iter().find(|(s, ..)| s == slot) {
                Some((_, held, ty)) => Vector::constant(&held.value(), *ty, 1),
                None => Vector::nulls(Type::Null, 1),
            },
            RowLeaf::Member { slot, of } => match outer.iter().find(|(s, ..)| s == slot) {
                Some((_, BoundValue::Members(members), _)) => {
                    membership(&of_null_row(tables, of, outer)?, of.scalar.ty, members)
                }
                _ => Vector::nulls(Type::Bool, 1),
            },
        })
    });
    let leaves = leaves.map(|l: Result<_, RunError>| l.map(Some)).collect::<Result<_, _>>()?;
    Ok(row.scalar.eval(&WholeLeaves { values: leaves, tables }, 1)?)
}

/// What is left of a filter of which only some columns are kept: rows whose values of these occur in a row that passes.
pub(super) fn project(
    tables: Tables<'_>,
    predicate: &Predicate,
    kept: &[ColumnId],
    passes: &[bool],
    null_passes: bool,
) -> Result<(Vec<bool>, bool), RunError> {
    let path = |c: &ColumnId| {
        let leaf = predicate.test.leaves.iter().find_map(|l| match l {
            RowLeaf::Column { column, path } if column == c => Some(path.clone()),
            _ => None,
        });
        leaf.unwrap_or_default()
    };
    let columns: Vec<Vec<u64>> = kept
        .iter()
        .map(|column| tables.far_codes(tables.column(*column), &path(column), (0..passes.len() as u32).collect()))
        .collect();
    let nulls: Vec<u64> = kept.iter().map(|c| tables.column(*c).null_code()).collect();
    let combination = |row: usize| columns.iter().map(|c| c[row]).collect::<Vec<u64>>();
    let mut allowed: HashSet<Vec<u64>> =
        passes.iter().enumerate().filter(|(_, p)| **p).map(|(row, _)| combination(row)).collect();
    if null_passes {
        allowed.insert(nulls.clone());
    }
    let all = (0..passes.len()).map(|row| allowed.contains(&combination(row))).collect();
    Ok((all, allowed.contains(&nulls)))
}
