//! A drafted model as text, with what was found in comments.

use std::collections::{HashMap, HashSet};
use std::fmt::Write;
use std::path::Path;

use super::days::{DraftCalendar, days, derived_days, is_counted};
use super::keys::Refused;
use super::links::Link;
use super::names::KEY_WORDS;
use super::reading::is_identifier;
use super::shapes::{Tree, bridge, tree};
use super::table::{Table, table_name};
use cubrel_formula::words::quote_name;
use cubrel_load::loaded::LoadedColumn;
use cubrel_model::file::ColumnSection;
use cubrel_store::CodedColumn;
use cubrel_value::units::counted;
use cubrel_value::{Type, Value};

/// A value or key as TOML has it, in one line; what is in headers and names of files is only ever inside the quotes.
fn text(value: &str) -> String {
    let mut out = String::from("\"");
    for c in value.chars() {
        match c {
            '\\' | '"' => out.extend(['\\', c]),
            c if c.is_control() => {
                let _ = write!(out, "\\u{:04X}", u32::from(c));
            }
            c => out.push(c),
        }
    }
    out + "\""
}

fn toml_key(name: &str) -> String {
    let bare = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_' || b == b'-');
    if bare { name.to_string() } else { text(name) }
}

/// A column as formulas name it.
fn in_formula(table: &str, column: &str) -> String {
    format!("{}.{}", quote_name(table), quote_name(column))
}

pub(super) fn write(into: &Path, tables: &[Table], links: &[Link], unread: &[String]) -> String {
    let taken: Vec<String> = tables.iter().map(|t| t.name.clone()).collect();
    let taken = taken.as_slice();
    let mut out = String::new();
    let name = into.canonicalize().ok().and_then(|p| Some(p.file_name()?.to_string_lossy().to_string()));
    let _ = writeln!(out, "# Drafted from the files: read it, and change what you know better.\n\n[model]");
    let _ = writeln!(out, "name = {}\n", text(&name.unwrap_or_else(|| "Model".into())));
    let (calendar, days) = days(tables, links);
    for (i, table) in tables.iter().enumerate() {
        let days = match &calendar {
            Some(DraftCalendar::Table(at, column)) if *at == i => Some(column),
            _ => None,
        };
        write_table(&mut out, (i, table), tables, links, days);
    }
    for why in unread {
        let _ = writeln!(out, "# {}\n", one_line(why));
    }
    if let Some(DraftCalendar::Generated(name)) = &calendar {
        let _ = writeln!(out, "# One row a day, from the first to the last year of the data.\n[table.{name}]");
        let _ = writeln!(out, "calendar = \"date\"\ngenerate = {{}}\n");
    }
    for link in links {
        let _ = writeln!(out, "# {}", one_line(&link.evidence));
        let path = |end: &(usize, String)| in_formula(&tables[end.0].name, &end.1);
        let (many, one) = (path(&link.many), path(&link.one));
        match &link.refused {
            None => write_relationship(&mut out, &many, &one, link.spare),
            Some(why) => {
                let _ = match why {
                    Refused::Impossible(why) => writeln!(out, "# not possible yet: {}", one_line(why)),
                    Refused::InDoubt => writeln!(out, "# in doubt: rows without a key there would stand under (none)"),
                };
                let _ = writeln!(out, "# [[relationship]]\n# many = {}\n# one = {}\n", text(&many), text(&one));
            }
        }
    }
    for (i, table) in tables.iter().enumerate() {
        if let Some([a, b]) = bridge(tables, links, i) {
            write_bridge(&mut out, table, [&tables[a.one.0].name, &tables[b.one.0].name]);
        }
        if let Some(tree) = tree(table) {
            write_tree(&mut out, &table.name, &tree, taken);
        }
        lists(table).for_each(|column| write_list(&mut out, table, column, taken));
    }
    let day_of = match &calendar {
        Some(DraftCalendar::Table(at, column)) => in_formula(&tables[*at].name, column),
        Some(DraftCalendar::Generated(name)) => format!("{name}.date"),
        None => String::new(),
    };
    for day in &days {
        write_relationship(&mut out, &in_formula(&tables[day.table].name, &day.column), &day_of, day.spare);
    }
    write_measures(&mut out, tables, links, calendar.as_ref(), taken);
    out
}

fn write_relationship(out: &mut String, many: &str, one: &str, spare: bool) {
    let _ = writeln!(out, "[[relationship]]\nmany = {}\none = {}", text(many), text(one));
    if spare {
        let _ = writeln!(out, "spare = true                      # only where a formula says: via {}", one_line(many));
    }
    out.push('\n');
}

/// How filters go over a table that puts rows of two others together.
fn write_bridge(out: &mut String, table: &Table, [a, b]: [&String; 2]) {
    let name = one_line(&table.name);
    let (a, b) = (one_line(a), one_line(b));
    let _ =
        writeln!(out, "# {name} is a bridge between {a} and {b}: with `both_ways = true` at one of its relationships");
    let _ = writeln!(out, "# filters on the other table reach that one over it.\n");
}

/// A column that points at its own table: the row above as a table of its own.
fn write_tree(out: &mut String, table: &str, tree: &Tree, taken: &[String]) {
    let mut above = format!("{}_above", table_name(table));
    while taken.contains(&above) {
        above.push_str("_2");
    }
    let Tree { column, key, levels } = tree;
    let _ = writeln!(
        out,
        "# {} holds keys of its own table: a tree of {levels} levels. What is one level up would be:",
        one_line(&in_formula(table, column))
    );
    let _ = writeln!(out, "# [table.{above}]\n# same_as = {}", text(table));
    let (many, one) = (in_formula(table, column), in_formula(&above, key));
    let _ = writeln!(out, "# [[relationship]]\n# many = {}\n# one = {}\n", text(&many), text(&one));
}

/// Columns of nested data that hold lists.
fn lists(table: &Table) -> impl Iterator<Item = &LoadedColumn> {
    const LOOKED_AT: u64 = 100;
    let is_list = |text: &str| serde_json::from_str::<Vec<serde_json::Value>>(text).is_ok();
    let is_nested = table.is_typed() || ["jsonl", "ndjson"].contains(&table.kind().as_str());
    let holds_lists = move |c: &&LoadedColumn| {
        let some = (0..c.data.domain().min(LOOKED_AT)).map(|code| c.data.value_of(code));
        is_nested
            && c.data.ty() == Type::Text
            && c.data.distinct() > 0
            && some.into_iter().all(|value| value.as_text().is_some_and(is_list))
    };
    table.loaded.columns.iter().filter(holds_lists)
}

/// The entries of lists as rows of a table of their own, which point at the rows that they stand in.
fn write_list(out: &mut String, table: &Table, column: &LoadedColumn, taken: &[String]) {
    let Some(key) = &table.key else { return };
    let mut name = table_name(&format!("{}_{}", table.name, column.name));
    while taken.contains(&name) {
        name.push_str("_2");
    }
    let holder = one_line(&in_formula(&table.name, &column.name));
    let _ = writeln!(out, "# {holder} holds lists. Their entries as rows of a table of their own would be:");
    let source = text(table.section.sources().first().map_or("", String::as_str));
    let _ = writeln!(out, "# [table.{}]\n# source = {source}\n# rows_of = {}", toml_key(&name), text(&column.name));
    let (many, one) = (in_formula(&name, key), in_formula(&table.name, key));
    let _ = writeln!(out, "# [[relationship]]\n# many = {}\n# one = {}\n", text(&many), text(&one));
}

fn write_table(
    out: &mut String,
    (at, table): (usize, &Table),
    tables: &[Table],
    links: &[Link],
    days: Option<&String>,
) {
    for note in &table.notes {
        let _ = writeln!(out, "# {}", one_line(note));
    }
    let _ = writeln!(out, "# {}", counted(table.loaded.rows as u64, "row"));
    let name = toml_key(&table.name);
    let _ = writeln!(out, "[table.{name}]\n{}", table_lines(table, days));
    let points = |column: &str| links.iter().any(|l| l.many.0 == at && l.many.1 == column);
    for c in &table.loaded.columns {
        let said = table.section.column.get(&c.name).cloned().unwrap_or_default();
        // Keys that say nothing to people are hidden; a region's name is a key, too, and is worth reading.
        let a_key = points(&c.name) || table.key.as_deref() == Some(&c.name);
        let hidden = a_key && table.naming.key_rank(&c.name).is_some_and(|rank| KEY_WORDS[rank] != "name");
        let order = if hidden { None } else { display_order(table, c) };
        let lines = column_lines(&said, hidden, order.as_deref());
        if !lines.is_empty() {
            let _ = writeln!(out, "[table.{name}.column.{}]\n{lines}", toml_key(&c.name));
        }
    }
    let moments = if is_counted(tables, links, at) { derived_days(table) } else { Vec::new() };
    for (source, day) in moments {
        let _ = writeln!(out, "[table.{name}.column.{}]", toml_key(&day));
        let _ = writeln!(out, "formula = {}\n", text(&format!("cast({} as date)", quote_name(&source))));
    }
}

/// The keys of a table's own section, a line each.
fn table_lines(table: &Table, days: Option<&String>) -> String {
    let section = &table.section;
    let list = |texts: &[String]| format!("[{}]", texts.iter().map(|t| text(t)).collect::<Vec<_>>().join(", "));
    let braces = |said: Vec<String>| (!said.is_empty()).then(|| format!("{{ {} }}", said.join(", ")));
    let csv = section.csv.iter().flat_map(|csv| {
        let marks = [("decimal", &csv.decimal), ("thousands", &csv.thousands), ("encoding", &csv.encoding)];
        let marks = marks.into_iter().filter_map(|(key, value)| Some(format!("{key} = \"{}\"", value.as_ref()?)));
        let skip = csv.skip.map(|skip| format!("skip = {skip}"));
        let header = csv.header.as_ref().map(|header| format!("header = {}", text(header)));
        skip.into_iter().chain(header).chain(marks).collect::<Vec<_>>()
    });
    let workbook = section.workbook.iter().flat_map(|workbook| {
        let said = [("sheet", &workbook.sheet), ("range", &workbook.range)];
        said.into_iter().filter_map(|(key, value)| Some(format!("{key} = {}", text(value.as_ref()?))))
    });
    let keys = [
        ("source", Some(text(section.sources().first().map_or("", String::as_str)))),
        ("key", table.key.as_ref().map(|key| text(key))),
        ("calendar", days.map(|column| text(column))),
        ("missing", section.missing.as_ref().map(|missing| list(missing))),
        ("max_bad_rows", section.max_bad_rows.map(|bad| bad.to_string())),
        ("trim", section.trim.then(|| "true".to_string())),
        ("where", section.filter.as_ref().map(|filter| text(filter))),
        ("order", (!section.order.is_empty()).then(|| list(&section.order))),
        ("csv", braces(csv.collect())),
        ("workbook", braces(workbook.collect())),
    ];
    keys.into_iter().filter_map(|(key, value)| Some(format!("{key} = {}\n", value?))).collect()
}

/// What a comment may hold: whatever comes from data or headers stays in its line.
fn one_line(text: &str) -> String {
    let escape = |c: char| if c.is_control() { c.escape_default().to_string() } else { c.to_string() };
    text.chars().map(escape).collect()
}

fn column_lines(said: &ColumnSection, hidden: bool, order: Option<&str>) -> String {
    let mut lines = String::new();
    if let Some(ty) = &said.ty {
        let _ = writeln!(lines, "type = {}", text(ty));
    }
    if let Some(pattern) = &said.date_pattern {
        let list: Vec<String> = pattern.list().iter().map(|p| text(p)).collect();
        let _ = match list.as_slice() {
            [one] => writeln!(lines, "date_pattern = {one}"),
            several => writeln!(lines, "date_pattern = [{}]", several.join(", ")),
        };
    }
    if let Some(missing) = &said.missing {
        let list: Vec<String> = missing.iter().map(|m| text(m)).collect();
        let _ = writeln!(lines, "missing = [{}]", list.join(", "));
    }
    if let Some(order) = order {
        let _ = writeln!(lines, "display_order = {}", text(order));
    }
    if hidden {
        let _ = writeln!(lines, "hidden = true");
    }
    lines
}

/// Words in the names of numbers that order texts.
const ORDERS: &[&str] = &["order", "sort", "rank", "position", "seq", "dow", "weekday"];

/// A number of the same table that has one value for each text, and is called an order.
fn display_order(table: &Table, c: &LoadedColumn) -> Option<String> {
    if c.data.ty() != Type::Text || c.data.distinct() > 400 {
        return None;
    }
    let mine = table.naming.words(&c.name);
    let orders = |other: &&LoadedColumn| {
        let theirs = table.naming.words(&other.name);
        let is_order = theirs.iter().any(|w| ORDERS.contains(&w.as_str()));
        let is_key_word = |w: &String| KEY_WORDS.contains(&w.as_str());
        let same_thing = theirs.iter().any(|w| mine.contains(w) && !is_key_word(w));
        let is_key = table.key.as_deref() == Some(&other.name);
        let nothing_else = || !is_key && theirs.iter().all(|w| mine.contains(w) || is_key_word(w));
        let number = theirs.iter().any(|w| matches!(w.as_str(), "no" | "nr" | "number" | "num" | "of"));
        other.data.ty() == Type::Int
            && (is_order || same_thing && (number || mine.last().is_some_and(|w| w == "name") && nothing_else()))
            && depends(&c.data, &other.data)
    };
    table.loaded.columns.iter().find(orders).map(|o| o.name.clone())
}

/// Whether each value of one column goes with one value of another, and they differ as often.
fn depends(on: &CodedColumn, order: &CodedColumn) -> bool {
    let mut known: HashMap<u64, u64> = HashMap::new();
    let pairs = on.codes().into_iter().zip(order.codes());
    on.distinct() == order.distinct() && pairs.into_iter().all(|(a, b)| *known.entry(a).or_insert(b) == b)
}

/// Words in the names of numbers that say nothing when they are added up.
const PER_ROW: &[&str] = &[
    "unit",
    "price",
    "rate",
    "share",
    "percent",
    "pct",
    "year",
    "month",
    "day",
    "age",
    "order",
    "latitude",
    "longitude",
    "lat",
    "lon",
    "lng",
    "score",
    "rating",
    "ratio",
    "index",
    "level",
    "temperature",
];

/// Decimals that a total or an average of a column is shown with: as many as it has, within reason; whole totals have none.
fn decimals(ty: Type, is_average: bool) -> Option<usize> {
    let wanted = match ty {
        Type::Int | Type::Decimal { scale: 0, .. } if !is_average => return None,
        Type::Decimal { scale, .. } => usize::from(scale),
        _ => 2,
    };
    Some(wanted.clamp(2, 4))
}

/// Words that say of a price or a share that it is of all that a row holds.
const OF_ALL: &[&str] = &["ext", "extended", "total", "gross", "net"];

/// Whether a sum of a column says nothing: its name says so, or all of its values are parts of one.
fn is_per_row(table: &Table, column: &LoadedColumn) -> bool {
    let words = table.naming.words(&column.name);
    let is_of_all = words.iter().any(|word| OF_ALL.iter().any(|of_all| word.starts_with(of_all)));
    let is_of_one = words.iter().any(|word| PER_ROW.contains(&word.as_str()) || word.ends_with("price"));
    column.name.contains('%') || !is_of_all && is_of_one || are_parts_of_one(column) || are_years(column)
}

/// Whether all numbers of a column could be years of these times.
fn are_years(column: &LoadedColumn) -> bool {
    const MOST: u64 = 250;
    let is_year = |value: Value| matches!(value, Value::Int(year) if (1850..2100).contains(&year));
    let may =
        column.data.ty() == Type::Int && (1..=MOST).contains(&column.data.distinct()) && column.data.domain() <= MOST;
    may && (0..column.data.domain()).all(|code| is_year(column.data.value_of(code)))
}

fn are_parts_of_one(column: &LoadedColumn) -> bool {
    const LOOKED_AT: u64 = 10_000;
    const FEWEST: u64 = 3;
    let (domain, distinct) = (column.data.domain(), column.data.distinct());
    // Few values, or they would not stand one behind the other.
    let may = !matches!(column.data.ty(), Type::Int) && (FEWEST..=LOOKED_AT).contains(&distinct) && domain <= LOOKED_AT;
    let is_part = |value: Value| value.as_f64().is_some_and(|part| (0.0..=1.0).contains(&part));
    may && (0..domain).all(|code| is_part(column.data.value_of(code)))
}

fn write_measures(
    out: &mut String,
    tables: &[Table],
    links: &[Link],
    calendar: Option<&DraftCalendar>,
    taken: &[String],
) {
    let mut names: HashSet<String> = taken.iter().cloned().collect();
    let mut fresh = |wanted: String| {
        let mut name = table_name(&wanted);
        while !names.insert(name.clone()) {
            name.push_str("_2");
        }
        name
    };
    let is_calendar = |at| matches!(calendar, Some(DraftCalendar::Table(days, _)) if *days == at);
    let facts = tables.iter().enumerate().filter(|(at, _)| is_counted(tables, links, *at) && !is_calendar(*at));
    for (at, table) in facts {
        let name = fresh(format!("{}_rows", table.name));
        let _ = writeln!(
            out,
            "[measure.{}]\nformula = {}\n",
            toml_key(&name),
            text(&format!("rows({})", quote_name(&table.name)))
        );
        for c in &table.loaded.columns {
            let points = links.iter().any(|l| l.many == (at, c.name.clone()));
            let key = table.key.as_deref() == Some(&c.name) || table.naming.key_rank(&c.name).is_some();
            let is_text = table.section.column.get(&c.name).is_some_and(|said| said.ty.as_deref() == Some("text"));
            let names_things = is_text || is_identifier(&c.data, table.loaded.rows);
            if points || key || names_things || !c.data.ty().is_number() {
                continue;
            }
            let single = is_per_row(table, c);
            // Not the column's own name: a bare name in a column's formula could then mean either.
            let (kind, label) = if single { ("avg", "average_") } else { ("sum", "total_") };
            let name = fresh(format!("{label}{}", c.name));
            let formula = format!("{kind}({})", in_formula(&table.name, &c.name));
            let _ = writeln!(out, "[measure.{}]\nformula = {}", toml_key(&name), text(&formula));
            let digits = decimals(c.data.ty(), single);
            let _ =
                writeln!(out, "{}", digits.map_or_else(String::new, |n| format!("format = \"#,##0.{:0<n$}\"\n", "")));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_and_keys_are_read_back_whatever_is_in_them() {
        let controls: String = (0..0xA0).filter_map(char::from_u32).collect();
        for name in ["", "plain", "a b", "\\", "\"", "\\\"", "z\n[table.evil]", "\u{feff}é\u{2028}", &controls] {
            let line = format!("{} = {}", toml_key(name), text(name));
            assert_eq!(line.lines().count(), 1, "{line}");
            let read: toml::Table = toml::from_str(&line).unwrap_or_else(|e| panic!("{name:?}: {line}: {e}"));
            assert_eq!(read.get(name).and_then(|v| v.as_str()), Some(name), "{line}");
            assert_eq!(read.len(), 1, "{line}");
        }
    }
}
