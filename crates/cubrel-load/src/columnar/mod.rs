//! Parquet and Arrow IPC: columns that know their types.

mod group;
mod leaves;
mod lists;
mod opened;
#[cfg(feature = "parquet")]
mod parquet;
mod values;
#[cfg(not(feature = "parquet"))]
mod without_parquet;
mod written;

use std::io::{self, Write};
use std::path::{Path, PathBuf};

use arrow_array::RecordBatch;
use arrow_schema::{DataType, SchemaRef};

use self::leaves::{FileLeaf, at_path, leaves};
use self::opened::{Pieces, Work, open};
use self::values::{column, converted};
use super::assembler::{EncodedTable, PieceColumns, TableAssembler};
use super::csv::{FileToRead, Request};
use super::failure::Failure;
use super::header::{Together, together};
use super::jsonl::NULL;
use super::nested::RowsOf;
use super::staging::{StagedPart, Staging};
use super::time_zone::TimeZone;
use super::{LoadError, Observer};
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::{Type, Value, arrow, exact};

/// Reads Parquet files, or Arrow IPC files and streams.
///
/// # Errors
/// When a file cannot be read, has no column that can be one, or has none in common with the first.
pub(super) fn read(
    request: &Request<'_>,
    mut assembler: TableAssembler<'_>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let paths: Vec<_> = request.files.iter().map(|f| request.folder.join(&f.stamp.path)).collect();
    let schema = |(path, f): (&PathBuf, &FileToRead<'_>)| Ok((f.name(), schema(path, &f.name(), request.rows_of)?));
    let schemas = paths.iter().zip(request.files).map(schema).collect::<Result<Vec<_>, LoadError>>()?;
    if schemas.is_empty() {
        return assembler.finish();
    }
    let columns = Columns::of(&schemas, request)?;
    let mut left = request.files.iter().zip(&paths).enumerate();
    let mut current: Option<(usize, usize, Pieces<'_>)> = None;
    let mut next = || {
        loop {
            if let Some((file, partition, pieces)) = &mut current
                && let Some((piece, bytes)) = pieces.next()?
            {
                observer.progress(request.table, bytes);
                return Ok(Some((*partition, (*file, piece))));
            }
            let Some((file, (f, path))) = left.next() else { return Ok(None) };
            current = Some((file, f.partition, open(path)?.pieces(path, f.stamp.bytes)?));
        }
    };
    assembler.take(&mut next, &|(file, piece)| columns.take(piece, file))?;
    let encoded = assembler.finish()?;
    Ok(EncodedTable { notes: columns.notes, ..encoded })
}

/// The columns of a file, or of the entries of a list in it.
fn schema(path: &Path, name: &str, rows_of: Option<&RowsOf>) -> Result<SchemaRef, LoadError> {
    let schema = open(path)?.schema();
    match rows_of {
        None => Ok(schema),
        Some(rows_of) => {
            let entries = lists::entries(&RecordBatch::new_empty(schema), rows_of);
            let entries = entries.map_err(|e| Diagnostic::general(Problem::Data, format!("{name}: {e}")));
            Ok(entries
                .map_err(|e| e.help("`rows_of` and `carry` name values by the names that lead to them"))?
                .schema())
        }
    }
}

/// Gives the batches of a piece to `take`, or the entries of a list in them.
fn each_batch(
    piece: Work<'_>,
    rows_of: Option<&RowsOf>,
    take: &mut dyn FnMut(&RecordBatch) -> Result<(), Failure>,
) -> Result<(), Failure> {
    piece.each(&mut |batch| match rows_of {
        None => take(batch),
        Some(rows_of) => {
            let entries = lists::entries(batch, rows_of);
            take(&entries.map_err(|e| LoadError::from(Diagnostic::general(Problem::Data, e)))?)
        }
    })
}

/// Where a value of a file stands, which of all columns it is, and its type there.
struct ValuePlace {
    path: Vec<usize>,
    column: usize,
    ty: Type,
}

/// The columns of all files.
struct Columns<'a> {
    all: Vec<SourceColumn>,
    /// By file.
    of_file: Vec<Vec<ValuePlace>>,
    notes: Vec<String>,
    request: &'a Request<'a>,
}

/// A column of the source.
struct SourceColumn {
    name: String,
    /// Its type: as the model declares it, or what can hold the values of all files.
    ty: Type,
    /// Whether the model declares it.
    is_declared: bool,
}

impl<'a> Columns<'a> {
    /// Fields of types that no column can have are left out, and told.
    fn of(schemas: &[(String, SchemaRef)], request: &'a Request<'a>) -> Result<Columns<'a>, LoadError> {
        let mut notes: Vec<String> = Vec::new();
        let mut known = Vec::new();
        for (file, schema) in schemas {
            let fields = leaves(file, schema, request, &mut notes)?;
            known.push((file.clone(), fields));
        }
        let headers: Vec<(&str, Vec<String>)> = known
            .iter()
            .map(|(file, fields)| (file.as_str(), fields.iter().map(|f| f.name.clone()).collect()))
            .collect();
        let Together { names, of_file, notes: of_names } = together(&headers, &request.naming())?;
        notes.extend(of_names);
        let mut all: Vec<Option<SourceColumn>> = names.iter().map(|_| None).collect();
        let mut places = Vec::new();
        for ((file, fields), own) in known.into_iter().zip(of_file) {
            let mut of_fields = Vec::with_capacity(fields.len());
            for (FileLeaf { path, ty, .. }, column) in fields.into_iter().zip(own) {
                let name = &names[column];
                let declared = request.types.get(request.said_of(name)).copied();
                let there = all[column].get_or_insert_with(|| SourceColumn {
                    name: name.clone(),
                    ty: declared.unwrap_or(ty),
                    is_declared: declared.is_some(),
                });
                if !there.is_declared {
                    there.ty = both(there.ty, ty).ok_or_else(|| {
                        let message = format!("`{name}` is {ty} in {file} and {} in another file", there.ty);
                        let problem = Diagnostic::general(Problem::Data, message);
                        problem.help("say which type it has: `type = \"text\"` holds everything")
                    })?;
                }
                of_fields.push(ValuePlace { path, column, ty });
            }
            places.push(of_fields);
        }
        let mut all: Vec<SourceColumn> = all.into_iter().flatten().collect();
        alike(&mut all, request)?;
        Ok(Columns { all, of_file: places, notes, request })
    }

    /// The rows of a piece of a file.
    fn take(&self, piece: Work<'_>, file: usize) -> Result<PieceColumns, Failure> {
        let own = &self.of_file[file];
        let mut types: Vec<Type> = self.all.iter().map(|c| c.ty).collect();
        own.iter().for_each(|place| types[place.column] = place.ty);
        let mut part = StagedPart::new(&types, true);
        let (rows_of, zone) = (self.request.rows_of, self.request.zone);
        each_batch(piece, rows_of, &mut |batch| Ok(append(&mut part, batch, own, zone)?))?;
        let trim = self.request.trim;
        let declared = |(staging, column): (Staging, &SourceColumn)| {
            let (raw, ty) = (staging.raw(), column.ty);
            let is_right = raw.ty == ty && !(trim && ty == Type::Text);
            let raw = if is_right { raw } else { converted(&column.name, &raw, ty, trim)? };
            Ok((column.name.clone(), raw))
        };
        let columns = part.columns.into_iter().zip(&self.all).map(declared).collect::<Result<_, LoadError>>()?;
        Ok(PieceColumns { columns, bad: part.bad })
    }
}

/// The type of a column that holds values of both, if there is one.
fn both(a: Type, b: Type) -> Option<Type> {
    match a.common(b)? {
        Type::Decimal { scale, .. } => Some(Type::Decimal { precision: exact::STORED_DIGITS, scale }),
        ty => Some(ty),
    }
}

/// Columns whose values become rows have one type.
fn alike(columns: &mut [SourceColumn], request: &Request<'_>) -> Result<(), LoadError> {
    let Some(unpivot) = request.unpivot else { return Ok(()) };
    let mut all: Option<(&str, Type)> = None;
    for column in columns.iter().filter(|c| unpivot.takes(&c.name)) {
        let (first, so_far) = *all.get_or_insert((&column.name, column.ty));
        let common = both(so_far, column.ty).ok_or_else(|| {
            let message = format!("`{first}` is {so_far} and `{}` is {}", column.name, column.ty);
            let help = format!("say which type `{}` has: `type = \"text\"` holds everything", unpivot.value());
            Diagnostic::general(Problem::Data, message).help(help)
        })?;
        all = Some((first, common));
    }
    if let Some((_, ty)) = all {
        columns.iter_mut().filter(|c| unpivot.takes(&c.name)).for_each(|c| c.ty = ty);
    }
    Ok(())
}

/// Appends the columns of a batch, each to the one that it is; those that it has not are null.
fn append(
    part: &mut StagedPart,
    batch: &RecordBatch,
    own: &[ValuePlace],
    zone: Option<&TimeZone>,
) -> Result<(), LoadError> {
    for ValuePlace { path, column: to, .. } in own {
        let Some((i, inner)) = path.split_first() else { continue };
        let taken = match batch.columns().get(*i) {
            Some(array) => {
                at_path(array, inner).and_then(|values| column(&mut part.columns[*to], values.as_ref(), zone))
            }
            None => Err("the file gives fewer columns than it lists".into()),
        };
        taken.map_err(|e| {
            let name = batch.schema().fields().get(*i).map_or_else(String::new, |f| f.name().clone());
            LoadError::from(Diagnostic::general(Problem::Data, format!("column `{name}`: {e}")))
        })?;
    }
    let others =
        part.columns.iter_mut().enumerate().filter(|(column, _)| !own.iter().any(|place| place.column == *column));
    others.for_each(|(_, column)| column.extend_nulls(batch.num_rows()));
    Ok(())
}

/// The columns of one file that becomes text, beside files that are.
pub(super) struct ColumnsAsText {
    leaves: Vec<FileLeaf>,
    /// What people are told of it.
    pub(super) notes: Vec<String>,
}

impl ColumnsAsText {
    /// Names, and types where values as texts do not tell them.
    pub(super) fn types(&self) -> Vec<(String, Option<Type>)> {
        let known = |ty: Type| Some(ty).filter(|ty| matches!(ty, Type::Text | Type::Float));
        self.leaves.iter().map(|leaf| (leaf.name.clone(), known(leaf.ty))).collect()
    }
}

/// The columns of a file that becomes text.
///
/// # Errors
/// When it cannot be read, or has no column that can be one.
pub(super) fn look(path: &Path, name: &str, request: &Request<'_>) -> Result<ColumnsAsText, LoadError> {
    let mut notes = Vec::new();
    let leaves = leaves(name, schema(path, name, request.rows_of)?.as_ref(), request, &mut notes)?;
    Ok(ColumnsAsText { leaves, notes })
}

/// Writes the rows of a file as delimited text with a header.
///
/// # Errors
/// When it cannot be read or written.
pub(super) fn write(path: &Path, columns: &ColumnsAsText, rows_of: Option<&RowsOf>, to: impl Write) -> io::Result<()> {
    let failed = |e: LoadError| io::Error::other(e.to_string());
    let mut writer = csv::Writer::from_writer(to);
    writer.write_record(columns.leaves.iter().map(|leaf| &leaf.name))?;
    let mut pieces = open(path).and_then(|file| file.pieces(path, 0)).map_err(failed)?;
    while let Some((piece, _)) = pieces.next().map_err(failed)? {
        let mut written = Ok(());
        let done = each_batch(piece, rows_of, &mut |batch| {
            written = write_batch(&mut writer, batch, &columns.leaves);
            match &written {
                Ok(()) => Ok(()),
                // Whoever listened has gone; the reason is told below.
                Err(_) => Err(Failure::TypeMismatch),
            }
        });
        written?;
        match done {
            Ok(()) => {}
            Err(Failure::Load(e)) => return Err(failed(e)),
            Err(Failure::Row(..) | Failure::TypeMismatch) => return Err(io::Error::other("a batch cannot be written")),
        }
    }
    writer.flush()
}

fn write_batch(writer: &mut csv::Writer<impl Write>, batch: &RecordBatch, leaves: &[FileLeaf]) -> io::Result<()> {
    let texts = |leaf: &FileLeaf| -> Result<Vec<Option<String>>, String> {
        let (first, inner) = leaf.path.split_first().ok_or("a column without a place")?;
        let array = batch.columns().get(*first).ok_or("the file gives fewer columns than it lists")?;
        let array = at_path(array, inner)?;
        if leaf.ty == Type::Text {
            return written::written(array.as_ref());
        }
        // What says its zone is of UTC.
        let end = if matches!(array.data_type(), DataType::Timestamp(_, Some(_))) { "Z" } else { "" };
        let text = |value: Value| (!value.is_null()).then(|| format!("{value}{end}"));
        Ok(arrow::values(array.as_ref())?.1.into_iter().map(text).collect())
    };
    let columns = leaves.iter().map(texts).collect::<Result<Vec<_>, String>>().map_err(io::Error::other)?;
    for row in 0..batch.num_rows() {
        writer.write_record(columns.iter().map(|column| column[row].as_deref().unwrap_or(NULL)))?;
    }
    Ok(())
}
