//! Tables of text: aligned columns, as wide as they need to be.

use unicode_width::UnicodeWidthStr;

use super::sink::{Output, Tone};
use super::text::{Align, csv_line, cut, pad, visible, wrapped};
use crate::failure::Failure;

/// A text column that has no room is not made narrower than this, as long as a further block can have it.
const NARROWEST: usize = 28;

/// A table with one line of heads.
pub struct TextTable {
    heads: Vec<String>,
    aligns: Vec<Align>,
    rows: Vec<(Tone, Vec<String>)>,
    label: usize,
    wrap: Option<usize>,
}

impl TextTable {
    /// A table with these columns.
    pub fn new(columns: &[(&str, Align)]) -> TextTable {
        TextTable {
            heads: columns.iter().map(|(h, _)| h.to_string()).collect(),
            aligns: columns.iter().map(|(_, a)| *a).collect(),
            rows: Vec::new(),
            label: 0,
            wrap: None,
        }
    }

    /// Which column says what a row is about, and so stands in every block; by default the first.
    #[must_use]
    pub fn labelled_by(mut self, column: usize) -> TextTable {
        self.label = column;
        self
    }

    /// A column of words that go on in a further line where they have no room, in place of being shortened.
    #[must_use]
    pub fn wrapped_in(mut self, column: usize) -> TextTable {
        self.wrap = Some(column);
        self
    }

    /// Adds a row.
    pub fn row(&mut self, cells: Vec<String>) {
        self.toned(Tone::Plain, cells);
    }

    /// Adds a row in a tone.
    pub fn toned(&mut self, tone: Tone, cells: Vec<String>) {
        self.rows.push((tone, cells));
    }

    /// Writes it for people. What a terminal has no room for is shortened, or comes in further blocks.
    pub fn write(&self, out: &mut Output) -> Result<(), Failure> {
        let rows: Vec<Vec<String>> = self.rows.iter().map(|(_, r)| r.iter().map(|c| visible(c)).collect()).collect();
        for (i, block) in self.blocks(&rows, out.width().unwrap_or(usize::MAX)).iter().enumerate() {
            let heads = self.line(&self.heads, block);
            let heads = out.paint(Tone::Head, &heads);
            let gap = if i > 0 { "\n" } else { "" };
            if !heads.trim().is_empty() || i > 0 {
                out.text(&format!("{gap}{heads}\n"))?;
            }
            for ((tone, _), row) in self.rows.iter().zip(&rows) {
                for line in self.lines(row, block) {
                    let line = out.paint(*tone, &line);
                    out.text(&format!("{line}\n"))?;
                }
            }
        }
        Ok(())
    }

    fn widths(&self, rows: &[Vec<String>]) -> Vec<usize> {
        (0..self.heads.len())
            .map(|i| {
                let cells = rows.iter().filter_map(|r| r.get(i)).map(|c| c.width());
                cells.chain([self.heads[i].width()]).max().unwrap_or(0)
            })
            .collect()
    }

    /// The columns of each block, with their widths.
    fn blocks(&self, rows: &[Vec<String>], room: usize) -> Vec<Vec<(usize, usize)>> {
        let natural = self.widths(rows);
        let all: Vec<(usize, usize)> = natural.iter().copied().enumerate().collect();
        let least = |column: usize| match self.aligns[column] {
            Align::Left => natural[column].min(NARROWEST),
            Align::Right => natural[column],
        };
        if let Some(one) = narrowed(&all, room, least) {
            return vec![one];
        }
        // As few blocks as can be, and then the label as wide as it can be.
        let widest = natural[self.label].min(room / 2);
        let packed = |label: usize| self.packed(&all, room, (self.label, label), &least);
        let blocks = (widest.min(NARROWEST)..=widest).rev().map(packed).min_by_key(Vec::len).unwrap_or_default();
        blocks.into_iter().map(|block| fitted(block, room, self.label, &least)).collect()
    }

    /// Columns in blocks, each of which begins with the label.
    fn packed(
        &self,
        all: &[(usize, usize)],
        room: usize,
        label: (usize, usize),
        least: &dyn Fn(usize) -> usize,
    ) -> Vec<Vec<(usize, usize)>> {
        let mut blocks: Vec<Vec<(usize, usize)>> = Vec::new();
        let mut used = usize::MAX;
        for (column, width) in all.iter().copied().filter(|(column, _)| *column != self.label) {
            if used.saturating_add(GAP + least(column)) > room {
                blocks.push(vec![label]);
                used = label.1;
            }
            used += GAP + least(column);
            blocks.last_mut().into_iter().for_each(|block| block.push((column, width)));
        }
        blocks
    }

    /// The line of a row, and those in which its words go on.
    fn lines(&self, row: &[String], block: &[(usize, usize)]) -> Vec<String> {
        let wrap = self.wrap.and_then(|at| block.iter().find(|(column, _)| *column == at));
        let Some(&(at, width)) = wrap.filter(|(at, width)| row.get(*at).is_some_and(|cell| cell.width() > *width))
        else {
            return vec![self.line(row, block)];
        };
        let mut row = row.to_vec();
        let words = wrapped(&row[at], width);
        let mut lines = Vec::new();
        for part in words {
            row[at] = part;
            lines.push(self.line(&row, block));
            row.iter_mut().for_each(String::clear);
        }
        lines
    }

    fn line(&self, cells: &[String], block: &[(usize, usize)]) -> String {
        let cell = |(column, width): &(usize, usize)| {
            let text = cells.get(*column).map_or("", String::as_str);
            pad(&cut(text, *width), *width, self.aligns[*column])
        };
        let padded: Vec<String> = block.iter().map(cell).collect();
        padded.join("  ").trim_end().to_string()
    }

    /// Writes it as CSV.
    pub fn write_csv(&self, out: &mut Output) -> Result<(), Failure> {
        out.text(&csv_line(self.heads.iter().map(String::as_str)))?;
        for (_, row) in &self.rows {
            out.text(&csv_line(row.iter().map(String::as_str)))?;
        }
        Ok(())
    }
}

/// Between two columns.
const GAP: usize = 2;

/// Columns no wider together than `room`: the widest are made narrower, down to what is least for each.
fn narrowed(columns: &[(usize, usize)], room: usize, least: impl Fn(usize) -> usize) -> Option<Vec<(usize, usize)>> {
    let mut columns = columns.to_vec();
    let gaps = GAP * columns.len().saturating_sub(1);
    loop {
        let taken: usize = columns.iter().map(|(_, width)| width).sum::<usize>() + gaps;
        if taken <= room {
            return Some(columns);
        }
        let can_give = columns.iter_mut().filter(|(column, width)| *width > least(*column));
        let (column, width) = can_give.max_by_key(|(_, width)| *width)?;
        // All at once would take from one column what two could share.
        *width = width.saturating_sub((taken - room).div_ceil(2)).max(least(*column));
    }
}

/// A block in the order of its columns, no wider than there is room, even where a single column would be.
fn fitted(
    mut block: Vec<(usize, usize)>,
    room: usize,
    label: usize,
    least: &dyn Fn(usize) -> usize,
) -> Vec<(usize, usize)> {
    block.sort_unstable();
    let of_label = block.iter().find(|(column, _)| *column == label).map_or(0, |(_, width)| *width);
    narrowed(&block, room, |column| if column == label { of_label } else { least(column) })
        .or_else(|| narrowed(&block, room, |column| if column == label { of_label.min(8) } else { 4 }))
        .unwrap_or(block)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn widths(table: &TextTable, room: usize) -> Vec<Vec<usize>> {
        let rows: Vec<Vec<String>> = table.rows.iter().map(|(_, r)| r.clone()).collect();
        table.blocks(&rows, room).iter().map(|b| b.iter().map(|(_, width)| *width).collect()).collect()
    }

    #[test]
    fn a_table_is_shortened_and_then_comes_in_blocks() {
        let mut table =
            TextTable::new(&[("", Align::Left), ("n", Align::Right), ("m", Align::Right), ("t", Align::Left)]);
        table.row(vec!["a".repeat(20), "1".repeat(10), "2".repeat(10), "t".repeat(60)]);
        assert_eq!(widths(&table, 200), [[20, 10, 10, 60]]);
        assert_eq!(widths(&table, 80), [[20, 10, 10, 34]], "the text gives way");
        assert_eq!(widths(&table, 60), [vec![20, 10, 10], vec![20, 38]], "or stands in a block of its own");
        for room in 20..120 {
            for block in widths(&table, room) {
                assert!(block.iter().sum::<usize>() + 2 * (block.len() - 1) <= room, "{room}: {block:?}");
            }
        }
    }
}
