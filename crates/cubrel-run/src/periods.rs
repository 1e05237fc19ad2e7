//! Days under period edits, and aggregates over them (language reference, section 8).

use cubrel_plan::DimId;
use std::collections::HashMap;
use std::sync::Arc;

use super::by_value::CellReads;
use super::cells::{Cells, Support};
use super::frame::{BoundValue, Frame, KeyColumn, Members, distinct};
use super::read::ReadResult;
use super::reads::PlanReads;
use super::{Options, RunError};
use cubrel_formula::schema::ColumnId;
use cubrel_formula::typed::AggregateKind;
use cubrel_plan::{OverDays, PeriodLeaf, ReadRef};
use cubrel_value::days::DaySet;
use cubrel_value::{Type, Value, VectorBuilder, exact};

/// Groups by day are read while there can be at most this many of them,
const MOST_GROUPS: u128 = 1 << 22;
/// or when reading once for each set of days would go through the table more often than this.
const MOST_SETS: usize = 64;

/// The days that a period edit leaves in each cell, as a dimension.
pub(crate) fn days(reads: &PlanReads<'_>, leaf: &PeriodLeaf, frame: &Frame) -> Result<KeyColumn, RunError> {
    let (calendar, date) = (leaf.period.calendar, leaf.period.date);
    let rules = reads.tables().schema.table(calendar).rules;
    let visible = visible_days(reads, &leaf.visible, date, frame)?;
    let with_rows = leaf.with_rows.as_ref().map(|r| visible_days(reads, r, date, frame)).transpose()?;
    let (first, last) = bounds(reads, date);
    let mut known: HashMap<DaySet, BoundValue> = HashMap::new();
    let cells = (0..frame.cells).map(|cell| {
        let seen = match &with_rows {
            None => visible[cell].clone(),
            Some(rows) => common(&visible[cell], &rows[cell]),
        };
        let edited = |seen: &DaySet| {
            let days = leaf.period.edit.apply(seen, &rules).within(first, last);
            BoundValue::Members(Arc::new(Members::Days(days)))
        };
        known.entry(seen).or_insert_with_key(edited).clone()
    });
    Ok(KeyColumn::of_held(cells, Type::Date))
}

/// Days that are in both sets.
fn common(a: &DaySet, b: &DaySet) -> DaySet {
    let parts = b.runs().iter().flat_map(|(first, last)| a.within(*first, *last).runs().to_vec());
    DaySet::of_runs(parts.collect())
}

/// The first and last day of a calendar.
fn bounds(reads: &PlanReads<'_>, date: ColumnId) -> (i32, i32) {
    let column = reads.tables().column(date);
    let days = column.codes().into_iter().filter_map(|code| match column.value_of(code) {
        Value::Date(day) => Some(day),
        _ => None,
    });
    days.fold((i32::MAX, i32::MIN), |(first, last), day| (first.min(day), last.max(day)))
}

/// For each cell the days that a read by date brings for it.
fn visible_days(reads: &PlanReads<'_>, read: &ReadRef, date: ColumnId, frame: &Frame) -> Result<Vec<DaySet>, RunError> {
    let outer_dims = frame.dims.len();
    let mut looked_at: Vec<DimId> =
        read.dims.iter().chain(&read.outer).copied().filter(|d| d.is_below(outer_dims)).collect();
    looked_at.sort_unstable();
    looked_at.dedup();
    let columns: Vec<&[u64]> = looked_at.iter().map(|d| frame.dims[*d].codes.as_slice()).collect();
    let (class_of, first) = distinct(&columns, frame.cells);
    let representatives = frame.select(&first);
    let mut days = vec![DaySet::default(); first.len()];
    let column = reads.tables().column(date);
    for (classes, result) in reads.results(read, &representatives)? {
        let mut by_key: HashMap<u128, Vec<i32>> = HashMap::new();
        let keys = KeysBeside::new(&result, read, outer_dims);
        for (_, key, code) in keys.present(&result) {
            if let Value::Date(day) = column.value_of(code) {
                by_key.entry(key).or_default().push(day);
            }
        }
        for class in classes {
            let key = keys.of_cell(&representatives, class as usize);
            if let Some(list) = by_key.get(&key) {
                days[class as usize] = DaySet::of_days(list.iter().copied());
            }
        }
    }
    Ok(class_of.iter().map(|class| days[*class as usize].clone()).collect())
}

/// The keys of a read by day, apart from the day.
struct KeysBeside {
    /// Place of the key among the read's keys, and the dimension that it comes from.
    others: Vec<(usize, DimId)>,
    strides: Vec<u128>,
    day: Option<usize>,
}

impl KeysBeside {
    fn new(result: &ReadResult, read: &ReadRef, outer_dims: usize) -> KeysBeside {
        let others: Vec<(usize, DimId)> =
            read.dims.iter().copied().enumerate().filter(|(_, dim)| dim.is_below(outer_dims)).collect();
        let mut strides = vec![1u128; others.len()];
        for i in (0..others.len().saturating_sub(1)).rev() {
            strides[i] = strides[i + 1] * u128::from(result.size(others[i + 1].0));
        }
        KeysBeside { others, strides, day: read.dims.iter().position(|d| d.index() == outer_dims) }
    }

    /// Each group that has rows, with the number of its other keys, and the code of its day.
    fn present(&self, result: &ReadResult) -> Vec<(u32, u128, u64)> {
        let present = result.present();
        let columns = &present.codes;
        let groups = present.groups.iter().enumerate();
        groups
            .map(|(row, group)| {
                let key = self.others.iter().zip(&self.strides).map(|((k, _), s)| u128::from(columns[*k][row]) * s);
                (*group, key.sum(), self.day.map_or(0, |d| columns[d][row]))
            })
            .collect()
    }

    fn of_cell(&self, frame: &Frame, cell: usize) -> u128 {
        let codes = self.others.iter().map(|(_, dim)| u128::from(frame.dims[*dim].codes[cell]));
        codes.zip(&self.strides).map(|(code, s)| code * s).sum()
    }
}

/// An aggregate over the days of each cell.
pub(super) fn over_days(cells: &CellReads<'_>, leaf: &OverDays, frame: &Frame) -> Result<Cells, RunError> {
    let (reads, dim) = (cells.reads(), &frame.dims[leaf.days]);
    let mut sets: Vec<u64> = dim.codes.to_vec();
    sets.sort_unstable();
    sets.dedup();
    if !is_by_day(reads, leaf, sets.len()) {
        return cells.of(&leaf.by_set, leaf.aggregate, frame);
    }
    let date = reads.read_plan(leaf.by_day.read).keys.last().copied();
    let mut values = vec![Value::Null; frame.cells];
    let mut read = vec![false; frame.cells];
    for (cells, result) in reads.results(&leaf.by_day, frame)? {
        let timeline = ValuesByDay::new(reads, leaf, &result, date)?;
        for cell in cells {
            let days = dim.held(cell as usize).and_then(BoundValue::members).and_then(Members::days);
            let key = timeline.keys.of_cell(frame, cell as usize);
            let (value, seen) = timeline.value(key, days.unwrap_or(&DaySet::default()));
            values[cell as usize] = value.map_err(|message| {
                let aggregate = &reads.read_plan(leaf.by_day.read).aggregates[leaf.parts[0]];
                RunError::in_argument(message, aggregate.args.first().map(|a| &a.scalar))
            })?;
            read[cell as usize] = seen;
        }
    }
    let mut builder = VectorBuilder::new(leaf.ty, frame.cells);
    values.into_iter().for_each(|v| builder.push(v));
    Ok(Cells { values: builder.finish(), read })
}

/// Whether one read by day is better than one for each set of days.
fn is_by_day(reads: &PlanReads<'_>, leaf: &OverDays, sets: usize) -> bool {
    let options: &Options = reads.options();
    let read = reads.read_plan(leaf.by_day.read);
    let groups = super::read::room(reads.tables(), read);
    !options.days_by_set && sets > 1 && (groups.is_some_and(|g| g <= MOST_GROUPS) || sets > MOST_SETS)
}

/// Whether rows can be read for a cell, whatever its days are.
pub(super) fn support(reads: &PlanReads<'_>, leaf: &OverDays) -> Result<Option<Vec<Support>>, RunError> {
    let read = reads.read_plan(leaf.by_day.read);
    let few = super::read::room(reads.tables(), read).is_some_and(|g| g <= MOST_GROUPS);
    if !leaf.by_day.outer.is_empty() || !few || reads.options().days_by_set {
        return Ok(None);
    }
    let Some(result) = reads.result_if_any(leaf.by_day.read)? else { return Ok(None) };
    if !result.seen.contains(&true) {
        return Ok(Some(Vec::new()));
    }
    let mut support = Support { read: None, dims: leaf.by_day.dims.clone(), keys: result.present().codes.clone() };
    support.keep_below(leaf.outer_dims);
    Ok(Some(vec![support]))
}

/// The values of each combination of other keys, day by day.
struct ValuesByDay {
    keys: KeysBeside,
    kind: AggregateKind,
    ty: Type,
    /// Where the days of a combination begin and end in `days`.
    ranges: HashMap<u128, (usize, usize), foldhash::fast::RandomState>,
    days: Vec<i32>,
    /// For each part of the aggregate its values by day.
    parts: Vec<Vec<Value>>,
    /// Sums from the first day on, where they are exact: value, and how many days have one.
    running: Vec<Vec<(i128, u32)>>,
}

impl ValuesByDay {
    fn new(
        reads: &PlanReads<'_>,
        leaf: &OverDays,
        result: &ReadResult,
        date: Option<cubrel_plan::Key>,
    ) -> Result<ValuesByDay, RunError> {
        let keys = KeysBeside::new(result, &leaf.by_day, leaf.outer_dims);
        let Some(cubrel_plan::Key::Column(date)) = date else {
            return Err(RunError::Limit("a read by day has no day".into()));
        };
        let column = reads.tables().column(date);
        let mut groups: Vec<(u128, i32, u32)> = keys
            .present(result)
            .into_iter()
            .filter_map(|(group, key, code)| match column.value_of(code) {
                Value::Date(day) => Some((key, day, group)),
                _ => None,
            })
            .collect();
        groups.sort_unstable();
        let mut ranges: HashMap<u128, (usize, usize), foldhash::fast::RandomState> = HashMap::default();
        for (i, (key, ..)) in groups.iter().enumerate() {
            ranges.entry(*key).or_insert((i, i)).1 = i + 1;
        }
        let plan = reads.read_plan(leaf.by_day.read);
        let parts: Vec<Vec<Value>> = leaf
            .parts
            .iter()
            .map(|p| {
                groups
                    .iter()
                    .map(|(_, _, g)| result.columns[p.index()].get(*g as usize, plan.aggregates[*p].ty))
                    .collect()
            })
            .collect();
        let adds =
            matches!(leaf.kind, AggregateKind::Sum | AggregateKind::Count | AggregateKind::Rows | AggregateKind::Avg);
        let running = leaf
            .parts
            .iter()
            .zip(&parts)
            .map(
                |(p, values)| if adds && plan.aggregates[*p].ty.is_exact() { running_sums(values) } else { Vec::new() },
            )
            .collect();
        let days = groups.iter().map(|(_, day, _)| *day).collect();
        Ok(ValuesByDay { keys, kind: leaf.kind, ty: leaf.ty, ranges, days, parts, running })
    }

    /// The value over some days, and whether a row was read for it.
    fn value(&self, key: u128, days: &DaySet) -> (Result<Value, String>, bool) {
        let (start, end) = self.ranges.get(&key).copied().unwrap_or((0, 0));
        let all = &self.days[start..end];
        let ranges: Vec<(usize, usize)> = days
            .runs()
            .iter()
            .map(|(first, last)| {
                (start + all.partition_point(|d| d < first), start + all.partition_point(|d| d <= last))
            })
            .filter(|(a, b)| a < b)
            .collect();
        (self.over(&ranges), !ranges.is_empty())
    }

    fn over(&self, ranges: &[(usize, usize)]) -> Result<Value, String> {
        use AggregateKind::*;
        Ok(match self.kind {
            Count | Rows => match self.sum(0, ranges, Type::Int)? {
                Value::Null => Value::Int(0),
                counted => counted,
            },
            Sum => self.sum(0, ranges, self.ty)?,
            Avg => {
                let ty = self.parts[0].iter().find(|v| !v.is_null()).map_or(Type::Int, Value::natural_type);
                let sum = self.sum(0, ranges, ty)?;
                match (sum.as_f64(), self.sum(1, ranges, Type::Int)?.as_f64()) {
                    (Some(sum), Some(count)) if count > 0.0 => Value::float(sum / count),
                    _ => Value::Null,
                }
            }
            _ => {
                let values = ranges.iter().flat_map(|(a, b)| &self.parts[0][*a..*b]).filter(|v| !v.is_null());
                let best = if self.kind == Min {
                    values.min_by(|a, b| a.total_cmp(b))
                } else {
                    values.max_by(|a, b| a.total_cmp(b))
                };
                best.cloned().unwrap_or(Value::Null)
            }
        })
    }

    /// The sum of one part over ranges of days; null where no day has a value.
    fn sum(&self, part: usize, ranges: &[(usize, usize)], ty: Type) -> Result<Value, String> {
        let values = || ranges.iter().flat_map(|(a, b)| &self.parts[part][*a..*b]).filter(|v| !v.is_null());
        if !ty.is_exact() {
            let sum = values().filter_map(Value::as_f64).fold(None, |sum, v| Some(sum.unwrap_or(0.0) + v));
            return Ok(sum.map_or(Value::Null, Value::float));
        }
        let running = &self.running[part];
        let (mut sum, mut days) = (Some(0i128), 0u32);
        if running.is_empty() {
            for value in values() {
                sum = sum.and_then(|s| s.checked_add(unscaled(value)));
                days += 1;
            }
        } else {
            for (a, b) in ranges {
                let (to, from) = (running[*b], running[*a]);
                sum = sum.and_then(|s| s.checked_add(to.0.checked_sub(from.0)?));
                days += to.1 - from.1;
            }
        }
        let sum = exact::checked(sum).ok_or("the sum has more than 38 digits")?;
        Ok(match (days, ty.scale(), i64::try_from(sum)) {
            (0, ..) => Value::Null,
            (_, 0, Ok(small)) => Value::Int(small),
            (_, scale, _) => Value::Decimal { unscaled: sum, scale },
        })
    }
}

fn unscaled(value: &Value) -> i128 {
    match value {
        Value::Int(v) => i128::from(*v),
        Value::Decimal { unscaled, .. } => *unscaled,
        _ => 0,
    }
}

/// Sums before each day, and after the last one, with the number of days that have a value; nothing when a sum does not
/// fit.
fn running_sums(values: &[Value]) -> Vec<(i128, u32)> {
    let mut at = (0i128, 0u32);
    let mut sums = Vec::with_capacity(values.len() + 1);
    sums.push(at);
    for value in values {
        if !value.is_null() {
            let Some(sum) = at.0.checked_add(unscaled(value)) else {
                return Vec::new();
            };
            at = (sum, at.1 + 1);
        }
        sums.push(at);
    }
    sums
}
