//! Which lines stay, and in which order.

use std::cmp::Ordering;
use std::collections::HashMap;
use std::sync::Arc;

use super::super::RunError;
use super::super::assemble::Executor;
use super::super::first::First;
use super::super::frame::{Frame, KeyColumn, KeyKind, SharedCodes, distinct, gathered};
use super::super::tables::Tables;
use super::lines::{Lines, OTHERS, TOTAL};
use cubrel_formula::scalar::ScalarKind;
use cubrel_formula::schema::ColumnId;
use cubrel_plan::query::{Axis, GridPlan, Judge};
use cubrel_plan::{Assembly, Key, Leaf};
use cubrel_value::Vector;

/// The place of each code of an axis in its display order. The rest of a limit comes after all codes, null's included,
/// and totals come after that.
pub(super) struct AxisRanks {
    /// By code; without a display order codes are in order themselves.
    by_code: Option<Vec<u64>>,
}

impl AxisRanks {
    pub(super) fn new(tables: Tables<'_>, axis: Axis) -> AxisRanks {
        let Axis::Column(axis) = axis else {
            return AxisRanks { by_code: None };
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
            // Equal ranks by value.
            let mut codes: Vec<usize> = (0..ranks.len()).collect();
            codes.sort_by_key(|code| ranks[*code]);
            codes.into_iter().enumerate().for_each(|(place, code)| ranks[code] = place as u64);
            ranks
        });
        AxisRanks { by_code }
    }

    fn of(&self, code: u64) -> u64 {
        match &self.by_code {
            Some(places) if code < OTHERS => places[code as usize],
            _ => code,
        }
    }
}

/// The row belongs to no judged combination.
const NOT_JUDGED: u32 = u32::MAX;

/// A number for each member of a list.
enum MemberNumbers {
    /// Its place.
    Own,
    Of(Vec<u32>),
}

impl MemberNumbers {
    fn of(&self, place: usize) -> u32 {
        match self {
            MemberNumbers::Own => place as u32,
            MemberNumbers::Of(numbers) => numbers[place],
        }
    }

    /// To be changed; there are so many members.
    fn make(&mut self, members: usize) -> &mut Vec<u32> {
        if let MemberNumbers::Own = self {
            *self = MemberNumbers::Of((0..members as u32).collect());
        }
        match self {
            MemberNumbers::Of(numbers) => numbers,
            MemberNumbers::Own => unreachable!("they were numbered above"),
        }
    }
}

/// What `order by` says of the row lines, or of their outer parts.
struct Verdicts {
    /// By row, which of the judged combinations it belongs to, or [`NOT_JUDGED`].
    of_row: MemberNumbers,
    /// By part of the order, a key for each combination.
    order: Vec<Vec<u64>>,
}

/// The row lines of a grid, what is said of them, and which stay.
pub(super) struct Arranged {
    /// By row axis, the code of each row.
    axes: Vec<SharedCodes>,
    /// By line, its row.
    row_of: MemberNumbers,
    /// By row, whether it stays.
    keep: Vec<bool>,
    /// Rows that a limit drops.
    dropped: Vec<u32>,
    /// By number of row axes.
    verdicts: HashMap<usize, Verdicts>,
}

/// The lines of a grid in order, and a line for each combination of column axes.
pub(super) struct Order {
    pub(super) lines: Vec<u32>,
    pub(super) headers: Vec<u32>,
}

/// What `order by` compares in the cells of a frame. The codes of an axis are in order themselves.
fn order_keys(
    executor: &Executor<'_>,
    assembly: &Assembly,
    frame: &Frame,
    known: &dyn Fn(&Assembly) -> Option<Vector>,
    descending: bool,
) -> Result<Vec<u64>, RunError> {
    if let (ScalarKind::Leaf(0), [Leaf::Dim(dim)]) = (&assembly.scalar.kind, assembly.leaves.as_slice())
        && let KeyKind::Column(column) = frame.dims[*dim].kind
    {
        let null = executor.tables().column(column).null_code();
        let key = |code: &u64| match *code {
            code if code == null => u64::MAX,
            code if descending => null - code,
            code => code,
        };
        return Ok(frame.dims[*dim].codes.iter().map(key).collect());
    }
    Ok(executor.eval_knowing(assembly, frame, known)?.values.order_keys(descending))
}

fn slices(columns: &[SharedCodes]) -> Vec<&[u64]> {
    columns.iter().map(|codes| codes.as_slice()).collect()
}

/// The codes of some rows, each at most once and in order.
fn of_rows(codes: &SharedCodes, rows: &[u32]) -> SharedCodes {
    if rows.len() == codes.len() { codes.clone() } else { gathered(codes, rows) }
}

/// Judges, and drops what `having` and the limit drop.
pub(super) fn arrange(
    executor: &Executor<'_>,
    plan: &GridPlan,
    base: &Frame,
    lines: &Lines,
    ranks: &[AxisRanks],
) -> Result<Arranged, RunError> {
    let axes = &lines.codes[..plan.row_axes];
    let (row_of, axes) = if lines.are_distinct() && plan.row_axes == plan.axes.len() {
        (MemberNumbers::Own, axes.to_vec())
    } else {
        let (row_of, first) = distinct(&slices(axes), lines.len());
        (MemberNumbers::Of(row_of), axes.iter().map(|codes| gathered(codes, &first)).collect())
    };
    let rows = if axes.is_empty() { usize::from(lines.len() > 0) } else { axes[0].len() };
    let keep = vec![true; rows];
    let mut arranged = Arranged { axes, keep, row_of, dropped: Vec::new(), verdicts: HashMap::new() };
    for judge in &plan.judges {
        arranged.judge(executor, plan, judge, base, lines)?;
    }
    arranged.limit(plan, ranks);
    arranged.drop_empty_totals(plan);
    Ok(arranged)
}

impl Arranged {
    fn rows(&self) -> u32 {
        self.keep.len() as u32
    }

    /// Rows without a total on the first so many axes.
    fn full(&self, axes: usize) -> impl Iterator<Item = u32> {
        (0..self.rows()).filter(move |row| self.axes[..axes].iter().all(|codes| codes[*row as usize] != TOTAL))
    }

    fn kept(&self, rows: impl Iterator<Item = u32>) -> Vec<u32> {
        rows.filter(|row| self.keep[*row as usize]).collect()
    }

    /// The codes of a row on some axes.
    fn at(&self, row: usize, axes: &[usize]) -> Vec<u64> {
        axes.iter().map(|a| self.axes[*a][row]).collect()
    }

    /// The codes that rows which a limit drops have on some axes.
    pub(super) fn dropped(&self, axes: &[usize]) -> impl Iterator<Item = Vec<u64>> {
        self.dropped.iter().map(|row| self.at(*row as usize, axes))
    }

    /// What a judge says of the rows that have its axes; those that do not pass `having` go.
    fn judge(
        &mut self,
        executor: &Executor<'_>,
        plan: &GridPlan,
        judge: &Judge,
        base: &Frame,
        lines: &Lines,
    ) -> Result<(), RunError> {
        let judged: Vec<u32> = self.full(judge.axes).collect();
        let mut codes: Vec<SharedCodes> = judge.columns.iter().map(|a| of_rows(&self.axes[*a], &judged)).collect();
        // A judge of all row axes says something of each row; one of outer axes, or of a lens, the same of many: it is asked
        // once for each combination.
        let mut classes = judged.len();
        let mut class_of = MemberNumbers::Own;
        if judge.columns.len() < self.axes.len() {
            let (numbers, first) = distinct(&slices(&codes), judged.len());
            codes.iter_mut().for_each(|codes| *codes = gathered(codes, &first));
            (classes, class_of) = (first.len(), MemberNumbers::Of(numbers));
        }
        let dims = judge.columns.iter().zip(codes).filter_map(|(axis, codes)| {
            let column = plan.axes[*axis].column()?;
            Some(KeyColumn::of_codes(codes, Key::Column(column)))
        });
        let frame = base.select(&vec![0; classes]).with(dims);
        // What an item says of a line need not be found out again.
        let known = |wanted: &Assembly| match (&self.row_of, &class_of, plan.parts.as_slice()) {
            (MemberNumbers::Own, MemberNumbers::Own, [part]) if judge.axes == plan.row_axes => {
                lines.known(&part.items, wanted, &judged)
            }
            _ => None,
        };
        let mut order = Vec::new();
        for (part, descending) in judge.order.iter().zip(&plan.descending) {
            order.push(match part {
                None => vec![0; classes],
                Some((assembly, _)) => order_keys(executor, assembly, &frame, &known, *descending)?,
            });
        }
        if let Some(having) = &judge.having {
            let passed = executor.eval_knowing(having, &frame, &known)?.values.truths();
            for (place, row) in judged.iter().enumerate() {
                self.keep[*row as usize] &= passed[class_of.of(place) as usize];
            }
        }
        if judged.len() < self.keep.len() {
            let mut of_row = vec![NOT_JUDGED; self.keep.len()];
            judged.iter().enumerate().for_each(|(place, row)| of_row[*row as usize] = class_of.of(place));
            class_of = MemberNumbers::Of(of_row);
        }
        self.verdicts.insert(judge.axes, Verdicts { of_row: class_of, order });
        Ok(())
    }

    fn limit(&mut self, plan: &GridPlan, ranks: &[AxisRanks]) {
        let Some((count, within)) = &plan.limit else { return };
        let rows = self.kept(self.full(plan.row_axes));
        let taken = if within.is_empty() {
            // Sorting is what costs: only what can be among the first is sorted at all.
            if *count >= rows.len() {
                return;
            }
            let mut taken = self.sorted(plan, ranks, self.candidates(plan, &rows, *count));
            taken.truncate(*count);
            taken
        } else {
            let rows = self.sorted(plan, ranks, rows.clone());
            let axes: Vec<SharedCodes> = within.iter().map(|a| gathered(&self.axes[*a], &rows)).collect();
            let (group_of, groups) = distinct(&slices(&axes), rows.len());
            let mut counts = vec![0; groups.len()];
            let first = |(row, group): (u32, u32)| {
                counts[group as usize] += 1;
                (counts[group as usize] <= *count).then_some(row)
            };
            rows.into_iter().zip(group_of).filter_map(first).collect()
        };
        rows.iter().for_each(|row| self.keep[*row as usize] = false);
        taken.iter().for_each(|row| self.keep[*row as usize] = true);
        if plan.others.is_some() {
            self.dropped = rows.into_iter().filter(|row| !self.keep[*row as usize]).collect();
        }
    }

    /// The rows that can be among the first: by the first part of the order alone, the first so many and their equals.
    fn candidates(&self, plan: &GridPlan, rows: &[u32], count: usize) -> Vec<u32> {
        let verdicts = self.verdicts.get(&plan.row_axes).filter(|_| !plan.totals);
        let Some((of_row, keys)) = verdicts.and_then(|v| Some((&v.of_row, v.order.first()?))) else {
            return rows.to_vec();
        };
        let mut first = First::new(count);
        rows.iter().for_each(|row| first.offer(keys[of_row.of(*row as usize) as usize], *row));
        first.finish()
    }

    /// A total stays where some line stays that it is a total of.
    fn drop_empty_totals(&mut self, plan: &GridPlan) {
        let mut kinds: HashMap<Vec<usize>, Vec<u32>> = HashMap::new();
        let total = |row: &u32| self.axes.iter().any(|codes| codes[*row as usize] == TOTAL);
        for row in (0..self.rows()).filter(total) {
            let present = (0..plan.row_axes).filter(|a| self.axes[*a][row as usize] != TOTAL).collect();
            kinds.entry(present).or_default().push(row);
        }
        if kinds.is_empty() {
            return;
        }
        let full = self.kept(self.full(plan.row_axes));
        for (present, totals) in kinds {
            // The grand total, of each reading of a lens, is one of no line in particular.
            if present.iter().all(|a| plan.axes[*a].column().is_none()) {
                totals.iter().for_each(|row| self.keep[*row as usize] = true);
                continue;
            }
            let rows: Vec<u32> = full.iter().chain(&totals).copied().collect();
            let codes: Vec<SharedCodes> = present.iter().map(|a| gathered(&self.axes[*a], &rows)).collect();
            let (group_of, groups) = distinct(&slices(&codes), rows.len());
            let mut stays = vec![false; groups.len()];
            group_of[..full.len()].iter().for_each(|group| stays[*group as usize] = true);
            for (row, group) in totals.iter().zip(&group_of[full.len()..]) {
                self.keep[*row as usize] = stays[*group as usize];
            }
        }
    }

    /// Takes lines that were added later, from `first` on. What was said of an outer group holds for them, too.
    pub(super) fn add(&mut self, plan: &GridPlan, lines: &Lines, first: usize) {
        let mut known: HashMap<Vec<u64>, u32> = HashMap::new();
        let mut groups: HashMap<Vec<u64>, u32> = HashMap::new();
        let axes: Vec<usize> = (0..plan.row_axes).collect();
        for (outer, verdicts) in self.verdicts.iter().filter(|(outer, _)| **outer < plan.row_axes) {
            for row in 0..self.keep.len() {
                let class = verdicts.of_row.of(row);
                if class != NOT_JUDGED {
                    groups.insert(self.at(row, &axes[..*outer]), class);
                }
            }
        }
        for line in first..lines.len() {
            let row: Vec<u64> = axes.iter().map(|a| lines.codes[*a][line]).collect();
            let number = *known.entry(row).or_insert_with_key(|row| {
                for (outer, verdicts) in &mut self.verdicts {
                    let group = groups.get(&row[..*outer]).copied().unwrap_or(NOT_JUDGED);
                    verdicts.of_row.make(self.keep.len()).push(group);
                }
                self.axes.iter_mut().zip(row).for_each(|(codes, code)| Arc::make_mut(codes).push(*code));
                self.keep.push(true);
                self.keep.len() as u32 - 1
            });
            self.row_of.make(line).push(number);
        }
    }

    /// By `order by`, else by display order. With totals, lines stay with their outer group, and groups are ordered by
    /// what `order by` says of the group as a whole.
    fn sorted(&self, plan: &GridPlan, ranks: &[AxisRanks], rows: Vec<u32>) -> Vec<u32> {
        let mut parts = Vec::new();
        if !plan.totals && !plan.judges.is_empty() {
            if plan.others.is_some() {
                let rest = |row: &u32| u64::from(self.axes.iter().any(|codes| codes[*row as usize] == OTHERS));
                parts.push(SortPart::Keys(rows.iter().map(rest).collect()));
            }
            parts.extend(self.judged(plan.row_axes, &rows));
        }
        // From the outermost axis inwards: where two rows part, the verdict on their groups there decides before the values.
        for (n, codes) in self.axes.iter().enumerate() {
            let codes = gathered(codes, &rows);
            let keys = SortPart::Keys(codes.iter().map(|code| ranks[n].of(*code)).collect());
            if plan.totals {
                parts.push(SortPart::Group { codes, judged: self.judged(n + 1, &rows).collect() });
            }
            parts.push(keys);
        }
        let mut order: Vec<u32> = (0..rows.len() as u32).collect();
        order.sort_by(|a, b| compare(&parts, *a as usize, *b as usize));
        order.into_iter().map(|place| rows[place as usize]).collect()
    }

    /// What `order by` says of some rows, or of their outer groups.
    fn judged(&self, axes: usize, rows: &[u32]) -> impl Iterator<Item = SortPart> {
        self.verdicts.get(&axes).into_iter().flat_map(move |verdicts| {
            let keys = |order: &Vec<u64>| {
                let key = |row: &u32| match verdicts.of_row.of(*row as usize) {
                    NOT_JUDGED => 0,
                    class => order[class as usize],
                };
                SortPart::Keys(rows.iter().map(key).collect())
            };
            verdicts.order.iter().map(keys).collect::<Vec<_>>()
        })
    }

    /// All lines that stay, by row and column.
    pub(super) fn order(&self, plan: &GridPlan, lines: &Lines, ranks: &[AxisRanks]) -> Order {
        let rows = self.sorted(plan, ranks, self.kept(0..self.rows()));
        let row_place = places(&rows, self.keep.len());
        let (column_of, first) = distinct(&slices(&lines.codes[plan.row_axes..]), lines.len());
        let key = |line: u32| -> Vec<u64> {
            (plan.row_axes..plan.axes.len()).map(|a| ranks[a].of(lines.codes[a][line as usize])).collect()
        };
        let mut columns: Vec<u32> = (0..first.len() as u32).collect();
        columns.sort_by_cached_key(|c| key(first[*c as usize]));
        let column_place = places(&columns, first.len());
        // Place of the row and place of the column in one number: a sort of numbers in place of one of lists.
        let mut kept: Vec<(u64, u32)> = (0..lines.len())
            .filter(|line| self.keep[self.row_of.of(*line) as usize])
            .map(|line| {
                let row = u64::from(row_place[self.row_of.of(line) as usize]);
                (row << 32 | u64::from(column_place[column_of[line] as usize]), line as u32)
            })
            .collect();
        kept.sort_unstable();
        let mut used = vec![None; first.len()];
        kept.iter().for_each(|(place, line)| used[*place as u32 as usize] = Some(*line));
        Order { lines: kept.into_iter().map(|(_, line)| line).collect(), headers: used.into_iter().flatten().collect() }
    }
}

/// How two rows compare: the first part that tells them apart decides.
enum SortPart {
    /// A key for each row.
    Keys(Vec<u64>),
    /// Holds for rows that stand for a code of an axis, and for different ones.
    Group { codes: SharedCodes, judged: Vec<SortPart> },
}

fn compare(parts: &[SortPart], a: usize, b: usize) -> Ordering {
    for part in parts {
        let order = match part {
            SortPart::Keys(keys) => keys[a].cmp(&keys[b]),
            SortPart::Group { codes, judged } => {
                let (x, y) = (codes[a], codes[b]);
                if x != y && x < OTHERS && y < OTHERS { compare(judged, a, b) } else { Ordering::Equal }
            }
        };
        if order.is_ne() {
            return order;
        }
    }
    Ordering::Equal
}

/// For each member its place in a list.
fn places(list: &[u32], members: usize) -> Vec<u32> {
    let mut places = vec![0; members];
    list.iter().enumerate().for_each(|(place, member)| places[*member as usize] = place as u32);
    places
}
