//! Tables of text: aligned columns, as wide as they need to be.

use unicode_width::UnicodeWidthStr;

pub use cubrel::value::units::{bytes, count};

use super::{Output, Tone};
use crate::commands::Failure;

/// On which side of its column a text stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Align {
    /// Left.
    Left,
    /// Right.
    Right,
}

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

/// A text as it can stand in one line of a terminal: control characters are shown as escapes.
pub fn visible(text: &str) -> String {
    if !text.contains(char::is_control) {
        return text.to_string();
    }
    let escape = |c: char| if c.is_control() { c.escape_default().to_string() } else { c.to_string() };
    text.chars().map(escape).collect()
}

/// A painted text as a terminal may get it: besides line ends and colours, control characters are shown as escapes.
pub fn harmless(text: &str) -> std::borrow::Cow<'_, str> {
    if !text.contains(|c: char| c.is_control() && c != '\n') {
        return text.into();
    }
    let mut safe = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let colour = rest.strip_prefix("\u{1b}[").and_then(|codes| {
            let end = codes.find(|c: char| !c.is_ascii_digit() && c != ';')?;
            codes[end..].starts_with('m').then_some(end + 3)
        });
        let taken = colour.unwrap_or(c.len_utf8());
        match colour {
            None if c.is_control() && c != '\n' => safe.extend(c.escape_default()),
            _ => safe.push_str(&rest[..taken]),
        }
        rest = &rest[taken..];
    }
    safe.into()
}

/// A painted line that is no wider than `width`, with `…` where it was cut.
pub fn cut_painted(line: &str, width: usize) -> String {
    let plain = anstream::adapter::strip_str(line).to_string();
    if plain.width() <= width {
        return line.to_string();
    }
    let (mut kept, mut taken, mut full) = (String::new(), 0, false);
    let mut rest = line;
    while let Some(c) = rest.chars().next() {
        let escape = if c == '\u{1b}' { rest.find('m').map_or(rest.len(), |end| end + 1) } else { 0 };
        if escape > 0 {
            kept.push_str(&rest[..escape]);
            rest = &rest[escape..];
            continue;
        }
        let wide = c.to_string().width();
        if !full && taken + wide < width {
            kept.push(c);
            taken += wide;
        } else if !full {
            kept.push('…');
            full = true;
        }
        rest = &rest[c.len_utf8()..];
    }
    kept
}

/// Sentences are no wider than this, however wide the terminal is.
pub const READABLE: usize = 110;

/// A text in lines that are no wider than `width`, where its words allow it.
pub fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.width() + 1 + word.width() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_string()),
        }
    }
    lines
}

/// Fills a text up to a width.
pub fn pad(text: &str, width: usize, align: Align) -> String {
    let fill = " ".repeat(width.saturating_sub(text.width()));
    match align {
        Align::Left => format!("{text}{fill}"),
        Align::Right => format!("{fill}{text}"),
    }
}

/// Cuts a text to a width, with `…` at the end.
pub fn cut(text: &str, width: usize) -> String {
    if text.width() <= width {
        return text.to_string();
    }
    let mut short = String::new();
    for c in text.chars() {
        if short.width() + 1 + c.to_string().width() > width {
            break;
        }
        short.push(c);
    }
    short + "…"
}

/// One line of CSV.
pub fn csv_line<'a>(fields: impl Iterator<Item = &'a str>) -> String {
    let quoted: Vec<String> =
        fields
            .map(|f| {
                if f.contains([',', '"', '\n', '\r']) {
                    format!("\"{}\"", f.replace('"', "\"\""))
                } else {
                    f.to_string()
                }
            })
            .collect();
    quoted.join(",") + "\n"
}

/// A bar of a share of `width` characters, in eighths.
pub fn bar(share: f64, width: usize) -> String {
    const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    let eighths = (share.clamp(0.0, 1.0) * width as f64 * 8.0).round() as usize;
    "█".repeat(eighths / 8) + EIGHTHS[eighths % 8]
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

    #[test]
    fn painted_lines_are_cut_by_what_is_seen() {
        let line = "\u{1b}[1mMiddle\u{1b}[0m Reach";
        assert_eq!(cut_painted(line, 12), line);
        assert_eq!(cut_painted(line, 9), "\u{1b}[1mMiddle\u{1b}[0m R…");
        assert_eq!(cut_painted(line, 4), "\u{1b}[1mMid…\u{1b}[0m");
        assert_eq!(visible("a\u{1b}[2Jb\nc"), "a\\u{1b}[2Jb\\nc");
        let painted = "\u{1b}[1m\u{1b}[36mT\u{1b}[0m\n";
        assert_eq!(harmless(painted), painted);
        assert_eq!(harmless("\u{1b}]0;x\u{7}\u{1b}[2J\u{1b}[m\u{1b}["), "\\u{1b}]0;x\\u{7}\\u{1b}[2J\u{1b}[m\\u{1b}[");
    }

    #[test]
    fn texts_are_cut_and_filled_by_their_width() {
        assert_eq!(cut("Østby", 5), "Østby");
        assert_eq!(cut("Middle Reach", 6), "Middl…");
        assert_eq!(pad("日本", 6, Align::Right), "  日本");
        assert_eq!(csv_line(["a", "b,c", "d\"e"].into_iter()), "a,\"b,c\",\"d\"\"e\"\n");
        assert_eq!((bar(0.5, 4), bar(1.0, 2), bar(0.0, 4)), ("██".into(), "██".into(), String::new()));
    }
}
