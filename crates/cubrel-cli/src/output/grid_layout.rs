//! Where each cell of a grid stands: lines for the row axes, columns for the column axes and items.

use std::collections::HashMap;

use cubrel::{Formats, Grid, GridColumn, GridColumnKind, GridLine, Type, Value};
use unicode_width::UnicodeWidthStr;

use super::text::{Align, visible};

/// What stands for null on an axis.
pub const NONE: &str = "(none)";
/// What a totalled axis is called.
pub const TOTAL: &str = "total";
/// What the rest of a limit is called.
pub const OTHERS: &str = "others";

/// What stands on an axis of a line.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum At {
    Value(Value),
    Others,
    Total,
}

/// What stands on some axes of a line.
type Key = Vec<At>;

impl At {
    fn of(line: &GridLine, axis: usize) -> At {
        if line.totalled.contains(&axis) {
            At::Total
        } else if line.others.contains(&axis) {
            At::Others
        } else {
            At::Value(line.values[axis].clone())
        }
    }

    fn shown(&self, column: &GridColumn, formats: &Formats) -> String {
        match self {
            At::Value(value) => column.text(value, column.format.as_deref(), formats),
            At::Others => OTHERS.to_string(),
            At::Total => TOTAL.to_string(),
        }
    }
}

/// One displayed column: heads from the top down, and a cell for each line.
pub struct Block {
    pub heads: Vec<String>,
    pub align: Align,
    pub cells: Vec<String>,
    /// What stands behind the texts of the cells, with the pattern that they are written by.
    pub values: Vec<Option<(Value, Option<String>)>>,
    /// For each cell the line of the grid that it is from.
    pub lines: Vec<Option<usize>>,
    /// Which column of the grid it shows.
    pub item: usize,
    pub total: bool,
    pub width: usize,
    /// The numbers of the cells, totals apart, for bars.
    pub figures: Vec<Option<f64>>,
    /// How wide a bar can be; none is drawn when 0.
    pub bar: usize,
}

impl Block {
    /// As wide as its texts need, up to a width.
    pub fn measure(&mut self, widest: usize) {
        let widths = self.heads.iter().chain(&self.cells).map(|t| t.width());
        self.width = widths.max().unwrap_or(0).min(widest);
    }
}

/// A grid laid out: what stands left of it, its columns, and which lines are totals.
pub struct GridLayout {
    pub rows: Vec<Block>,
    pub columns: Vec<Block>,
    pub totals: Vec<bool>,
    /// For each line, how many of its row axes have what the line before has, from the first on.
    pub alike: Vec<usize>,
    /// For each line, how many of its row axes are totalled.
    pub totalled: Vec<usize>,
}

/// Lays a grid out.
pub fn layout(grid: &Grid, formats: &Formats) -> GridLayout {
    let of_kind = |kind| grid.columns.iter().enumerate().filter(move |(_, c)| c.kind == kind).map(|(i, _)| i);
    let row_axes: Vec<usize> = of_kind(GridColumnKind::Row).collect();
    let column_axes: Vec<usize> = of_kind(GridColumnKind::Column).collect();
    let items: Vec<usize> = of_kind(GridColumnKind::Measure).chain(of_kind(GridColumnKind::Field)).collect();
    // Lines that differ only on the column axes are one line of the display.
    let row_key = |line: &GridLine| -> Key { row_axes.iter().map(|i| At::of(line, *i)).collect() };
    // Records have no axes, and each is a line of its own.
    let records = grid.columns.iter().any(|c| c.kind == GridColumnKind::Field);
    let mut keys: Vec<Key> = Vec::new();
    let mut cells: HashMap<(usize, Key), (usize, &GridLine)> = HashMap::new();
    for (number, line) in grid.lines.iter().enumerate() {
        let key = row_key(line);
        if records || keys.last() != Some(&key) {
            keys.push(key);
        }
        let header = column_axes.iter().map(|i| At::of(line, *i)).collect();
        cells.insert((keys.len() - 1, header), (number, line));
    }
    let totals: Vec<bool> = keys.iter().map(|k| k.contains(&At::Total)).collect();
    let head_lines = column_axes.len() + usize::from(items.len() > 1 || column_axes.is_empty());
    let rows = row_axes.iter().enumerate().map(|(n, i)| row_block(grid, formats, &keys, n, *i, head_lines)).collect();
    let mut columns = Vec::new();
    for header in &grid.headers {
        let at = |(i, v): (&usize, &Value)| {
            if header.totalled.contains(i) { At::Total } else { At::Value(v.clone()) }
        };
        let key: Key = column_axes.iter().zip(&header.values).map(at).collect();
        for item in &items {
            let column = &grid.columns[*item];
            let mut heads: Vec<String> =
                key.iter().zip(&column_axes).map(|(at, i)| at.shown(&grid.columns[*i], formats)).collect();
            if heads.len() < head_lines {
                heads.push(column.heading());
            }
            let found = |row| cells.get(&(row, key.clone()));
            let line = |row| found(row).map(|(_, line)| *line);
            let cell = |row| {
                line(row).map_or_else(String::new, |l| column.text(&l.values[*item], grid.format_of(l, *item), formats))
            };
            let value =
                |row| line(row).map(|l| (l.values[*item].clone(), grid.format_of(l, *item).map(str::to_string)));
            let figures: Vec<Option<f64>> = (0..keys.len())
                .map(|row| line(row).filter(|_| !totals[row]).and_then(|l| l.values[*item].as_f64()))
                .collect();
            let align = if matches!(column.ty, Type::Text | Type::Date | Type::Timestamp | Type::Bool) {
                Align::Left
            } else {
                Align::Right
            };
            columns.push(Block {
                heads,
                align,
                cells: (0..keys.len()).map(cell).collect(),
                values: (0..keys.len()).map(value).collect(),
                lines: (0..keys.len()).map(|row| found(row).map(|(number, _)| *number)).collect(),
                item: *item,
                total: key.contains(&At::Total),
                width: 0,
                figures,
                bar: 0,
            });
        }
    }
    let same = |row: usize| keys[row - 1].iter().zip(&keys[row]).take_while(|(a, b)| a == b).count();
    let alike = (0..keys.len()).map(|row| if row == 0 { 0 } else { same(row) }).collect();
    let totalled = keys.iter().map(|key| key.iter().filter(|at| **at == At::Total).count()).collect();
    let mut layout = GridLayout { rows, columns, totals, alike, totalled };
    let texts = layout.rows.iter_mut().chain(&mut layout.columns).flat_map(|b| b.heads.iter_mut().chain(&mut b.cells));
    texts.for_each(|text| *text = visible(text));
    layout
}

fn row_block(grid: &Grid, formats: &Formats, keys: &[Key], n: usize, axis: usize, head_lines: usize) -> Block {
    let column = &grid.columns[axis];
    let mut heads = vec![String::new(); head_lines.saturating_sub(1)];
    heads.push(column.heading());
    let cell = |row: usize| {
        // The outer value stands once for all lines below it.
        let repeats = row > 0 && keys[row - 1][..=n] == keys[row][..=n] && n + 1 < keys[row].len();
        let under_mark = n > 0 && keys[row][n - 1] == keys[row][n] && !matches!(keys[row][n], At::Value(_));
        if repeats || under_mark { String::new() } else { keys[row][n].shown(column, formats) }
    };
    let value = |row: usize| match &keys[row][n] {
        At::Value(value) => Some((value.clone(), column.format.clone())),
        _ => None,
    };
    let numeric = matches!(column.ty, Type::Int | Type::Float | Type::Decimal { .. });
    let align = if numeric { Align::Right } else { Align::Left };
    Block {
        heads,
        align,
        cells: (0..keys.len()).map(cell).collect(),
        values: (0..keys.len()).map(value).collect(),
        lines: Vec::new(),
        item: axis,
        total: false,
        width: 0,
        figures: Vec::new(),
        bar: 0,
    }
}
