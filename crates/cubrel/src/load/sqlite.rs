//! Tables and queries of SQLite databases. Rows become delimited text, whose types are then found as everywhere.

use std::path::Path;

use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};

use super::LoadError;
use super::database::Wanted;
use super::jsonl::NULL;
use crate::formula::source::{Diagnostic, Problem};

/// The database and the query of `sqlite:file.db?table=…` or `sqlite:file.db?query=…`.
///
/// # Errors
/// When it says neither.
pub fn parse(source: &str) -> Result<Wanted, Diagnostic> {
    Wanted::parse(source, source.strip_prefix("sqlite:").unwrap_or(source))
}

fn failed(path: &Path, e: &rusqlite::Error) -> LoadError {
    let problem = Diagnostic::general(Problem::Data, format!("{}: {e}", path.display()));
    problem.help("check the file and the table or query after the `?`").into()
}

fn open(path: &Path) -> Result<Connection, LoadError> {
    Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY).map_err(|e| failed(path, &e))
}

/// The first and last value of a query's two columns, as texts.
///
/// # Errors
/// When the database cannot be opened, or the query is wrong.
pub fn ends(path: &Path, query: &str) -> Result<Option<(String, String)>, LoadError> {
    let ends = open(path)?.query_row(query, [], |row| Ok((row.get(0)?, row.get(1)?)));
    let (first, last): (Option<String>, Option<String>) = ends.map_err(|e| failed(path, &e))?;
    Ok(first.zip(last))
}

/// Rows as delimited text, with the columns whose type the database knows.
pub struct Rows {
    /// The text.
    pub text: Vec<u8>,
    /// Columns with a text that is neither date nor timestamp.
    pub texts: Vec<String>,
    /// Columns with a floating number.
    pub floats: Vec<String>,
}

/// Reads the rows.
///
/// # Errors
/// When the database cannot be opened, or the query is wrong.
pub fn read(path: &Path, query: &str) -> Result<Rows, LoadError> {
    let fail = |e: rusqlite::Error| failed(path, &e);
    let connection = open(path)?;
    let mut statement = connection.prepare(query).map_err(fail)?;
    let names: Vec<String> = statement.column_names().into_iter().map(str::to_string).collect();
    let (mut text, mut float) = (vec![false; names.len()], vec![false; names.len()]);
    let mut writer = csv::Writer::from_writer(Vec::new());
    let _ = writer.write_record(&names);
    let mut rows = statement.query([]).map_err(fail)?;
    while let Some(row) = rows.next().map_err(fail)? {
        let mut fields: Vec<Vec<u8>> = Vec::with_capacity(names.len());
        for i in 0..names.len() {
            fields.push(match row.get_ref(i).map_err(fail)? {
                ValueRef::Null => NULL.as_bytes().to_vec(),
                ValueRef::Integer(v) => v.to_string().into_bytes(),
                ValueRef::Real(v) => {
                    float[i] = true;
                    v.to_string().into_bytes()
                }
                ValueRef::Text(bytes) => {
                    let dated = crate::value::date::parse_date(bytes).is_some()
                        || crate::value::parse::timestamp(bytes).is_some();
                    text[i] |= !dated;
                    bytes.to_vec()
                }
                ValueRef::Blob(_) => {
                    let message = format!("{}: column `{}` holds bytes that are no text", path.display(), names[i]);
                    let help = "leave the column out: `?query=select a, b from …`";
                    return Err(Diagnostic::general(Problem::Data, message).help(help).into());
                }
            });
        }
        let _ = writer.write_record(&fields);
    }
    let pick = |flags: &[bool]| names.iter().zip(flags).filter(|(_, f)| **f).map(|(n, _)| n.clone()).collect();
    Ok(Rows { texts: pick(&text), floats: pick(&float), text: writer.into_inner().unwrap_or_default() })
}
