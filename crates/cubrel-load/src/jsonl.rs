//! JSON Lines: one object a line. They become delimited text while they are read, whose types are then found as
//! everywhere. What the text's columns are is known when all lines have been seen, so they are gone through twice. An object
//! in an object gives a column for each of its values, `address.city` as `address_city`; lists stay JSON,
//! unless the rows of the table are the entries of one.

use std::io::{self, BufRead, BufReader, Read, Write};

use indexmap::IndexMap;
use serde_json::{Map, Value as Json};

use super::lines::endless;
use super::nested::{INSIDE, NESTED, RowsOf};

/// Stands for null: no JSON text is this.
pub const NULL: &str = "\u{1}null\u{1}";

/// An object is no longer: its values take many times as much memory as their text.
const MOST_OBJECT: usize = 48 << 20;

/// What the lines of one file say of its columns.
#[derive(Default)]
pub struct ColumnsOfLines {
    /// By name, in the order in which they come: whether it has a text that is neither date nor timestamp, so that digits
    /// in it stay text.
    pub columns: IndexMap<String, bool>,
    /// Lines that are no objects.
    pub bad: Vec<String>,
}

impl ColumnsOfLines {
    fn add(&mut self, name: String, is_text: bool) {
        *self.columns.entry(name).or_default() |= is_text;
    }
}

/// Goes through the lines of a file.
///
/// # Errors
/// When it cannot be read.
pub fn look(file: &str, text: impl Read, rows_of: Option<&RowsOf>) -> io::Result<ColumnsOfLines> {
    let mut seen = ColumnsOfLines::default();
    each_row(text, rows_of, |number, line| {
        match line {
            Ok(row) => row.into_iter().for_each(|(name, value)| seen.add(name, is_text_value(&value))),
            Err(problem) => seen.bad.push(format!("{file} line {number}: {problem}")),
        }
        Ok(())
    })?;
    Ok(seen)
}

/// Writes the lines of a file as delimited text; those that are no objects are left out.
///
/// # Errors
/// When it cannot be read or written.
pub fn write(
    text: impl Read,
    columns: &IndexMap<String, ColumnOfLines>,
    rows_of: Option<&RowsOf>,
    to: impl Write,
) -> io::Result<()> {
    let mut writer = csv::Writer::from_writer(to);
    writer.write_record(columns.values().map(|column| &column.shown))?;
    each_row(text, rows_of, |_, row| match row {
        Ok(row) => Ok(writer.write_record(columns.keys().map(|name| field(row.get(name).unwrap_or(&Json::Null))))?),
        Err(_) => Ok(()),
    })?;
    writer.flush()
}

/// Calls `visit` with each row: the number of a line that is not empty, and its object, or what it is instead; or the entries of
/// a list in it.
fn each_row(
    text: impl Read,
    rows_of: Option<&RowsOf>,
    mut visit: impl FnMut(usize, Result<Map<String, Json>, String>) -> io::Result<()>,
) -> io::Result<()> {
    let mut text = BufReader::new(text);
    let mut line = Vec::new();
    let mut number = 0;
    while (&mut text).take(MOST_OBJECT as u64 + 1).read_until(b'\n', &mut line)? > 0 {
        number += 1;
        if line.len() > MOST_OBJECT {
            return Err(endless(number as u64, MOST_OBJECT));
        }
        if !line.iter().all(u8::is_ascii_whitespace) {
            let row = match line.trim_ascii_start().first() {
                Some(b'{') => serde_json::from_slice(&line).map(|JsonObject(row)| row).map_err(|e| e.to_string()),
                _ => Err("this is not an object".to_string()),
            };
            match (row, rows_of) {
                (Ok(row), Some(rows_of)) => rows_of.entries(row, &mut |entry| visit(number, Ok(flat(entry))))?,
                (row, _) => visit(number, row.map(flat))?,
            }
        }
        line.clear();
    }
    Ok(())
}

/// Objects in objects are not looked into further than this.
const MOST_NESTED: usize = 16;

/// A row with the values of objects in it as its own, under the names that lead to them.
fn flat(row: Map<String, Json>) -> Map<String, Json> {
    if !row.values().any(Json::is_object) {
        return row;
    }
    let mut all = Map::new();
    let mut open: Vec<(String, usize, Map<String, Json>)> = vec![(String::new(), 0, row)];
    while let Some((path, depth, row)) = open.pop() {
        for (name, value) in row {
            let name = if depth == 0 { name } else { format!("{path}{INSIDE}{name}") };
            match value {
                Json::Object(inner) if depth < MOST_NESTED => open.push((name, depth + 1, inner)),
                value => drop(all.insert(name, value)),
            }
        }
    }
    all
}

/// What people call a value of an object, given all names: by its parts, with points where that is somebody's own name.
fn shown(name: &str, all: &IndexMap<&String, bool>) -> String {
    let own = name.replace(INSIDE, NESTED);
    if name.contains(INSIDE) && all.contains_key(&own) { name.replace(INSIDE, ".") } else { own }
}

/// An object in which no name stands twice: which of two values counts, nobody has said.
struct JsonObject(Map<String, Json>);

impl<'de> serde::Deserialize<'de> for JsonObject {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<JsonObject, D::Error> {
        from.deserialize_any(Fields)
    }
}

struct Fields;

impl<'de> serde::de::Visitor<'de> for Fields {
    type Value = JsonObject;

    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("an object")
    }

    fn visit_map<A: serde::de::MapAccess<'de>>(self, mut entries: A) -> Result<JsonObject, A::Error> {
        let mut row = Map::new();
        while let Some((name, value)) = entries.next_entry::<String, Json>()? {
            if row.contains_key(&name) {
                return Err(serde::de::Error::custom(format!("`{name}` stands twice in the object")));
            }
            row.insert(name, value);
        }
        Ok(JsonObject(row))
    }
}

fn is_text_value(value: &Json) -> bool {
    matches!(value, Json::String(text) if is_plain(text.as_bytes()))
}

/// Whether a text is neither a date nor a timestamp, so that its column is text, whatever digits are in it.
pub fn is_plain(text: &[u8]) -> bool {
    cubrel_value::date::parse_date(text).is_none() && cubrel_value::parse::timestamp(text).is_none()
}

/// A column of lines.
pub struct ColumnOfLines {
    /// What people call it.
    pub shown: String,
    /// Whether it has a text that is neither date nor timestamp.
    pub is_text: bool,
}

/// The columns of several files, as they are told apart here.
pub fn together(all: &[ColumnsOfLines]) -> IndexMap<String, ColumnOfLines> {
    let mut columns: IndexMap<&String, bool> = IndexMap::new();
    for (name, is_text) in all.iter().flat_map(|seen| &seen.columns) {
        *columns.entry(name).or_default() |= is_text;
    }
    let column = |(name, is_text): (&&String, &bool)| {
        ((*name).clone(), ColumnOfLines { shown: shown(name, &columns), is_text: *is_text })
    };
    columns.iter().map(column).collect()
}

/// A value as a field; what is nested stays JSON.
fn field(value: &Json) -> String {
    match value {
        Json::Null => NULL.to_string(),
        Json::String(text) => text.clone(),
        Json::Bool(_) | Json::Number(_) | Json::Array(_) | Json::Object(_) => value.to_string(),
    }
}
