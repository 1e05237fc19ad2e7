//! From a source, of whatever kind, to columns of values.

use std::collections::HashMap;
use std::path::Path;

use indexmap::IndexSet;
use rayon::prelude::*;

use super::csv::{self, Request, Text};
use super::dialect::Dialect;
use super::staging::Loaded;
use super::{LoadError, Observer, bytes, columnar, jsonl, sqlite};
use crate::formula::source::{Diagnostic, Problem};
use crate::store::{RawColumn, RawData};
use crate::value::{Type, Value, VectorBuilder, parse};

/// Reads a source by what its name says it is.
///
/// # Errors
/// When it cannot be read.
pub fn read(request: &Request<'_>, source: &str, observer: &dyn Observer) -> Result<Loaded, LoadError> {
    if source.starts_with("sqlite:") {
        return from_sqlite(request, source, observer);
    }
    let kinds: Vec<String> = request.files.iter().map(|f| bytes::kind(&f.path)).collect();
    match kinds.first().map(String::as_str) {
        Some("parquet" | "arrow" | "arrows" | "ipc" | "feather") => {
            Ok(declared(columnar::read(request, observer)?, request)?)
        }
        Some("jsonl" | "ndjson") => from_json_lines(request, observer),
        _ => csv::read(request, &texts(request)?, observer),
    }
}

/// All files as UTF-8.
fn texts(request: &Request<'_>) -> Result<Vec<Text>, LoadError> {
    let text = |path: &Path| {
        let body = request.dialect.decode(bytes::read(&request.folder.join(path))?);
        Ok(Text { name: path.display().to_string(), body })
    };
    request.files.par_iter().map(|f| text(&f.path)).collect()
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

fn from_json_lines(request: &Request<'_>, observer: &dyn Observer) -> Result<Loaded, LoadError> {
    let texts = texts(request)?;
    let mut columns = IndexSet::new();
    // The first pass finds the names; a line may leave out what is null.
    for text in &texts {
        jsonl::convert(&text.name, &text.body, &mut columns);
    }
    let converted: Vec<jsonl::Converted> =
        texts.iter().map(|t| jsonl::convert(&t.name, &t.body, &mut columns)).collect();
    if columns.is_empty() {
        let name = texts.first().map_or_else(String::new, |t| t.name.clone());
        let problem = Diagnostic::general(Problem::Data, format!("{name} has no objects"));
        return Err(problem.help("JSON Lines have one object a line").into());
    }
    let known: Vec<String> = converted.iter().flat_map(|c| c.texts.clone()).collect();
    let (mut bad, mut bodies) = (Vec::new(), Vec::new());
    for (text, converted) in texts.into_iter().zip(converted) {
        bad.extend(converted.bad);
        bodies.push(Text { name: text.name, body: converted.text });
    }
    let made_of = Made::new(request, &known, &[]);
    let mut loaded = csv::read(&made(request, &made_of), &bodies, observer)?;
    loaded.bad_rows += bad.len() as u64;
    bad.extend(std::mem::take(&mut loaded.bad_examples));
    bad.truncate(super::staging::EXAMPLES);
    loaded.bad_examples = bad;
    Ok(loaded)
}

fn from_sqlite(request: &Request<'_>, source: &str, observer: &dyn Observer) -> Result<Loaded, LoadError> {
    let wanted = sqlite::parse(source)?;
    let rows = sqlite::read(&request.folder.join(&wanted.file), &wanted)?;
    let made_of = Made::new(request, &rows.texts, &rows.floats);
    let text = Text { name: wanted.file, body: rows.text };
    csv::read(&made(request, &made_of), &[text], observer)
}

/// Columns that know their types, in the types that the model declares.
fn declared(mut loaded: Loaded, request: &Request<'_>) -> Result<Loaded, LoadError> {
    for (name, raw) in &mut loaded.columns {
        if let Some(ty) = request.types.get(name).filter(|ty| **ty != raw.ty) {
            *raw = converted(name, raw, *ty)?;
        }
    }
    Ok(loaded)
}

fn converted(name: &str, raw: &RawColumn, ty: Type) -> Result<RawColumn, LoadError> {
    let rows: Vec<u32> = (0..raw.len() as u32).collect();
    let values = raw.vector(&rows);
    let mut builder = VectorBuilder::new(ty, rows.len());
    for row in 0..rows.len() {
        let value = values.get(row, raw.ty);
        let turned = if value.is_null() { Some(Value::Null) } else { parse::value(&value.to_string(), ty) };
        builder.push(turned.ok_or_else(|| {
            let message = format!("`{value}` in column `{name}` is not {ty}");
            LoadError::from(Diagnostic::general(Problem::Data, message).help("change the column's `type`"))
        })?);
    }
    Ok(RawColumn::from_vector(builder.finish(), ty).unwrap_or(RawColumn {
        ty,
        data: RawData::Ints(Vec::new()),
        valid: None,
    }))
}
