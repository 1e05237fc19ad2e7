//! What a query gives.

use cubrel_plan::query::PlannedItem;
use cubrel_value::{Type, Value};

/// What a grid's columns are.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum GridColumnKind {
    /// A row axis.
    Row,
    /// A column axis.
    Column,
    /// An item.
    Measure,
    /// A column of records.
    Field,
}

/// One column of a [`Grid`].
#[derive(Clone, Debug)]
pub struct GridColumn {
    /// The name in formulas, or the heading.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// Shown before labels and values, to tell a table and its copy apart.
    pub prefix: Option<String>,
    /// What it is.
    pub kind: GridColumnKind,
    /// The type of its values.
    pub ty: Type,
    /// A pattern for its values.
    pub format: Option<String>,
    /// For an axis that is a lens: its readings.
    pub readings: Vec<GridReading>,
}

/// A reading of a lens that stands on an axis.
#[derive(Clone, Debug)]
pub struct GridReading {
    /// The value on the axis.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// A pattern for the figures on its lines, in place of their own.
    pub format: Option<String>,
}

/// What stands on an axis of a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum LineKind {
    /// A value.
    Value,
    /// No value: rows that have none there.
    None,
    /// All values together.
    Total,
    /// The values that a limit has dropped, together.
    Others,
}

/// One line of a [`Grid`]: axis values, then items.
#[derive(Clone, Debug, PartialEq)]
pub struct GridLine {
    /// By column of the grid; null on axes that are totalled, or that stand for the rest of a limit.
    pub values: Vec<Value>,
    /// Which axis columns are totalled.
    pub totalled: Vec<usize>,
    /// Which axis columns stand for the rest of a limit.
    pub others: Vec<usize>,
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
    /// Whether a line for the rest of a limit was asked for.
    pub others: bool,
}

impl Grid {
    /// The pattern for one value of a line: that of the reading that the line stands at, else the column's own.
    pub fn format_of(&self, line: &GridLine, column: usize) -> Option<&str> {
        let own = self.columns[column].format.as_deref();
        if self.columns[column].kind != GridColumnKind::Measure {
            return own;
        }
        let stands_at = |i: usize, r: &&GridReading| line.values[i].as_text() == Some(&r.name);
        let mut readings =
            self.columns.iter().enumerate().filter_map(|(i, axis)| axis.readings.iter().find(|r| stands_at(i, r)));
        readings.find_map(|r| r.format.as_deref()).or(own)
    }
}

/// The column of a grid that an item is.
pub(super) fn item_column(item: &PlannedItem, kind: GridColumnKind) -> GridColumn {
    GridColumn {
        name: item.name.clone(),
        label: item.label.clone(),
        prefix: None,
        kind,
        ty: item.ty,
        format: item.format.clone(),
        readings: Vec::new(),
    }
}
