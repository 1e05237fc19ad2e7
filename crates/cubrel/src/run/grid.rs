//! Lines, order, limits and totals of a grid (language reference, section 12).

use std::collections::{HashMap, HashSet};

use super::anchors::{Outer, Tables};
use super::assemble::{Executor, ReadProfile};
use super::domain::{expand, is_missed};
use super::frame::{Frame, Held, KeyColumn};
use super::read::null_row_passes;
use super::{Options, RunError};
use crate::formula::schema::{ColumnId, Schema};
use crate::plan::query::{GridPart, GridPlan, Judge};
use crate::plan::{Key, Slot};
use crate::store::Store;
use crate::value::{Type, Value};

/// What a grid's columns are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GridColumnKind {
    /// A row axis.
    Row,
    /// A column axis.
    Column,
    /// An item.
    Measure,
}

/// One column of a [`Grid`].
#[derive(Clone, Debug)]
pub struct GridColumn {
    /// The name in formulas, or the heading.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// What it is.
    pub kind: GridColumnKind,
    /// The type of its values.
    pub ty: Type,
    /// A pattern for its values.
    pub format: Option<String>,
}

/// One line of a [`Grid`]: axis values, then items.
#[derive(Clone, Debug, PartialEq)]
pub struct GridLine {
    /// By column of the grid; null on axes that are totalled.
    pub values: Vec<Value>,
    /// Which axis columns are totalled.
    pub totalled: Vec<usize>,
}

/// The result of a query: always flat, one line for each combination of row and column axis values that shows.
#[derive(Clone, Debug)]
pub struct Grid {
    /// Row axes, column axes, items.
    pub columns: Vec<GridColumn>,
    /// In order: by row, then by column; totals after what they total.
    pub lines: Vec<GridLine>,
    /// The combinations of column axes that occur, in order, with the columns that are totalled in them.
    pub headers: Vec<GridLine>,
    /// Whether totals were asked for.
    pub totals: bool,
}

/// What a run cost.
#[derive(Debug)]
pub struct RunProfile {
    /// By read of the plan.
    pub reads: Vec<ReadProfile>,
    /// Time in items and measures, with what is inside them, by [`super::assemble::part_key`].
    pub parts: HashMap<usize, std::time::Duration>,
}

/// One cell line before it is shown.
struct Line {
    /// Codes by axis; none where it is totalled.
    codes: Vec<Option<u64>>,
    items: Vec<Value>,
}

/// Runs a plan.
///
/// # Errors
/// See [`RunError`].
pub fn run(schema: &Schema, store: &Store, plan: &GridPlan, options: &Options) -> Result<(Grid, RunProfile), RunError> {
    let tables = Tables { schema, store };
    let executor = Executor::new(tables, &plan.reads, options);
    let base = base_frame(&executor, plan)?;
    let outer = outer_values(&base, plan);
    let mut lines = Vec::new();
    for part in &plan.parts {
        cells(&executor, plan, part, &base, &outer, &mut lines)?;
    }
    let ranks: Vec<Ranks> = plan.axes.iter().map(|a| Ranks::new(tables, *a)).collect();
    let lines = arrange(&executor, plan, &base, lines, &ranks)?;
    let headers = headers(tables, plan, &lines, &ranks);
    let columns = columns(schema, plan);
    let grid = Grid { columns, lines: show(tables, plan, lines), headers, totals: plan.parts.len() > 1 };
    let (reads, parts) = executor.into_profile();
    Ok((grid, RunProfile { reads, parts }))
}

/// The one cell without axes, with the values that the `where` takes from outside.
fn base_frame(executor: &Executor<'_>, plan: &GridPlan) -> Result<Frame, RunError> {
    let one = Frame::one();
    let mut dims = Vec::new();
    for (_, value) in &plan.outer {
        dims.push(executor.bound(value, &one)?.0);
    }
    Ok(one.with(dims))
}

fn outer_values(base: &Frame, plan: &GridPlan) -> Vec<(Slot, Held, Type)> {
    plan.outer
        .iter()
        .zip(&base.dims)
        .filter_map(|((slot, _), dim)| match &dim.kind {
            super::frame::KeyKind::Values(pool) => Some((*slot, pool.values[dim.codes[0] as usize].clone(), pool.ty)),
            _ => None,
        })
        .collect()
}

/// Evaluates the items in all combinations of a part that are tried, and keeps those that show.
fn cells(
    executor: &Executor<'_>,
    plan: &GridPlan,
    part: &GridPart,
    base: &Frame,
    outer: Outer<'_>,
    lines: &mut Vec<Line>,
) -> Result<(), RunError> {
    let mut with_null = Vec::new();
    for ((table, members), filters) in part.domain.groups.iter().map(|g| (g.read.read, &g.keys)).zip(&part.null_filters)
    {
        let table = plan.reads[table].table;
        let mut null = !members.is_empty() && is_missed(executor, table, &plan.both_ways);
        for filter in filters {
            null = null && null_row_passes(executor.tables(), filter.predicate(), outer)?;
        }
        with_null.push(null);
    }
    let expanded = expand(executor, &part.domain, base, &with_null, || {
        // Without axes there is one line, whatever is in it.
        if plan.with_empty || part.axes.is_empty() { Ok(None) } else { executor.supports(&part.items) }
    })?;
    let frame = expanded.frame;
    let mut items = Vec::new();
    for item in &part.items {
        items.push((executor.eval(item, &frame)?, item.scalar.ty));
    }
    let always = plan.with_empty || part.axes.is_empty();
    let first = base.dims.len();
    for cell in 0..frame.cells {
        if !always && !items.iter().any(|(c, _)| c.read[cell] && c.values.is_valid(cell)) {
            continue;
        }
        let mut codes = vec![None; plan.axes.len()];
        for (i, axis) in part.axes.iter().enumerate() {
            codes[*axis] = Some(frame.dims[first + i].codes[cell]);
        }
        lines.push(Line { codes, items: items.iter().map(|(c, ty)| c.values.get(cell, *ty)).collect() });
    }
    Ok(())
}

/// The place of each code of an axis in its display order.
struct Ranks {
    /// By code; without a display order codes are in order themselves.
    by_code: Option<Vec<u64>>,
}

impl Ranks {
    fn new(tables: Tables<'_>, axis: ColumnId) -> Ranks {
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

    /// Totals come after everything, null before them, and equal ranks by value.
    fn of(&self, code: Option<u64>) -> (bool, u64, u64) {
        match code {
            None => (true, 0, 0),
            Some(code) => (false, self.by_code.as_ref().map_or(code, |r| r[code as usize]), code),
        }
    }
}

/// What the judges say of a row line, or of its outer part.
struct Verdicts {
    passed: HashMap<Vec<u64>, bool>,
    order: HashMap<Vec<u64>, Vec<Value>>,
}

/// Filters by `having`, orders, and cuts to the limit.
fn arrange(
    executor: &Executor<'_>,
    plan: &GridPlan,
    base: &Frame,
    lines: Vec<Line>,
    ranks: &[Ranks],
) -> Result<Vec<Line>, RunError> {
    let prefix = |line: &Line, n: usize| line.codes[..n].iter().copied().collect::<Option<Vec<u64>>>();
    let mut verdicts = HashMap::new();
    for judge in &plan.judges {
        let mut wanted: Vec<Vec<u64>> = lines.iter().filter_map(|l| prefix(l, judge.axes)).collect();
        wanted.sort_unstable();
        wanted.dedup();
        verdicts.insert(judge.axes, judge_lines(executor, plan, judge, base, &wanted)?);
    }
    let all = plan.row_axes;
    let mut rows: Vec<Vec<u64>> = lines.iter().filter_map(|l| prefix(l, all)).collect();
    rows.sort_unstable();
    rows.dedup();
    let full = verdicts.get(&all);
    rows.retain(|row| full.is_none_or(|v| v.passed.get(row).copied().unwrap_or(true)));
    let compare = |a: &[Option<u64>], b: &[Option<u64>]| compare_rows(plan, &verdicts, ranks, a, b);
    let some = |row: &[u64]| row.iter().copied().map(Some).collect::<Vec<_>>();
    rows.sort_by(|a, b| compare(&some(a), &some(b)));
    if let Some((count, within)) = &plan.limit {
        let mut taken: HashMap<Vec<u64>, usize> = HashMap::new();
        rows.retain(|row| {
            let n = taken.entry(within.iter().map(|w| row[*w]).collect()).or_default();
            *n += 1;
            *n <= *count
        });
    }
    let kept: HashSet<Vec<u64>> = rows.iter().flat_map(|row| (0..=all).map(|n| row[..n].to_vec())).collect();
    let mut lines: Vec<Line> = lines
        .into_iter()
        .filter(|line| {
            let present = line.codes[..all].iter().take_while(|c| c.is_some()).count();
            present == 0 || prefix(line, present).is_some_and(|p| kept.contains(&p))
        })
        .collect();
    lines.sort_by(|a, b| {
        compare(&a.codes[..all], &b.codes[..all]).then_with(|| {
            let by_axis = |i: usize| ranks[i].of(a.codes[i]).cmp(&ranks[i].of(b.codes[i]));
            (all..plan.axes.len()).map(by_axis).find(|o| o.is_ne()).unwrap_or(std::cmp::Ordering::Equal)
        })
    });
    Ok(lines)
}

fn judge_lines(
    executor: &Executor<'_>,
    plan: &GridPlan,
    judge: &Judge,
    base: &Frame,
    rows: &[Vec<u64>],
) -> Result<Verdicts, RunError> {
    let dims = (0..judge.axes).map(|a| {
        let codes = rows.iter().map(|r| r[a]).collect();
        KeyColumn::of_codes(codes, Key::Column(plan.axes[a]))
    });
    let frame = base.select(&vec![0; rows.len()]).with(dims);
    let passed = match &judge.having {
        None => vec![true; rows.len()],
        Some(having) => executor.eval(having, &frame)?.values.truths(),
    };
    let mut order: Vec<Vec<Value>> = vec![Vec::new(); rows.len()];
    for part in &judge.order {
        let values = part
            .as_ref()
            .map(|(assembly, ty)| Ok::<_, RunError>((executor.eval(assembly, &frame)?, *ty)))
            .transpose()?;
        for (i, list) in order.iter_mut().enumerate() {
            list.push(values.as_ref().map_or(Value::Null, |(cells, ty)| cells.values.get(i, *ty)));
        }
    }
    Ok(Verdicts {
        passed: rows.iter().cloned().zip(passed).collect(),
        order: rows.iter().cloned().zip(order).collect(),
    })
}

/// By `order by`, else by display order. With totals, lines stay with their outer group, and groups are ordered by what
/// `order by` says of the group as a whole.
fn compare_rows(
    plan: &GridPlan,
    verdicts: &HashMap<usize, Verdicts>,
    ranks: &[Ranks],
    a: &[Option<u64>],
    b: &[Option<u64>],
) -> std::cmp::Ordering {
    use std::cmp::Ordering;
    let judged = |n: usize| -> Ordering {
        let Some(verdict) = verdicts.get(&n) else {
            return Ordering::Equal;
        };
        let codes = |line: &[Option<u64>]| line[..n].iter().copied().collect::<Option<Vec<u64>>>();
        let (Some(x), Some(y)) = (codes(a), codes(b)) else {
            return Ordering::Equal;
        };
        let (Some(x), Some(y)) = (verdict.order.get(&x), verdict.order.get(&y)) else {
            return Ordering::Equal;
        };
        for ((x, y), descending) in x.iter().zip(y).zip(&plan.descending) {
            let order = x.total_cmp(y);
            let order = if *descending && !x.is_null() && !y.is_null() { order.reverse() } else { order };
            if order.is_ne() {
                return order;
            }
        }
        Ordering::Equal
    };
    if plan.parts.len() == 1 {
        let order = judged(a.len());
        if order.is_ne() {
            return order;
        }
    }
    for n in 0..a.len() {
        if a[n] == b[n] {
            continue;
        }
        if plan.parts.len() > 1 && a[n].is_some() && b[n].is_some() {
            let order = judged(n + 1);
            if order.is_ne() {
                return order;
            }
        }
        return ranks[n].of(a[n]).cmp(&ranks[n].of(b[n]));
    }
    Ordering::Equal
}

fn columns(schema: &Schema, plan: &GridPlan) -> Vec<GridColumn> {
    let axes = plan.axes.iter().enumerate().map(|(i, id)| {
        let (table, column) = (schema.table(id.table), schema.column(*id));
        let label = match (&table.prefix, &column.label) {
            (None, label) => label.clone(),
            (Some(prefix), label) => Some(format!("{prefix}{}", label.as_ref().unwrap_or(&column.name))),
        };
        GridColumn {
            name: format!("{}.{}", table.name, column.name),
            label,
            kind: if i < plan.row_axes { GridColumnKind::Row } else { GridColumnKind::Column },
            ty: column.ty,
            format: column.format.clone(),
        }
    });
    let items = plan.items.iter().map(|item| GridColumn {
        name: item.name.clone(),
        label: item.label.clone(),
        kind: GridColumnKind::Measure,
        ty: item.ty,
        format: item.format.clone(),
    });
    axes.chain(items).collect()
}

/// The distinct combinations of column axes, in display order.
fn headers(tables: Tables<'_>, plan: &GridPlan, lines: &[Line], ranks: &[Ranks]) -> Vec<GridLine> {
    let mut all: Vec<&[Option<u64>]> = lines.iter().map(|l| &l.codes[plan.row_axes..]).collect();
    all.sort_unstable();
    all.dedup();
    let rank = |codes: &[Option<u64>]| -> Vec<(bool, u64, u64)> {
        codes.iter().zip(&ranks[plan.row_axes..]).map(|(c, r)| r.of(*c)).collect()
    };
    all.sort_by_key(|codes| rank(codes));
    let value =
        |axis: usize, code: &Option<u64>| code.map_or(Value::Null, |c| tables.column(plan.axes[axis]).value_of(c));
    all.into_iter()
        .map(|codes| GridLine {
            values: codes.iter().enumerate().map(|(i, c)| value(plan.row_axes + i, c)).collect(),
            totalled: (0..codes.len()).filter(|i| codes[*i].is_none()).map(|i| plan.row_axes + i).collect(),
        })
        .collect()
}

fn show(tables: Tables<'_>, plan: &GridPlan, lines: Vec<Line>) -> Vec<GridLine> {
    let value =
        |axis: usize, code: Option<u64>| code.map_or(Value::Null, |c| tables.column(plan.axes[axis]).value_of(c));
    lines
        .into_iter()
        .map(|line| {
            let totalled = (0..line.codes.len()).filter(|i| line.codes[*i].is_none()).collect();
            let axes = line.codes.iter().enumerate().map(|(i, c)| value(i, *c));
            GridLine { values: axes.chain(line.items).collect(), totalled }
        })
        .collect()
}
