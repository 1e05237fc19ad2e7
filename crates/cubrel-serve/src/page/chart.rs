//! A chart of the cells of a grid, as SVG: lines over time, bars otherwise.

use cubrel::{Grid, GridLayout, LaidOutColumn, Type};
use maud::{Markup, html};

/// Lines of a grid that bars are drawn of, and points of a line.
const BARS: usize = 40;
const POINTS: usize = 2000;
/// Series that can be told apart.
const SERIES: usize = 6;
const WIDTH: f64 = 960.0;

/// Columns that can be drawn: those of the first item that has numbers, for what is counted in other units has no place on the
/// same scale. Totals are none of them.
fn series(layout: &GridLayout) -> Vec<&LaidOutColumn> {
    let drawn = |c: &&LaidOutColumn| c.is_number && !c.total && c.figures.iter().any(Option::is_some);
    let item = layout.columns.iter().find(drawn).map(|c| c.item);
    layout.columns.iter().filter(drawn).filter(|c| Some(c.item) == item).take(SERIES).collect()
}

/// Whether the only row axis is time.
fn is_over_time(grid: &Grid, layout: &GridLayout) -> bool {
    layout.rows.len() == 1 && grid.columns.first().is_some_and(|c| matches!(c.ty, Type::Date | Type::Timestamp))
}

/// What each line is called: the values of its axes.
fn names(layout: &GridLayout) -> Vec<String> {
    let mut above: Vec<String> = vec![String::new(); layout.rows.len()];
    (0..layout.totals.len())
        .map(|line| {
            for (axis, column) in layout.rows.iter().enumerate() {
                if !column.cells[line].is_empty() || layout.alike[line] <= axis {
                    above[axis].clone_from(&column.cells[line]);
                }
            }
            above.join(", ")
        })
        .collect()
}

fn heading(column: &LaidOutColumn) -> String {
    column.heads.iter().filter(|h| !h.is_empty()).cloned().collect::<Vec<_>>().join(", ")
}

/// The chart, where there is anything to draw.
pub fn chart(grid: &Grid, layout: &GridLayout) -> Option<Markup> {
    let all = series(layout);
    let lines: Vec<usize> = (0..layout.totals.len()).filter(|line| !layout.totals[*line]).collect();
    if all.is_empty() || lines.is_empty() || layout.rows.is_empty() {
        return None;
    }
    let names = names(layout);
    let drawn = if is_over_time(grid, layout) && lines.len() > 1 {
        over_time(&all, &lines[..lines.len().min(POINTS)], &names)
    } else {
        bars(&all, &lines[..lines.len().min(BARS)], &names)
    };
    let left = lines.len().saturating_sub(if is_over_time(grid, layout) { POINTS } else { BARS });
    Some(html! {
        figure .chart {
            (drawn)
            figcaption {
                @for (i, column) in all.iter().enumerate() { span .key { i class=(format!("c{i}")) aria-hidden="true" {} (heading(column)) } }
                @if left > 0 { span .soft { (left) " more lines are not drawn" } }
            }
        }
    })
}

/// The smallest and largest figure, nothing included.
fn range(all: &[&LaidOutColumn], lines: &[usize]) -> (f64, f64) {
    let figures = all.iter().flat_map(|c| lines.iter().filter_map(|line| c.figures[*line]));
    figures.fold((0.0, 0.0), |(low, high), x| (f64::min(low, x), f64::max(high, x)))
}

fn described(all: &[&LaidOutColumn], lines: &[usize]) -> String {
    let what = all.iter().map(|c| heading(c)).collect::<Vec<_>>().join(", ");
    format!("{what}: {} lines; the table below has the same figures", lines.len())
}

fn bars(all: &[&LaidOutColumn], lines: &[usize], names: &[String]) -> Markup {
    const LABEL: f64 = 220.0;
    const BAR: f64 = 14.0;
    let (low, high) = range(all, lines);
    let scale = (WIDTH - LABEL - 110.0) / (high - low).max(f64::MIN_POSITIVE);
    let step = BAR * all.len() as f64 + 8.0;
    let zero = LABEL - low * scale;
    let height = step * lines.len() as f64 + 4.0;
    html! {
        svg viewBox=(format!("0 0 {WIDTH} {height:.0}")) role="img" aria-label=(described(all, lines)) {
            @for (row, line) in lines.iter().enumerate() {
                @let top = row as f64 * step + 4.0;
                text x=(format!("{:.0}", LABEL - 8.0)) y=(format!("{:.1}", top + step / 2.0)) text-anchor="end" { (cut(&names[*line], 30)) }
                @for (i, column) in all.iter().enumerate() {
                    @if let Some(figure) = column.figures[*line] {
                        @let (x, width) = if figure < 0.0 { (zero + figure * scale, -figure * scale) } else { (zero, figure * scale) };
                        @let y = top + i as f64 * BAR;
                        rect class=(format!("c{i}")) x=(format!("{x:.1}")) y=(format!("{y:.1}")) width=(format!("{:.1}", width.max(0.5))) height=(BAR - 2.0) {
                            title { (names[*line]) ": " (column.cells[*line]) }
                        }
                        text .figure x=(format!("{:.1}", x + width + 4.0)) y=(format!("{:.1}", y + BAR - 3.5)) { (column.cells[*line]) }
                    }
                }
            }
        }
    }
}

fn over_time(all: &[&LaidOutColumn], lines: &[usize], names: &[String]) -> Markup {
    const HEIGHT: f64 = 320.0;
    const LEFT: f64 = 8.0;
    const FOOT: f64 = 24.0;
    let (low, high) = range(all, lines);
    let x = |place: usize| LEFT + place as f64 * (WIDTH - 2.0 * LEFT) / (lines.len() - 1).max(1) as f64;
    let y = |figure: f64| (HEIGHT - FOOT - 20.0) * (1.0 - (figure - low) / (high - low).max(f64::MIN_POSITIVE)) + 20.0;
    // A gap is a gap: the line begins again after it.
    let path = |column: &LaidOutColumn| {
        let mut path = String::new();
        let mut is_drawing = false;
        for (place, line) in lines.iter().enumerate() {
            match column.figures[*line] {
                Some(figure) => {
                    let verb = if is_drawing { 'L' } else { 'M' };
                    path += &format!("{verb}{:.1} {:.1}", x(place), y(figure));
                    if !is_drawing {
                        // What stands alone is a point.
                        path.push_str("h0");
                    }
                    is_drawing = true;
                }
                None => is_drawing = false,
            }
        }
        path
    };
    let labels = [0, lines.len() / 2, lines.len() - 1];
    let figures =
        all.iter().flat_map(|c| lines.iter().enumerate().filter_map(|(p, l)| Some((c.figures[*l]?, p, &c.cells[*l]))));
    let peak = figures.max_by(|a, b| a.0.total_cmp(&b.0));
    html! {
        svg viewBox=(format!("0 0 {WIDTH} {HEIGHT}")) role="img" aria-label=(described(all, lines)) {
            line .axis x1=(LEFT) x2=(WIDTH - LEFT) y1=(format!("{:.1}", y(0.0))) y2=(format!("{:.1}", y(0.0))) {}
            @for (i, column) in all.iter().enumerate() { path class=(format!("trend c{i}")) d=(path(column)) {} }
            @if let Some((figure, place, text)) = peak {
                @let anchor = if place * 8 < lines.len() { "start" } else if place * 8 > lines.len() * 7 { "end" } else { "middle" };
                text .figure x=(format!("{:.1}", x(place))) y=(format!("{:.1}", y(figure) - 5.0)) text-anchor=(anchor) { (text) }
            }
            @for (n, place) in labels.iter().enumerate() {
                @let anchor = ["start", "middle", "end"][n];
                text x=(format!("{:.1}", x(*place))) y=(HEIGHT - 6.0) text-anchor=(anchor) { (names[lines[*place]]) }
            }
        }
    }
}

fn cut(text: &str, most: usize) -> String {
    if text.chars().count() <= most { text.to_string() } else { text.chars().take(most - 1).chain(['…']).collect() }
}
