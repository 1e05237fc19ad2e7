//! From a source, of whatever kind, to coded columns.

use std::collections::HashMap;
use std::io::Read;

use indexmap::IndexSet;
use rayon::prelude::*;

use super::csv::{self, Request};
use super::dialect::Dialect;
use super::lines::Input;
use super::pieces::{Failure, Gathered, Gatherer};
use super::staging::BadRows;
use super::{LoadError, Observer, bytes, columnar, jsonl, sqlite};
use crate::formula::source::{Diagnostic, Problem};
use crate::value::Type;

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
    let texts: Vec<(String, Vec<u8>)> = request
        .files
        .par_iter()
        .map(|(_, f)| {
            let path = request.folder.join(&f.path);
            let file = std::fs::File::open(&path).map_err(|e| LoadError::io(&path, e))?;
            let mut text = Vec::new();
            let plain = request.dialect.decoded(bytes::unpacked(&path, Box::new(file)));
            plain.and_then(|mut t| t.read_to_end(&mut text)).map_err(|e| bytes::problem(&path, &e))?;
            Ok((f.path.display().to_string(), text))
        })
        .collect::<Result<_, LoadError>>()?;
    // The first pass finds the names; a line may leave out what is null.
    for (name, text) in &texts {
        jsonl::convert(name, text, &mut columns);
    }
    let (mut bad, mut inputs, mut known) = (BadRows::default(), Vec::new(), Vec::new());
    for (name, text) in texts {
        let converted = jsonl::convert(&name, &text, &mut columns);
        converted.bad.into_iter().for_each(|b| bad.add(b));
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
    if let Some(first) = gathered.partitions.first_mut() {
        bad.join(std::mem::take(&mut first.bad));
        first.bad = bad;
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
    let rows = sqlite::read(&request.folder.join(&wanted.file), &wanted)?;
    let made_of = Made::new(request, &rows.texts, &rows.floats);
    let inputs = [Input::Text(rows.text.into(), wanted.file)];
    csv::read(&made(request, &made_of), &inputs, new, observer)
}
