//! From a source, of whatever kind, to coded columns.

use std::collections::HashMap;
use std::io::Read;
use std::path::Path;
use std::sync::Arc;

use indexmap::IndexSet;
use rayon::prelude::*;

use super::csv::{self, Request};
use super::database::Period;
use super::dialect::Dialect;
use super::lines::Input;
use super::pieces::{Failure, Gathered, Gatherer};
#[cfg(feature = "postgres")]
use super::postgres;
use super::sources::is_server;
use super::staging::BadRows;
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
    new: &dyn Fn() -> Gatherer<'g>,
    observer: &dyn Observer,
) -> Result<Gathered, Failure> {
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
fn made<'r>(request: &Request<'r>, made: &'r Made) -> Request<'r> {
    Request {
        table: request.table,
        folder: request.folder,
        files: request.files,
        dialect: &made.dialect,
        shapes: request.shapes,
        missing: &made.missing,
        renamed: request.renamed,
        types: &made.types,
        known: request.known,
        periods: request.periods,
        period_column: request.period_column,
        piece: request.piece,
    }
}

/// What is known of text that was made here.
struct Made {
    dialect: Dialect,
    missing: Vec<String>,
    types: HashMap<String, Type>,
}

impl Made {
    fn new(request: &Request<'_>, texts: &[String], floats: &[String]) -> Made {
        let named = |n: &String| request.renamed.get(n).unwrap_or(n).clone();
        let mut types: HashMap<String, Type> = texts.iter().map(|n| (named(n), Type::Text)).collect();
        types.extend(floats.iter().map(|n| (named(n), Type::Float)));
        types.retain(|n, _| !request.shapes.contains_key(n));
        types.extend(request.types.iter().map(|(n, ty)| (n.clone(), *ty)));
        // An empty text is null where the model says so, and here also what the source calls null.
        let mut missing: Vec<String> = request.missing.to_vec();
        missing.push(jsonl::NULL.to_string());
        Made { dialect: Dialect { delimiter: Some(b','), ..Dialect::default() }, missing, types }
    }
}

fn from_json_lines<'g>(
    request: &Request<'_>,
    new: &dyn Fn() -> Gatherer<'g>,
    observer: &dyn Observer,
) -> Result<Gathered, Failure> {
    let mut columns = IndexSet::new();
    let texts: Vec<(usize, String, Vec<u8>)> = request
        .files
        .par_iter()
        .map(|(partition, f)| {
            let path = request.folder.join(&f.path);
            let file = std::fs::File::open(&path).map_err(|e| LoadError::io(&path, e))?;
            let mut text = Vec::new();
            let plain = request.dialect.decoded(bytes::unpacked(&path, Box::new(file)));
            plain.and_then(|mut t| t.read_to_end(&mut text)).map_err(|e| bytes::problem(&path, &e))?;
            Ok((*partition, f.path.display().to_string(), text))
        })
        .collect::<Result<_, LoadError>>()?;
    // The first pass finds the names; a line may leave out what is null.
    for (_, name, text) in &texts {
        jsonl::convert(name, text, &mut columns);
    }
    let (mut bad, mut inputs, mut known) = (Vec::new(), Vec::new(), Vec::new());
    for (partition, name, text) in texts {
        let converted = jsonl::convert(&name, &text, &mut columns);
        bad.push((partition, converted.bad));
        known.extend(converted.texts);
        inputs.push(Input::Text(converted.text.into(), name));
    }
    if columns.is_empty() {
        let name = inputs.first().map_or("", Input::name);
        let problem = Diagnostic::general(Problem::Data, format!("{name} has no objects"));
        return Err(LoadError::from(problem.help("JSON Lines have one object a line")).into());
    }
    let made_of = Made::new(request, &known, &[]);
    let mut gathered = csv::read(&made(request, &made_of), &inputs, new, observer)?;
    for (partition, lines) in bad {
        let mut own = BadRows::default();
        lines.into_iter().for_each(|line| own.add(line));
        if let Some(of) = gathered.partitions.get_mut(partition) {
            own.join(std::mem::take(&mut of.bad));
            of.bad = own;
        }
    }
    observer.progress(request.table, request.files.iter().map(|(_, f)| f.bytes).sum());
    Ok(gathered)
}

fn from_sqlite<'g>(
    request: &Request<'_>,
    source: &str,
    new: &dyn Fn() -> Gatherer<'g>,
    observer: &dyn Observer,
) -> Result<Gathered, Failure> {
    let wanted = sqlite::parse(source).map_err(LoadError::from)?;
    let (mut texts, mut floats, mut inputs) = (Vec::new(), Vec::new(), Vec::new());
    for (period, _) in request.parts() {
        let query = wanted.of(period.as_ref(), request.period_column);
        let rows = sqlite::read(&request.folder.join(&wanted.place), &query)?;
        texts.extend(rows.texts);
        floats.extend(rows.floats);
        inputs.push(Input::Text(rows.text.into(), wanted.place.clone()));
    }
    let made_of = Made::new(request, &texts, &floats);
    csv::read(&made(request, &made_of), &inputs, new, observer)
}

#[cfg(feature = "postgres")]
fn from_server<'g>(
    request: &Request<'_>,
    source: &str,
    new: &dyn Fn() -> Gatherer<'g>,
    observer: &dyn Observer,
) -> Result<Gathered, Failure> {
    let wanted = postgres::parse(source).map_err(LoadError::from)?;
    let mut made_of = Made::new(request, &[], &[]);
    for (name, ty) in postgres::types(&wanted)? {
        let name = request.renamed.get(&name).cloned().unwrap_or(name);
        if let Some(ty) = ty.filter(|_| !request.shapes.contains_key(&name)) {
            made_of.types.entry(name).or_insert(ty);
        }
    }
    let input = |(period, _): (Option<Period>, usize)| {
        let (place, query) = (wanted.place.clone(), wanted.of(period.as_ref(), request.period_column));
        let name = wanted.place.clone();
        Input::Made(Arc::new(move || postgres::rows(&place, &query)), name)
    };
    let inputs: Vec<Input> = request.parts().into_iter().map(input).collect();
    csv::read(&made(request, &made_of), &inputs, new, observer)
}

#[cfg(not(feature = "postgres"))]
fn from_server<'g>(
    _: &Request<'_>,
    _: &str,
    _: &dyn Fn() -> Gatherer<'g>,
    _: &dyn Observer,
) -> Result<Gathered, Failure> {
    let problem = Diagnostic::general(Problem::Unsupported, "this library was built without PostgreSQL");
    Err(LoadError::from(problem.help("build it with the feature `postgres`")).into())
}

/// The periods of a database's table.
///
/// # Errors
/// When the database cannot be read, or the column holds no dates.
pub(super) fn periods(folder: &Path, source: &str, column: &str, by: Unit) -> Result<Vec<Period>, LoadError> {
    let ends = if is_server(source) {
        ends_of_server(source, column)?
    } else {
        let wanted = sqlite::parse(source)?;
        sqlite::ends(&folder.join(&wanted.place), &wanted.ends(column))?
    };
    let Some((first, last)) = ends else { return Ok(Period::all(None, by)) };
    let day = |text: &str| {
        let day = text.get(..10).and_then(|d| date::parse_date(d.as_bytes()));
        day.ok_or_else(|| {
            let message = format!("`{text}` in column `{column}` is no date, so that it cannot part the table");
            LoadError::from(Diagnostic::general(Problem::Data, message).help("partition by a column of dates"))
        })
    };
    Ok(Period::all(Some((day(&first)?, day(&last)?)), by))
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
