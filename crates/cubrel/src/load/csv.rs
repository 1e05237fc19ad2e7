//! Delimited text to columns. Two passes over the bytes: one for the types that nobody has declared, one for the values.

use std::collections::HashMap;
use std::path::Path;

use ::csv::{ByteRecord, Reader, ReaderBuilder};
use rayon::prelude::*;

use super::dialect::{Dialect, Shape};
use super::infer::Guess;
use super::sources::FileStamp;
use super::staging::{Loaded, Part, described, join};
use super::{LoadError, Observer};
use crate::formula::source::{Diagnostic, Problem};
use crate::value::Type;

/// Rows between two calls of the observer.
const STEP: u64 = 1 << 16;

/// What to read of the files.
pub struct Request<'a> {
    /// The table, for messages and progress.
    pub table: &'a str,
    /// The model's folder.
    pub folder: &'a Path,
    /// The files, all with the same columns.
    pub files: &'a [FileStamp],
    /// How delimited text is laid out.
    pub dialect: &'a Dialect,
    /// How the fields of columns are written, by name in the model.
    pub shapes: &'a HashMap<String, Shape>,
    /// Fields that stand for null.
    pub missing: &'a [String],
    /// From names in the source to names in the model.
    pub renamed: &'a HashMap<String, String>,
    /// Declared types, by name in the model.
    pub types: &'a HashMap<String, Type>,
}

/// The text of one file, in UTF-8.
pub struct Text {
    /// Where it comes from, for messages.
    pub name: String,
    /// The text.
    pub body: Vec<u8>,
}

/// Bytes of a chunk that one thread works on.
const CHUNK: usize = 8 << 20;

/// Lines of one text, with the header in front of the first chunk only.
struct Chunk<'a> {
    text: &'a Text,
    /// Where the chunk begins in the text.
    start: usize,
    body: &'a [u8],
    has_header: bool,
}

/// Reads texts that have the same columns.
///
/// # Errors
/// When a text has no header, or has other columns than the first.
pub fn read(request: &Request<'_>, texts: &[Text], observer: &dyn Observer) -> Result<Loaded, LoadError> {
    let dialect = request.dialect;
    let delimiter = dialect.delimiter.unwrap_or_else(|| texts.first().map_or(b',', |t| find_delimiter(&t.body)));
    let dialect = Dialect { delimiter: Some(delimiter), ..dialect.clone() };
    let names = header(request, texts, &dialect)?;
    let shapes: Vec<Shape> =
        names.iter().map(|n| request.shapes.get(n).cloned().unwrap_or_else(|| default_shape(&dialect))).collect();
    let chunks: Vec<Chunk<'_>> = texts.iter().flat_map(|t| chunks(t, &dialect)).collect();
    let layout = Layout { dialect: &dialect, names: &names, shapes: &shapes };
    let types = column_types(request, &chunks, &layout)?;
    let parts: Vec<Part> =
        chunks.par_iter().map(|chunk| read_chunk(request, chunk, &layout, &types, observer)).collect();
    Ok(join(names, types, parts))
}

/// What is the same for all chunks.
struct Layout<'a> {
    dialect: &'a Dialect,
    names: &'a [String],
    shapes: &'a [Shape],
}

fn default_shape(dialect: &Dialect) -> Shape {
    if dialect.decimal_comma { Shape::DecimalComma } else { Shape::Plain }
}

/// A text in pieces that end with a line; one piece where quotes could hide a line's end.
fn chunks<'t>(text: &'t Text, dialect: &Dialect) -> Vec<Chunk<'t>> {
    let body = text.body.as_slice();
    let mut chunks = Vec::new();
    let whole = body.len() <= CHUNK || body.contains(&dialect.quote);
    let mut start = 0;
    while start < body.len() || chunks.is_empty() {
        let wanted = start.saturating_add(if whole { usize::MAX } else { CHUNK }).min(body.len());
        let end = body[wanted..].iter().position(|b| *b == b'\n').map_or(body.len(), |i| wanted + i + 1);
        chunks.push(Chunk { text, start, body: &body[start..end], has_header: start == 0 });
        start = end;
    }
    chunks
}

fn reader<'b>(body: &'b [u8], dialect: &Dialect, has_header: bool) -> Reader<&'b [u8]> {
    ReaderBuilder::new()
        .delimiter(dialect.delimiter.unwrap_or(b','))
        .quote(dialect.quote)
        .flexible(true)
        .has_headers(has_header)
        .from_reader(body)
}

/// The candidate that occurs most often in the first line, outside quotes.
fn find_delimiter(body: &[u8]) -> u8 {
    let mut quoted = false;
    let mut counts = [(b',', 0), (b';', 0), (b'\t', 0), (b'|', 0)];
    for byte in body.iter().take_while(|b| **b != b'\n') {
        quoted ^= *byte == b'"';
        for (candidate, count) in &mut counts {
            *count += usize::from(!quoted && byte == candidate);
        }
    }
    // Of equal counts the first, which is the comma.
    counts.iter().rev().max_by_key(|(_, n)| *n).map_or(b',', |(c, _)| *c)
}

/// The columns' names in the model; every file has to have the same ones.
fn header(request: &Request<'_>, texts: &[Text], dialect: &Dialect) -> Result<Vec<String>, LoadError> {
    let mut first: Option<Vec<String>> = None;
    for text in texts {
        let path = &text.name;
        let mut reader = reader(&text.body, dialect, true);
        let header = reader
            .headers()
            .map_err(|e| Diagnostic::general(Problem::Data, format!("{path}: the header cannot be read: {e}")))?;
        let names: Vec<String> = header.iter().map(|n| n.trim().to_string()).collect();
        if names.is_empty() || names.iter().all(String::is_empty) {
            let problem = Diagnostic::general(Problem::Data, format!("{path} is empty: it has no header line"));
            return Err(problem.help("the first line of a CSV file names its columns").into());
        }
        if let Some(i) = names.iter().position(String::is_empty) {
            let problem = Diagnostic::general(Problem::Data, format!("{path}: column {} has no name", i + 1));
            return Err(problem.help("name every column in the first line").into());
        }
        match &first {
            None => {
                for (i, name) in names.iter().enumerate() {
                    if names[..i].contains(name) {
                        let problem =
                            Diagnostic::general(Problem::Data, format!("{path}: two columns are called `{name}`"));
                        return Err(problem.help("give every column in the first line another name").into());
                    }
                }
                first = Some(names);
            }
            Some(expected) if *expected != names => {
                let odd = names
                    .iter()
                    .find(|n| !expected.contains(n))
                    .or_else(|| expected.iter().find(|n| !names.contains(n)));
                let what = odd.map_or("they stand in another order".to_string(), |n| format!("`{n}` is not in both"));
                let other = &texts[0].name;
                let problem =
                    Diagnostic::general(Problem::Data, format!("{path} has other columns than {other}: {what}"));
                return Err(problem.help("all files of one table have the same header").into());
            }
            Some(_) => {}
        }
    }
    let names = first.unwrap_or_default();
    Ok(names.into_iter().map(|n| request.renamed.get(&n).cloned().unwrap_or(n)).collect())
}

fn is_missing(request: &Request<'_>, field: &[u8]) -> bool {
    request.missing.iter().any(|m| m.as_bytes() == field)
}

fn column_types(request: &Request<'_>, chunks: &[Chunk<'_>], layout: &Layout<'_>) -> Result<Vec<Type>, LoadError> {
    let declared: Vec<Option<Type>> = layout
        .names
        .iter()
        .zip(layout.shapes)
        .map(|(name, shape)| match (request.types.get(name), shape) {
            (Some(ty), _) => Some(*ty),
            (None, Shape::Dated(pattern)) => Some(pattern.ty()),
            (None, _) => None,
        })
        .collect();
    if declared.iter().all(Option::is_some) {
        return Ok(declared.into_iter().flatten().collect());
    }
    let guesses: Vec<Vec<Guess>> = chunks.par_iter().map(|chunk| guess(request, chunk, layout, &declared)).collect();
    let mut joined = vec![Guess::default(); layout.names.len()];
    for part in &guesses {
        joined.iter_mut().zip(part).for_each(|(a, b)| a.merge(b));
    }
    Ok(declared.into_iter().zip(joined).map(|(ty, guess)| ty.unwrap_or_else(|| guess.ty())).collect())
}

fn guess(request: &Request<'_>, chunk: &Chunk<'_>, layout: &Layout<'_>, declared: &[Option<Type>]) -> Vec<Guess> {
    let mut guesses = vec![Guess::default(); declared.len()];
    let mut reader = reader(chunk.body, layout.dialect, chunk.has_header);
    let mut record = ByteRecord::new();
    // Rows that cannot be read are reported by the second pass.
    while reader.read_byte_record(&mut record).unwrap_or(false) {
        if record.len() != declared.len() {
            continue;
        }
        for (i, field) in record.iter().enumerate() {
            if declared[i].is_none() && !is_missing(request, field) {
                guesses[i].see(&layout.shapes[i].normal(field));
            }
        }
    }
    guesses
}

fn read_chunk(
    request: &Request<'_>,
    chunk: &Chunk<'_>,
    layout: &Layout<'_>,
    types: &[Type],
    observer: &dyn Observer,
) -> Part {
    let mut part = Part::new(types);
    let mut reader = reader(chunk.body, layout.dialect, chunk.has_header);
    let mut record = ByteRecord::new();
    let (mut seen, mut told) = (0u64, 0u64);
    let name = &chunk.text.name;
    loop {
        match reader.read_byte_record(&mut record) {
            Ok(false) => break,
            Ok(true) => {
                if let Err(message) = take_row(&mut part, request, &record, layout, types) {
                    let line = record.position().map_or(0, ::csv::Position::line) + lines_before(chunk);
                    part.bad(format!("{name} line {line}: {message}"));
                }
            }
            Err(e) => part.bad(format!("{name}: {e}")),
        }
        seen += 1;
        if seen.is_multiple_of(STEP) {
            let at = reader.position().byte();
            observer.progress(request.table, at - told);
            told = at;
        }
    }
    observer.progress(request.table, (chunk.body.len() as u64).saturating_sub(told));
    part
}

/// Lines of the text in front of a chunk; counted only for messages.
fn lines_before(chunk: &Chunk<'_>) -> u64 {
    chunk.text.body[..chunk.start].iter().filter(|b| **b == b'\n').count() as u64
}

/// Takes a row whole or not at all.
fn take_row(
    part: &mut Part,
    request: &Request<'_>,
    record: &ByteRecord,
    layout: &Layout<'_>,
    types: &[Type],
) -> Result<(), String> {
    let names = layout.names;
    if record.len() != names.len() {
        return Err(format!("{} fields, the header has {}", record.len(), names.len()));
    }
    for (i, field) in record.iter().enumerate() {
        let missing = is_missing(request, field);
        let plain = types[i] == Type::Text;
        let taken = missing
            || if plain { part.columns[i].push(field) } else { part.columns[i].push(&layout.shapes[i].normal(field)) };
        if missing {
            part.columns[i].push_null();
        }
        if !taken {
            (0..i).for_each(|k| part.columns[k].pop());
            let text = String::from_utf8_lossy(field).chars().take(40).collect::<String>();
            return Err(format!("`{text}` in column `{}` is not {}", names[i], described(types[i])));
        }
    }
    for (valid, field) in part.valid.iter_mut().zip(record.iter()) {
        valid.push(!is_missing(request, field));
    }
    Ok(())
}
