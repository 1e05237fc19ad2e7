//! Times: a tree by part of the formulas, with the reads beneath.

use cubrel::profile::{Node, NodeKind, Profile, ReadNode};

use super::sink::{Output, Tone};
use super::table::TextTable;
use super::text::{Align, bytes, count};
use crate::failure::Failure;

/// Shows times to a person.
pub fn show(profile: &Profile, out: &mut Output) -> Result<(), Failure> {
    let w = &profile.warm;
    let summary = format!(
        "warm {} ms, the median of {} runs ({} to {}); cold {} ms, planning included",
        ms(w.median_ms),
        w.runs,
        ms(w.min_ms),
        ms(w.max_ms),
        ms(profile.cold.ms)
    );
    out.sentence(Tone::Plain, &summary)?;
    out.text("\n")?;
    let mut table = columns();
    for node in &profile.tree {
        rows(node, 0, &mut table);
    }
    table.write(out)?;
    for advice in &profile.advice {
        out.text("\n")?;
        out.sentence(Tone::Alert, advice)?;
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
    let heads = [
        ("total ms", Align::Right),
        ("own ms", Align::Right),
        ("rows read", Align::Right),
        ("bytes", Align::Right),
        ("groups", Align::Right),
        ("part", Align::Left),
    ];
    TextTable::new(&heads).labelled_by(heads.len() - 1)
}

fn rows(node: &Node, depth: usize, table: &mut TextTable) {
    let indent = "  ".repeat(depth);
    let part = match (node.kind, &node.read) {
        (NodeKind::Read, Some(r)) if r.rolled_up => {
            format!("{indent}rolled up: {} of {}", r.aggregates_text(), node.part)
        }
        (NodeKind::Read, Some(r)) if r.with.is_some() => {
            format!("{indent}in one pass with another: {} of {}", r.aggregates_text(), node.part)
        }
        (NodeKind::Read, Some(r)) => format!("{indent}read {} of {}", r.aggregates_text(), node.part),
        (NodeKind::Read, None) => format!("{indent}read {}, counted above", node.part),
        _ => format!("{indent}{}", node.part),
    };
    let time = |x: Option<f64>| x.map(ms).unwrap_or_default();
    let read = node.read.as_ref();
    // What a pass cost stands at the read that it was made for.
    let own_pass = read.filter(|r| r.with.is_none());
    let cost = |x: Option<f64>| time(x.filter(|_| read.is_none() || own_pass.is_some()));
    let cells = vec![
        cost(node.total_ms),
        cost(node.own_ms),
        own_pass.map(|r| count(r.rows_read)).unwrap_or_default(),
        own_pass.map(|r| bytes(r.bytes_read)).unwrap_or_default(),
        read.map(|r| count(r.groups)).unwrap_or_default(),
        part,
    ];
    let tone = match node.kind {
        NodeKind::Item => Tone::Total,
        NodeKind::Read if node.repeats > 1 => Tone::Alert,
        NodeKind::Read if node.read.is_none() => Tone::Faint,
        _ => Tone::Plain,
    };
    table.toned(tone, cells);
    if let Some(values) = &node.repeated_for {
        let mut cells = vec![String::new(); 5];
        cells.push(format!("{indent}  repeated for each {values} ({})", count(node.repeats)));
        table.toned(Tone::Alert, cells);
    }
    node.parts.iter().for_each(|p| rows(p, depth + 1, table));
}

/// The tree as rows for scripts.
pub fn flat(profile: &Profile) -> TextTable {
    let mut table = TextTable::new(&[
        ("depth", Align::Right),
        ("kind", Align::Left),
        ("part", Align::Left),
        ("total_ms", Align::Right),
        ("own_ms", Align::Right),
        ("repeats", Align::Right),
        ("rows_read", Align::Right),
        ("bytes_read", Align::Right),
        ("groups", Align::Right),
    ]);
    fn add(node: &Node, depth: usize, table: &mut TextTable) {
        let time = |x: Option<f64>| x.map(|x| x.to_string()).unwrap_or_default();
        let of_read = |n: &dyn Fn(&ReadNode) -> u64| node.read.as_ref().map(|r| n(r).to_string()).unwrap_or_default();
        let part = match &node.read {
            Some(read) => format!("{} of {}", read.aggregates_text(), node.part),
            None => node.part.clone(),
        };
        table.row(vec![
            depth.to_string(),
            node.kind.name().to_string(),
            part,
            time(node.total_ms),
            time(node.own_ms),
            node.repeats.to_string(),
            of_read(&|r| r.rows_read),
            of_read(&|r| r.bytes_read),
            of_read(&|r| r.groups),
        ]);
        node.parts.iter().for_each(|inner| add(inner, depth + 1, table));
    }
    profile.tree.iter().for_each(|node| add(node, 0, &mut table));
    table
}

/// Items by themselves.
pub fn each(all: &[(String, Profile)], human: bool) -> TextTable {
    let heads = if human {
        ["item", "warm ms", "fastest", "slowest", "cold ms"]
    } else {
        ["item", "median_ms", "min_ms", "max_ms", "cold_ms"]
    };
    let mut table = TextTable::new(&heads.map(|h| (h, if h == "item" { Align::Left } else { Align::Right })));
    for (name, t) in all {
        let w = &t.warm;
        let time = |x: f64| if human { ms(x) } else { x.to_string() };
        table.row(vec![name.clone(), time(w.median_ms), time(w.min_ms), time(w.max_ms), time(t.cold.ms)]);
    }
    table
}
