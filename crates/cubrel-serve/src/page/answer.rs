//! A grid as a table: what is known of it stands in the cells, and a number leads to why it is so.

use cubrel::{Grid, GridColumnKind, GridLayout, LaidOutColumn, QueryText};
use maud::{Markup, html};

use super::sentence::Part;

/// Lines that a page shows; the rest is in the file that can be taken along.
pub const LINES: usize = 1000;
/// Columns.
const COLUMNS: usize = 100;

/// An address with some pairs in it.
pub type Lead<'a> = &'a dyn Fn(&[(&str, &str)]) -> String;

/// What the table leads to.
pub struct Leads<'a> {
    /// The question.
    pub query: &'a QueryText,
    /// The address of the question with other pairs in it.
    pub to: Lead<'a>,
    /// The address of a change of it.
    pub change: Lead<'a>,
}

/// The largest of a column's figures, for its bars.
fn largest(column: &LaidOutColumn) -> f64 {
    column.figures.iter().flatten().fold(0.0f64, |most, x| most.max(x.abs()))
}

fn share(column: &LaidOutColumn, line: usize, largest: f64) -> Option<u32> {
    let figure = column.figures.get(line).copied().flatten().filter(|_| largest > 0.0 && !column.total)?;
    Some((figure.abs() / largest * 100.0).round().clamp(0.0, 100.0) as u32)
}

/// A head that orders the lines by its item, where there is one item for each column.
fn head(grid: &Grid, column: &LaidOutColumn, level: usize, leads: &Leads<'_>) -> Markup {
    let text = &column.heads[level];
    let is_last = level + 1 == column.heads.len();
    let of = &grid.columns[column.item];
    let place = grid.columns[..column.item].iter().filter(|c| c.kind == GridColumnKind::Measure).count();
    let item = Part::Items.of(leads.query).get(place).cloned();
    let can_order = is_last && of.kind == GridColumnKind::Measure && leads.query.split.is_empty();
    let Some(item) = item.filter(|_| can_order) else { return html! { (text) } };
    let now = leads.query.order.iter().find(|(formula, _)| *formula == item).map(|(_, descending)| *descending);
    // The largest first, then the smallest, then as it was.
    let (next, mark, told) = match now {
        None => ("desc", "", "order by it, the largest first"),
        Some(true) => ("asc", " ↓", "order by it, the smallest first"),
        Some(false) => ("none", " ↑", "order by the axes again"),
    };
    html! { a .order href=((leads.change)(&[("order", next), ("item", &item)])) title=(told) { (text) (mark) } }
}

fn cell(grid: &Grid, column: &LaidOutColumn, line: usize, leads: &Leads<'_>, largest: f64) -> Markup {
    let text = &column.cells[line];
    let of = &grid.columns[column.item];
    let place = column.lines.get(line).copied().flatten().and_then(|number| grid.place(number));
    let class = match (column.is_number, share(column, line, largest)) {
        (true, Some(share)) => format!("number bar s{share}"),
        (true, None) => "number".to_string(),
        _ => String::new(),
    };
    let total = if column.total { " total" } else { "" };
    html! {
        td class=(format!("{class}{total}")) {
            @match place.filter(|_| of.kind == GridColumnKind::Measure && !text.is_empty()) {
                Some(place) => a .cell href=(format!("{}#why", (leads.to)(&[("at", &place), ("item", &of.name)]))) title="why?" { (text) },
                None => (text),
            }
        }
    }
}

/// The head of an axis: nothing stands over it where column axes have more levels.
fn head_cell(text: &str, class: &str) -> Markup {
    html! { @if text.is_empty() { td {} } @else { th scope="col" class=(class) { (text) } } }
}

/// A value of an axis: nothing where the line before has the same.
fn axis_cell(text: &str, class: &str) -> Markup {
    html! { @if text.is_empty() { td {} } @else { th scope="row" class=(class) { (text) } } }
}

/// The table.
pub fn table(grid: &Grid, layout: &GridLayout, leads: &Leads<'_>) -> Markup {
    let columns = &layout.columns[..layout.columns.len().min(COLUMNS)];
    let largest: Vec<f64> = columns.iter().map(largest).collect();
    let heads = layout.rows.iter().chain(columns).map(|c| c.heads.len()).max().unwrap_or(0);
    let lines = layout.totals.len();
    let number = |column: &LaidOutColumn| if column.is_number { "number" } else { "" };
    html! {
        div .wide .grid role="region" tabindex="0" aria-label="Answer" {
            table {
                thead {
                    @for level in 0..heads {
                        tr {
                            @for axis in &layout.rows { (head_cell(&axis.heads[level], number(axis))) }
                            @for column in columns { th scope="col" class=(number(column)) { (head(grid, column, level, leads)) } }
                        }
                    }
                }
                tbody {
                    @for line in 0..lines.min(LINES) {
                        tr class=[layout.totals[line].then_some("total")] {
                            @for axis in &layout.rows { (axis_cell(&axis.cells[line], number(axis))) }
                            @for (column, largest) in columns.iter().zip(&largest) { (cell(grid, column, line, leads, *largest)) }
                        }
                    }
                }
            }
        }
        @if lines > LINES || layout.columns.len() > COLUMNS {
            p .soft {
                "Shown are " (lines.min(LINES)) " of " (cubrel::units::count(lines as u64)) " lines and "
                (columns.len()) " of " (layout.columns.len()) " columns; the file has all."
            }
        }
    }
}

/// How many lines and cells, in words.
pub fn counted(layout: &GridLayout) -> String {
    let lines = layout.totals.iter().filter(|total| !**total).count();
    if lines == 1 { "1 line".into() } else { format!("{} lines", cubrel::units::count(lines as u64)) }
}
