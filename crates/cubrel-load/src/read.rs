//! From sources, of whatever kind, to coded columns.

use std::collections::HashMap;
#[cfg(feature = "workbook")]
use std::collections::HashSet;
use std::io;
#[cfg(feature = "postgres")]
use std::io::Read;
use std::path::Path;
use std::sync::Arc;
#[cfg(feature = "postgres")]
use std::sync::atomic::AtomicU64;

use super::assembler::{EncodedTable, TableAssembler};
use super::csv::{self, FileToRead, Request};
use super::database::PeriodOfRows;
use super::failure::Failure;
use super::header::named;
#[cfg(feature = "postgres")]
use super::lines::CountedReader;
use super::lines::{TextInput, opened};
use super::nested::{INSIDE, RowsOf};
use super::pipe::pipe;
#[cfg(feature = "postgres")]
use super::postgres;
use super::sources::is_server;
use super::staging::{BadRows, EXAMPLES};
#[cfg(feature = "workbook")]
use super::workbook;
use super::{LoadError, Observer, bytes, columnar, jsonl, sqlite};
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::Type;
use cubrel_value::date::{self, Unit};
use cubrel_value::threads::map_each;

/// How a source is read.
#[derive(Clone, Copy, PartialEq, Eq)]
enum ReadMethod {
    Delimited,
    JsonLines,
    Columnar,
    Workbook,
    Sqlite,
    Server,
}

impl ReadMethod {
    fn of(file: &FileToRead<'_>) -> ReadMethod {
        if file.source.starts_with("sqlite:") {
            return ReadMethod::Sqlite;
        }
        if is_server(file.source) {
            return ReadMethod::Server;
        }
        match bytes::kind(&file.stamp.path).as_str() {
            "jsonl" | "ndjson" => ReadMethod::JsonLines,
            kind if bytes::TYPED.contains(&kind) => ReadMethod::Columnar,
            kind if bytes::WORKBOOKS.contains(&kind) => ReadMethod::Workbook,
            _ => ReadMethod::Delimited,
        }
    }
}

/// Reads files by what their names say they are; `new` begins a table. Files of one kind that know their types are read as
/// they are; everything else becomes delimited text, whose columns and types are found together.
///
/// # Errors
/// When one cannot be read.
pub(super) fn read<'g>(
    request: &Request<'_>,
    new: &dyn Fn() -> TableAssembler<'g>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let kinds: Vec<ReadMethod> = request.files.iter().map(ReadMethod::of).collect();
    if let Some(at) = kinds.iter().position(|kind| !matches!(kind, ReadMethod::JsonLines | ReadMethod::Columnar))
        && let Some(rows_of) = request.rows_of
    {
        let message = format!("`{rows_of}` cannot be a list in {}", request.files[at].name());
        let help = "`rows_of` is for lists in JSON Lines, Parquet and Arrow files";
        return Err(LoadError::from(Diagnostic::general(Problem::Model, message).help(help)).into());
    }
    if kinds.iter().all(|kind| *kind == ReadMethod::Columnar) {
        return columnar::read(request, new(), observer);
    }
    let mut texts = Texts::default();
    let runs: Vec<&[FileToRead<'_>]> = request.files.chunk_by(|a, b| ReadMethod::of(a) == ReadMethod::of(b)).collect();
    for files in runs {
        texts.add(request, files)?;
    }
    let Texts { inputs, types, bad, mut notes } = texts;
    let is_made = inputs.iter().any(TextInput::is_made);
    // An empty text is null where the model says so, and in what is made here also what the source calls null.
    let with_null = |fields: &[String]| [fields, &[jsonl::NULL.to_string()]].concat();
    let missing = with_null(request.missing);
    let own_missing = request.own_missing.iter().map(|(name, own)| (name.clone(), with_null(own))).collect();
    let types = of_texts(request, types);
    let of_made = Request { missing: &missing, own_missing: &own_missing, types: &types, ..*request };
    let mut encoded = csv::read(if is_made { &of_made } else { request }, inputs, new, observer)?;
    for (partition, mut own) in bad {
        if let Some(of) = encoded.partitions.get_mut(partition) {
            own.join(std::mem::take(&mut of.bad));
            of.bad = own;
        }
    }
    notes.append(&mut encoded.notes);
    Ok(EncodedTable { notes, ..encoded })
}

/// The types that sources know, by name in the model, and what the model declares, which counts more.
fn of_texts(request: &Request<'_>, mut types: HashMap<String, Type>) -> HashMap<String, Type> {
    types.retain(|name, _| !request.shapes.contains_key(request.said_of(name)));
    types.extend(request.types.iter().map(|(name, ty)| (name.clone(), *ty)));
    types
}

/// Files as delimited text, in their order.
#[derive(Default)]
struct Texts {
    inputs: Vec<TextInput>,
    /// What is known of the types of their columns, by name in the model.
    types: HashMap<String, Type>,
    /// Rows that cannot be text, with their partition.
    bad: Vec<(usize, BadRows)>,
    /// What people are told of them.
    notes: Vec<String>,
}

impl Texts {
    /// Adds files of one kind.
    fn add(&mut self, request: &Request<'_>, files: &[FileToRead<'_>]) -> Result<(), LoadError> {
        match files.first().map(ReadMethod::of) {
            None => Ok(()),
            Some(ReadMethod::Delimited) => {
                let input = |f: &FileToRead<'_>| {
                    TextInput::file(path(request, f), f.name(), request.dialect).with_header(request.header.cloned())
                };
                self.inputs.extend(files.iter().map(input));
                Ok(())
            }
            Some(ReadMethod::JsonLines) => self.add_json_lines(request, files),
            Some(ReadMethod::Columnar) => self.add_columnar(request, files),
            Some(ReadMethod::Workbook) => self.add_workbooks(request, files),
            Some(ReadMethod::Sqlite) => self.add_sqlite(request, files),
            Some(ReadMethod::Server) => self.add_server(request, files),
        }
    }

    /// Adds what a text's columns are known to be, by the names in its header. What one text knows to be text or a double is
    /// that in all.
    fn know(&mut self, request: &Request<'_>, file: &str, columns: &[(String, Option<Type>)]) {
        let header: Vec<String> = columns.iter().map(|(name, _)| name.clone()).collect();
        let (names, _) = named(file, &header, &request.naming());
        for (name, (_, ty)) in names.iter().zip(columns) {
            let Some(ty) = ty else { continue };
            let known = self.types.entry(request.said_of(name).to_string()).or_insert(*ty);
            *known = known.common(*ty).unwrap_or(Type::Text);
        }
    }

    fn add_json_lines(&mut self, request: &Request<'_>, files: &[FileToRead<'_>]) -> Result<(), LoadError> {
        let look = |f: &FileToRead<'_>| {
            let path = path(request, f);
            let text = opened(&path, &request.dialect, &Arc::default())?;
            jsonl::look(&f.name(), text, request.rows_of).map_err(|e| bytes::problem(&path, &e))
        };
        let seen = map_each(files, look).into_iter().collect::<Result<Vec<_>, LoadError>>()?;
        let columns = jsonl::together(&seen);
        let name = files.first().map(FileToRead::name).unwrap_or_default();
        if columns.is_empty() {
            let (message, help) = match request.rows_of {
                Some(rows_of) => {
                    (format!("no line of {name} has `{rows_of}`"), "name a list by the names that lead to it")
                }
                None => (format!("{name} has no objects"), "JSON Lines have one object a line"),
            };
            let bad: Vec<&str> = seen.iter().flat_map(|seen| &seen.bad).take(EXAMPLES).map(String::as_str).collect();
            let message = [&[message.as_str()], bad.as_slice()].concat().join("\n  ");
            return Err(Diagnostic::general(Problem::Data, message).help(help).into());
        }
        let carried = request.rows_of.into_iter().flat_map(RowsOf::carried).map(|carried| carried.whole);
        if let Some(missing) = carried.map(|path| path.join(INSIDE)).find(|name| !columns.contains_key(name)) {
            let message = format!("no line of {name} has `{}` around a list", missing.replace(INSIDE, "."));
            let help = "`carry` names values by the names that lead to them";
            return Err(Diagnostic::general(Problem::Data, message).help(help).into());
        }
        let types: Vec<(String, Option<Type>)> =
            columns.values().map(|c| (c.shown.clone(), c.is_text.then_some(Type::Text))).collect();
        self.know(request, &name, &types);
        let columns = Arc::new(columns);
        for (f, seen) in files.iter().zip(seen) {
            let (columns, dialect, path) = (columns.clone(), request.dialect, path(request, f));
            let rows_of = request.rows_of.cloned();
            let make = move |taken: &Arc<_>| {
                let text = opened(&path, &dialect, taken).map_err(|e| io::Error::other(e.to_string()))?;
                let (columns, rows_of) = (columns.clone(), rows_of.clone());
                Ok(pipe(move |to| jsonl::write(text, &columns, rows_of.as_ref(), to)))
            };
            self.inputs.push(TextInput::made(make, f.name()));
            let mut bad = BadRows::default();
            seen.bad.into_iter().for_each(|line| bad.add(|| line));
            self.bad.push((f.partition, bad));
        }
        Ok(())
    }

    fn add_columnar(&mut self, request: &Request<'_>, files: &[FileToRead<'_>]) -> Result<(), LoadError> {
        for f in files {
            let path = path(request, f);
            let columns = columnar::look(&path, &f.name(), request)?;
            self.know(request, &f.name(), &columns.types());
            self.notes
                .extend(columns.notes.iter().filter(|note| !self.notes.contains(note)).cloned().collect::<Vec<_>>());
            let (columns, rows_of) = (Arc::new(columns), request.rows_of.cloned());
            let make = move |_: &Arc<_>| {
                let (path, columns, rows_of) = (path.clone(), columns.clone(), rows_of.clone());
                Ok(pipe(move |to| columnar::write(&path, &columns, rows_of.as_ref(), to)))
            };
            self.inputs.push(TextInput::made(make, f.name()));
        }
        Ok(())
    }

    #[cfg(feature = "workbook")]
    fn add_workbooks(&mut self, request: &Request<'_>, files: &[FileToRead<'_>]) -> Result<(), LoadError> {
        let wanted = workbook::SheetRange::of(request.workbook).map_err(|message| {
            let path = format!("table.{}.workbook.range: {message}", request.table);
            LoadError::from(Diagnostic::general(Problem::Model, path).help("write such as `B3:F200`, `B3:F` or `B3`"))
        })?;
        let own = request.own_missing.values().flatten();
        let missing: HashSet<&str> = request.missing.iter().chain(own).map(String::as_str).collect();
        let look = |f: &FileToRead<'_>| workbook::look(&path(request, f), &wanted, |text| missing.contains(text));
        let sheets = map_each(files, look).into_iter().collect::<Result<Vec<_>, LoadError>>()?;
        for (f, sheet) in files.iter().zip(sheets) {
            let types: Vec<(String, Option<Type>)> =
                sheet.columns.iter().map(|c| (c.name.clone(), c.is_text.then_some(Type::Text))).collect();
            self.know(request, &f.name(), &types);
            let (path, wanted, sheet) = (path(request, f), wanted.clone(), Arc::new(sheet));
            let make = move |_: &Arc<_>| {
                let (path, wanted, sheet) = (path.clone(), wanted.clone(), sheet.clone());
                Ok(pipe(move |to| workbook::write(&path, &wanted, &sheet, to)))
            };
            self.inputs.push(TextInput::made(make, f.name()));
        }
        Ok(())
    }

    #[cfg(not(feature = "workbook"))]
    fn add_workbooks(&mut self, _: &Request<'_>, _: &[FileToRead<'_>]) -> Result<(), LoadError> {
        let problem = Diagnostic::general(Problem::Unsupported, "this library was built without workbooks");
        Err(problem.help("build it with the feature `workbook`").into())
    }

    fn add_sqlite(&mut self, request: &Request<'_>, files: &[FileToRead<'_>]) -> Result<(), LoadError> {
        for f in files {
            let wanted = sqlite::parse(f.source)?;
            let path = request.folder.join(&wanted.place);
            let query = wanted.of(f.period.as_ref(), request.period_column);
            let types = sqlite::look(&path, &query)?;
            self.know(request, &wanted.place, &types);
            let make = move |_: &Arc<_>| {
                let (path, query) = (path.clone(), query.clone());
                Ok(pipe(move |to| sqlite::write(&path, &query, to)))
            };
            self.inputs.push(TextInput::made(make, wanted.place.clone()));
        }
        Ok(())
    }

    #[cfg(feature = "postgres")]
    fn add_server(&mut self, request: &Request<'_>, files: &[FileToRead<'_>]) -> Result<(), LoadError> {
        let mut seen: HashMap<&str, ()> = HashMap::new();
        for f in files {
            let wanted = postgres::parse(f.source)?;
            if seen.insert(f.source, ()).is_none() {
                self.know(request, &wanted.place, &postgres::types(&wanted)?);
            }
            let (place, query) = (wanted.place.clone(), wanted.of(f.period.as_ref(), request.period_column));
            let make = move |taken: &Arc<AtomicU64>| {
                let (place, query) = (place.clone(), query.clone());
                let rows = pipe(move |to| postgres::copy(&place, &query, to));
                Ok(Box::new(CountedReader { inner: rows, taken: taken.clone() }) as Box<dyn Read + Send>)
            };
            self.inputs.push(TextInput::made(make, wanted.place));
        }
        Ok(())
    }

    #[cfg(not(feature = "postgres"))]
    fn add_server(&mut self, _: &Request<'_>, _: &[FileToRead<'_>]) -> Result<(), LoadError> {
        let problem = Diagnostic::general(Problem::Unsupported, "this library was built without PostgreSQL");
        Err(problem.help("build it with the feature `postgres`").into())
    }
}

fn path(request: &Request<'_>, file: &FileToRead<'_>) -> std::path::PathBuf {
    request.folder.join(&file.stamp.path)
}

/// The periods of a database's table.
///
/// # Errors
/// When the database cannot be read, or the column holds no dates.
pub(super) fn periods(folder: &Path, source: &str, column: &str, by: Unit) -> Result<Vec<PeriodOfRows>, LoadError> {
    let ends = if is_server(source) {
        ends_of_server(source, column)?
    } else {
        let wanted = sqlite::parse(source)?;
        sqlite::ends(&folder.join(&wanted.place), &wanted.ends(column))?
    };
    let Some((first, last)) = ends else { return Ok(PeriodOfRows::all(None, by)) };
    let day = |text: &str| {
        let day = text.get(..10).and_then(|d| date::parse_date(d.as_bytes()));
        day.ok_or_else(|| {
            let message = format!("`{text}` in column `{column}` is not a date, so it cannot partition the table");
            LoadError::from(Diagnostic::general(Problem::Data, message).help("partition by a column of dates"))
        })
    };
    Ok(PeriodOfRows::all(Some((day(&first)?, day(&last)?)), by))
}

#[cfg(feature = "postgres")]
fn ends_of_server(source: &str, column: &str) -> Result<Option<(String, String)>, LoadError> {
    let wanted = postgres::parse(source)?;
    postgres::ends(&wanted, &wanted.ends(column))
}

#[cfg(not(feature = "postgres"))]
fn ends_of_server(_: &str, _: &str) -> Result<Option<(String, String)>, LoadError> {
    Ok(None)
}
