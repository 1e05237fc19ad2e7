//! Sizes: a tree with bars, or a flat list of columns.

use std::cmp::Ordering;

use cubrel::sizes::{ColumnSize, Sizes, TableSize};

use super::sink::{Output, Tone};
use super::table::TextTable;
use super::text::{Align, bar, bytes, count, counted, pad};
use crate::failure::Failure;

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

/// The tree: model, tables, columns, with what their bytes are for. Every share and bar is of the model.
pub fn show_tree(sizes: &Sizes, sort: Sort, out: &mut Output) -> Result<(), Failure> {
    summary(sizes, out)?;
    out.text("\n")?;
    let mut table = TextTable::new(&[
        ("", Align::Left),
        ("bytes", Align::Right),
        ("of model", Align::Right),
        ("", Align::Right),
        ("distinct", Align::Right),
        ("nulls", Align::Right),
        ("per row", Align::Right),
        ("type and form", Align::Left),
    ])
    .wrapped_in(7);
    let mut tables: Vec<&TableSize> = sizes.tables.iter().collect();
    tables.sort_by_key(|t| std::cmp::Reverse(t.bytes));
    for t in tables {
        let mut cells = vec![t.name.clone(), bytes(t.bytes), percent(t.share), bar_of(t.share)];
        cells.extend([String::new(), String::new(), per_row(t.bytes, t.rows), origin(t)]);
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
                bar_of(c.share),
                count(c.distinct),
                blank(c.nulls),
                per_row(c.bytes, t.rows),
                form(c),
            ]);
            for cells in links(sizes, t, c) {
                table.toned(Tone::Faint, cells);
            }
        }
    }
    table.write(out)
}

/// A bar as wide as any, so that what stands beside it is in line.
fn bar_of(share: f64) -> String {
    pad(&bar(share, BAR), BAR, Align::Left)
}

/// The relationships that start at a column; those of several columns stand under the first.
fn links(sizes: &Sizes, t: &TableSize, c: &ColumnSize) -> Vec<Vec<String>> {
    let full = format!("{}.{}", t.name, c.name);
    let here = sizes.relationships.iter().filter(|r| r.many.split(" + ").next() == Some(&full));
    here.map(|r| {
        let spare = if r.spare { ", spare" } else { "" };
        let lost = match r.unmatched_rows {
            0 => String::new(),
            1 => ", 1 row points at nothing".into(),
            rows => format!(", {} rows point at nothing", count(rows)),
        };
        let share = if sizes.model.bytes == 0 { 0.0 } else { r.link_bytes as f64 / sizes.model.bytes as f64 };
        vec![
            format!("   → {}", r.one),
            bytes(r.link_bytes),
            percent(share),
            String::new(),
            count(r.key_count),
            String::new(),
            per_row(r.link_bytes, t.rows),
            format!("link{spare}{lost}"),
        ]
    })
    .collect()
}

/// Where a table's rows come from, and how many there are.
fn origin(t: &TableSize) -> String {
    let rows = counted(t.rows, "row");
    match (t.origin, &t.same_as) {
        (_, Some(first)) => format!("{rows}, shared with {first}"),
        ("generated", _) => format!("{rows}, generated"),
        ("query", _) => format!("{rows}, the result of a query"),
        _ if t.source_bytes > 0 => format!("{rows} from {}", bytes(t.source_bytes)),
        _ => rows,
    }
}

/// Bytes for each row, for people.
fn per_row(bytes: u64, rows: u64) -> String {
    if rows == 0 { String::new() } else { format!("{:.2} B", bytes as f64 / rows as f64) }
}

/// The type of a column and the form of its values, in words; where all of its bytes are codes, the bytes say it.
fn form(c: &ColumnSize) -> String {
    if c.parts.codes == c.bytes {
        return kind(c);
    }
    let parts = [("codes", c.parts.codes), ("values", c.parts.values)];
    let parts: Vec<String> =
        parts.iter().filter(|(_, n)| *n > 0).map(|(what, n)| format!("{what} {}", bytes(*n))).collect();
    let colon = if parts.is_empty() { "" } else { ": " };
    format!("{}, {}{colon}{}{}", c.ty, c.encoding, parts.join(", "), calculated(c))
}

/// What kind of column it is, without bytes.
fn kind(c: &ColumnSize) -> String {
    format!("{}, {}{}", c.ty, c.encoding, calculated(c))
}

fn calculated(c: &ColumnSize) -> &'static str {
    match c.origin {
        "load" => " (calculated while loading)",
        "after_load" => " (calculated after loading)",
        _ => "",
    }
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
    let text = format!(
        "{} in memory{against}: {} in {}, {}",
        bytes(m.bytes),
        counted(m.rows, "row"),
        counted(m.tables as u64, "table"),
        counted(m.columns as u64, "column")
    );
    out.sentence(Tone::Plain, &text)
}

fn percent(share: f64) -> String {
    format!("{:.1}%", share * 100.0)
}

fn blank(n: u64) -> String {
    if n == 0 { String::new() } else { count(n) }
}

/// All columns as a table for scripts.
pub fn flat(sizes: &Sizes, sort: Sort) -> TextTable {
    let mut table = TextTable::new(&[
        ("column", Align::Left),
        ("type", Align::Left),
        ("origin", Align::Left),
        ("encoding", Align::Left),
        ("bits", Align::Right),
        ("distinct", Align::Right),
        ("nulls", Align::Right),
        ("bytes", Align::Right),
        ("share", Align::Right),
        ("cumulative_share", Align::Right),
        ("bytes_per_row", Align::Right),
        ("bytes_per_distinct", Align::Right),
        ("codes", Align::Right),
        ("values", Align::Right),
        ("links", Align::Right),
    ]);
    for (t, c) in sorted(sizes, sort) {
        table.row(vec![
            format!("{}.{}", t.name, c.name),
            c.ty.clone(),
            c.origin.to_string(),
            c.encoding.clone(),
            c.bits.to_string(),
            c.distinct.to_string(),
            c.nulls.to_string(),
            c.bytes.to_string(),
            format!("{:.6}", c.share),
            format!("{:.6}", c.cumulative_share),
            format!("{:.4}", c.bytes_per_row),
            format!("{:.4}", c.bytes_per_distinct),
            c.parts.codes.to_string(),
            c.parts.values.to_string(),
            c.parts.links.to_string(),
        ]);
    }
    table
}

/// All columns but those of copies.
fn sorted(sizes: &Sizes, sort: Sort) -> Vec<(&TableSize, &ColumnSize)> {
    let own = sizes.tables.iter().filter(|t| t.same_as.is_none());
    let mut all: Vec<(&TableSize, &ColumnSize)> = own.flat_map(|t| t.columns.iter().map(move |c| (t, c))).collect();
    all.sort_by(|a, b| sort.compare(*a, *b));
    all
}

/// All columns as a table for people.
fn list(sizes: &Sizes, sort: Sort, most: Option<usize>) -> TextTable {
    let mut table = TextTable::new(&[
        ("column", Align::Left),
        ("bytes", Align::Right),
        ("of model", Align::Right),
        ("cumulative", Align::Right),
        ("distinct", Align::Right),
        ("nulls", Align::Right),
        ("bits", Align::Right),
        ("per row", Align::Right),
        ("per distinct", Align::Right),
        ("type and form", Align::Left),
    ])
    .wrapped_in(9);
    for (t, c) in sorted(sizes, sort).into_iter().take(most.unwrap_or(usize::MAX)) {
        table.row(vec![
            format!("{}.{}", t.name, c.name),
            bytes(c.bytes),
            percent(c.share),
            percent(c.cumulative_share),
            count(c.distinct),
            blank(c.nulls),
            c.bits.to_string(),
            per_row(c.bytes, t.rows),
            format!("{:.1} B", c.bytes_per_distinct),
            form(c),
        ]);
    }
    table
}

/// The flat list for people.
pub fn show_flat(sizes: &Sizes, sort: Sort, most: Option<usize>, out: &mut Output) -> Result<(), Failure> {
    summary(sizes, out)?;
    out.text("\n")?;
    list(sizes, sort, most).write(out)?;
    let columns: usize = sizes.tables.iter().filter(|t| t.same_as.is_none()).map(|t| t.columns.len()).sum();
    if let Some(most) = most.filter(|m| *m < columns) {
        let more = out.paint(Tone::Faint, &format!("and {} smaller columns", columns - most));
        out.text(&format!("{more}\n"))?;
    }
    Ok(())
}

/// Two models, or one as it is and as it would be, side by side: what differs, and the whole. `names` head the bytes of
/// each; scripts get them in bytes, with a name for every column.
pub fn differences(names: [&str; 2], before: &Sizes, after: &Sizes, human: bool) -> TextTable {
    let heads = if human {
        ["", names[0], names[1], "change", "", "type and form"].map(String::from)
    } else {
        let of = |name: &str| format!("{name}_bytes");
        ["name".into(), of(names[0]), of(names[1]), "change_bytes".into(), "change".into(), "form".into()]
    };
    let aligns = [Align::Left, Align::Right, Align::Right, Align::Right, Align::Right, Align::Left];
    let mut table = TextTable::new(&std::array::from_fn::<_, 6, _>(|i| (heads[i].as_str(), aligns[i])));
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
                let described = |c: &Option<ColumnSize>| c.as_ref().map(kind);
                let differs =
                    x.as_ref().map(|c| c.bytes) != y.as_ref().map(|c| c.bytes) || described(&x) != described(&y);
                let form = match (described(&x), described(&y)) {
                    (Some(a), Some(b)) if a != b => changed(x.as_ref(), y.as_ref()).unwrap_or(format!("{a} → {b}")),
                    (a, b) => b.or(a).unwrap_or_default(),
                };
                let label = if human { format!("  {column}") } else { format!("{name}.{column}") };
                differs.then(|| change(label, x.map(|c| c.bytes), y.map(|c| c.bytes), form, human))
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

/// The forms of a column now and then, where nothing else about it changes.
fn changed(old: Option<&ColumnSize>, new: Option<&ColumnSize>) -> Option<String> {
    let (old, new) = old.zip(new).filter(|(a, b)| a.ty == b.ty && a.origin == b.origin)?;
    Some(format!("{}, {} → {}", old.ty, old.encoding, new.encoding))
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

fn change(name: String, old: Option<u64>, new: Option<u64>, form: String, human: bool) -> Vec<String> {
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
    let ratio = b as f64 / a as f64 - 1.0;
    let share = match (a, human) {
        (0, _) => String::new(),
        (_, false) => format!("{ratio:.6}"),
        _ if a == b => String::new(),
        _ => format!("{:+.1}%", ratio * 100.0).replace('-', "−"),
    };
    vec![name, shown(old), shown(new), difference, share, form]
}
