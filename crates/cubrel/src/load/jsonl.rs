//! JSON Lines: one object a line. They become delimited text, whose types are then found as everywhere.

use std::collections::HashMap;

use indexmap::IndexSet;
use serde_json::{Map, Value as Json};

/// Stands for null: no JSON text is this.
pub const NULL: &str = "\u{1}null\u{1}";

/// Lines as delimited text, with what cannot be read and the columns that hold texts.
pub struct Converted {
    /// The text.
    pub text: Vec<u8>,
    /// Lines that are no objects.
    pub bad: Vec<String>,
    /// Columns with a text that is neither date nor timestamp, so that digits in them stay text.
    pub texts: Vec<String>,
}

/// Converts the lines of one file; `columns` gets the names that it did not have.
pub fn convert(file: &str, bytes: &[u8], columns: &mut IndexSet<String>) -> Converted {
    let mut rows: Vec<Map<String, Json>> = Vec::new();
    let mut bad = Vec::new();
    for (i, line) in bytes.split(|b| *b == b'\n').enumerate() {
        if line.iter().all(u8::is_ascii_whitespace) {
            continue;
        }
        match serde_json::from_slice::<Json>(line) {
            Ok(Json::Object(row)) => {
                columns.extend(row.keys().cloned());
                rows.push(row);
            }
            Ok(_) => bad.push(format!("{file} line {}: this is no object", i + 1)),
            Err(e) => bad.push(format!("{file} line {}: {e}", i + 1)),
        }
    }
    let mut writer = csv::Writer::from_writer(Vec::new());
    let mut texts: HashMap<&str, bool> = HashMap::new();
    let header_written = writer.write_record(columns.iter()).is_ok();
    for row in &rows {
        let fields = columns.iter().map(|name| {
            let value = row.get(name).unwrap_or(&Json::Null);
            if let Json::String(text) = value {
                let dated = crate::value::date::parse_date(text.as_bytes()).is_some()
                    || crate::value::parse::timestamp(text.as_bytes()).is_some();
                *texts.entry(name).or_insert(false) |= !dated;
            }
            field(value)
        });
        // Writing into memory does not fail.
        let _ = writer.write_record(fields);
    }
    let texts = texts.into_iter().filter(|(_, is_text)| *is_text).map(|(n, _)| n.to_string()).collect();
    let text = if header_written { writer.into_inner().unwrap_or_default() } else { Vec::new() };
    Converted { text, bad, texts }
}

/// A value as a field; what is nested stays JSON.
fn field(value: &Json) -> String {
    match value {
        Json::Null => NULL.to_string(),
        Json::String(text) => text.clone(),
        Json::Bool(_) | Json::Number(_) => value.to_string(),
        Json::Array(_) | Json::Object(_) => value.to_string(),
    }
}
