//! Delimited text to columns. Types that nobody has declared are taken from the first pieces; when a later value does not
//! fit them, all of the text is looked through, and read again.

use crate::load::database::PeriodOfRows;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;
use std::sync::Mutex;

use ::csv::ReaderBuilder;
use rayon::prelude::*;

use super::assembler::{EncodedTable, PieceColumns, TableAssembler};
use super::dialect::{Dialect, Shape};
use super::failure::Failure;
use super::field_parser::{FieldParser, Kind, Missing, finalized};
use super::fields::{self, FieldBatch};
use super::infer::Guess;
use super::lines::{Input, Lines, PIECE, Piece};
use super::report::{HOW_TO_SAY_ENCODING, NO_UTF8};
use super::sources::FileStamp;
use super::staging::{StagedPart, Staging, described};
use super::{LoadError, Observer};
use crate::formula::source::{Diagnostic, Problem};
use crate::value::Type;

/// Bytes in which the header of a text is looked for first.
const HEADER: usize = 1 << 14;
/// Texts whose first piece is looked at for types.
const SAMPLED: usize = 3;

/// What to read of the files.
pub struct Request<'a> {
    /// The table, for messages and progress.
    pub table: &'a str,
    /// The model's folder.
    pub folder: &'a Path,
    /// The files, all with the same columns, and the partition that each belongs to.
    pub files: &'a [(usize, FileStamp)],
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
    /// Types that columns had so far, by name in the model, for those that nobody has declared.
    pub known: &'a HashMap<String, Type>,
    /// Which rows of a database each of the files stands for.
    pub periods: &'a [Option<PeriodOfRows>],
    /// The column of a database that periods are told by.
    pub period_column: &'a str,
    /// Bytes of a piece that one thread works on; by default [`PIECE`].
    pub piece: Option<usize>,
}

impl Request<'_> {
    /// The parts of a database that are read by themselves, each with its partition.
    pub(super) fn parts(&self) -> Vec<(Option<PeriodOfRows>, usize)> {
        self.periods.iter().copied().zip(self.files.iter().map(|(partition, _)| *partition)).collect()
    }

    fn piece(&self) -> usize {
        self.piece.unwrap_or(PIECE)
    }
}

/// What is the same for all pieces.
struct CsvLayout<'a> {
    request: &'a Request<'a>,
    inputs: &'a [Input],
    dialect: Dialect,
    names: Vec<String>,
    shapes: Vec<Shape>,
    missing: Missing<'a>,
    /// By column, the type that somebody has declared.
    declared: Vec<Option<Type>>,
}

/// Reads texts that have the same columns; `new` begins a table.
///
/// # Errors
/// When a text has no header, or has other columns than the first.
pub(super) fn read<'g>(
    request: &Request<'_>,
    inputs: &[Input],
    new: &dyn Fn() -> TableAssembler<'g>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let mut layout = CsvLayout::of(request, inputs)?;
    let types = layout.types_of_sample()?;
    let bytes: u64 = request.files.iter().map(|(_, f)| f.bytes).sum();
    if new().may_not_fit(bytes) {
        layout.foretell(&types, new(), bytes)?;
    }
    match layout.gather(&types, new(), observer) {
        Err(Failure::TypeMismatch) => {
            let types = layout.types_of_all()?;
            layout.gather(&types, new(), observer)
        }
        done => done,
    }
}

fn default_shape(dialect: &Dialect) -> Shape {
    match (dialect.decimal_comma, dialect.thousands) {
        (false, None) => Shape::Plain,
        (false, Some(thousands)) => Shape::Numbers { point: '.', thousands },
        (true, thousands) => Shape::Numbers { point: ',', thousands: thousands.unwrap_or('.') },
    }
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

/// The names of a text's columns.
fn header(input: &Input, dialect: &Dialect) -> Result<Vec<String>, LoadError> {
    let path = input.name();
    let piece = Lines::new(vec![input.clone()], dialect.clone(), HEADER).next()?;
    let body = piece.as_ref().map_or(&[][..], |p| &p.body);
    let mut reader = ReaderBuilder::new()
        .delimiter(dialect.delimiter.unwrap_or(b','))
        .quote(dialect.quote)
        .flexible(true)
        .from_reader(body);
    let header = reader
        .byte_headers()
        .map_err(|e| Diagnostic::general(Problem::Data, format!("{path}: the header cannot be read: {e}")))?;
    let name = |bytes: &[u8]| std::str::from_utf8(bytes).map(|name| name.trim().to_string());
    let names: Vec<String> = header.iter().map(name).collect::<Result<_, _>>().map_err(|_| {
        Diagnostic::general(Problem::Data, format!("{path}: the header {NO_UTF8}")).help(HOW_TO_SAY_ENCODING)
    })?;
    if names.is_empty() || names.iter().all(String::is_empty) {
        let problem = Diagnostic::general(Problem::Data, format!("{path} is empty: it has no header line"));
        return Err(problem.help("the first line of a CSV file names its columns").into());
    }
    if let Some(i) = names.iter().position(String::is_empty) {
        let problem = Diagnostic::general(Problem::Data, format!("{path}: column {} has no name", i + 1));
        return Err(problem.help("name every column in the first line").into());
    }
    Ok(names)
}

/// The columns' names; every text has to have the same ones.
fn headers(inputs: &[Input], dialect: &Dialect) -> Result<Vec<String>, LoadError> {
    let Some((first, rest)) = inputs.split_first() else { return Ok(Vec::new()) };
    let expected = header(first, dialect)?;
    let mut seen = HashSet::with_capacity(expected.len());
    if let Some(name) = expected.iter().find(|name| !seen.insert(*name)) {
        let problem = Diagnostic::general(Problem::Data, format!("{}: two columns are called `{name}`", first.name()));
        return Err(problem.help("give every column in the first line another name").into());
    }
    for input in rest {
        let names = header(input, dialect)?;
        if names == expected {
            continue;
        }
        let odd = names.iter().find(|n| !expected.contains(n)).or_else(|| expected.iter().find(|n| !names.contains(n)));
        let what = odd.map_or("they stand in another order".to_string(), |n| format!("`{n}` is not in both"));
        let message = format!("{} has other columns than {}: {what}", input.name(), first.name());
        let problem = Diagnostic::general(Problem::Data, message);
        return Err(problem.help("all files of one table have the same header").into());
    }
    Ok(expected)
}

impl<'a> CsvLayout<'a> {
    fn of(request: &'a Request<'a>, inputs: &'a [Input]) -> Result<CsvLayout<'a>, LoadError> {
        let mut dialect = request.dialect.clone();
        if dialect.delimiter.is_none() {
            let first = inputs.first().map(|i| Lines::new(vec![i.clone()], dialect.clone(), HEADER).next());
            let piece = first.transpose()?.flatten();
            dialect.delimiter = Some(find_delimiter(piece.as_ref().map_or(&[], |p| &p.body)));
        }
        let names: Vec<String> =
            headers(inputs, &dialect)?.into_iter().map(|n| request.renamed.get(&n).cloned().unwrap_or(n)).collect();
        let shapes: Vec<Shape> =
            names.iter().map(|n| request.shapes.get(n).cloned().unwrap_or_else(|| default_shape(&dialect))).collect();
        let declared = names
            .iter()
            .zip(&shapes)
            .map(|(name, shape)| match (request.types.get(name), shape) {
                (Some(ty), _) => Some(*ty),
                (None, Shape::Dated(pattern)) => Some(pattern.ty()),
                (None, _) => None,
            })
            .collect();
        let missing = Missing::new(request.missing);
        Ok(CsvLayout { request, inputs, dialect, names, shapes, missing, declared })
    }

    fn lines(&self, inputs: Vec<Input>) -> Lines {
        Lines::new(inputs, self.dialect.clone(), self.request.piece())
    }

    /// The types of the first pieces' values, where nobody has declared others; `None` where there is no value.
    fn types_of_sample(&self) -> Result<Vec<Option<Type>>, Failure> {
        let known: Vec<Option<Type>> = self
            .declared
            .iter()
            .zip(&self.names)
            .map(|(declared, name)| declared.or_else(|| self.request.known.get(name).copied()))
            .collect();
        if known.iter().all(Option::is_some) {
            return Ok(known);
        }
        let step = self.inputs.len().div_ceil(SAMPLED).max(1);
        let sampled: Vec<&Input> = self.inputs.iter().step_by(step).collect();
        let guesses: Vec<Vec<Guess>> = sampled
            .par_iter()
            .map(|input| {
                let piece = self.lines(vec![(*input).clone()]).next()?;
                piece.map_or(Ok(vec![Guess::default(); self.names.len()]), |piece| self.guess(&piece))
            })
            .collect::<Result<_, Failure>>()?;
        let joined = joined(&guesses, self.names.len());
        Ok(known.into_iter().zip(joined).map(|(ty, guess)| ty.or_else(|| guess.seen().then(|| guess.ty()))).collect())
    }

    /// The types of all values, where nobody has declared others.
    fn types_of_all(&mut self) -> Result<Vec<Option<Type>>, Failure> {
        let mut lines = self.lines(self.inputs.to_vec());
        let failed = Mutex::new(None);
        let pieces = std::iter::from_fn(|| match lines.next() {
            Ok(piece) => piece,
            Err(e) => {
                *failed.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(e);
                None
            }
        });
        let guesses: Vec<Vec<Guess>> =
            pieces.par_bridge().map(|piece| self.guess(&piece)).collect::<Result<_, Failure>>()?;
        if let Some(e) = failed.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner) {
            return Err(e.into());
        }
        let joined = joined(&guesses, self.names.len());
        let types: Vec<Type> =
            self.declared.iter().zip(joined).map(|(ty, guess)| ty.unwrap_or_else(|| guess.ty())).collect();
        // Now they are what everything is held against, and what does not fit is a bad row.
        self.declared = types.iter().copied().map(Some).collect();
        Ok(self.declared.clone())
    }

    fn guess(&self, piece: &Piece) -> Result<Vec<Guess>, Failure> {
        let mut guesses = vec![Guess::default(); self.names.len()];
        // Rows that cannot be read tell nothing; they are reported when they are read for their values.
        self.each_batch(piece, |batch| {
            let bad = self.misfits(batch);
            for (i, guess) in guesses.iter_mut().enumerate().filter(|(i, _)| self.declared[*i].is_none()) {
                let fields = batch.column(i).enumerate().filter(|(row, _)| !bad.contains(row));
                let known = fields.map(|(_, field)| field).filter(|field| !self.missing.has(field));
                known.for_each(|field| guess.see(&self.shapes[i].normal(field)));
            }
            Ok(())
        })?;
        Ok(guesses)
    }

    /// Rows that do not fit what somebody has declared.
    fn misfits(&self, batch: &FieldBatch<'_>) -> HashSet<usize> {
        let declared = self.declared.iter().zip(&self.shapes).enumerate();
        let misfits = declared.filter_map(|(i, (ty, shape))| {
            let way = FieldParser { kind: Kind::Settled, shape, missing: &self.missing };
            Some(Staging::new((*ty)?).extend(batch.column(i), &way))
        });
        misfits.flatten().collect()
    }

    fn each_batch(
        &self,
        piece: &Piece,
        take: impl FnMut(&FieldBatch<'_>) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        fields::each_batch(piece, &self.dialect, self.names.len(), take)
    }

    /// Refuses a source of which the first piece says that there is no room for it.
    fn foretell(&self, types: &[Option<Type>], mut sample: TableAssembler<'_>, bytes: u64) -> Result<(), Failure> {
        let mut lines = self.lines(self.inputs.to_vec());
        let mut first = Some(());
        let mut next = || match first.take() {
            Some(()) => Ok(lines.next()?.map(|p| (0, p))),
            None => Ok(None),
        };
        match sample.take(&mut next, &|piece| self.take(&piece, types)) {
            // What is not as the sample says is found out when everything is read.
            Err(Failure::TypeMismatch) => return Ok(()),
            done => done?,
        }
        sample.foretell(lines.taken(), bytes)
    }

    fn gather(
        &self,
        types: &[Option<Type>],
        mut assembler: TableAssembler<'_>,
        observer: &dyn Observer,
    ) -> Result<EncodedTable, Failure> {
        let mut lines = self.lines(self.inputs.to_vec());
        let table = self.request.table;
        let mut next = || {
            let piece = lines.next()?;
            let taken = lines.taken();
            if taken > 0 {
                observer.progress(table, taken);
            }
            let partition = |p: &Piece| self.request.files.get(p.input).map_or(0, |(partition, _)| *partition);
            Ok(piece.map(|p| (partition(&p), p)))
        };
        assembler.take(&mut next, &|piece| self.take(&piece, types))?;
        assembler.finish()
    }

    fn take(&self, piece: &Piece, types: &[Option<Type>]) -> Result<PieceColumns, Failure> {
        let finalized: Vec<Type> = types.iter().map(|ty| finalized(*ty)).collect();
        let kinds = types.iter().zip(&self.declared).map(|(ty, declared)| Kind::of(*ty, declared.is_some()));
        let ways: Vec<FieldParser<'_>> =
            kinds.zip(&self.shapes).map(|(kind, shape)| FieldParser { kind, shape, missing: &self.missing }).collect();
        // Where all of it is text, every field is.
        let is_text = std::str::from_utf8(&piece.body).is_ok();
        let mut part = StagedPart::new(&finalized, is_text);
        self.each_batch(piece, |batch| {
            let mut bad = self.take_batch(&mut part, batch, &ways)?;
            bad.extend_from_slice(batch.odd());
            bad.sort();
            for (start, message) in bad {
                part.bad.add(format!("{}: {message}", self.place(piece, start)));
            }
            Ok(())
        })?;
        let columns = part.columns.into_iter().zip(&self.names).map(|(staging, name)| (name.clone(), staging.raw()));
        Ok(PieceColumns { columns: columns.collect(), bad: part.bad })
    }

    /// Takes rows whole or not at all; tells which ones it does not take: where they begin in the piece, and why.
    fn take_batch(
        &self,
        part: &mut StagedPart,
        batch: &FieldBatch<'_>,
        ways: &[FieldParser<'_>],
    ) -> Result<Vec<(usize, String)>, Failure> {
        let before = part.rows();
        // By row, the first column that does not fit.
        let mut bad: BTreeMap<usize, usize> = BTreeMap::new();
        for (i, (column, way)) in part.columns.iter_mut().zip(ways).enumerate() {
            let misfits = column.extend(batch.column(i), way);
            for row in misfits {
                bad.entry(row).or_insert(i);
            }
        }
        if bad.is_empty() {
            return Ok(Vec::new());
        }
        if bad.values().any(|column| self.declared[*column].is_none()) {
            return Err(Failure::TypeMismatch);
        }
        for (i, (column, way)) in part.columns.iter_mut().zip(ways).enumerate() {
            column.truncate(before);
            let good: Vec<&[u8]> =
                batch.column(i).enumerate().filter(|(row, _)| !bad.contains_key(row)).map(|(_, field)| field).collect();
            column.extend(good.into_iter(), way);
        }
        let message = |(row, column): (usize, usize)| {
            let field = batch.column(column).nth(row).unwrap_or_default();
            let text = String::from_utf8_lossy(field).chars().take(40).collect::<String>();
            let ty = described(part.columns[column].ty());
            (batch.start(row), format!("`{text}` in column `{}` is not {ty}", self.names[column]))
        };
        Ok(bad.into_iter().map(message).collect())
    }

    /// The file and the line of a row that begins there.
    fn place(&self, piece: &Piece, start: usize) -> String {
        // A record may be said to begin at the line feed that follows a carriage return.
        let start = start + usize::from(piece.body.get(start) == Some(&b'\n'));
        let line = piece.lines_before + memchr::memchr_iter(b'\n', &piece.body[..start]).count() as u64 + 1;
        format!("{} line {line}", self.inputs[piece.input].name())
    }
}

fn joined(guesses: &[Vec<Guess>], columns: usize) -> Vec<Guess> {
    let mut joined = vec![Guess::default(); columns];
    for part in guesses {
        joined.iter_mut().zip(part).for_each(|(a, b)| a.merge(b));
    }
    joined
}
