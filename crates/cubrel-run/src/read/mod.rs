//! One read: a pass over a table's codes that filters, groups and aggregates.
//!
//! Everything that hangs off one anchor (see [`super::tables`]) is folded into one array over the anchor's codes: whether
//! the row passes, and what it adds to the number of its group. A row then costs one look into such an array for each
//! anchor, and what its aggregates need. Rows that are alike in all that is needed are taken together where they stand in
//! runs.
//!
//! * `prepare`: filters, keys and aggregates made ready; `inputs`: where aggregates take their values from; `builder`: filters and keys, as arrays over codes
//! * `keys`: what rows are grouped by
//! * `parts`, `groups`, `feed`: the pass itself; `known` and `stretches`: segments, and rows of
//!   them, that it spares; `kept`: rows that pass, moved together
//! * `anchors`: what one anchor decides; `sieve`: which of its many codes pass; `ranges`: conditions on a column as ranges of its codes;
//!   `steps`: a `case` of such
//! * `filters`: which rows a filter lets through; `implied`: what a condition says of some of its columns; `compared`: two
//!   columns of a row
//! * `bridges`: keys and filters that come back from the many side
//! * `batch`: unpacking of codes
//! * `counted`, `dependent`: how keys count, and which follow from others; `combined`: those that count together; `group_keys`: the keys of groups that are numbered as they come
//! * `result`: groups and aggregates; `shared`: aggregates that take what others have
//! * `rolled`: reads put together from the groups of another one; `together`: several reads done in one pass;
//!   `wanted`: the groups that cells ask for

mod ahead;
mod anchors;
mod batch;
mod bridges;
mod builder;
mod combined;
mod compared;
mod counted;
mod dependent;
mod feed;
mod filters;
mod group_keys;
mod groups;
mod implied;
mod inputs;
mod kept;
mod keys;
mod known;
mod lanes;
mod parts;
mod prepare;
mod ranges;
mod result;
mod rolled;
mod shared;
mod sieve;
mod spared;
mod steps;
mod stretches;
mod together;
mod wanted;

use std::collections::BTreeSet;
use std::ops::Range;

use super::compiled::{BatchCodes, Outer};
use super::first::First;
use super::tables::Tables;
use super::{Options, RunError};
use batch::BATCH;
pub(crate) use batch::Batch;
use cubrel_formula::schema::{ColumnId, TableId};
use cubrel_plan::Read;
use cubrel_value::threads::map_each;
use dependent::{Counting, row_of_code};
use keys::key_sizes;
use parts::PartResult;
use parts::ROWS_PER_RUN;
use prepare::{Prepared, prepare};
use stretches::in_batches;

pub(super) use bridges::pointed_at;
pub use filters::{far_rows as filter_rows, null_passes};
pub use result::{ReadResult, ReadStats, Stays};
pub use rolled::rolled_up;
pub use together::run_together;
pub use wanted::WantedGroups;

/// Rows of a part that one thread works on. Parts do not depend on the number of threads, so sums of floats come out
/// the same on every machine.
const PART: usize = 1 << 16;
/// More parts than this would cost more in merging than they gain,
const MAX_PARTS: usize = 8;
/// or parts with more groups than this together.
const MAX_GROUPS: usize = 1 << 20;
/// But so many there are, for the cores.
const MIN_PARTS: usize = 2;

/// Does one read.
///
/// # Errors
/// An error in a row expression or a sum that does not fit; a read that was cancelled.
pub fn run(tables: Tables<'_>, read: &Read, outer: Outer<'_>, options: &Options) -> Result<ReadResult, RunError> {
    let mut prepared = prepared(tables, read, outer, options)?;
    let parts = pass(&mut prepared, options)?;
    prepared.result(parts, read, None)
}

/// Does one read that takes nothing from elsewhere, and keeps those groups that stay.
///
/// # Errors
/// As for [`run`].
pub fn run_where(
    tables: Tables<'_>,
    read: &Read,
    stays: &Stays<'_>,
    options: &Options,
) -> Result<ReadResult, RunError> {
    let mut prepared = prepared(tables, read, &[], options)?;
    let parts = pass(&mut prepared, options)?;
    prepared.result(parts, read, Some(stays))
}

/// Does one read that takes nothing from elsewhere, for those groups that are wanted.
///
/// # Errors
/// As for [`run`].
pub fn run_for(
    tables: Tables<'_>,
    read: &Read,
    wanted: &WantedGroups,
    options: &Options,
) -> Result<ReadResult, RunError> {
    let mut prepared = prepare(tables, read, &[], &[], Some(wanted), options)?;
    let parts = pass(&mut prepared, options)?;
    prepared.result(parts, read, None)
}

/// One pass over a table, part by part.
fn pass(prepared: &mut Prepared<'_>, options: &Options) -> Result<Vec<PartResult>, RunError> {
    prepared.number_ahead(options)?;
    let prepared = &*prepared;
    let rows = prepared.tables.rows(prepared.table);
    let most_parts = (MAX_GROUPS / prepared.groups.max(1)).clamp(MIN_PARTS, MAX_PARTS);
    let part_rows = rows.div_ceil(most_parts).max(options.part_rows.unwrap_or(PART)).next_multiple_of(BATCH).max(BATCH);
    let copies = rows.div_ceil(part_rows).max(1) + 1;
    prepared.check_room(prepared.groups * copies, options)?;
    let parts: Vec<(usize, usize)> = (0..rows).step_by(part_rows).map(|s| (s, (s + part_rows).min(rows))).collect();
    let known = prepared.known_segments();
    let of_known = (!known.is_empty()).then(|| prepared.known_rows(&known));
    if known.iter().all(|known| *known)
        && let Some(of_known) = of_known
    {
        return Ok(vec![of_known]);
    }
    let work = |rows: &(usize, usize)| prepared.part(*rows, &known, options);
    let read: Vec<Result<PartResult, RunError>> = match options.one_thread {
        true => parts.iter().map(work).collect(),
        false => map_each(&parts, work),
    };
    of_known.into_iter().map(Ok).chain(read).collect()
}

/// A read made ready, once those are done whose rows send keys and filters back to it.
fn prepared<'a>(
    tables: Tables<'a>,
    read: &Read,
    outer: Outer<'_>,
    options: &Options,
) -> Result<Prepared<'a>, RunError> {
    let pairs = read.bridges.iter().map(|bridge| run(tables, &bridge.pairs, outer, options));
    let pairs = pairs.collect::<Result<Vec<ReadResult>, _>>()?;
    prepare(tables, read, &pairs, outer, None, options)
}

/// The rows that the filters of a read let through, in order, at most so many.
///
/// # Errors
/// As for [`run`].
pub fn passing_rows(
    tables: Tables<'_>,
    read: &Read,
    outer: Outer<'_>,
    options: &Options,
    most: usize,
) -> Result<Vec<u32>, RunError> {
    let prepared = prepared(tables, read, outer, options)?;
    let mut found = Vec::new();
    prepared.each_batch(0..tables.rows(read.table), options, |batch, positions, _| {
        // A row that stands in several groups is there several times, side by side.
        found.extend(positions.chunk_by(|a, b| a == b).map(|same| batch.row(same[0])));
        found.len() < most
    })?;
    found.truncate(most);
    Ok(found)
}

/// The rows that pass and come first in the order of a column, and all that are equal to the last of them, in the order
/// of the table. Null comes last.
///
/// # Errors
/// As for [`run`].
pub fn first_rows(
    tables: Tables<'_>,
    read: &Read,
    outer: Outer<'_>,
    options: &Options,
    (column, descending): (ColumnId, bool),
    count: usize,
) -> Result<Vec<u32>, RunError> {
    let prepared = prepared(tables, read, outer, options)?;
    let null = tables.column(column).null_code();
    let key = |code: u64| match code {
        code if code == null => u64::MAX,
        code if descending => null - code,
        code => code,
    };
    let of_part = |rows: &Range<usize>| {
        let mut first = First::new(count);
        prepared.each_batch(rows.clone(), options, |batch, positions, _| {
            let mut once = positions.to_vec();
            // A row that stands in several groups is there several times, side by side.
            once.dedup();
            let codes = batch.column(tables.column(column), column.index, &once);
            codes.into_iter().zip(once).for_each(|(code, position)| first.offer(key(code), batch.row(position)));
            true
        })?;
        Ok(first)
    };
    let all = tables.rows(read.table);
    let of_each = all.div_ceil(MAX_PARTS).max(options.part_rows.unwrap_or(PART)).next_multiple_of(BATCH).max(BATCH);
    let parts: Vec<Range<usize>> = (0..all).step_by(of_each).map(|start| start..all.min(start + of_each)).collect();
    let found: Vec<Result<First, RunError>> = match options.one_thread {
        true => parts.iter().map(of_part).collect(),
        false => map_each(&parts, of_part),
    };
    let mut first = First::new(count);
    for part in found {
        first.take(part?);
    }
    let mut rows = first.finish();
    rows.sort_unstable();
    Ok(rows)
}

/// The rows of one group of a read, in order.
///
/// # Errors
/// As for [`run`].
pub fn rows_of_group(
    tables: Tables<'_>,
    read: &Read,
    outer: Outer<'_>,
    options: &Options,
    codes: &[u64],
) -> Result<Vec<u32>, RunError> {
    let options = Options { hash_groups: true, ..options.clone() };
    let prepared = prepared(tables, read, outer, &options)?;
    let counted = |key: usize| match &prepared.counting[key] {
        Counting::ByCode => Some(codes[key]),
        Counting::ByRow => Some(row_of_code(tables, read.keys[key], codes[key])),
        Counting::Together(combined) => combined.number_of(codes),
        Counting::Follows(_) => Some(0),
    };
    let parts = (0..codes.len()).map(|key| Some(u128::from(counted(key)?) * prepared.strides[key]));
    // What no row has together has no rows.
    let Some(wanted) = parts.sum::<Option<u128>>() else { return Ok(Vec::new()) };
    let mut found = Vec::new();
    prepared.each_batch(0..tables.rows(read.table), &options, |batch, positions, keys| {
        let rows = positions.iter().zip(keys).filter(|(_, key)| **key == wanted).map(|(p, _)| batch.row(*p));
        found.extend(rows);
        true
    })?;
    found.dedup();
    Ok(found)
}

/// Where runs of rows end that are alike in some columns, counted from the first row of a range that lies in one segment;
/// `None` where they are not few.
pub fn alike_rows(
    tables: Tables<'_>,
    table: TableId,
    columns: &BTreeSet<u32>,
    range: Range<usize>,
) -> Option<Vec<u32>> {
    let segment = tables.segment_bounds(table)?.find(range.start).0;
    let runs = columns.iter().map(|index| {
        let column = tables.column(ColumnId { table, index: *index });
        column.segments().get(segment).and_then(|s| s.runs())
    });
    let runs = runs.sum::<Option<usize>>()?;
    if runs * ROWS_PER_RUN > range.len() {
        return None;
    }
    let batch = Batch::new(tables, table, range.start, range.len()).in_runs(columns.iter().copied());
    Some(batch.ends().to_vec())
}

/// How many combinations the keys of a read could have.
pub fn room(tables: Tables<'_>, read: &Read) -> Option<u128> {
    key_sizes(tables, read).iter().try_fold(1u128, |p, s| p.checked_mul(u128::from(*s)))
}
impl Prepared<'_> {
    /// Calls `visit` with each batch of some rows, the places in it that pass, and their keys, until it says no.
    fn each_batch(
        &self,
        rows: Range<usize>,
        options: &Options,
        mut visit: impl FnMut(&Batch<'_>, &[u32], &[u128]) -> bool,
    ) -> Result<(), RunError> {
        let Range { start: mut at, end } = rows;
        while at < end {
            options.check()?;
            let (segment, range) = self.segment_at(at, end);
            let rows = at..range.end.min(end);
            at = rows.end;
            if self.skips(segment) {
                continue;
            }
            for rows in in_batches(&self.stretches(segment, rows), BATCH) {
                options.check()?;
                let batch = Batch::new(self.tables, self.table, rows.start, rows.len());
                let all: Vec<u32> = (0..rows.len() as u32).collect();
                let (mut positions, mut keys) = self.passing(&batch, &all)?;
                for bridge in &self.bridges {
                    bridge.spread(self.tables, &batch, &mut positions, &mut keys);
                }
                if !visit(&batch, &positions, &keys) {
                    return Ok(());
                }
            }
        }
        Ok(())
    }
}
