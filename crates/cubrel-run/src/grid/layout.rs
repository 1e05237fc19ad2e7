//! Where each cell of a grid stands when people read it: lines for the row axes, columns for the column axes and items.

use std::collections::HashMap;

use super::result::{Grid, GridColumn, GridColumnKind, GridLine};
use super::shown::{OTHERS, TOTAL};
use cubrel_value::format::Formats;
use cubrel_value::{Type, Value};

/// What stands on an axis of a line.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum AxisValue {
    Value(Value),
    Others,
    Total,
}

/// What stands on some axes of a line.
type AxisValues = Vec<AxisValue>;

impl AxisValue {
    fn of(line: &GridLine, axis: usize) -> AxisValue {
        if line.totalled.contains(&axis) {
            AxisValue::Total
        } else if line.others.contains(&axis) {
            AxisValue::Others
        } else {
            AxisValue::Value(line.values[axis].clone())
        }
    }

    fn shown(&self, column: &GridColumn, formats: &Formats) -> String {
        match self {
            AxisValue::Value(value) => column.text(value, column.format.as_deref(), formats),
            AxisValue::Others => OTHERS.to_string(),
            AxisValue::Total => TOTAL.to_string(),
        }
    }
}

/// One displayed column: heads from the top down, and a cell for each line.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct LaidOutColumn {
    /// From the top down; all columns have as many.
    pub heads: Vec<String>,
    /// Whether its cells are numbers, which stand at the right.
    pub is_number: bool,
    /// The text of each line; of an outer axis nothing where the line before has the same.
    pub cells: Vec<String>,
    /// What stands behind the texts of the cells, with the pattern that they are written by.
    pub values: Vec<Option<(Value, Option<String>)>>,
    /// For each cell the line of the grid that it is from; of row axes nothing.
    pub lines: Vec<Option<usize>>,
    /// Which column of the grid it shows.
    pub item: usize,
    /// Whether it is a total over a column axis.
    pub total: bool,
    /// The numbers of the cells, totals apart, for bars and charts.
    pub figures: Vec<Option<f64>>,
}

/// A grid laid out: what stands left of it, its columns, and which lines are totals.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct GridLayout {
    /// A column for each row axis.
    pub rows: Vec<LaidOutColumn>,
    /// A column for each item under each value of the column axes.
    pub columns: Vec<LaidOutColumn>,
    /// Which lines are totals.
    pub totals: Vec<bool>,
    /// For each line, how many of its row axes have what the line before has, from the first on.
    pub alike: Vec<usize>,
    /// For each line, how many of its row axes are totalled.
    pub totalled: Vec<usize>,
}

impl Grid {
    /// Lays the grid out as people read it: lines that differ only on the column axes are one line.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Formats, Model, Type, Value};
    ///
    /// let rows = [("Ness", 2030, 5), ("Ness", 2031, 7), ("Holm", 2031, 9)];
    /// let rows = rows.map(|(route, year, net)| vec![Value::text(route), Value::Int(year), Value::Int(net)]);
    /// let columns = [("route", Type::Text), ("year", Type::Int), ("net", Type::Int)];
    /// let model = Model::builder().rows("booking", &columns, &rows).build()?;
    /// let grid = model.query("grid sum(booking.net) as net by booking.route split by booking.year")?.run()?;
    /// let layout = grid.layout(&Formats::default());
    /// assert_eq!(layout.rows[0].cells, ["Holm", "Ness"]);
    /// assert_eq!(layout.columns[0].heads, ["2030"]);
    /// assert_eq!(layout.columns[0].cells, ["", "5"]);
    /// # Ok(())
    /// # }
    /// ```
    pub fn layout(&self, formats: &Formats) -> GridLayout {
        let of_kind = |kind| self.columns.iter().enumerate().filter(move |(_, c)| c.kind == kind).map(|(i, _)| i);
        let row_axes: Vec<usize> = of_kind(GridColumnKind::Row).collect();
        let column_axes: Vec<usize> = of_kind(GridColumnKind::Column).collect();
        let items: Vec<usize> = of_kind(GridColumnKind::Measure).chain(of_kind(GridColumnKind::Field)).collect();
        let row_key = |line: &GridLine| -> AxisValues { row_axes.iter().map(|i| AxisValue::of(line, *i)).collect() };
        // Records have no axes, and each is a line of its own.
        let records = self.columns.iter().any(|c| c.kind == GridColumnKind::Field);
        let mut keys: Vec<AxisValues> = Vec::new();
        let mut cells: HashMap<(usize, AxisValues), usize> = HashMap::new();
        for (number, line) in self.lines.iter().enumerate() {
            let key = row_key(line);
            if records || keys.last() != Some(&key) {
                keys.push(key);
            }
            let header = column_axes.iter().map(|i| AxisValue::of(line, *i)).collect();
            cells.insert((keys.len() - 1, header), number);
        }
        let totals: Vec<bool> = keys.iter().map(|k| k.contains(&AxisValue::Total)).collect();
        let head_lines = column_axes.len() + usize::from(items.len() > 1 || column_axes.is_empty());
        let row = |(n, i): (usize, &usize)| self.row_axis(formats, &keys, n, *i, head_lines);
        let rows = row_axes.iter().enumerate().map(row).collect();
        let mut columns = Vec::new();
        for header in &self.headers {
            let at = |(i, v): (&usize, &Value)| {
                if header.totalled.contains(i) { AxisValue::Total } else { AxisValue::Value(v.clone()) }
            };
            let key: AxisValues = column_axes.iter().zip(&header.values).map(at).collect();
            let lines: Vec<Option<usize>> =
                (0..keys.len()).map(|row| cells.get(&(row, key.clone())).copied()).collect();
            let heads: Vec<String> =
                key.iter().zip(&column_axes).map(|(at, i)| at.shown(&self.columns[*i], formats)).collect();
            for item in &items {
                let mut heads = heads.clone();
                if heads.len() < head_lines {
                    heads.push(self.columns[*item].heading());
                }
                let column = self.item_column(formats, *item, &lines, &totals);
                columns.push(LaidOutColumn { heads, total: key.contains(&AxisValue::Total), ..column });
            }
        }
        let same = |row: usize| keys[row - 1].iter().zip(&keys[row]).take_while(|(a, b)| a == b).count();
        let alike = (0..keys.len()).map(|row| if row == 0 { 0 } else { same(row) }).collect();
        let totalled = keys.iter().map(|key| key.iter().filter(|at| **at == AxisValue::Total).count()).collect();
        GridLayout { rows, columns, totals, alike, totalled }
    }

    /// The cells of an item in some lines.
    fn item_column(&self, formats: &Formats, item: usize, lines: &[Option<usize>], totals: &[bool]) -> LaidOutColumn {
        let column = &self.columns[item];
        let found = || lines.iter().map(|line| line.map(|number| &self.lines[number]));
        let text = |l: &GridLine| column.text(&l.values[item], self.format_of(l, item), formats);
        let is_plain = |line: &GridLine| column.ty == Type::Float && self.format_of(line, item).is_none();
        let cells = match found().flatten().all(is_plain) {
            true => formats.show_column(&found().map(|l| l.map(|l| &l.values[item])).collect::<Vec<_>>(), column.ty),
            false => found().map(|line| line.map_or_else(String::new, text)).collect(),
        };
        let value = |l: &GridLine| (l.values[item].clone(), self.format_of(l, item).map(str::to_string));
        let figure = |(line, total): (Option<&GridLine>, &bool)| line.filter(|_| !total)?.values[item].as_f64();
        LaidOutColumn {
            is_number: !matches!(column.ty, Type::Text | Type::Date | Type::Timestamp | Type::Bool),
            cells,
            values: found().map(|line| line.map(value)).collect(),
            figures: found().zip(totals).map(figure).collect(),
            lines: lines.to_vec(),
            item,
            ..LaidOutColumn::default()
        }
    }

    fn row_axis(
        &self,
        formats: &Formats,
        keys: &[AxisValues],
        n: usize,
        axis: usize,
        head_lines: usize,
    ) -> LaidOutColumn {
        let column = &self.columns[axis];
        let mut heads = vec![String::new(); head_lines.saturating_sub(1)];
        heads.push(column.heading());
        let cell = |row: usize| {
            // The outer value stands once for all lines below it.
            let repeats = row > 0 && keys[row - 1][..=n] == keys[row][..=n] && n + 1 < keys[row].len();
            let under_mark = n > 0 && keys[row][n - 1] == keys[row][n] && !matches!(keys[row][n], AxisValue::Value(_));
            if repeats || under_mark { String::new() } else { keys[row][n].shown(column, formats) }
        };
        let value = |row: usize| match &keys[row][n] {
            AxisValue::Value(value) => Some((value.clone(), column.format.clone())),
            _ => None,
        };
        LaidOutColumn {
            heads,
            is_number: column.ty.is_number(),
            cells: (0..keys.len()).map(cell).collect(),
            values: (0..keys.len()).map(value).collect(),
            item: axis,
            ..LaidOutColumn::default()
        }
    }
}
