//! Delimited text to columns. Two passes over the bytes: one for the types that nobody has declared, one for the values.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use ::csv::{ByteRecord, Reader, ReaderBuilder};
use rayon::prelude::*;

use super::infer::Guess;
use super::sources::FileStamp;
use super::{LoadError, Observer, TableReport};
use crate::formula::source::{Diagnostic, Problem};
use crate::store::{RawColumn, RawData};
use crate::value::{Type, parse};

/// Bad rows that are shown.
const EXAMPLES: usize = 5;
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
    /// The delimiter, if it is declared.
    pub delimiter: Option<u8>,
    /// Fields that stand for null.
    pub missing: &'a [String],
    /// From names in the source to names in the model.
    pub renamed: &'a HashMap<String, String>,
    /// Declared types, by name in the model.
    pub types: &'a HashMap<String, Type>,
}

/// The columns of a source.
pub struct Loaded {
    /// Names in the model, and values.
    pub columns: Vec<(String, RawColumn)>,
    /// Rows that could not be read.
    pub bad_rows: u64,
    /// Some of them.
    pub bad_examples: Vec<String>,
}

/// Reads all files.
///
/// # Errors
/// When a file cannot be read, has no header, or has other columns than the first.
pub fn read(request: &Request<'_>, observer: &dyn Observer) -> Result<Loaded, LoadError> {
    let texts: Vec<Vec<u8>> = request
        .files
        .iter()
        .map(|f| {
            let path = request.folder.join(&f.path);
            std::fs::read(&path).map_err(|e| LoadError::io(&path, e))
        })
        .collect::<Result<_, _>>()?;
    let bodies: Vec<&[u8]> = texts.iter().map(|t| t.strip_prefix(b"\xef\xbb\xbf").unwrap_or(t)).collect();
    let delimiter = request.delimiter.unwrap_or_else(|| bodies.first().map_or(b',', |b| find_delimiter(b)));
    let names = header(request, &bodies, delimiter)?;
    let types = column_types(request, &bodies, delimiter, &names)?;
    let parts: Vec<Part> = bodies
        .par_iter()
        .zip(request.files)
        .map(|(body, file)| Part::read(request, body, delimiter, &names, &types, file, observer))
        .collect::<Result<_, _>>()?;
    Ok(join(names, types, parts))
}

fn reader(body: &[u8], delimiter: u8) -> Reader<&[u8]> {
    ReaderBuilder::new().delimiter(delimiter).flexible(true).has_headers(true).from_reader(body)
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
fn header(request: &Request<'_>, bodies: &[&[u8]], delimiter: u8) -> Result<Vec<String>, LoadError> {
    let mut first: Option<Vec<String>> = None;
    for (body, file) in bodies.iter().zip(request.files) {
        let path = file.path.display();
        let mut reader = reader(body, delimiter);
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
                let other = request.files[0].path.display();
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

fn column_types(
    request: &Request<'_>,
    bodies: &[&[u8]],
    delimiter: u8,
    names: &[String],
) -> Result<Vec<Type>, LoadError> {
    let declared: Vec<Option<Type>> = names.iter().map(|n| request.types.get(n).copied()).collect();
    if declared.iter().all(Option::is_some) {
        return Ok(declared.into_iter().flatten().collect());
    }
    let guesses: Vec<Vec<Guess>> = bodies.par_iter().map(|body| guess(request, body, delimiter, &declared)).collect();
    let mut joined = vec![Guess::default(); names.len()];
    for part in &guesses {
        joined.iter_mut().zip(part).for_each(|(a, b)| a.merge(b));
    }
    Ok(declared.into_iter().zip(joined).map(|(ty, guess)| ty.unwrap_or_else(|| guess.ty())).collect())
}

fn guess(request: &Request<'_>, body: &[u8], delimiter: u8, declared: &[Option<Type>]) -> Vec<Guess> {
    let mut guesses = vec![Guess::default(); declared.len()];
    let mut reader = reader(body, delimiter);
    let mut record = ByteRecord::new();
    // Rows that cannot be read are reported by the second pass.
    while reader.read_byte_record(&mut record).unwrap_or(false) {
        if record.len() != declared.len() {
            continue;
        }
        for ((field, guess), declared) in record.iter().zip(&mut guesses).zip(declared) {
            if declared.is_none() && !is_missing(request, field) {
                guess.see(field);
            }
        }
    }
    guesses
}

/// The values of one column of one file.
enum Staging {
    Ints(Vec<i64>, Type),
    Floats(Vec<f64>),
    Texts { places: HashMap<Arc<str>, u32, foldhash::fast::RandomState>, values: Vec<Arc<str>>, indices: Vec<u32> },
}

impl Staging {
    fn new(ty: Type) -> Staging {
        match ty {
            Type::Text => Staging::Texts { places: HashMap::default(), values: Vec::new(), indices: Vec::new() },
            Type::Float => Staging::Floats(Vec::new()),
            ty => Staging::Ints(Vec::new(), ty),
        }
    }

    /// Takes a field; false when it is not of the type.
    fn push(&mut self, field: &[u8]) -> bool {
        match self {
            Staging::Ints(values, ty) => match int_of(field, *ty) {
                Some(v) => values.push(v),
                None => return false,
            },
            Staging::Floats(values) => match parse::float(field) {
                Some(v) => values.push(v),
                None => return false,
            },
            Staging::Texts { places, values, indices } => {
                let Ok(text) = std::str::from_utf8(field) else {
                    return false;
                };
                let place = match places.get(text) {
                    Some(place) => *place,
                    None => {
                        let (place, shared): (u32, Arc<str>) = (values.len() as u32, Arc::from(text));
                        values.push(shared.clone());
                        places.insert(shared, place);
                        place
                    }
                };
                indices.push(place);
            }
        }
        true
    }

    fn push_null(&mut self) {
        match self {
            Staging::Ints(values, _) => values.push(0),
            Staging::Floats(values) => values.push(0.0),
            Staging::Texts { indices, .. } => indices.push(0),
        }
    }

    fn pop(&mut self) {
        match self {
            Staging::Ints(values, _) => drop(values.pop()),
            Staging::Floats(values) => drop(values.pop()),
            Staging::Texts { indices, .. } => drop(indices.pop()),
        }
    }
}

fn int_of(field: &[u8], ty: Type) -> Option<i64> {
    match ty {
        Type::Int => parse::int(field),
        Type::Decimal { precision, scale } => i64::try_from(parse::decimal(field, precision, scale)?).ok(),
        Type::Bool => parse::boolean(field).map(i64::from),
        Type::Date => crate::value::date::parse_date(field).map(i64::from),
        Type::Timestamp => parse::timestamp(field),
        Type::Float | Type::Text | Type::Null => None,
    }
}

/// What was read of one file.
struct Part {
    columns: Vec<Staging>,
    valid: Vec<Vec<bool>>,
    rows: usize,
    bad_rows: u64,
    bad_examples: Vec<String>,
}

impl Part {
    fn read(
        request: &Request<'_>,
        body: &[u8],
        delimiter: u8,
        names: &[String],
        types: &[Type],
        file: &FileStamp,
        observer: &dyn Observer,
    ) -> Result<Part, LoadError> {
        let mut part = Part {
            columns: types.iter().map(|t| Staging::new(*t)).collect(),
            valid: vec![Vec::new(); types.len()],
            rows: 0,
            bad_rows: 0,
            bad_examples: Vec::new(),
        };
        let mut reader = reader(body, delimiter);
        let mut record = ByteRecord::new();
        let (mut seen, mut told) = (0u64, 0u64);
        loop {
            match reader.read_byte_record(&mut record) {
                Ok(false) => break,
                Ok(true) => {
                    if let Err(message) = part.row(request, &record, names, types) {
                        let line = record.position().map_or(0, ::csv::Position::line);
                        part.bad(format!("{} line {line}: {message}", file.path.display()));
                    }
                }
                Err(e) => part.bad(format!("{}: {e}", file.path.display())),
            }
            seen += 1;
            if seen.is_multiple_of(STEP) {
                let at = reader.position().byte();
                observer.progress(request.table, at - told);
                told = at;
            }
        }
        observer.progress(request.table, (body.len() as u64).saturating_sub(told));
        Ok(part)
    }

    fn bad(&mut self, message: String) {
        self.bad_rows += 1;
        if self.bad_examples.len() < EXAMPLES {
            self.bad_examples.push(message);
        }
    }

    /// Takes a row whole or not at all.
    fn row(
        &mut self,
        request: &Request<'_>,
        record: &ByteRecord,
        names: &[String],
        types: &[Type],
    ) -> Result<(), String> {
        if record.len() != names.len() {
            return Err(format!("{} fields, the header has {}", record.len(), names.len()));
        }
        for (i, field) in record.iter().enumerate() {
            let missing = is_missing(request, field);
            let taken = missing || self.columns[i].push(field);
            if missing {
                self.columns[i].push_null();
            }
            if !taken {
                (0..i).for_each(|k| self.columns[k].pop());
                let text = String::from_utf8_lossy(field).chars().take(40).collect::<String>();
                return Err(format!("`{text}` in column `{}` is not {}", names[i], described(types[i])));
            }
        }
        for (valid, field) in self.valid.iter_mut().zip(record.iter()) {
            valid.push(!is_missing(request, field));
        }
        self.rows += 1;
        Ok(())
    }
}

fn described(ty: Type) -> String {
    match ty {
        Type::Int => "a whole number".into(),
        Type::Decimal { .. } => format!("a {ty}"),
        Type::Float => "a number".into(),
        Type::Bool => "true or false".into(),
        Type::Date => "a date such as 2026-03-01".into(),
        Type::Timestamp => "a timestamp such as 2026-03-01 08:30:00".into(),
        Type::Text | Type::Null => "UTF-8 text".into(),
    }
}

fn join(names: Vec<String>, types: Vec<Type>, parts: Vec<Part>) -> Loaded {
    let mut loaded = Loaded { columns: Vec::new(), bad_rows: 0, bad_examples: Vec::new() };
    let mut columns: Vec<Vec<Staging>> = types.iter().map(|_| Vec::new()).collect();
    let mut valid: Vec<Vec<bool>> = types.iter().map(|_| Vec::new()).collect();
    for part in parts {
        loaded.bad_rows += part.bad_rows;
        loaded.bad_examples.extend(part.bad_examples);
        for (i, (column, part_valid)) in part.columns.into_iter().zip(part.valid).enumerate() {
            columns[i].push(column);
            valid[i].extend(part_valid);
        }
    }
    loaded.bad_examples.truncate(EXAMPLES);
    for (((name, ty), parts), valid) in names.into_iter().zip(types).zip(columns).zip(valid) {
        let valid = valid.contains(&false).then_some(valid);
        loaded.columns.push((name, RawColumn { ty, data: join_column(ty, parts), valid }));
    }
    loaded
}

fn join_column(ty: Type, parts: Vec<Staging>) -> RawData {
    let mut ints = Vec::new();
    let mut floats = Vec::new();
    let mut values: Vec<Arc<str>> = Vec::new();
    let mut all: Vec<u32> = Vec::new();
    let mut known: HashMap<Arc<str>, u32, foldhash::fast::RandomState> = HashMap::default();
    for part in parts {
        match part {
            Staging::Ints(v, _) => ints.extend(v),
            Staging::Floats(v) => floats.extend(v),
            Staging::Texts { values: texts, indices, .. } => {
                let to: Vec<u32> = texts
                    .into_iter()
                    .map(|text| {
                        *known.entry(text.clone()).or_insert_with(|| {
                            values.push(text);
                            values.len() as u32 - 1
                        })
                    })
                    .collect();
                // A part of nothing but nulls has no texts.
                all.extend(indices.into_iter().map(|i| to.get(i as usize).copied().unwrap_or(0)));
            }
        }
    }
    match ty {
        Type::Text => RawData::Texts { values, indices: all },
        Type::Float => RawData::Floats(floats),
        _ => RawData::Ints(ints),
    }
}

impl Loaded {
    /// Puts the counts of bad rows into a report.
    pub fn report(&self, report: &mut TableReport) {
        report.bad_rows = self.bad_rows;
        report.bad_examples = self.bad_examples.clone();
    }
}
