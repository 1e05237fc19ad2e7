//! A grid laid out for a terminal or a page: columns with their widths and bars.

use std::ops::Deref;

use cubrel::{Formats, Grid, LaidOutColumn};
use unicode_width::UnicodeWidthStr;

use super::text::{Align, visible};

/// What stands for null on an axis.
pub const NONE: &str = "(none)";

/// One displayed column.
pub struct Block {
    column: LaidOutColumn,
    pub align: Align,
    pub width: usize,
    /// How wide a bar can be; none is drawn when 0.
    pub bar: usize,
}

impl Deref for Block {
    type Target = LaidOutColumn;

    fn deref(&self) -> &LaidOutColumn {
        &self.column
    }
}

impl Block {
    /// What would move the cursor, or not be seen, is made visible.
    fn new(mut column: LaidOutColumn) -> Block {
        column.heads.iter_mut().chain(&mut column.cells).for_each(|text| *text = visible(text));
        let align = if column.is_number { Align::Right } else { Align::Left };
        Block { column, align, width: 0, bar: 0 }
    }

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
}

/// Lays a grid out.
pub fn layout(grid: &Grid, formats: &Formats) -> GridLayout {
    let cubrel::GridLayout { rows, columns, totals, alike, .. } = grid.layout(formats);
    let blocks = |columns: Vec<LaidOutColumn>| columns.into_iter().map(Block::new).collect();
    GridLayout { rows: blocks(rows), columns: blocks(columns), totals, alike }
}
