//! Grids: laid out with row and column axes for people, flat for scripts.

use std::collections::HashMap;
use std::time::Duration;

use cubrel::value::format::Formats;
use cubrel::{Grid, GridColumn, GridColumnKind, GridLine, Type, Value};
use serde_json::{Value as Json, json};
use unicode_width::UnicodeWidthStr;

use super::text::{Align, csv_line, cut, pad};
use super::{Output, Tone};
use crate::commands::Failure;

/// What stands for null on an axis.
const NONE: &str = "(none)";
/// What a totalled axis is called.
const TOTAL: &str = "total";
/// No column is wider than this on a terminal.
const WIDEST: usize = 40;

/// Values of some axes, each with whether it is totalled.
type Key = Vec<(bool, Value)>;

/// The stable JSON shape.
pub fn as_json(grid: &Grid, elapsed: Duration) -> Json {
    let mut columns: Vec<Json> = grid
        .columns
        .iter()
        .map(|c| json!({"name": c.name, "label": label(c), "type": c.ty.to_string(), "kind": kind(c.kind)}))
        .collect();
    if grid.totals {
        columns.push(json!({"name": "total", "kind": "total"}));
    }
    let rows: Vec<Json> = grid
        .lines
        .iter()
        .map(|line| {
            let mut values: Vec<Json> = line.values.iter().map(json_value).collect();
            if grid.totals {
                values.push(json!(line.totalled.iter().map(|i| &grid.columns[*i].name).collect::<Vec<_>>()));
            }
            Json::Array(values)
        })
        .collect();
    let elapsed_ms = (elapsed.as_secs_f64() * 1e6).round() / 1e3;
    json!({"columns": columns, "rows": rows, "elapsed_ms": elapsed_ms})
}

fn kind(kind: GridColumnKind) -> &'static str {
    match kind {
        GridColumnKind::Row => "row",
        GridColumnKind::Column => "column",
        GridColumnKind::Measure => "measure",
    }
}

/// Decimals keep their digits.
fn json_value(value: &Value) -> Json {
    match value {
        Value::Null => Json::Null,
        Value::Bool(b) => json!(b),
        Value::Int(v) => json!(v),
        Value::Float(v) => json!(v),
        Value::Decimal { .. } => value.to_string().parse::<serde_json::Number>().map_or(Json::Null, Json::Number),
        Value::Text(_) | Value::Date(_) | Value::Timestamp(_) => json!(value.to_string()),
    }
}

/// What people read over a column.
fn label(column: &GridColumn) -> String {
    column.label.clone().unwrap_or_else(|| match column.kind {
        GridColumnKind::Measure => column.name.clone(),
        // `route.name` is about routes, and `calendar.month` about months.
        _ => match column.name.split_once('.') {
            Some((table, "name")) => spaced(table),
            Some((_, column)) => spaced(column),
            None => column.name.clone(),
        },
    })
}

fn spaced(name: &str) -> String {
    let text = name.replace('_', " ");
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |c| c.to_uppercase().chain(chars).collect())
}

/// A value of an axis or an item as people read it.
fn shown(value: &Value, column: &GridColumn, formats: &Formats) -> String {
    let axis = column.kind != GridColumnKind::Measure;
    if axis && value.is_null() {
        return NONE.to_string();
    }
    // Years and other whole numbers that name something have no commas.
    if axis && column.format.is_none() && column.ty == Type::Int {
        return value.to_string();
    }
    formats.show(value, column.ty, column.format.as_deref())
}

/// Flat CSV: bare values, or as people read them.
pub fn write_csv(grid: &Grid, formats: Option<&Formats>, out: &mut Output) -> Result<(), Failure> {
    let heads: Vec<String> =
        grid.columns.iter().map(|c| if formats.is_some() { label(c) } else { c.name.clone() }).collect();
    let total = grid.totals.then_some(TOTAL);
    out.text(&csv_line(heads.iter().map(String::as_str).chain(total)))?;
    for line in &grid.lines {
        let mut fields: Vec<String> = line
            .values
            .iter()
            .enumerate()
            .map(|(i, v)| match formats {
                Some(_) if line.totalled.contains(&i) => TOTAL.to_string(),
                Some(f) => shown(v, &grid.columns[i], f),
                None => v.to_string(),
            })
            .collect();
        if grid.totals {
            fields.push(line.totalled.iter().map(|i| grid.columns[*i].name.as_str()).collect::<Vec<_>>().join(" "));
        }
        out.text(&csv_line(fields.iter().map(String::as_str)))?;
    }
    Ok(())
}

/// One displayed column: heads from the top down, and a cell for each line.
struct Block {
    heads: Vec<String>,
    align: Align,
    cells: Vec<String>,
    total: bool,
    width: usize,
}

impl Block {
    fn measure(&mut self, widest: usize) {
        let widths = self.heads.iter().chain(&self.cells).map(|t| t.width());
        self.width = widths.max().unwrap_or(0).min(widest);
    }
}

/// A grid laid out: what stands left of it, its columns, and which lines are totals.
struct Layout {
    rows: Vec<Block>,
    columns: Vec<Block>,
    totals: Vec<bool>,
}

fn layout(grid: &Grid, formats: &Formats) -> Layout {
    let of_kind = |kind| grid.columns.iter().enumerate().filter(move |(_, c)| c.kind == kind).map(|(i, _)| i);
    let row_axes: Vec<usize> = of_kind(GridColumnKind::Row).collect();
    let column_axes: Vec<usize> = of_kind(GridColumnKind::Column).collect();
    let items: Vec<usize> = of_kind(GridColumnKind::Measure).collect();
    // Lines that differ only on the column axes are one line of the display.
    let row_key = |line: &GridLine| -> Key {
        row_axes.iter().map(|i| (line.totalled.contains(i), line.values[*i].clone())).collect()
    };
    let mut keys: Vec<Key> = Vec::new();
    let mut cells: HashMap<(usize, Key), &GridLine> = HashMap::new();
    for line in &grid.lines {
        let key = row_key(line);
        if keys.last() != Some(&key) {
            keys.push(key);
        }
        let header = column_axes.iter().map(|i| (line.totalled.contains(i), line.values[*i].clone())).collect();
        cells.insert((keys.len() - 1, header), line);
    }
    let totals: Vec<bool> = keys.iter().map(|k| k.iter().any(|(t, _)| *t)).collect();
    let head_lines = column_axes.len() + usize::from(items.len() > 1 || column_axes.is_empty());
    let rows = row_axes.iter().enumerate().map(|(n, i)| row_block(grid, formats, &keys, n, *i, head_lines)).collect();
    let mut columns = Vec::new();
    for header in &grid.headers {
        let key: Key =
            column_axes.iter().zip(&header.values).map(|(i, v)| (header.totalled.contains(i), v.clone())).collect();
        for item in &items {
            let column = &grid.columns[*item];
            let mut heads: Vec<String> = key
                .iter()
                .zip(&column_axes)
                .map(|((total, v), i)| if *total { TOTAL.to_string() } else { shown(v, &grid.columns[*i], formats) })
                .collect();
            if heads.len() < head_lines {
                heads.push(label(column));
            }
            let cell = |row| {
                cells.get(&(row, key.clone())).map_or_else(String::new, |l| shown(&l.values[*item], column, formats))
            };
            let align = if matches!(column.ty, Type::Text | Type::Date | Type::Timestamp | Type::Bool) {
                Align::Left
            } else {
                Align::Right
            };
            columns.push(Block {
                heads,
                align,
                cells: (0..keys.len()).map(cell).collect(),
                total: key.iter().any(|(t, _)| *t),
                width: 0,
            });
        }
    }
    Layout { rows, columns, totals }
}

fn row_block(grid: &Grid, formats: &Formats, keys: &[Key], n: usize, axis: usize, head_lines: usize) -> Block {
    let column = &grid.columns[axis];
    let mut heads = vec![String::new(); head_lines.saturating_sub(1)];
    heads.push(label(column));
    let cell = |row: usize| {
        let (total, value) = &keys[row][n];
        // The outer value stands once for all lines below it.
        let repeats = row > 0 && keys[row - 1][..=n] == keys[row][..=n] && n + 1 < keys[row].len();
        let outer_total = n > 0 && keys[row][n - 1].0;
        match (total, repeats || outer_total) {
            (_, true) => String::new(),
            (true, _) => TOTAL.to_string(),
            (false, _) => shown(value, column, formats),
        }
    };
    let numeric = matches!(column.ty, Type::Int | Type::Float | Type::Decimal { .. });
    let align = if numeric { Align::Right } else { Align::Left };
    Block { heads, align, cells: (0..keys.len()).map(cell).collect(), total: false, width: 0 }
}

/// Shows a grid to a person; one that is wider than the terminal comes in pieces, each with its row heads.
pub fn show(grid: &Grid, formats: &Formats, out: &mut Output) -> Result<(), Failure> {
    let mut layout = layout(grid, formats);
    if grid.lines.is_empty() {
        return out.text("nothing matches\n");
    }
    let widest = if out.width().is_some() { WIDEST } else { usize::MAX };
    layout.rows.iter_mut().chain(&mut layout.columns).for_each(|b| b.measure(widest));
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
        let over: Vec<String> = axes.iter().map(|c| label(c).to_lowercase()).collect();
        let text = out.paint(Tone::Faint, &format!("{} by {}", label(only), over.join(", ")));
        out.text(&format!("{text}\n"))?;
    }
    Ok(())
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

fn write_piece(layout: &Layout, piece: std::ops::Range<usize>, out: &mut Output) -> Result<(), Failure> {
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
            line.push(pad(&cut(text, block.width), block.width, block.align));
        }
        let text = out.paint(Tone::Head, line.join("  ").trim_end());
        out.text(&format!("{text}\n"))?;
    }
    for row in 0..layout.totals.len() {
        let cells: Vec<String> = blocks
            .iter()
            .map(|b| {
                let text = pad(&cut(&b.cells[row], b.width), b.width, b.align);
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
