//! Tables and queries of SQLite databases. Rows become delimited text, whose types are then found as everywhere.

use std::path::Path;

use rusqlite::types::ValueRef;
use rusqlite::{Connection, OpenFlags};

use super::LoadError;
use super::jsonl::NULL;
use crate::formula::source::{Diagnostic, Problem};

/// What to read of a database.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// The database's file.
    pub file: String,
    /// The query.
    pub query: String,
}

/// Reads `sqlite:file.db?table=…` or `sqlite:file.db?query=…`.
pub fn parse(source: &str) -> Result<Wanted, Diagnostic> {
    let rest = source.strip_prefix("sqlite:").unwrap_or(source);
    let wrong = || {
        Diagnostic::general(Problem::Model, format!("`{source}` does not say what to read of the database"))
            .help("write `sqlite:file.db?table=booking`, or `sqlite:file.db?query=select …`")
    };
    let (file, what) = rest.split_once('?').ok_or_else(wrong)?;
    let query = match what.split_once('=') {
        Some(("table", table)) => format!("select * from \"{}\"", table.replace('"', "\"\"")),
        Some(("query", query)) => query.to_string(),
        _ => return Err(wrong()),
    };
    Ok(Wanted { file: file.to_string(), query })
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
pub fn read(path: &Path, wanted: &Wanted) -> Result<Rows, LoadError> {
    let fail = |e: rusqlite::Error| {
        let problem = Diagnostic::general(Problem::Data, format!("{}: {e}", path.display()));
        LoadError::from(problem.help("check the file and the table or query after the `?`"))
    };
    let connection = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY).map_err(fail)?;
    let mut statement = connection.prepare(&wanted.query).map_err(fail)?;
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_source_names_a_table_or_a_query() {
        let wanted = parse("sqlite:data/x.db?table=a \"b\"").expect("a table");
        assert_eq!((wanted.file.as_str(), wanted.query.as_str()), ("data/x.db", "select * from \"a \"\"b\"\"\""));
        assert_eq!(parse("sqlite:x.db?query=select 1 = 1").expect("a query").query, "select 1 = 1");
        assert!(parse("sqlite:x.db").is_err() && parse("sqlite:x.db?rows=1").is_err());
    }
}
