//! Delimited text to columns. Types that nobody has declared are taken from the first pieces; when a later value does not
//! fit them, all of the text is looked through, and read again.

use crate::database::PeriodOfRows;
use cubrel_model::file::WorkbookSection;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::Path;
use std::sync::{Arc, Mutex};

use super::assembler::{EncodedTable, PieceColumns, TableAssembler};
use super::dialect::{Dialect, Shape};
use super::failure::Failure;
use super::field_parser::{Admitted, FieldParser, Missing, finalized};
use super::fields::{self, FieldBatch};
use super::header::{HEADER, Naming, Together, header, together};
use super::infer::Guess;
use super::lines::{PIECE, Piece, PieceCutter, TextInput};
use super::nested::RowsOf;
use super::sources::FileStamp;
use super::staging::{StagedPart, Staging, described};
use super::time_zone::TimeZone;
use super::unpivot::Unpivot;
use super::{LoadError, Observer};
use cubrel_value::Type;
use cubrel_value::threads::{lock, map_owned, map_parts};

/// Texts whose beginning is looked at for types.
const SAMPLED: usize = 3;
/// Bytes of that beginning: one thread looks at them while the others wait.
const BEGINNING: usize = 1 << 20;

/// What to read of the files.
#[derive(Clone, Copy)]
pub struct Request<'a> {
    /// The table, for messages and progress.
    pub table: &'a str,
    /// The model's folder.
    pub folder: &'a Path,
    /// The files.
    pub files: &'a [FileToRead<'a>],
    /// How delimited text is laid out.
    pub dialect: Dialect,
    /// How the header of a text begins, where that is said.
    pub header: Option<&'a Arc<str>>,
    /// Which cells of a workbook are read.
    pub workbook: Option<&'a WorkbookSection>,
    /// The list whose entries are the rows.
    pub rows_of: Option<&'a RowsOf>,
    /// Columns whose values become rows.
    pub unpivot: Option<&'a Unpivot>,
    /// How the fields of columns are written, by name in the model.
    pub shapes: &'a HashMap<String, Shape>,
    /// Fields that stand for null.
    pub missing: &'a [String],
    /// Fields that stand for null in some columns, by name in the model.
    pub own_missing: &'a HashMap<String, Vec<String>>,
    /// Whether blanks around fields are no part of them.
    pub trim: bool,
    /// From names in the source to names in the model.
    pub renamed: &'a HashMap<String, String>,
    /// From places in the source, from 1, to names in the model.
    pub positions: &'a HashMap<usize, String>,
    /// From paths in nested data to names in the model.
    pub paths: &'a HashMap<String, String>,
    /// Declared types, by name in the model.
    pub types: &'a HashMap<String, Type>,
    /// Types that columns had so far, by name in the model, for those that nobody has declared.
    pub known: &'a HashMap<String, Type>,
    /// The column of a database that periods are told by.
    pub period_column: &'a str,
    /// Where times that say how far they are from UTC are told.
    pub zone: Option<&'a TimeZone>,
    /// Whether only the first piece of the first text is read, to see what it is.
    pub only_first: bool,
    /// Bytes of a piece that one thread works on; by default [`PIECE`].
    pub piece: Option<usize>,
}

/// A file that is to be read.
#[derive(Clone, Copy)]
pub struct FileToRead<'a> {
    /// The partition that it belongs to.
    pub partition: usize,
    /// The source that named it.
    pub source: &'a str,
    /// The file.
    pub stamp: &'a FileStamp,
    /// Which rows of a database.
    pub period: Option<PeriodOfRows>,
}

impl FileToRead<'_> {
    /// Its name, for messages.
    pub(super) fn name(&self) -> String {
        self.stamp.path.display().to_string()
    }
}

impl Request<'_> {
    fn piece(&self) -> usize {
        self.piece.unwrap_or(PIECE)
    }

    /// Who says what is said of a column: where it becomes rows, the column of their values.
    pub(super) fn said_of<'s>(&'s self, column: &'s str) -> &'s str {
        self.unpivot.filter(|unpivot| unpivot.takes(column)).map_or(column, Unpivot::value)
    }

    pub(super) fn naming(&self) -> Naming<'_> {
        Naming { renamed: self.renamed, positions: self.positions, paths: self.paths }
    }
}

/// Why a row is not taken.
enum BadRow<'a> {
    /// What it has in a column of the text does not fit.
    Misfit(usize, usize),
    /// It is none.
    Odd(&'a str),
}

/// What is the same for all pieces.
struct CsvLayout<'a> {
    request: &'a Request<'a>,
    inputs: Vec<TextInput>,
    names: Vec<String>,
    /// By input, which of the columns those of its text are.
    of_input: Vec<Vec<usize>>,
    /// What people are told of the names.
    notes: Vec<String>,
    /// By column, how its fields are written in files, and in what is made here.
    shapes: Vec<Shape>,
    made_shapes: Vec<Shape>,
    missing: Vec<Missing<'a>>,
    /// By column, the type that somebody has declared.
    declared: Vec<Option<Type>>,
}

/// Reads texts, one for each file; `new` begins a table.
///
/// # Errors
/// When a text has no header, or has no column in common with the first.
pub(super) fn read<'g>(
    request: &Request<'_>,
    inputs: Vec<TextInput>,
    new: &dyn Fn() -> TableAssembler<'g>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let mut layout = CsvLayout::of(request, inputs)?;
    let types = layout.types_of_sample()?;
    let bytes: u64 = request.files.iter().map(|f| f.stamp.bytes).sum();
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

/// How fields are written in a column of which nothing else is said than perhaps its type.
fn default_shape(dialect: &Dialect, declared: Option<&Type>) -> Shape {
    let signs = declared.is_some_and(|ty| ty.is_number());
    match (dialect.decimal_comma, dialect.thousands) {
        (false, None) if !signs => Shape::Plain,
        (false, thousands) => Shape::Numbers { point: '.', thousands, signs },
        (true, thousands) => Shape::Numbers { point: ',', thousands: Some(thousands.unwrap_or('.')), signs },
    }
}

/// The candidate that occurs most often in the first line, outside quotes; of those that occur as often the one of the text
/// before.
fn find_delimiter(body: &[u8], before: Option<u8>) -> u8 {
    let mut quoted = false;
    let mut counts = [(b',', 0), (b';', 0), (b'\t', 0), (b'|', 0)];
    for byte in body.iter().take_while(|b| **b != b'\n') {
        quoted ^= *byte == b'"';
        for (candidate, count) in &mut counts {
            *count += usize::from(!quoted && byte == candidate);
        }
    }
    // Of equal counts the first, which is the comma.
    let most = counts.iter().rev().max_by_key(|(candidate, n)| (*n, Some(*candidate) == before));
    most.map_or(b',', |(candidate, _)| *candidate)
}

/// Tells of each text what parts its fields, where nobody has said it.
fn tell_delimiters(inputs: &mut [TextInput]) -> Result<(), LoadError> {
    let mut before = None;
    for input in inputs.iter_mut().filter(|i| i.dialect.delimiter.is_none()) {
        let piece = PieceCutter::new(vec![input.clone()], HEADER).next()?;
        before = Some(find_delimiter(piece.as_ref().map_or(&[], |p| &p.body), before));
        input.dialect.delimiter = before;
    }
    Ok(())
}

impl<'a> CsvLayout<'a> {
    fn of(request: &'a Request<'a>, mut inputs: Vec<TextInput>) -> Result<CsvLayout<'a>, LoadError> {
        tell_delimiters(&mut inputs)?;
        let headers: Vec<(&str, Vec<String>)> =
            inputs.iter().map(|i| Ok((i.name(), header(i)?))).collect::<Result<_, LoadError>>()?;
        let Together { names, of_file, notes } = together(&headers, &request.naming())?;
        let said: Vec<&str> = names.iter().map(|name| request.said_of(name)).collect();
        let shapes = |dialect: &Dialect| -> Vec<Shape> {
            let shape = |name: &&str| {
                let said = request.shapes.get(*name).cloned();
                said.unwrap_or_else(|| default_shape(dialect, request.types.get(*name)))
            };
            said.iter().map(shape).collect()
        };
        let (shapes, made_shapes) = (shapes(&request.dialect), shapes(&Dialect::MADE));
        let declared = said.iter().zip(&shapes).map(|(name, shape)| request.types.get(*name).copied().or(shape.ty()));
        let declared = declared.collect();
        let fields_for_null = |name: &&str| request.own_missing.get(*name).map_or(request.missing, Vec::as_slice);
        let missing = said.iter().map(|name| Missing::new(fields_for_null(name))).collect();
        Ok(CsvLayout { request, names, of_input: of_file, notes, shapes, made_shapes, missing, declared, inputs })
    }

    /// How the fields of a column of a text are read.
    fn way(&self, input: usize, column: usize, kind: Admitted) -> FieldParser<'_> {
        let shapes = if self.inputs[input].is_made() { &self.made_shapes } else { &self.shapes };
        let (shape, missing) = (&shapes[column], &self.missing[column]);
        FieldParser { kind, shape, missing, trim: self.request.trim, zone: self.request.zone }
    }

    fn lines(&self, inputs: Vec<TextInput>) -> PieceCutter {
        PieceCutter::new(inputs, self.request.piece()).only_first(self.request.only_first)
    }

    /// The types of the first values, where nobody has declared others; `None` where there is no value.
    fn types_of_sample(&self) -> Result<Vec<Option<Type>>, Failure> {
        let known: Vec<Option<Type>> = self
            .declared
            .iter()
            .zip(&self.names)
            .map(|(declared, name)| declared.or_else(|| self.request.known.get(self.request.said_of(name)).copied()))
            .collect();
        if known.iter().all(Option::is_some) {
            return Ok(known);
        }
        let step = self.inputs.len().div_ceil(SAMPLED).max(1);
        let sampled: Vec<(usize, &TextInput)> = self.inputs.iter().enumerate().step_by(step).collect();
        let guesses = map_owned(sampled, |(i, input)| {
            let size = self.request.piece().min(BEGINNING);
            let piece = PieceCutter::new(vec![input.clone()], size).only_first(self.request.only_first).next()?;
            piece.map_or(Ok(vec![Guess::default(); self.names.len()]), |piece| self.guess(&piece, i))
        });
        let guesses: Vec<Vec<Guess>> = guesses.into_iter().collect::<Result<_, Failure>>()?;
        let joined = self.joined(&guesses);
        Ok(known.into_iter().zip(joined).map(|(ty, guess)| ty.or_else(|| guess.seen().then(|| guess.ty()))).collect())
    }

    /// The types of all values, where nobody has declared others.
    fn types_of_all(&mut self) -> Result<Vec<Option<Type>>, Failure> {
        let lines = Mutex::new(Some(self.lines(self.inputs.clone())));
        // None behind the last one, or one that failed.
        let next = || {
            let mut left = lock(&lines);
            let next = left.as_mut().map_or(Ok(None), PieceCutter::next);
            if !matches!(next, Ok(Some(_))) {
                *left = None;
            }
            next
        };
        let of_thread = |_| {
            let mut guesses: Vec<Vec<Guess>> = Vec::new();
            while let Some(piece) = next()? {
                guesses.push(self.guess(&piece, piece.input).inspect_err(|_| *lock(&lines) = None)?);
            }
            Ok(guesses)
        };
        let guesses = map_parts(rayon::current_num_threads(), of_thread).into_iter();
        let guesses: Vec<Vec<Guess>> = guesses.collect::<Result<Vec<_>, Failure>>()?.concat();
        let joined = self.joined(&guesses);
        let types: Vec<Type> =
            self.declared.iter().zip(joined).map(|(ty, guess)| ty.unwrap_or_else(|| guess.ty())).collect();
        // Now they are what everything is held against, and what does not fit is a bad row.
        self.declared = types.iter().copied().map(Some).collect();
        Ok(self.declared.clone())
    }

    fn guess(&self, piece: &Piece, input: usize) -> Result<Vec<Guess>, Failure> {
        let mut guesses = vec![Guess::default(); self.names.len()];
        let own = &self.of_input[input];
        // Rows that cannot be read tell nothing; they are reported when they are read for their values.
        self.each_batch(piece, own.len(), |batch| {
            let bad = self.misfits(batch, input);
            for (i, column) in own.iter().copied().enumerate().filter(|(_, c)| self.declared[*c].is_none()) {
                let way = self.way(input, column, Admitted::Any);
                let fields = batch.column(i).enumerate().filter(|(row, _)| !bad.contains(row));
                let known = fields.map(|(_, field)| way.field(field)).filter(|field| !way.missing.has(field));
                known.for_each(|field| guesses[column].see(&way.shape.normal(field)));
            }
            Ok(())
        })?;
        Ok(guesses)
    }

    /// Rows that do not fit what somebody has declared.
    fn misfits(&self, batch: &FieldBatch<'_>, input: usize) -> HashSet<usize> {
        let misfits = self.of_input[input].iter().enumerate().filter_map(|(i, column)| {
            let way = self.way(input, *column, Admitted::Settled);
            Some(Staging::new(self.declared[*column]?).extend(batch.column(i), &way))
        });
        misfits.flatten().collect()
    }

    fn each_batch(
        &self,
        piece: &Piece,
        columns: usize,
        take: impl FnMut(&FieldBatch<'_>) -> Result<(), Failure>,
    ) -> Result<(), Failure> {
        fields::each_batch(piece, &self.inputs[piece.input].dialect, columns, take)
    }

    /// Refuses a source of which the first piece says that there is no room for it.
    fn foretell(&self, types: &[Option<Type>], mut sample: TableAssembler<'_>, bytes: u64) -> Result<(), Failure> {
        let mut lines = self.lines(self.inputs.clone());
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
        let mut lines = self.lines(self.inputs.clone());
        let table = self.request.table;
        let mut next = || {
            let piece = lines.next()?;
            let taken = lines.taken();
            if taken > 0 {
                observer.progress(table, taken);
            }
            let partition = |p: &Piece| self.request.files.get(p.input).map_or(0, |file| file.partition);
            Ok(piece.map(|p| (partition(&p), p)))
        };
        assembler.take(&mut next, &|piece| self.take(&piece, types))?;
        let encoded = assembler.finish()?;
        Ok(EncodedTable { notes: self.notes.clone(), ..encoded })
    }

    fn take(&self, piece: &Piece, types: &[Option<Type>]) -> Result<PieceColumns, Failure> {
        let finalized: Vec<Type> = types.iter().map(|ty| finalized(*ty)).collect();
        let kinds = types.iter().zip(&self.declared).map(|(ty, declared)| Admitted::of(*ty, declared.is_some()));
        let way = |(column, kind)| self.way(piece.input, column, kind);
        let ways: Vec<FieldParser<'_>> = kinds.enumerate().map(way).collect();
        let own = &self.of_input[piece.input];
        // Where all of it is text, every field is.
        let is_text = std::str::from_utf8(&piece.body).is_ok();
        let mut part = StagedPart::new(&finalized, is_text);
        self.each_batch(piece, own.len(), |batch| {
            let misfits = self.take_batch(&mut part, batch, own, &ways)?;
            let misfits = misfits.into_iter().map(|(row, column)| (batch.start(row), BadRow::Misfit(row, column)));
            let odd = batch.odd().iter().map(|(start, message)| (*start, BadRow::Odd(message)));
            let mut bad: Vec<(usize, BadRow<'_>)> = misfits.chain(odd).collect();
            bad.sort_by_key(|(start, _)| *start);
            for (start, why) in bad {
                let message = || match why {
                    BadRow::Misfit(row, column) => self.misfit(batch, row, (column, own[column]), &finalized),
                    BadRow::Odd(message) => message.to_string(),
                };
                part.bad.add(|| format!("{}: {}", self.place(piece, start), message()));
            }
            Ok(())
        })?;
        let columns = part.columns.into_iter().zip(&self.names).map(|(staging, name)| (name.clone(), staging.raw()));
        Ok(PieceColumns { columns: columns.collect(), bad: part.bad })
    }

    /// What is wrong with a row, given the place of the column in the text and among all.
    fn misfit(&self, batch: &FieldBatch<'_>, row: usize, (place, column): (usize, usize), types: &[Type]) -> String {
        let field = batch.column(place).nth(row).unwrap_or_default();
        let text = String::from_utf8_lossy(field).chars().take(40).collect::<String>();
        format!("`{text}` in column `{}` is not {}", self.names[column], described(types[column]))
    }

    /// Takes rows whole or not at all; tells which ones it does not take, and the first column of the text that does not fit.
    fn take_batch(
        &self,
        part: &mut StagedPart,
        batch: &FieldBatch<'_>,
        own: &[usize],
        ways: &[FieldParser<'_>],
    ) -> Result<BTreeMap<usize, usize>, Failure> {
        let before = part.rows();
        let mut bad: BTreeMap<usize, usize> = BTreeMap::new();
        for (i, column) in own.iter().copied().enumerate() {
            let misfits = part.columns[column].extend(batch.column(i), &ways[column]);
            for row in misfits {
                bad.entry(row).or_insert(i);
            }
        }
        if bad.values().any(|i| self.declared[own[*i]].is_none()) {
            return Err(Failure::TypeMismatch);
        }
        if !bad.is_empty() {
            for (i, column) in own.iter().copied().enumerate() {
                part.columns[column].truncate(before);
                let fields = batch.column(i).enumerate();
                let good: Vec<&[u8]> = fields.filter(|(row, _)| !bad.contains_key(row)).map(|(_, f)| f).collect();
                part.columns[column].extend(good.into_iter(), &ways[column]);
            }
        }
        if own.len() < part.columns.len() {
            let rows = batch.len() - bad.len();
            let others = part.columns.iter_mut().enumerate().filter(|(column, _)| !own.contains(column));
            others.for_each(|(_, column)| column.extend_nulls(rows));
        }
        Ok(bad)
    }

    /// What some guesses say together. Columns whose values become rows have one type.
    fn joined(&self, guesses: &[Vec<Guess>]) -> Vec<Guess> {
        let mut joined = vec![Guess::default(); self.names.len()];
        for part in guesses {
            joined.iter_mut().zip(part).for_each(|(a, b)| a.merge(b));
        }
        if let Some(unpivot) = self.request.unpivot {
            let taken: Vec<bool> = self.names.iter().map(|name| unpivot.takes(name)).collect();
            let mut all = Guess::default();
            joined.iter().zip(&taken).filter(|(_, taken)| **taken).for_each(|(guess, _)| all.merge(guess));
            joined.iter_mut().zip(&taken).filter(|(_, taken)| **taken).for_each(|(guess, _)| *guess = all.clone());
        }
        joined
    }

    /// The file and the line of a row that begins there.
    fn place(&self, piece: &Piece, start: usize) -> String {
        // A record may be said to begin at the line feed that follows a carriage return.
        let start = start + usize::from(piece.body.get(start) == Some(&b'\n'));
        let line = piece.lines_before + memchr::memchr_iter(b'\n', &piece.body[..start]).count() as u64 + 1;
        format!("{} line {line}", self.inputs[piece.input].name())
    }
}
