//! From a source, of whatever kind, to coded columns.

use crate::load::database::PeriodOfRows;
use std::collections::HashMap;
#[cfg(feature = "workbook")]
use std::collections::HashSet;
use std::io;
#[cfg(feature = "postgres")]
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use rayon::prelude::*;

use super::assembler::{EncodedTable, TableAssembler};
use super::csv::{self, Request};
use super::dialect::Dialect;
use super::failure::Failure;
#[cfg(feature = "workbook")]
use super::header::{Naming, named};
#[cfg(feature = "postgres")]
use super::lines::Counted;
use super::lines::{Input, opened};
use super::pipe::pipe;
#[cfg(feature = "postgres")]
use super::postgres;
use super::sources::is_server;
use super::staging::BadRows;
#[cfg(feature = "workbook")]
use super::workbook;
use super::{LoadError, Observer, bytes, columnar, jsonl, sqlite};
use crate::formula::source::{Diagnostic, Problem};
use crate::value::Type;
use crate::value::date::{self, Unit};

/// Reads a source by what its name says it is; `new` begins a table.
///
/// # Errors
/// When it cannot be read.
pub(super) fn read<'g>(
    request: &Request<'_>,
    source: &str,
    new: &dyn Fn() -> TableAssembler<'g>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    if source.starts_with("sqlite:") {
        return from_sqlite(request, source, new, observer);
    }
    if is_server(source) {
        return from_server(request, source, new, observer);
    }
    let kinds: Vec<String> = request.files.iter().map(|(_, f)| bytes::kind(&f.path)).collect();
    match kinds.first().map(String::as_str) {
        Some("parquet" | "arrow" | "arrows" | "ipc" | "feather") => columnar::read(request, new(), observer),
        Some("jsonl" | "ndjson") => from_json_lines(request, new, observer),
        Some("xlsx" | "xlsm" | "ods" | "xls") => from_workbooks(request, new, observer),
        _ => csv::read(request, &inputs(request), new, observer),
    }
}

fn inputs(request: &Request<'_>) -> Vec<Input> {
    let input = |(_, f): &(usize, super::sources::FileStamp)| {
        Input::File(request.folder.join(&f.path), f.path.display().to_string())
    };
    request.files.iter().map(input).collect()
}

/// A request for text that was made here: nulls are marked, and some types are known.
fn made<'r>(request: &Request<'r>, made: &'r GeneratedCsv) -> Request<'r> {
    Request {
        table: request.table,
        folder: request.folder,
        files: request.files,
        dialect: &made.dialect,
        workbook: None,
        shapes: request.shapes,
        missing: &made.missing,
        own_missing: &made.own_missing,
        trim: request.trim,
        renamed: request.renamed,
        positions: request.positions,
        paths: request.paths,
        types: &made.types,
        known: request.known,
        periods: request.periods,
        period_column: request.period_column,
        piece: request.piece,
    }
}

/// What is known of text that was made here.
struct GeneratedCsv {
    dialect: Dialect,
    missing: Vec<String>,
    own_missing: HashMap<String, Vec<String>>,
    types: HashMap<String, Type>,
}

impl GeneratedCsv {
    fn new(request: &Request<'_>, texts: &[String], floats: &[String]) -> GeneratedCsv {
        let of_path = |n: &String| {
            let is_it = |path: &&String| *path == n || path.replace('.', jsonl::NESTED) == *n;
            request.paths.iter().find(|(path, _)| is_it(path)).map(|(_, name)| name)
        };
        let named = |n: &String| request.renamed.get(n).or_else(|| of_path(n)).unwrap_or(n).clone();
        let mut types: HashMap<String, Type> = texts.iter().map(|n| (named(n), Type::Text)).collect();
        types.extend(floats.iter().map(|n| (named(n), Type::Float)));
        types.retain(|n, _| !request.shapes.contains_key(n));
        types.extend(request.types.iter().map(|(n, ty)| (n.clone(), *ty)));
        // An empty text is null where the model says so, and here also what the source calls null.
        let with_null = |fields: &[String]| [fields, &[jsonl::NULL.to_string()]].concat();
        let missing = with_null(request.missing);
        let own_missing = request.own_missing.iter().map(|(name, own)| (name.clone(), with_null(own))).collect();
        let dialect = Dialect { delimiter: Some(b','), ..Dialect::default() };
        GeneratedCsv { dialect, missing, own_missing, types }
    }
}

fn from_json_lines<'g>(
    request: &Request<'_>,
    new: &dyn Fn() -> TableAssembler<'g>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let files = || request.files.iter().map(|(partition, f)| (*partition, f, request.folder.join(&f.path)));
    let look = |(_, f, path): (usize, &super::sources::FileStamp, PathBuf)| {
        let text = opened(&path, request.dialect, &Arc::default())?;
        jsonl::look(&f.path.display().to_string(), text).map_err(|e| bytes::problem(&path, &e))
    };
    let seen = files().collect::<Vec<_>>().into_par_iter().map(look).collect::<Result<Vec<_>, LoadError>>()?;
    let (columns, texts) = jsonl::together(&seen);
    if columns.is_empty() {
        let name = files().next().map(|(_, f, _)| f.path.display().to_string()).unwrap_or_default();
        let problem = Diagnostic::general(Problem::Data, format!("{name} has no objects"));
        return Err(LoadError::from(problem.help("JSON Lines have one object a line")).into());
    }
    let (columns, dialect) = (Arc::new(columns), Arc::new(request.dialect.clone()));
    let input = |(_, f, path): (usize, &super::sources::FileStamp, PathBuf)| {
        let (columns, dialect) = (columns.clone(), dialect.clone());
        let make = move |taken: &Arc<AtomicU64>| {
            let text = opened(&path, &dialect, taken).map_err(|e| io::Error::other(e.to_string()))?;
            let columns = columns.clone();
            Ok(pipe(move |to| jsonl::write(text, &columns, to)))
        };
        Input::Made(Arc::new(make), f.path.display().to_string())
    };
    let inputs: Vec<Input> = files().map(input).collect();
    let made_of = GeneratedCsv::new(request, &texts, &[]);
    let mut encoded = csv::read(&made(request, &made_of), &inputs, new, observer)?;
    for ((partition, ..), seen) in files().zip(seen) {
        let mut own = BadRows::default();
        seen.bad.into_iter().for_each(|line| own.add(line));
        if let Some(of) = encoded.partitions.get_mut(partition) {
            own.join(std::mem::take(&mut of.bad));
            of.bad = own;
        }
    }
    Ok(encoded)
}

#[cfg(feature = "workbook")]
fn from_workbooks<'g>(
    request: &Request<'_>,
    new: &dyn Fn() -> TableAssembler<'g>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let wanted = workbook::Wanted::of(request.workbook).map_err(|message| {
        let path = format!("table.{}.workbook.range: {message}", request.table);
        LoadError::from(Diagnostic::general(Problem::Model, path).help("write such as `B3:F200`, `B3:F` or `B3`"))
    })?;
    let own = request.own_missing.values().flatten();
    let missing: HashSet<&str> = request.missing.iter().chain(own).map(String::as_str).collect();
    let look = |(_, f): &(usize, super::sources::FileStamp)| {
        let path = request.folder.join(&f.path);
        let sheet = workbook::look(&path, &wanted, |text| missing.contains(text))?;
        Ok((path, f.path.display().to_string(), Arc::new(sheet)))
    };
    let sheets = request.files.par_iter().map(look).collect::<Result<Vec<_>, LoadError>>()?;
    let mut made_of = GeneratedCsv::new(request, &[], &[]);
    for (_, file, sheet) in &sheets {
        let naming = Naming { renamed: request.renamed, positions: request.positions, paths: request.paths };
        let header: Vec<String> = sheet.columns.iter().map(|c| c.name.clone()).collect();
        let (names, _) = named(file, &header, &naming);
        let texts = names.into_iter().zip(&sheet.columns).filter(|(name, column)| {
            column.is_text && !request.shapes.contains_key(name) && !request.types.contains_key(name)
        });
        made_of.types.extend(texts.map(|(name, _)| (name, Type::Text)));
    }
    let input = |(path, name, sheet): (PathBuf, String, Arc<workbook::SheetColumns>)| {
        let wanted = wanted.clone();
        let make = move |_: &Arc<AtomicU64>| {
            let (path, wanted, sheet) = (path.clone(), wanted.clone(), sheet.clone());
            Ok(pipe(move |to| workbook::write(&path, &wanted, &sheet, to)))
        };
        Input::Made(Arc::new(make), name)
    };
    let inputs: Vec<Input> = sheets.into_iter().map(input).collect();
    csv::read(&made(request, &made_of), &inputs, new, observer)
}

#[cfg(not(feature = "workbook"))]
fn from_workbooks<'g>(
    _: &Request<'_>,
    _: &dyn Fn() -> TableAssembler<'g>,
    _: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let problem = Diagnostic::general(Problem::Unsupported, "this library was built without workbooks");
    Err(LoadError::from(problem.help("build it with the feature `workbook`")).into())
}

fn from_sqlite<'g>(
    request: &Request<'_>,
    source: &str,
    new: &dyn Fn() -> TableAssembler<'g>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let wanted = sqlite::parse(source).map_err(LoadError::from)?;
    let (mut texts, mut floats, mut inputs) = (Vec::new(), Vec::new(), Vec::new());
    let path = request.folder.join(&wanted.place);
    for (period, _) in request.parts() {
        let query = wanted.of(period.as_ref(), request.period_column);
        let types = sqlite::look(&path, &query)?;
        texts.extend(types.texts);
        floats.extend(types.floats);
        let path = path.clone();
        let make = move |_: &Arc<AtomicU64>| {
            let (path, query) = (path.clone(), query.clone());
            Ok(pipe(move |to| sqlite::write(&path, &query, to)))
        };
        inputs.push(Input::Made(Arc::new(make), wanted.place.clone()));
    }
    let made_of = GeneratedCsv::new(request, &texts, &floats);
    csv::read(&made(request, &made_of), &inputs, new, observer)
}

#[cfg(feature = "postgres")]
fn from_server<'g>(
    request: &Request<'_>,
    source: &str,
    new: &dyn Fn() -> TableAssembler<'g>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let wanted = postgres::parse(source).map_err(LoadError::from)?;
    let mut made_of = GeneratedCsv::new(request, &[], &[]);
    for (name, ty) in postgres::types(&wanted)? {
        let name = request.renamed.get(&name).cloned().unwrap_or(name);
        if let Some(ty) = ty.filter(|_| !request.shapes.contains_key(&name)) {
            made_of.types.entry(name).or_insert(ty);
        }
    }
    let input = |(period, _): (Option<PeriodOfRows>, usize)| {
        let (place, query) = (wanted.place.clone(), wanted.of(period.as_ref(), request.period_column));
        let name = wanted.place.clone();
        let make = move |taken: &Arc<AtomicU64>| {
            let (place, query) = (place.clone(), query.clone());
            let rows = pipe(move |to| postgres::copy(&place, &query, to));
            Ok(Box::new(Counted { inner: rows, taken: taken.clone() }) as Box<dyn Read + Send>)
        };
        Input::Made(Arc::new(make), name)
    };
    let inputs: Vec<Input> = request.parts().into_iter().map(input).collect();
    csv::read(&made(request, &made_of), &inputs, new, observer)
}

#[cfg(not(feature = "postgres"))]
fn from_server<'g>(
    _: &Request<'_>,
    _: &str,
    _: &dyn Fn() -> TableAssembler<'g>,
    _: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let problem = Diagnostic::general(Problem::Unsupported, "this library was built without PostgreSQL");
    Err(LoadError::from(problem.help("build it with the feature `postgres`")).into())
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
