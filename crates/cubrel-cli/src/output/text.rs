//! Tables of text: aligned columns, as wide as they need to be.

use unicode_width::UnicodeWidthStr;

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

/// A table with one line of heads.
pub struct TextTable {
    heads: Vec<String>,
    aligns: Vec<Align>,
    rows: Vec<(Tone, Vec<String>)>,
}

impl TextTable {
    /// A table with these columns.
    pub fn new(columns: &[(&str, Align)]) -> TextTable {
        TextTable {
            heads: columns.iter().map(|(h, _)| h.to_string()).collect(),
            aligns: columns.iter().map(|(_, a)| *a).collect(),
            rows: Vec::new(),
        }
    }

    /// Adds a row.
    pub fn row(&mut self, cells: Vec<String>) {
        self.rows.push((Tone::Plain, cells));
    }

    /// Adds a row in a tone.
    pub fn toned(&mut self, tone: Tone, cells: Vec<String>) {
        self.rows.push((tone, cells));
    }

    fn widths(&self) -> Vec<usize> {
        (0..self.heads.len())
            .map(|i| {
                let cells = self.rows.iter().filter_map(|(_, r)| r.get(i)).map(|c| c.width());
                cells.chain([self.heads[i].width()]).max().unwrap_or(0)
            })
            .collect()
    }

    /// Writes it for people. On a terminal that is too narrow, the last column is cut.
    pub fn write(&self, out: &mut Output) -> Result<(), Failure> {
        let mut widths = self.widths();
        if let (Some(terminal), Some((last, others))) = (out.width(), widths.split_last_mut()) {
            let taken: usize = others.iter().map(|w| w + 2).sum();
            if terminal > taken + 12 {
                *last = (*last).min(terminal - taken);
            }
        }
        let heads = self.line(&self.heads, &widths);
        let heads = out.paint(Tone::Head, &heads);
        if !heads.trim().is_empty() {
            out.text(&format!("{heads}\n"))?;
        }
        for (tone, row) in &self.rows {
            let line = self.line(row, &widths);
            let line = out.paint(*tone, &line);
            out.text(&format!("{line}\n"))?;
        }
        Ok(())
    }

    fn line(&self, cells: &[String], widths: &[usize]) -> String {
        let padded: Vec<String> =
            cells.iter().zip(widths).zip(&self.aligns).map(|((c, w), a)| pad(&cut(c, *w), *w, *a)).collect();
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

/// A count with commas.
pub fn count(n: u64) -> String {
    let digits = n.to_string();
    let mut text = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            text.push(',');
        }
        text.push(c);
    }
    text
}

/// Bytes in the unit that suits them.
pub fn bytes(n: u64) -> String {
    const UNITS: [&str; 4] = ["KiB", "MiB", "GiB", "TiB"];
    if n < 1024 {
        return format!("{n} B");
    }
    let mut value = n as f64 / 1024.0;
    let mut unit = 0;
    while value >= 1024.0 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    let decimals = if value < 10.0 {
        2
    } else if value < 100.0 {
        1
    } else {
        0
    };
    format!("{value:.decimals$} {}", UNITS[unit])
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

    #[test]
    fn texts_are_cut_and_filled_by_their_width() {
        assert_eq!(cut("Østby", 5), "Østby");
        assert_eq!(cut("Middle Reach", 6), "Middl…");
        assert_eq!(pad("日本", 6, Align::Right), "  日本");
        assert_eq!(csv_line(["a", "b,c", "d\"e"].into_iter()), "a,\"b,c\",\"d\"\"e\"\n");
        assert_eq!((count(1_234_567), bytes(1536), bytes(12)), ("1,234,567".into(), "1.50 KiB".into(), "12 B".into()));
        assert_eq!((bar(0.5, 4), bar(1.0, 2), bar(0.0, 4)), ("██".into(), "██".into(), String::new()));
    }
}
