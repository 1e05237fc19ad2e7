//! Sizes: a tree with bars, or a flat list of columns.

use cubrel::insight::sizes::{ColumnSize, Sizes, TableSize};

use super::text::{Align, TextTable, bar, bytes, count};
use super::{Output, Tone};
use crate::commands::Failure;

/// What the flat list is sorted by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Sort {
    /// Bytes, largest first
    Bytes,
    /// Different values, most first
    Distinct,
    /// Rows without a value, most first
    Nulls,
    /// Names
    Name,
}

const BAR: usize = 14;

/// The tree: model, tables, columns, with what their bytes are for.
pub fn show_tree(sizes: &Sizes, out: &mut Output) -> Result<(), Failure> {
    summary(sizes, out)?;
    out.text("\n")?;
    let mut table = TextTable::new(&[
        ("", Align::Left),
        ("bytes", Align::Right),
        ("share", Align::Right),
        ("", Align::Left),
        ("distinct", Align::Right),
        ("nulls", Align::Right),
        ("bits", Align::Right),
        ("codes", Align::Right),
        ("dictionary", Align::Right),
        ("keys", Align::Right),
        ("how", Align::Left),
    ]);
    let mut tables: Vec<&TableSize> = sizes.tables.iter().collect();
    tables.sort_by_key(|t| std::cmp::Reverse(t.bytes));
    for t in tables {
        let mut cells = vec![t.name.clone(), bytes(t.bytes), percent(t.share), bar(t.share, BAR)];
        cells.extend(["", "", "", "", "", ""].map(String::from));
        cells.push(match &t.same_as {
            Some(first) => format!("{} rows, shared with {first}", count(t.rows)),
            None => format!("{} rows", count(t.rows)),
        });
        table.toned(Tone::Total, cells);
        if t.same_as.is_some() {
            continue;
        }
        let mut columns: Vec<&ColumnSize> = t.columns.iter().collect();
        columns.sort_by_key(|c| std::cmp::Reverse(c.bytes));
        for c in columns {
            table.row(vec![
                format!("  {}", c.name),
                bytes(c.bytes),
                percent(c.share),
                bar(c.share * t.share, BAR),
                count(c.distinct),
                blank(c.nulls),
                c.bits.to_string(),
                bytes(c.parts.codes),
                optional(c.parts.dictionary),
                optional(c.parts.keys),
                how(c),
            ]);
        }
    }
    table.write(out)?;
    if !sizes.relationships.is_empty() {
        out.heading("Relationships")?;
        relationships(sizes).write(out)?;
    }
    Ok(())
}

fn how(c: &ColumnSize) -> String {
    let computed = match c.computed {
        "loading" => ", while loading",
        "after" => ", after loading",
        _ => "",
    };
    format!("{} {}{computed}", c.ty, c.encoding)
}

fn summary(sizes: &Sizes, out: &mut Output) -> Result<(), Failure> {
    let m = &sizes.model;
    let against = if m.source_bytes > 0 && m.bytes > 0 {
        format!(
            ", {:.1} times smaller than its {} of source",
            m.source_bytes as f64 / m.bytes as f64,
            bytes(m.source_bytes)
        )
    } else {
        String::new()
    };
    out.text(&format!(
        "{} in memory{against}: {} rows in {} tables, {} columns\n",
        bytes(m.bytes),
        count(m.rows),
        m.tables,
        m.columns
    ))
}

fn percent(share: f64) -> String {
    format!("{:.1}%", share * 100.0)
}

fn blank(n: u64) -> String {
    if n == 0 { String::new() } else { count(n) }
}

fn optional(n: u64) -> String {
    if n == 0 { String::new() } else { bytes(n) }
}

fn relationships(sizes: &Sizes) -> TextTable {
    let mut table = TextTable::new(&[
        ("many", Align::Left),
        ("one", Align::Left),
        ("keys", Align::Right),
        ("unmatched rows", Align::Right),
        ("bytes", Align::Right),
        ("", Align::Left),
    ]);
    for r in &sizes.relationships {
        let spare = if r.spare { "spare" } else { "" };
        table.row(vec![
            r.many.clone(),
            r.one.clone(),
            count(r.key_count),
            blank(r.unmatched_rows),
            bytes(r.key_bytes),
            spare.into(),
        ]);
    }
    table
}

/// All columns as a table for people or scripts.
pub fn flat(sizes: &Sizes, sort: Sort) -> TextTable {
    build_flat(sizes, sort, None, false)
}

fn build_flat(sizes: &Sizes, sort: Sort, most: Option<usize>, human: bool) -> TextTable {
    let mut all: Vec<(&TableSize, &ColumnSize)> = sizes
        .tables
        .iter()
        .filter(|t| t.same_as.is_none())
        .flat_map(|t| t.columns.iter().map(move |c| (t, c)))
        .collect();
    match sort {
        Sort::Bytes => all.sort_by_key(|(_, c)| std::cmp::Reverse(c.bytes)),
        Sort::Distinct => all.sort_by_key(|(_, c)| std::cmp::Reverse(c.distinct)),
        Sort::Nulls => all.sort_by_key(|(_, c)| std::cmp::Reverse(c.nulls)),
        Sort::Name => all.sort_by_key(|(t, c)| (&t.name, &c.name)),
    }
    let mut table = TextTable::new(&[
        ("column", Align::Left),
        ("bytes", Align::Right),
        ("of model", Align::Right),
        ("with larger", Align::Right),
        ("distinct", Align::Right),
        ("nulls", Align::Right),
        ("bits", Align::Right),
        ("per row", Align::Right),
        ("per distinct", Align::Right),
        ("type", Align::Left),
        ("encoding", Align::Left),
        ("computed", Align::Left),
    ]);
    for (t, c) in all.into_iter().take(most.unwrap_or(usize::MAX)) {
        let share = if sizes.model.bytes == 0 { 0.0 } else { c.bytes as f64 / sizes.model.bytes as f64 };
        let number = |n: u64| if human { count(n) } else { n.to_string() };
        table.row(vec![
            format!("{}.{}", t.name, c.name),
            if human { bytes(c.bytes) } else { c.bytes.to_string() },
            if human { percent(share) } else { format!("{share:.6}") },
            if human { percent(c.cumulative_share) } else { format!("{:.6}", c.cumulative_share) },
            number(c.distinct),
            if human { blank(c.nulls) } else { c.nulls.to_string() },
            c.bits.to_string(),
            format!("{:.2}", c.bytes_per_row),
            format!("{:.1}", c.bytes_per_distinct),
            c.ty.clone(),
            c.encoding.to_string(),
            c.computed.to_string(),
        ]);
    }
    table
}

/// The flat list for people.
pub fn show_flat(sizes: &Sizes, sort: Sort, most: Option<usize>, out: &mut Output) -> Result<(), Failure> {
    summary(sizes, out)?;
    out.text("\n")?;
    build_flat(sizes, sort, most, true).write(out)?;
    let columns: usize = sizes.tables.iter().filter(|t| t.same_as.is_none()).map(|t| t.columns.len()).sum();
    if let Some(most) = most.filter(|m| *m < columns) {
        let more = out.paint(Tone::Faint, &format!("and {} smaller columns", columns - most));
        out.text(&format!("{more}\n"))?;
    }
    Ok(())
}
