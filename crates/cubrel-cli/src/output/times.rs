//! Times: a tree by part of the formulas, with the reads beneath.

use cubrel::insight::timed::{Node, NodeKind, Timed};

use super::text::{Align, READABLE, TextTable, bytes, count, wrapped};
use super::{Output, Tone};
use crate::commands::Failure;

/// Shows times to a person.
pub fn show(timed: &Timed, out: &mut Output) -> Result<(), Failure> {
    let w = &timed.warm;
    out.text(&format!(
        "warm {} ms, the median of {} runs ({} to {}); cold {} ms, planning included\n\n",
        ms(w.median_ms),
        w.runs,
        ms(w.min_ms),
        ms(w.max_ms),
        ms(timed.cold.ms)
    ))?;
    let mut table = columns();
    for node in &timed.tree {
        rows(node, 0, &mut table, true);
    }
    table.write(out)?;
    for advice in &timed.advice {
        let lines = wrapped(advice, out.width().map_or(usize::MAX, |width| width.min(READABLE)));
        let text = out.paint(Tone::Alert, &lines.join("\n"));
        out.text(&format!("\n{text}\n"))?;
    }
    Ok(())
}

/// Milliseconds in three digits.
pub fn ms(x: f64) -> String {
    if x < 10.0 {
        format!("{x:.2}")
    } else if x < 100.0 {
        format!("{x:.1}")
    } else {
        format!("{x:.0}")
    }
}

fn columns() -> TextTable {
    TextTable::new(&[
        ("total ms", Align::Right),
        ("own ms", Align::Right),
        ("rows read", Align::Right),
        ("bytes", Align::Right),
        ("groups", Align::Right),
        ("part", Align::Left),
    ])
}

fn rows(node: &Node, depth: usize, table: &mut TextTable, human: bool) {
    let indent = "  ".repeat(depth);
    let mark = if node.row_by_row && node.kind == NodeKind::Read { " [once for each value from outside]" } else { "" };
    let part = match (node.kind, &node.read) {
        (NodeKind::Read, Some(r)) if r.rolled_up => {
            format!("{indent}from finer groups: {} of {}{mark}", r.aggregates_text(), node.part)
        }
        (NodeKind::Read, Some(r)) => format!("{indent}read {} of {}{mark}", r.aggregates_text(), node.part),
        (NodeKind::Read, None) => format!("{indent}read {}, counted above", node.part),
        _ => format!("{indent}{}", node.part),
    };
    let number = |x: Option<f64>| x.map(|x| if human { ms(x) } else { format!("{x}") }).unwrap_or_default();
    let read = node.read.as_ref();
    let integer = |n: u64| if human { count(n) } else { n.to_string() };
    let cells = vec![
        number(node.total_ms),
        number(node.own_ms),
        read.map(|r| integer(r.rows_read)).unwrap_or_default(),
        read.map(|r| if human { bytes(r.bytes_read) } else { r.bytes_read.to_string() }).unwrap_or_default(),
        read.map(|r| integer(r.groups)).unwrap_or_default(),
        part,
    ];
    let tone = match node.kind {
        NodeKind::Item => Tone::Total,
        NodeKind::Read if node.row_by_row => Tone::Alert,
        NodeKind::Read if node.read.is_none() => Tone::Faint,
        _ => Tone::Plain,
    };
    table.toned(tone, cells);
    node.parts.iter().for_each(|p| rows(p, depth + 1, table, human));
}

/// The tree as rows for scripts.
pub fn flat(timed: &Timed) -> TextTable {
    let mut table = columns();
    timed.tree.iter().for_each(|n| rows(n, 0, &mut table, false));
    table
}

/// Items by themselves.
pub fn each(all: &[(String, Timed)]) -> TextTable {
    let heads = ["item", "warm ms", "fastest", "slowest", "cold ms"];
    let mut table = TextTable::new(&heads.map(|h| (h, if h == "item" { Align::Left } else { Align::Right })));
    for (name, t) in all {
        let w = &t.warm;
        table.row(vec![name.clone(), ms(w.median_ms), ms(w.min_ms), ms(w.max_ms), ms(t.cold.ms)]);
    }
    table
}
