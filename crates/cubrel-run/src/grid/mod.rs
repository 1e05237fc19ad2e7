//! Grids: what a query gives (language reference, section 12).
//!
//! * `lines`: the cells of all parts, as codes and values
//! * `arrange`: `having`, order, limits, totals; `early`: what these drop, before it is cells
//! * `others`: the line for what a limit drops
//! * `records`: rows of a table
//! * `result`: columns and lines; `shown`: as people and scripts read them; `layout`: where each cell stands; `arrow`: for other programs

mod arrange;
mod arrow;
mod early;
mod layout;
mod lines;
mod others;
mod records;
mod result;
mod shown;

use std::collections::HashMap;
use std::ops::Range;
use std::time::Duration;

use super::assemble::{Executor, part_key};
use super::outside::base_frame;
use super::reads::ReadProfile;
use super::remembered::Remembered;
use super::tables::Tables;
use super::{Options, RunError};
use arrange::AxisRanks;
pub use arrow::schema_of as arrow_schema;
use cubrel_formula::schema::{ColumnId, Schema};
use cubrel_plan::Assembly;
use cubrel_plan::query::{Axis, GridPlan, QueryPlan};
use cubrel_store::Store;
use cubrel_value::threads::map_ranges;
use cubrel_value::{Type, Value};
pub use layout::{GridLayout, LaidOutColumn};
use lines::{Lines, OTHERS, TOTAL};
use result::item_column;
pub use result::{Grid, GridColumn, GridColumnKind, GridLine, GridReading, LineKind};

/// What a run cost.
#[derive(Debug)]
pub struct RunProfile {
    /// By read of the plan.
    pub reads: Vec<ReadProfile>,
    /// Time in items and measures, with what is inside them, by [`part_key`].
    parts: HashMap<usize, Duration>,
}

impl RunProfile {
    /// Time in an assembly of the plan that was run, with what is inside of it; only what has a name is timed.
    pub fn time_in(&self, assembly: &Assembly) -> Duration {
        self.parts.get(&part_key(assembly)).copied().unwrap_or_default()
    }
}

/// Runs a plan.
///
/// # Errors
/// See [`RunError`].
pub fn run(
    schema: &Schema,
    store: &Store,
    plan: &QueryPlan,
    options: &Options,
) -> Result<(Grid, RunProfile), RunError> {
    let tables = Tables::new(schema, store);
    let remembered = Remembered::default();
    let executor = Executor::new(tables.remembering(&remembered), plan.reads(), options);
    let grid = match plan {
        QueryPlan::Grid(plan) => run_grid(&executor, plan)?,
        QueryPlan::Records(plan) => records::run(&executor, plan)?,
    };
    let (reads, parts) = executor.into_profile();
    Ok((grid, RunProfile { reads, parts }))
}

fn run_grid(executor: &Executor<'_>, plan: &GridPlan) -> Result<Grid, RunError> {
    let tables = executor.tables();
    let base = base_frame(executor, &plan.outer)?;
    early::drop_early(executor, plan);
    let mut all = Lines::new(plan);
    for part in &plan.parts {
        all.evaluate(executor, plan, part, &base)?;
    }
    let ranks: Vec<AxisRanks> = plan.axes.iter().map(|a| AxisRanks::new(tables, *a)).collect();
    let mut arranged = arrange::arrange(executor, plan, &base, &all, &ranks)?;
    if let Some(rest) = &plan.others {
        let first = all.len();
        others::evaluate(executor, plan, rest, &base, &arranged, &mut all)?;
        arranged.add(plan, &all, first);
    }
    let order = arranged.order(plan, &all, &ranks);
    Ok(Grid {
        columns: columns(tables.schema, plan),
        headers: headers(tables, plan, &all, &order),
        lines: show(tables, plan, &all, &order),
        totals: plan.totals,
        others: plan.others.is_some(),
    })
}

/// The columns of what a plan gives.
pub fn columns_of(schema: &Schema, plan: &QueryPlan) -> Vec<GridColumn> {
    match plan {
        QueryPlan::Grid(plan) => columns(schema, plan),
        QueryPlan::Records(plan) => {
            plan.items.iter().map(|(item, _)| item_column(item, GridColumnKind::Field)).collect()
        }
    }
}

/// Whether what a plan gives has lines of totals, and of others.
pub fn marks_of(plan: &QueryPlan) -> (bool, bool) {
    match plan {
        QueryPlan::Grid(plan) => (plan.totals, plan.others.is_some()),
        QueryPlan::Records(_) => (false, false),
    }
}

fn columns(schema: &Schema, plan: &GridPlan) -> Vec<GridColumn> {
    let axes = plan.axes.iter().enumerate().map(|(i, axis)| {
        let kind = if i < plan.row_axes { GridColumnKind::Row } else { GridColumnKind::Column };
        match axis {
            Axis::Column(id) => column_axis(schema, *id, kind),
            Axis::Lens(lens) => lens_axis(schema, *lens, kind),
        }
    });
    axes.chain(plan.items.iter().map(|item| item_column(item, GridColumnKind::Measure))).collect()
}

fn column_axis(schema: &Schema, id: ColumnId, kind: GridColumnKind) -> GridColumn {
    let (table, column) = (schema.table(id.table), schema.column(id));
    GridColumn {
        name: format!("{}.{}", table.name, column.name),
        label: column.label.clone(),
        prefix: table.prefix.clone(),
        kind,
        ty: column.ty,
        format: column.format.clone(),
        readings: Vec::new(),
    }
}

fn lens_axis(schema: &Schema, lens: usize, kind: GridColumnKind) -> GridColumn {
    let def = &schema.lenses[lens];
    let readings = def.readings.iter().map(|r| GridReading {
        name: r.name.clone(),
        label: r.label.clone(),
        format: r.format.clone(),
    });
    GridColumn {
        name: def.name.clone(),
        label: def.label.clone(),
        prefix: None,
        kind,
        ty: Type::Text,
        format: None,
        readings: readings.collect(),
    }
}

/// The value of an axis.
fn axis_value(tables: Tables<'_>, axis: Axis, code: u64) -> Value {
    match axis {
        _ if code >= OTHERS => Value::Null,
        Axis::Column(column) => tables.column(column).value_of(code),
        Axis::Lens(lens) => {
            let readings = &tables.schema.lenses[lens].readings;
            readings.get(code as usize).map_or(Value::Null, |r| Value::text(&r.name))
        }
    }
}

fn marked(codes: impl Iterator<Item = (usize, u64)>, mark: u64) -> Vec<usize> {
    codes.filter(|(_, code)| *code == mark).map(|(i, _)| i).collect()
}

/// The distinct combinations of column axes, in display order.
fn headers(tables: Tables<'_>, plan: &GridPlan, lines: &Lines, order: &arrange::Order) -> Vec<GridLine> {
    let axes = plan.row_axes..plan.axes.len();
    order
        .headers
        .iter()
        .map(|line| {
            let codes = || axes.clone().map(|a| (a, lines.codes[a][*line as usize]));
            GridLine {
                values: codes().map(|(a, code)| axis_value(tables, plan.axes[a], code)).collect(),
                totalled: marked(codes(), TOTAL),
                others: Vec::new(),
            }
        })
        .collect()
}

/// Lines whose values are looked up together: a block of packed texts is unpacked once for all of them.
const LINES_AT_A_TIME: usize = 1 << 12;

fn show(tables: Tables<'_>, plan: &GridPlan, lines: &Lines, order: &arrange::Order) -> Vec<GridLine> {
    let some = |shown: Range<usize>| {
        let shown = &order.lines[shown];
        let axes: Vec<Vec<Value>> = (0..plan.axes.len())
            .map(|axis| {
                axis_values(tables, plan.axes[axis], shown.iter().map(|line| lines.codes[axis][*line as usize]))
            })
            .collect();
        let mut axes: Vec<_> = axes.into_iter().map(Vec::into_iter).collect();
        let line = |line: &u32| {
            let line = *line as usize;
            let codes = || lines.codes.iter().map(|c| c[line]).enumerate();
            let mut values = Vec::with_capacity(plan.axes.len() + plan.items.len());
            values.extend(axes.iter_mut().filter_map(Iterator::next));
            values.extend(lines.figures(line));
            GridLine { values, totalled: marked(codes(), TOTAL), others: marked(codes(), OTHERS) }
        };
        shown.iter().map(line).collect::<Vec<GridLine>>()
    };
    map_ranges(order.lines.len(), LINES_AT_A_TIME, some).into_iter().flatten().collect()
}

/// The values of an axis on some lines.
fn axis_values(tables: Tables<'_>, axis: Axis, codes: impl Iterator<Item = u64>) -> Vec<Value> {
    let Some(column) = axis.column() else { return codes.map(|code| axis_value(tables, axis, code)).collect() };
    let data = tables.column(column);
    let null = data.null_code();
    let codes: Vec<u64> = codes.map(|code| if code >= OTHERS { null } else { code }).collect();
    let values = data.vector_of(&codes);
    (0..codes.len()).map(|line| values.get(line, data.ty())).collect()
}
