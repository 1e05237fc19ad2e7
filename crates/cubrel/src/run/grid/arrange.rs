//! Which lines stay, and in which order.

use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};

use super::super::RunError;
use super::super::anchors::Tables;
use super::super::assemble::Executor;
use super::super::frame::{Frame, KeyColumn, distinct};
use super::lines::{Lines, OTHERS, TOTAL};
use crate::formula::schema::ColumnId;
use crate::plan::Key;
use crate::plan::query::{Axis, GridPlan, Judge};
use crate::value::Value;

/// The place of each code of an axis in its display order.
pub(super) struct Ranks {
    /// By code; without a display order codes are in order themselves.
    by_code: Option<Vec<u64>>,
}

impl Ranks {
    pub(super) fn new(tables: Tables<'_>, axis: Axis) -> Ranks {
        let Axis::Column(axis) = axis else {
            return Ranks { by_code: None };
        };
        let order = tables.schema.column(axis).display_order;
        let by_code = order.map(|index| {
            let (column, order) = (tables.column(axis), tables.column(ColumnId { table: axis.table, index }));
            let mut ranks = vec![u64::MAX; column.domain() as usize + 1];
            for (code, rank) in column.codes().into_iter().zip(order.codes()) {
                let slot = &mut ranks[code as usize];
                *slot = rank.min(*slot);
            }
            ranks[column.null_code() as usize] = u64::MAX;
            ranks
        });
        Ranks { by_code }
    }

    /// Totals come after everything, before them the rest of a limit, then null, and equal ranks by value.
    fn of(&self, code: u64) -> (u8, u64, u64) {
        match code {
            TOTAL => (2, 0, 0),
            OTHERS => (1, 0, 0),
            _ => (0, self.by_code.as_ref().map_or(code, |r| r[code as usize]), code),
        }
    }
}

/// What `order by` says of the row lines, or of their outer parts.
struct Verdicts {
    /// By row, which of the judged combinations it belongs to.
    of_row: Vec<Option<u32>>,
    /// By part of the order, a value for each combination.
    order: Vec<Vec<Value>>,
}

/// The row lines of a grid, what is said of them, and which stay.
pub(super) struct Arranged {
    /// The codes of each row line on the row axes.
    rows: Vec<Vec<u64>>,
    /// By line, its row.
    row_of: Vec<u32>,
    /// By row, whether it stays.
    keep: Vec<bool>,
    /// Rows that a limit drops.
    pub(super) dropped: Vec<Vec<u64>>,
    /// By number of row axes.
    verdicts: HashMap<usize, Verdicts>,
}

/// The lines of a grid in order, and a line for each combination of column axes.
pub(super) struct Order {
    pub(super) lines: Vec<u32>,
    pub(super) headers: Vec<u32>,
}

fn slices(lines: &Lines, axes: std::ops::Range<usize>) -> Vec<&[u64]> {
    lines.codes[axes].iter().map(Vec::as_slice).collect()
}

/// Judges, and drops what `having` and the limit drop.
pub(super) fn arrange(
    executor: &Executor<'_>,
    plan: &GridPlan,
    base: &Frame,
    lines: &Lines,
    ranks: &[Ranks],
) -> Result<Arranged, RunError> {
    let (row_of, first) = distinct(&slices(lines, 0..plan.row_axes), lines.len());
    let rows: Vec<Vec<u64>> = first.iter().map(|line| lines.at(*line as usize, 0..plan.row_axes)).collect();
    let mut arranged =
        Arranged { keep: vec![true; rows.len()], rows, row_of, dropped: Vec::new(), verdicts: HashMap::new() };
    for judge in &plan.judges {
        let passed = arranged.judge(executor, plan, judge, base)?;
        if judge.having.is_some() {
            arranged.keep.iter_mut().zip(passed).for_each(|(keep, passed)| *keep &= passed);
        }
    }
    arranged.limit(plan, ranks);
    arranged.drop_empty_totals(plan);
    Ok(arranged)
}

fn is_full(row: &[u64]) -> bool {
    !row.contains(&TOTAL)
}

impl Arranged {
    /// What a judge says of the rows that have its axes; for each row whether it passes `having`.
    fn judge(
        &mut self,
        executor: &Executor<'_>,
        plan: &GridPlan,
        judge: &Judge,
        base: &Frame,
    ) -> Result<Vec<bool>, RunError> {
        let judged: Vec<usize> = (0..self.rows.len()).filter(|r| is_full(&self.rows[*r][..judge.axes])).collect();
        let codes: Vec<Vec<u64>> =
            judge.columns.iter().map(|a| judged.iter().map(|r| self.rows[*r][*a]).collect()).collect();
        let columns: Vec<&[u64]> = codes.iter().map(Vec::as_slice).collect();
        let (class_of, first) = distinct(&columns, judged.len());
        let dims = judge.columns.iter().zip(&codes).filter_map(|(axis, codes)| {
            let column = plan.axes[*axis].column()?;
            Some(KeyColumn::of_codes(first.iter().map(|i| codes[*i as usize]).collect(), Key::Column(column)))
        });
        let frame = base.select(&vec![0; first.len()]).with(dims);
        let having = judge.having.as_ref().map(|h| executor.eval(h, &frame)).transpose()?.map(|c| c.values.truths());
        let mut order = Vec::new();
        for part in &judge.order {
            order.push(match part {
                None => vec![Value::Null; first.len()],
                Some((assembly, ty)) => {
                    let cells = executor.eval(assembly, &frame)?;
                    (0..first.len()).map(|i| cells.values.get(i, *ty)).collect()
                }
            });
        }
        let mut of_row = vec![None; self.rows.len()];
        let mut passed = vec![true; self.rows.len()];
        for (i, row) in judged.iter().enumerate() {
            of_row[*row] = Some(class_of[i]);
            passed[*row] = having.as_ref().is_none_or(|h| h[class_of[i] as usize]);
        }
        self.verdicts.insert(judge.axes, Verdicts { of_row, order });
        Ok(passed)
    }

    fn limit(&mut self, plan: &GridPlan, ranks: &[Ranks]) {
        let Some((count, within)) = &plan.limit else { return };
        let mut full: Vec<usize> = (0..self.rows.len()).filter(|r| self.keep[*r] && is_full(&self.rows[*r])).collect();
        full.sort_by(|a, b| self.compare(plan, ranks, *a, *b));
        let mut taken: HashMap<Vec<u64>, usize> = HashMap::new();
        for row in full {
            let n = taken.entry(within.iter().map(|w| self.rows[row][*w]).collect()).or_default();
            *n += 1;
            if *n > *count {
                self.keep[row] = false;
                self.dropped.push(self.rows[row].clone());
            }
        }
    }

    /// A total stays where some line stays that it is a total of.
    fn drop_empty_totals(&mut self, plan: &GridPlan) {
        let full: Vec<usize> = (0..self.rows.len()).filter(|r| self.keep[*r] && is_full(&self.rows[*r])).collect();
        let mut known: HashMap<Vec<usize>, HashSet<Vec<u64>>> = HashMap::new();
        for row in 0..self.rows.len() {
            if is_full(&self.rows[row]) {
                continue;
            }
            let present: Vec<usize> = (0..plan.row_axes).filter(|a| self.rows[row][*a] != TOTAL).collect();
            let stays = known
                .entry(present.clone())
                .or_insert_with(|| full.iter().map(|r| present.iter().map(|a| self.rows[*r][*a]).collect()).collect());
            let all = present.iter().all(|a| plan.axes[*a].column().is_none());
            self.keep[row] = all || stays.contains(&present.iter().map(|a| self.rows[row][*a]).collect::<Vec<_>>());
        }
    }

    /// Takes lines that were added later, from `first` on. What was said of an outer group holds for them, too.
    pub(super) fn add(&mut self, plan: &GridPlan, lines: &Lines, first: usize) {
        let mut known: HashMap<Vec<u64>, u32> = HashMap::new();
        let mut groups: HashMap<Vec<u64>, u32> = HashMap::new();
        for (axes, verdicts) in self.verdicts.iter().filter(|(axes, _)| **axes < plan.row_axes) {
            for (row, class) in self.rows.iter().zip(&verdicts.of_row) {
                groups.extend(class.map(|class| (row[..*axes].to_vec(), class)));
            }
        }
        for line in first..lines.len() {
            let row = lines.at(line, 0..plan.row_axes);
            let number = *known.entry(row.clone()).or_insert_with(|| {
                for (axes, verdicts) in &mut self.verdicts {
                    verdicts.of_row.push(groups.get(&row[..*axes]).copied());
                }
                self.rows.push(row);
                self.keep.push(true);
                self.rows.len() as u32 - 1
            });
            self.row_of.push(number);
        }
    }

    /// By `order by`, else by display order. With totals, lines stay with their outer group, and groups are ordered by
    /// what `order by` says of the group as a whole.
    fn compare(&self, plan: &GridPlan, ranks: &[Ranks], a: usize, b: usize) -> Ordering {
        let (x, y) = (&self.rows[a], &self.rows[b]);
        if !plan.totals && !plan.judges.is_empty() {
            let rest = |row: &[u64]| row.contains(&OTHERS);
            let order = rest(x).cmp(&rest(y)).then_with(|| self.judged(plan, plan.row_axes, a, b));
            if order.is_ne() {
                return order;
            }
        }
        for n in 0..plan.row_axes {
            if x[n] == y[n] {
                continue;
            }
            if plan.totals && x[n] < OTHERS && y[n] < OTHERS {
                let order = self.judged(plan, n + 1, a, b);
                if order.is_ne() {
                    return order;
                }
            }
            return ranks[n].of(x[n]).cmp(&ranks[n].of(y[n]));
        }
        Ordering::Equal
    }

    fn judged(&self, plan: &GridPlan, axes: usize, a: usize, b: usize) -> Ordering {
        let Some(verdicts) = self.verdicts.get(&axes) else {
            return Ordering::Equal;
        };
        let (Some(x), Some(y)) = (verdicts.of_row[a], verdicts.of_row[b]) else {
            return Ordering::Equal;
        };
        for (values, descending) in verdicts.order.iter().zip(&plan.descending) {
            let (x, y) = (&values[x as usize], &values[y as usize]);
            let order = x.total_cmp(y);
            let order = if *descending && !x.is_null() && !y.is_null() { order.reverse() } else { order };
            if order.is_ne() {
                return order;
            }
        }
        Ordering::Equal
    }

    /// All lines that stay, by row and column.
    pub(super) fn order(&self, plan: &GridPlan, lines: &Lines, ranks: &[Ranks]) -> Order {
        let mut rows: Vec<usize> = (0..self.rows.len()).filter(|r| self.keep[*r]).collect();
        rows.sort_by(|a, b| self.compare(plan, ranks, *a, *b));
        let mut row_place = vec![0u32; self.rows.len()];
        rows.iter().enumerate().for_each(|(place, row)| row_place[*row] = place as u32);
        let axes = plan.row_axes..plan.axes.len();
        let (column_of, first) = distinct(&slices(lines, axes.clone()), lines.len());
        let key = |line: u32| -> Vec<(u8, u64, u64)> {
            axes.clone().map(|a| ranks[a].of(lines.codes[a][line as usize])).collect()
        };
        let mut columns: Vec<usize> = (0..first.len()).collect();
        columns.sort_by_cached_key(|c| key(first[*c]));
        let mut column_place = vec![0u32; first.len()];
        columns.iter().enumerate().for_each(|(place, column)| column_place[*column] = place as u32);
        let mut kept: Vec<(u32, u32, u32)> = (0..lines.len() as u32)
            .filter(|line| self.keep[self.row_of[*line as usize] as usize])
            .map(|line| {
                let row = row_place[self.row_of[line as usize] as usize];
                (row, column_place[column_of[line as usize] as usize], line)
            })
            .collect();
        kept.sort_unstable();
        let mut used = vec![None; first.len()];
        kept.iter().for_each(|(_, column, line)| used[*column as usize] = Some(*line));
        Order {
            lines: kept.into_iter().map(|(.., line)| line).collect(),
            headers: used.into_iter().flatten().collect(),
        }
    }
}
