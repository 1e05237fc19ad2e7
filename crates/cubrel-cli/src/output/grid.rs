//! Grids: with row and column axes for people, flat for scripts.

use cubrel::{Formats, Grid, GridColumn, GridColumnKind};

use super::grid_layout::{Block, GridLayout, NONE, layout};
use super::sink::{Output, Tone};
use super::text::{Align, cut, pad, visible};
use crate::failure::Failure;

/// No column is wider than this on a terminal.
const WIDEST: usize = 40;

/// Flat CSV: bare values, or as people read them.
pub fn write_csv(grid: &Grid, formats: Option<&Formats>, out: &mut Output) -> Result<(), Failure> {
    out.text(&grid.to_csv(formats))
}

/// Shows a grid to a person; one that is wider than the terminal comes in pieces, each with its row heads.
pub fn show(grid: &Grid, formats: &Formats, bars: bool, out: &mut Output) -> Result<(), Failure> {
    let mut layout = layout(grid, formats);
    if grid.lines.is_empty() {
        return out.text("nothing matches\n");
    }
    let widest = if out.width().is_some() { WIDEST } else { usize::MAX };
    layout.rows.iter_mut().chain(&mut layout.columns).for_each(|b| b.measure(widest));
    if bars {
        draw_bars(&mut layout.columns);
    }
    title(grid, out)?;
    let left: usize = layout.rows.iter().map(|b| b.width + 2).sum();
    let pieces = pieces(&layout.columns, left, out.width());
    for (i, piece) in pieces.iter().enumerate() {
        if pieces.len() > 1 {
            let note = format!("columns {} to {} of {}", piece.start + 1, piece.end, layout.columns.len());
            let gap = if i == 0 { "" } else { "\n" };
            let note = out.paint(Tone::Faint, &note);
            out.text(&format!("{gap}{note}\n"))?;
        }
        write_piece(&layout, piece.clone(), out)?;
    }
    Ok(())
}

/// A single item under a column axis has no line of heads of its own.
fn title(grid: &Grid, out: &mut Output) -> Result<(), Failure> {
    let items: Vec<&GridColumn> = grid.columns.iter().filter(|c| c.kind == GridColumnKind::Measure).collect();
    let axes: Vec<&GridColumn> = grid.columns.iter().filter(|c| c.kind == GridColumnKind::Column).collect();
    if let ([only], false) = (items.as_slice(), axes.is_empty()) {
        let over: Vec<String> = axes.iter().map(|c| c.heading().to_lowercase()).collect();
        let text = visible(&format!("{} by {}", only.heading(), over.join(", ")));
        let text = out.paint(Tone::Faint, &text);
        out.text(&format!("{text}\n"))?;
    }
    Ok(())
}

/// Gives each column of numbers room for bars.
fn draw_bars(columns: &mut [Block]) {
    const BAR: usize = 12;
    for column in columns.iter_mut().filter(|c| c.align == Align::Right && !c.total) {
        if column.figures.iter().flatten().any(|v| *v != 0.0) {
            column.bar = BAR;
            column.width += BAR + 1;
        }
    }
}

/// A bar as long as a number is large beside the largest of its column, in eighths of a character; a negative one is
/// hollow.
fn bar(value: Option<f64>, largest: f64, width: usize) -> String {
    const EIGHTHS: [char; 8] = [' ', '▏', '▎', '▍', '▌', '▋', '▊', '▉'];
    let Some(value) = value.filter(|v| v.is_finite() && *v != 0.0 && largest > 0.0) else {
        return " ".repeat(width);
    };
    let eighths = ((value.abs() / largest) * width as f64 * 8.0).round().max(1.0) as usize;
    let full = if value < 0.0 { '░' } else { '█' };
    let mut text: String = std::iter::repeat_n(full, eighths / 8).collect();
    if !eighths.is_multiple_of(8) && text.chars().count() < width {
        text.push(if value < 0.0 { '░' } else { EIGHTHS[eighths % 8] });
    }
    pad(&text, width, Align::Left)
}

/// A cell of a block, with its bar.
fn cell_text(block: &Block, row: usize) -> String {
    if block.bar == 0 {
        return pad(&cut(&block.cells[row], block.width), block.width, block.align);
    }
    let width = block.width - block.bar - 1;
    let largest = block.figures.iter().flatten().fold(0.0f64, |m, v| m.max(v.abs()));
    let number = pad(&cut(&block.cells[row], width), width, block.align);
    format!("{number} {}", bar(block.figures.get(row).copied().flatten(), largest, block.bar))
}

fn pieces(columns: &[Block], left: usize, width: Option<usize>) -> Vec<std::ops::Range<usize>> {
    // Without a terminal there is no edge.
    let width = width.unwrap_or(usize::MAX);
    let mut pieces = Vec::new();
    let (mut start, mut used) = (0, left);
    for (i, column) in columns.iter().enumerate() {
        if used + column.width > width && i > start {
            pieces.push(start..i);
            (start, used) = (i, left);
        }
        used += column.width + 2;
    }
    pieces.push(start..columns.len());
    pieces
}

fn write_piece(layout: &GridLayout, piece: std::ops::Range<usize>, out: &mut Output) -> Result<(), Failure> {
    let blocks: Vec<&Block> = layout.rows.iter().chain(&layout.columns[piece]).collect();
    let head_lines = blocks.first().map_or(0, |b| b.heads.len());
    for level in 0..head_lines {
        let mut line = Vec::new();
        for (i, block) in blocks.iter().enumerate() {
            // A head that covers several columns stands over the first of them.
            let covered = i > layout.rows.len()
                && level + 1 < head_lines
                && blocks[i - 1].heads[..=level] == block.heads[..=level];
            let text = if covered { "" } else { block.heads[level].as_str() };
            // Over bars a head stands over the number.
            let width = if block.bar > 0 { block.width - block.bar - 1 } else { block.width };
            line.push(pad(&pad(&cut(text, width), width, block.align), block.width, Align::Left));
        }
        let text = out.paint(Tone::Head, line.join("  ").trim_end());
        out.text(&format!("{text}\n"))?;
    }
    for row in 0..layout.totals.len() {
        let cells: Vec<String> = blocks
            .iter()
            .map(|b| {
                let text = cell_text(b, row);
                let tone = if layout.totals[row] || b.total {
                    Tone::Total
                } else if b.cells[row] == NONE {
                    Tone::Faint
                } else {
                    Tone::Plain
                };
                out.paint(tone, &text)
            })
            .collect();
        out.text(&format!("{}\n", cells.join("  ").trim_end()))?;
    }
    Ok(())
}

/// A Markdown table with the same layout.
pub fn write_markdown(grid: &Grid, formats: &Formats, out: &mut Output) -> Result<(), Failure> {
    let layout = layout(grid, formats);
    let blocks: Vec<&Block> = layout.rows.iter().chain(&layout.columns).collect();
    let escape = |text: &str| text.replace('|', "\\|");
    let heads: Vec<String> = blocks
        .iter()
        .map(|b| escape(&b.heads.iter().filter(|h| !h.is_empty()).cloned().collect::<Vec<_>>().join(" ")))
        .collect();
    out.text(&format!("| {} |\n", heads.join(" | ")))?;
    let rule: Vec<&str> = blocks.iter().map(|b| if b.align == Align::Right { "---:" } else { "---" }).collect();
    out.text(&format!("|{}|\n", rule.join("|")))?;
    for row in 0..layout.totals.len() {
        let cells: Vec<String> = blocks.iter().map(|b| escape(&b.cells[row])).collect();
        out.text(&format!("| {} |\n", cells.join(" | ")))?;
    }
    Ok(())
}
