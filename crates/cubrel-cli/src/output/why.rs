//! Why a number is what it is.

use cubrel::Formats;
use cubrel::why::{Why, WhyKind, WhyPart, WhyRows};
use cubrel::{Type, Value};
use unicode_width::UnicodeWidthStr;

use super::sink::{Output, Tone};
use super::table::TextTable;
use super::text::{Align, counted, cut, pad};
use crate::failure::Failure;

/// The filters, the rows left and the parts of the formula, a line each; the rows behind the number are in JSON.
pub fn as_csv(why: &Why, out: &mut Output) -> Result<(), Failure> {
    let heads = ["what", "depth", "text", "value", "remark"].map(|head| (head, Align::Left));
    let mut table = TextTable::new(&heads);
    for filter in &why.filters {
        table.row(vec!["filter".into(), "0".into(), filter.text.clone(), String::new(), filter.origin.into()]);
    }
    for t in &why.tables {
        let by = if t.by.is_empty() { String::new() } else { format!(", reached by {}", t.by) };
        let remark = format!("of {}{by}", counted(t.rows, "row"));
        table.row(vec!["rows left".into(), "0".into(), t.table.clone(), t.left.to_string(), remark]);
    }
    fn add(part: &WhyPart, depth: usize, table: &mut TextTable) {
        let value = part.value.as_ref().filter(|v| !v.is_null()).map_or_else(String::new, ToString::to_string);
        let read = part.read.as_ref().map(|(of, left, rows)| format!("{left} of {rows} rows of {of}"));
        let remark: Vec<String> = read.into_iter().chain(part.note.clone()).collect();
        table.row(vec![part.kind.name().into(), depth.to_string(), part.text.clone(), value, remark.join("; ")]);
        part.parts.iter().for_each(|inner| add(inner, depth + 1, table));
    }
    add(&why.tree, 0, &mut table);
    table.write_csv(out)
}

/// For a person.
pub fn show(why: &Why, formats: &Formats, out: &mut Output) -> Result<(), Failure> {
    let name = why.label.as_deref().unwrap_or(&why.name);
    let value = shown(&why.value, why.ty, why.format.as_deref(), formats);
    let title = out.paint(Tone::Head, &format!("{name}: {value}"));
    out.text(&format!("{title}\n"))?;
    for note in &why.notes {
        let note = out.paint(Tone::Faint, note);
        out.text(&format!("{note}\n"))?;
    }
    out.heading("Filters on this cell")?;
    if why.filters.is_empty() {
        out.text("none: everything counts\n")?;
    }
    let mut table = TextTable::new(&[("filter", Align::Left), ("put there by", Align::Left)]);
    why.filters.iter().for_each(|f| table.row(vec![f.text.clone(), f.origin.to_string()]));
    if !why.filters.is_empty() {
        table.write(out)?;
    }
    if !why.tables.is_empty() {
        out.heading("Rows left, table by table")?;
        let mut table = TextTable::new(&[
            ("table", Align::Left),
            ("left", Align::Right),
            ("of", Align::Right),
            ("reached by", Align::Left),
        ]);
        let number = |n: u64| formats.show(&Value::Int(n as i64), Type::Int, None);
        for t in &why.tables {
            let cells = vec![t.table.clone(), number(t.left), number(t.rows), t.by.clone()];
            table.toned(if t.left == 0 { Tone::Alert } else { Tone::Plain }, cells);
        }
        table.write(out)?;
    }
    out.heading("How it is computed")?;
    show_tree(&why.tree, formats, out)?;
    for rows in &why.rows {
        show_rows(rows, formats, out)?;
    }
    Ok(())
}

fn shown(value: &Value, ty: Type, format: Option<&str>, formats: &Formats) -> String {
    if value.is_null() { "null".into() } else { formats.show(value, ty, format) }
}

/// One line of the tree.
struct Line {
    text: String,
    value: String,
    remark: String,
    tone: Tone,
}

fn show_tree(tree: &WhyPart, formats: &Formats, out: &mut Output) -> Result<(), Failure> {
    let mut lines = Vec::new();
    grow(tree, "", "", formats, &mut lines);
    let widest = out.width().map_or(100, |w| (w / 2).max(24));
    let width = lines.iter().map(|l| l.text.width()).max().unwrap_or(0).min(widest);
    let values = lines.iter().map(|l| l.value.width()).max().unwrap_or(0);
    for line in &lines {
        let text =
            format!("{}  {}", pad(&cut(&line.text, width), width, Align::Left), pad(&line.value, values, Align::Right));
        let text = out.paint(line.tone, &text);
        let room = out.width().map_or(usize::MAX, |w| w.saturating_sub(width + values + 4));
        let remark = out.paint(Tone::Faint, &cut(&line.remark, room.max(16)));
        out.text(&format!("{}\n", format!("{text}  {remark}").trim_end()))?;
    }
    Ok(())
}

/// So many rows, as the model's locale writes the number.
fn rows_of(count: u64, number: String) -> String {
    if count == 1 { format!("{number} row") } else { format!("{number} rows") }
}

fn grow(part: &WhyPart, first: &str, rest: &str, formats: &Formats, lines: &mut Vec<Line>) {
    let value = part.value.as_ref().map_or_else(String::new, |v| shown(v, part.ty, None, formats));
    let mut remarks = Vec::new();
    if let Some((table, left, rows)) = &part.read {
        let number = |n: u64| formats.show(&Value::Int(n as i64), Type::Int, None);
        remarks.push(format!("{} of {} of {table}", number(*left), rows_of(*rows, number(*rows))));
    }
    remarks.extend(part.note.clone());
    let tone = match part.kind {
        WhyKind::Measure => Tone::Total,
        WhyKind::Combination => Tone::Faint,
        _ => Tone::Plain,
    };
    lines.push(Line { text: format!("{first}{}", part.text), value, remark: remarks.join("; "), tone });
    let edits = part.removed.iter().map(|f| ("without", f)).chain(part.added.iter().map(|f| ("with", f)));
    for (word, filter) in edits {
        let bar = if part.parts.is_empty() { "  " } else { "│ " };
        let text = format!("{rest}{bar}{word} {} ({})", filter.text, filter.origin);
        lines.push(Line { text, value: String::new(), remark: String::new(), tone: Tone::Alert });
    }
    for (i, inner) in part.parts.iter().enumerate() {
        let last = i + 1 == part.parts.len();
        let (branch, below) = if last { ("└ ", "  ") } else { ("├ ", "│ ") };
        grow(inner, &format!("{rest}{branch}"), &format!("{rest}{below}"), formats, lines);
    }
}

fn show_rows(rows: &WhyRows, formats: &Formats, out: &mut Output) -> Result<(), Failure> {
    let number = |n: u64| formats.show(&Value::Int(n as i64), Type::Int, None);
    let first =
        if (rows.rows.len() as u64) < rows.count { format!(", the first {}", rows.rows.len()) } else { String::new() };
    out.heading(&format!("{}: {} of {}{first}", rows.of, rows_of(rows.count, number(rows.count)), rows.table))?;
    let heads: Vec<(&str, Align)> = rows
        .columns
        .iter()
        .zip(&rows.types)
        .map(|(c, ty)| (c.as_str(), if ty.is_number() { Align::Right } else { Align::Left }))
        .collect();
    let mut table = TextTable::new(&heads);
    for line in &rows.rows {
        // Numbers that name something look better as they are.
        table.row(line.iter().map(|v| if v.is_null() { "null".into() } else { v.to_string() }).collect());
    }
    table.write(out)?;
    if let Some(again) = &rows.again {
        let ty = again.natural_type();
        let text = format!(
            "all {}, one after the other, give {}",
            rows_of(rows.count, number(rows.count)),
            shown(again, ty, None, formats)
        );
        let text = out.paint(Tone::Faint, &text);
        out.text(&format!("{text}\n"))?;
    }
    Ok(())
}
