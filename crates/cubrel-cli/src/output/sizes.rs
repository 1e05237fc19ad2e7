//! Sizes: a tree with bars, or a flat list of columns.

use std::cmp::Ordering;

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
    /// Bytes for each row, most first
    PerRow,
    /// Names
    Name,
}

impl Sort {
    fn compare(self, a: (&TableSize, &ColumnSize), b: (&TableSize, &ColumnSize)) -> Ordering {
        let ((_, x), (_, y)) = (a, b);
        let by = match self {
            Sort::Bytes => y.bytes.cmp(&x.bytes),
            Sort::Distinct => y.distinct.cmp(&x.distinct),
            Sort::Nulls => y.nulls.cmp(&x.nulls),
            Sort::PerRow => y.bytes_per_row.total_cmp(&x.bytes_per_row),
            Sort::Name => Ordering::Equal,
        };
        by.then_with(|| (&a.0.name, &x.name).cmp(&(&b.0.name, &y.name)))
    }
}

const BAR: usize = 8;

/// The tree: model, tables, columns, with what their bytes are for.
pub fn show_tree(sizes: &Sizes, sort: Sort, out: &mut Output) -> Result<(), Failure> {
    summary(sizes, out)?;
    out.text("\n")?;
    let mut table = TextTable::new(&[
        ("", Align::Left),
        ("bytes", Align::Right),
        ("share", Align::Right),
        ("", Align::Left),
        ("distinct", Align::Right),
        ("nulls", Align::Right),
        ("per row", Align::Right),
        ("dictionary", Align::Right),
        ("how", Align::Left),
    ]);
    let mut tables: Vec<&TableSize> = sizes.tables.iter().collect();
    tables.sort_by_key(|t| std::cmp::Reverse(t.bytes));
    for t in tables {
        let mut cells = vec![t.name.clone(), bytes(t.bytes), percent(t.share), bar(t.share, BAR)];
        cells.extend([String::new(), String::new(), per_row(t.bytes, t.rows), String::new(), origin(t)]);
        table.toned(Tone::Total, cells);
        if t.same_as.is_some() {
            continue;
        }
        let mut columns: Vec<&ColumnSize> = t.columns.iter().collect();
        columns.sort_by(|a, b| sort.compare((t, a), (t, b)));
        for c in columns {
            table.row(vec![
                format!("  {}", c.name),
                bytes(c.bytes),
                percent(c.share),
                bar(c.share * t.share, BAR),
                count(c.distinct),
                blank(c.nulls),
                per_row(c.bytes, t.rows),
                optional(c.parts.dictionary),
                how(c),
            ]);
            for cells in keys(sizes, t, c) {
                table.toned(Tone::Faint, cells);
            }
        }
    }
    table.write(out)
}

/// The relationships that start at a column; those of several columns stand under the first.
fn keys(sizes: &Sizes, t: &TableSize, c: &ColumnSize) -> Vec<Vec<String>> {
    let full = format!("{}.{}", t.name, c.name);
    let here = sizes.relationships.iter().filter(|r| r.many.split(" + ").next() == Some(&full));
    here.map(|r| {
        let spare = if r.spare { ", spare" } else { "" };
        let lost = match r.unmatched_rows {
            0 => String::new(),
            rows => format!(", {} rows point at nothing", count(rows)),
        };
        vec![
            format!("   → {}", r.one),
            bytes(r.key_bytes),
            String::new(),
            String::new(),
            count(r.key_count),
            String::new(),
            per_row(r.key_bytes, t.rows),
            String::new(),
            format!("keys{spare}{lost}"),
        ]
    })
    .collect()
}

/// Where a table's rows come from, and how many there are.
fn origin(t: &TableSize) -> String {
    let rows = format!("{} rows", count(t.rows));
    match (t.origin, &t.same_as) {
        (_, Some(first)) => format!("{rows}, shared with {first}"),
        ("generated", _) => format!("{rows}, generated"),
        ("query", _) => format!("{rows}, worked out by a query"),
        _ if t.source_bytes > 0 => format!("{rows} from {}", bytes(t.source_bytes)),
        _ => rows,
    }
}

/// Bytes for each row, for people.
fn per_row(bytes: u64, rows: u64) -> String {
    if rows == 0 { String::new() } else { format!("{:.2} B", bytes as f64 / rows as f64) }
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
    all.sort_by(|a, b| sort.compare(*a, *b));
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

/// Two models, or one as it is and as it would be, side by side: what differs, and the whole.
pub fn differences(names: [&str; 2], before: &Sizes, after: &Sizes, human: bool) -> TextTable {
    let mut table = TextTable::new(&[
        ("", Align::Left),
        (names[0], Align::Right),
        (names[1], Align::Right),
        ("change", Align::Right),
        ("", Align::Right),
        ("how", Align::Left),
    ]);
    let tables = all_names(before.tables.iter().map(|t| &t.name), after.tables.iter().map(|t| &t.name));
    for name in tables {
        let find = |sizes: &'_ Sizes| sizes.tables.iter().position(|t| t.name == *name);
        let (old, new) = (find(before).map(|i| &before.tables[i]), find(after).map(|i| &after.tables[i]));
        let rows: Vec<Vec<String>> = all_names(column_names(old).into_iter(), column_names(new).into_iter())
            .into_iter()
            .filter_map(|column| {
                let find =
                    |t: Option<&TableSize>| t.and_then(|t| t.columns.iter().find(|c| c.name == *column).cloned());
                let (x, y) = (find(old), find(new));
                let described = |c: &Option<ColumnSize>| c.as_ref().map(how);
                let differs =
                    x.as_ref().map(|c| c.bytes) != y.as_ref().map(|c| c.bytes) || described(&x) != described(&y);
                let how = match (described(&x), described(&y)) {
                    (Some(a), Some(b)) if a != b => changed(x.as_ref(), y.as_ref()).unwrap_or(format!("{a} → {b}")),
                    (a, b) => b.or(a).unwrap_or_default(),
                };
                let label = if human { format!("  {column}") } else { format!("{name}.{column}") };
                differs.then(|| change(label, x.map(|c| c.bytes), y.map(|c| c.bytes), how, human))
            })
            .collect();
        if !rows.is_empty() || old.is_none() || new.is_none() {
            let whole = change(name.clone(), old.map(|t| t.bytes), new.map(|t| t.bytes), String::new(), human);
            table.toned(Tone::Total, whole);
            rows.into_iter().for_each(|row| table.row(row));
        }
    }
    let whole = change("model".into(), Some(before.model.bytes), Some(after.model.bytes), String::new(), human);
    table.toned(Tone::Total, whole);
    table
}

fn column_names(table: Option<&TableSize>) -> Vec<&String> {
    table.map_or(Vec::new(), |t| t.columns.iter().map(|c| &c.name).collect())
}

/// How a column is coded now and then, where nothing else about it changes.
fn changed(old: Option<&ColumnSize>, new: Option<&ColumnSize>) -> Option<String> {
    let (old, new) = old.zip(new).filter(|(a, b)| a.ty == b.ty && a.computed == b.computed)?;
    Some(format!("{} {} → {}", old.ty, old.encoding, new.encoding))
}

/// The names of both, in the order of the first and then of the second.
fn all_names<'n>(a: impl Iterator<Item = &'n String>, b: impl Iterator<Item = &'n String>) -> Vec<&'n String> {
    let mut names: Vec<&String> = a.collect();
    for name in b {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names
}

fn change(name: String, old: Option<u64>, new: Option<u64>, how: String, human: bool) -> Vec<String> {
    let shown = |n: Option<u64>| match (n, human) {
        (None, _) => String::new(),
        (Some(n), true) => bytes(n),
        (Some(n), false) => n.to_string(),
    };
    let (a, b) = (old.unwrap_or(0), new.unwrap_or(0));
    let difference = match (human, b.cmp(&a)) {
        (false, _) => (i128::from(b) - i128::from(a)).to_string(),
        (true, Ordering::Equal) => String::new(),
        (true, Ordering::Less) => format!("−{}", bytes(a - b)),
        (true, Ordering::Greater) => format!("+{}", bytes(b - a)),
    };
    let share = match a {
        0 => String::new(),
        _ if a == b => String::new(),
        a => format!("{:+.1}%", (b as f64 / a as f64 - 1.0) * 100.0).replace('-', "−"),
    };
    vec![name, shown(old), shown(new), difference, share, how]
}
