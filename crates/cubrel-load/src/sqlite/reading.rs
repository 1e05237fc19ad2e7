//! Reading SQLite databases.

use std::io::{self, Write};
use std::path::Path;

use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags, Statement};

use super::super::LoadError;
use super::super::guarded::guarded;
use super::super::jsonl::{NULL, is_plain};
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::Type;

fn failed(path: &Path, e: &rusqlite::Error) -> LoadError {
    let problem = Diagnostic::general(Problem::Data, format!("{}: {e}", path.display()));
    problem.help("check the file and the table or query after the `?`").into()
}

fn open(path: &Path) -> Result<Connection, LoadError> {
    Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY).map_err(|e| failed(path, &e))
}

/// A query that reads and does nothing else.
fn prepared<'c>(connection: &'c Connection, path: &Path, query: &str) -> Result<Statement<'c>, LoadError> {
    // `vacuum into` and `attach` write files, and count as statements that change no database.
    let first: String =
        query.trim_start().chars().take_while(char::is_ascii_alphabetic).collect::<String>().to_lowercase();
    let reads = ["select", "with", "values"].contains(&first.as_str());
    let refused = || {
        let message = format!("{}: `{query}` is not a query that reads", path.display());
        let help = "write one that begins with `select`, `with` or `values`, and changes nothing";
        LoadError::from(Diagnostic::general(Problem::Data, message).help(help))
    };
    if !reads {
        return Err(refused());
    }
    let statement = connection.prepare(query).map_err(|e| failed(path, &e))?;
    if statement.readonly() { Ok(statement) } else { Err(refused()) }
}

/// The first and last value of a query's two columns, as texts.
///
/// # Errors
/// When the database cannot be opened, or the query is wrong.
pub fn ends(path: &Path, query: &str) -> Result<Option<(String, String)>, LoadError> {
    guarded(
        path,
        || format!("`{query}`"),
        || {
            let connection = open(path)?;
            let ends = prepared(&connection, path, query)?.query_row([], |row| Ok((row.get(0)?, row.get(1)?)));
            let (first, last): (Option<String>, Option<String>) = ends.map_err(|e| failed(path, &e))?;
            Ok(first.zip(last))
        },
    )
}

/// Goes through the rows of a query for the types of their values, where those tell them: doubles, and texts that are neither
/// dates nor timestamps.
///
/// # Errors
/// When the database cannot be opened, the query is wrong, or a value is no text.
pub fn look(path: &Path, query: &str) -> Result<Vec<(String, Option<Type>)>, LoadError> {
    guarded(path, || format!("`{query}`"), || looked(path, query))
}

fn looked(path: &Path, query: &str) -> Result<Vec<(String, Option<Type>)>, LoadError> {
    let fail = |e: rusqlite::Error| failed(path, &e);
    let connection = open(path)?;
    let mut statement = prepared(&connection, path, query)?;
    let names: Vec<String> = statement.column_names().into_iter().map(str::to_string).collect();
    let (mut text, mut float) = (vec![false; names.len()], vec![false; names.len()]);
    let mut rows = statement.query([]).map_err(fail)?;
    while let Some(row) = rows.next().map_err(fail)? {
        for (i, name) in names.iter().enumerate() {
            match row.get_ref(i).map_err(fail)? {
                ValueRef::Null | ValueRef::Integer(_) => {}
                ValueRef::Real(_) => float[i] = true,
                ValueRef::Text(bytes) => text[i] = text[i] || is_plain(bytes),
                ValueRef::Blob(_) => {
                    let message = format!("{}: column `{name}` has bytes that are not text", path.display());
                    let help = "leave the column out: `?query=select a, b from …`";
                    return Err(Diagnostic::general(Problem::Data, message).help(help).into());
                }
            }
        }
    }
    let ty = |i: usize| if float[i] { Some(Type::Float) } else { text[i].then_some(Type::Text) };
    Ok(names.into_iter().enumerate().map(|(i, name)| (name, ty(i))).collect())
}

/// Writes the rows of a query as delimited text with a header.
///
/// # Errors
/// When the database cannot be read any more.
pub fn write(path: &Path, query: &str, to: impl Write) -> io::Result<()> {
    let connection = open(path).map_err(|e| io::Error::other(e.to_string()))?;
    let mut statement = prepared(&connection, path, query).map_err(|e| io::Error::other(e.to_string()))?;
    let columns = statement.column_count();
    let mut writer = csv::Writer::from_writer(to);
    writer.write_record(statement.column_names())?;
    let mut rows = statement.query([]).map_err(io::Error::other)?;
    while let Some(row) = rows.next().map_err(io::Error::other)? {
        for i in 0..columns {
            match row.get_ref(i).map_err(io::Error::other)? {
                ValueRef::Null => writer.write_field(NULL)?,
                ValueRef::Integer(v) => writer.write_field(v.to_string())?,
                ValueRef::Real(v) => writer.write_field(v.to_string())?,
                ValueRef::Text(bytes) | ValueRef::Blob(bytes) => writer.write_field(bytes)?,
            }
        }
        writer.write_record(None::<&[u8]>)?;
    }
    writer.flush()
}

/// The tables and views of a database; none where it cannot be read.
pub fn tables(path: &Path) -> Vec<String> {
    let read = || -> rusqlite::Result<Vec<String>> {
        let connection = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        let mut statement = connection.prepare(
            "select name from sqlite_master where type in ('table', 'view') and name not like 'sqlite_%' order by name",
        )?;
        let rows = statement.query_map([], |row| row.get(0))?;
        rows.collect()
    };
    read().unwrap_or_default()
}
