//! Where something is used, as a tree; and what nothing uses.

use cubrel::unused::Unused;
use cubrel::uses::{Use, Uses};
use unicode_width::UnicodeWidthStr;

use super::sink::{Output, Tone};
use super::table::TextTable;
use super::text::{Align, bytes, cut, pad, visible};
use crate::failure::Failure;

/// Where the names end at the latest, in parts of a hundred of the width.
const NAMES: usize = 48;
/// What is kept of a text that has no room, at least.
const LEAST_TEXT: usize = 24;

/// Shows where something is used.
pub fn show(uses: &Uses, out: &mut Output) -> Result<(), Failure> {
    let direct = uses.used_by.iter().filter(|u| u.direct).map(|u| (&u.name, u.kind)).collect::<Vec<_>>();
    let (kind, name) = (kind_of(uses.kind), &uses.name);
    if uses.used_by.is_empty() {
        return out.sentence(Tone::Plain, &format!("nothing uses {kind} {name}"));
    }
    let mut parts = direct.clone();
    parts.dedup();
    let others = uses.used_by.iter().filter(|u| !u.direct).count();
    let through = if others > 0 { format!(", and {others} by way of others") } else { String::new() };
    let used = if parts.len() == 1 { "1 part uses".to_string() } else { format!("{} parts use", parts.len()) };
    out.sentence(Tone::Total, &format!("{used} {kind} {name} directly{through}"))?;
    out.text("\n")?;
    let mut rows = Vec::new();
    branch(uses, &[], &mut rows);
    write(&rows, out)
}

/// A line of the tree.
struct Row<'u> {
    depth: usize,
    /// What uses it; nothing for a further place in the same.
    title: Option<(String, String)>,
    used: &'u Use,
}

/// The uses that come by this way, each followed by what uses it in turn.
fn branch<'u>(uses: &'u Uses, way: &[String], rows: &mut Vec<Row<'u>>) {
    let here: Vec<&Use> = uses.used_by.iter().filter(|u| u.through == way).collect();
    let mut told: Vec<(&str, cubrel::PartKind)> = Vec::new();
    for used in &here {
        if told.contains(&(&used.name, used.kind)) {
            continue;
        }
        told.push((&used.name, used.kind));
        let same = here.iter().filter(|u| u.name == used.name && u.kind == used.kind);
        for (i, place) in same.enumerate() {
            let title = (i == 0).then(|| (kind_of(used.kind).to_string(), visible(&used.name)));
            rows.push(Row { depth: way.len(), title, used: place });
        }
        let further = [way, std::slice::from_ref(&used.name)].concat();
        branch(uses, &further, rows);
    }
}

fn kind_of(kind: cubrel::PartKind) -> &'static str {
    match kind {
        cubrel::PartKind::Query => "saved query",
        other => other.name(),
    }
}

fn write(rows: &[Row<'_>], out: &mut Output) -> Result<(), Failure> {
    let room = out.width().unwrap_or(usize::MAX);
    let width_of =
        |row: &Row<'_>| 2 * row.depth + row.title.as_ref().map_or(0, |(kind, name)| kind.width() + 1 + name.width());
    let widest = rows.iter().map(width_of).max().unwrap_or(0);
    let names = if room == usize::MAX { widest } else { widest.min(room * NAMES / 100) };
    let place = |row: &Row<'_>| row.used.line.map_or_else(String::new, |line| line.to_string());
    let places = rows.iter().map(|row| place(row).width()).chain([4]).max().unwrap_or(0);
    let texts = room.saturating_sub(names + places + 4).max(LEAST_TEXT);
    let heads = format!("{}  {}  text", pad("used by", names, Align::Left), pad("line", places, Align::Right));
    let heads = out.paint(Tone::Head, &heads);
    out.text(&format!("{heads}\n"))?;
    for row in rows {
        let indent = "  ".repeat(row.depth);
        let mut shown = indent.clone();
        if let Some((kind, name)) = &row.title {
            let left = names.saturating_sub(indent.width() + kind.width() + 1);
            let (kind, name) = (out.paint(Tone::Faint, kind), cut(name, left.max(4)));
            shown = format!("{indent}{kind} {name}");
        }
        let plain = anstream::adapter::strip_str(&shown).to_string();
        let fill = " ".repeat(names.saturating_sub(plain.width()));
        let line = pad(&place(row), places, Align::Right);
        let text = marked(row.used, texts, out);
        out.text(format!("{shown}{fill}  {line}  {text}").trim_end())?;
        out.text("\n")?;
    }
    Ok(())
}

/// The text with what names the part marked: in colour, or between `»` and `«`.
fn marked(used: &Use, room: usize, out: &Output) -> String {
    let chars: Vec<char> = used.text.chars().collect();
    let (start, end) = (used.marked.start.min(chars.len()), used.marked.end.min(chars.len()));
    // A use of the whole text is no place in it.
    let whole = start == 0 && end == chars.len();
    let marks = if whole || out.colored() { 0 } else { 2 };
    let room = room.saturating_sub(marks).max(8);
    // Where the text is too long, a part of it around the mark.
    let from = if chars.len() <= room || end <= room {
        0
    } else {
        start.saturating_sub(room / 4).min(chars.len() - room.min(chars.len()))
    };
    let to = chars.len().min(from + room);
    let piece = |a: usize, b: usize| visible(&chars[a.clamp(from, to)..b.clamp(from, to)].iter().collect::<String>());
    let (before, inner, after) = (piece(from, start), piece(start, end), piece(end, to));
    let inner = match (whole, out.colored()) {
        (true, _) => inner,
        (false, true) => out.paint(Tone::Alert, &inner),
        (false, false) => format!("»{inner}«"),
    };
    let (first, last) = (if from > 0 { "…" } else { "" }, if to < chars.len() { "…" } else { "" });
    format!("{first}{before}{inner}{after}{last}")
}

/// A line for each use, for scripts.
pub fn flat(uses: &Uses) -> TextTable {
    let heads = ["name", "kind", "direct", "through", "line", "column", "text"];
    let right = ["line", "column"];
    let align = |head| if right.contains(&head) { Align::Right } else { Align::Left };
    let mut table = TextTable::new(&heads.map(|head| (head, align(head))));
    let number = |n: Option<usize>| n.map(|n| n.to_string()).unwrap_or_default();
    for used in &uses.used_by {
        table.row(vec![
            used.name.clone(),
            used.kind.name().to_string(),
            used.direct.to_string(),
            used.through.join(" > "),
            number(used.line),
            number(used.column),
            used.text.clone(),
        ]);
    }
    table
}

/// Shows what nothing uses.
pub fn show_unused(unused: &Unused, out: &mut Output) -> Result<(), Failure> {
    if unused.unused.is_empty() {
        return out.sentence(Tone::Plain, "everything in this model is used");
    }
    let count = unused.unused.len();
    let parts = if count == 1 {
        "1 part of this model is used by nothing".into()
    } else {
        format!("{count} parts of this model are used by nothing")
    };
    let saved = format!("{parts}; without them, and what then is unused, it takes {} less", bytes(unused.bytes));
    out.sentence(Tone::Total, &saved)?;
    out.text("\n")?;
    unused_table(unused, true).write(out)
}

/// What nothing uses, a line each.
pub fn unused_table(unused: &Unused, human: bool) -> TextTable {
    let heads = [("unused", Align::Left), ("kind", Align::Left), ("bytes", Align::Right), ("then unused", Align::Left)];
    let heads = if human {
        heads
    } else {
        heads.map(|(head, align)| {
            (
                if head == "unused" {
                    "name"
                } else if head == "then unused" {
                    "then_unused"
                } else {
                    head
                },
                align,
            )
        })
    };
    let mut table = TextTable::new(&heads).wrapped_in(3);
    for part in &unused.unused {
        let weight = match (human, part.bytes) {
            (true, 0) => String::new(),
            (true, weight) => bytes(weight),
            (false, weight) => weight.to_string(),
        };
        table.row(vec![part.name.clone(), part.kind.name().to_string(), weight, part.then_unused.join(", ")]);
    }
    table
}
