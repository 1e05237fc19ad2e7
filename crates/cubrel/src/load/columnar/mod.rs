//! Parquet and Arrow IPC: columns that know their types.

mod group;
#[cfg(feature = "parquet")]
mod parquet;
#[cfg(not(feature = "parquet"))]
mod without_parquet;

#[cfg(feature = "parquet")]
use self::parquet::row_groups;
#[cfg(not(feature = "parquet"))]
use self::without_parquet::row_groups;
use group::{GroupRows, data_problem};

use std::io::{BufRead, BufReader, Cursor};
use std::path::Path;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Decimal128Type, Float32Type, Float64Type, Int8Type, Int16Type, Int32Type, Int64Type,
    TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType, TimestampSecondType, UInt8Type,
    UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{Array, ArrayRef, ArrowPrimitiveType, RecordBatch, make_array};
use arrow_buffer::NullBuffer;
use arrow_ipc::reader::{FileReader, StreamReader};
use arrow_schema::{ArrowError, DataType, Field, SchemaRef, TimeUnit};

use super::assembler::{EncodedTable, PieceColumns, TableAssembler};
use super::csv::Request;
use super::failure::Failure;
use super::guarded::guarded;
use super::header::{Naming, Together, together};
use super::jsonl::NESTED;
use super::staging::{StagedPart, Staging};
use super::{LoadError, Observer, bytes};
use crate::files;
use crate::formula::source::{Diagnostic, Problem};
use crate::store::RawColumn;
use crate::value::{Type, Value, VectorBuilder, arrow, exact, parse};

/// A piece of work for one thread.
enum Work<'a> {
    /// Some rows of a row group of a Parquet file.
    RowGroup { path: &'a Path, rows: GroupRows },
    /// A batch that is in memory.
    Batch(RecordBatch),
}

/// Reads Parquet files, or Arrow IPC files and streams.
///
/// # Errors
/// When a file cannot be read, has columns of types that cannot be columns, or other columns than the first.
pub(super) fn read(
    request: &Request<'_>,
    mut assembler: TableAssembler<'_>,
    observer: &dyn Observer,
) -> Result<EncodedTable, Failure> {
    let paths: Vec<_> = request.files.iter().map(|(_, f)| request.folder.join(&f.path)).collect();
    let schemas =
        paths.iter().map(|path| Ok((path.as_path(), open(path)?.schema()))).collect::<Result<Vec<_>, LoadError>>()?;
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
            let Some((file, ((partition, stamp), path))) = left.next() else { return Ok(None) };
            current = Some((file, *partition, open(path)?.pieces(path, stamp.bytes)?));
        }
    };
    assembler.take(&mut next, &|(file, piece)| take(piece, &columns, file))?;
    let encoded = assembler.finish()?;
    Ok(EncodedTable { notes: columns.notes, ..encoded })
}

/// A value of a file that can be a column: a field, or one inside of a field of several values.
struct Leaf {
    /// The names that lead to it, as one.
    name: String,
    /// The place of the field, and of what is in it.
    path: Vec<usize>,
    ty: Type,
}

/// How deep fields of several values are looked into.
const MOST_NESTED: usize = 16;

/// What of a field can be columns; what cannot is told.
fn leaves(field: &Field, (names, path): (&str, Vec<usize>), found: &mut Vec<Leaf>, notes: &mut Vec<String>) {
    let name = if names.is_empty() { field.name().clone() } else { format!("{names}{NESTED}{}", field.name()) };
    match field.data_type() {
        DataType::Struct(inner) if path.len() < MOST_NESTED => {
            for (i, field) in inner.iter().enumerate() {
                leaves(field, (&name, [path.as_slice(), &[i]].concat()), found, notes);
            }
        }
        ty => match column_type(ty) {
            Some(ty) => found.push(Leaf { name, path, ty }),
            None => {
                let note = format!("column `{name}` is {ty}, which no column can hold: it is left out");
                if !notes.contains(&note) {
                    notes.push(note);
                }
            }
        },
    }
}

/// The values at a path; where what they are in is null, they are.
fn at_path(array: &ArrayRef, path: &[usize]) -> Result<ArrayRef, String> {
    let Some((i, rest)) = path.split_first() else { return Ok(array.clone()) };
    let Some(outer) = array.as_struct_opt() else { return Err("this is no field of several values".into()) };
    let inner = outer.columns().get(*i).ok_or("the file gives other columns than it lists")?;
    let nulls = NullBuffer::union(outer.nulls(), inner.nulls());
    let data = inner.to_data().into_builder().nulls(nulls).build().map_err(|e| e.to_string())?;
    at_path(&make_array(data), rest)
}

/// The columns of all files.
struct Columns {
    all: Vec<Column>,
    /// By file, where the values of its columns stand, and which of all they are.
    of_file: Vec<Vec<(Vec<usize>, usize)>>,
    notes: Vec<String>,
    trim: bool,
}

impl Columns {
    /// Fields of types that no column can have are left out, and told.
    fn of(schemas: &[(&Path, SchemaRef)], request: &Request<'_>) -> Result<Columns, LoadError> {
        let shown = |path: &Path| path.strip_prefix(request.folder).unwrap_or(path).display().to_string();
        let mut notes: Vec<String> = Vec::new();
        let mut known = Vec::new();
        for (path, schema) in schemas {
            let mut fields: Vec<Leaf> = Vec::new();
            for (i, field) in schema.fields().iter().enumerate() {
                leaves(field, ("", vec![i]), &mut fields, &mut notes);
            }
            if fields.is_empty() {
                let message = format!("{} has no column that can be read", shown(path));
                return Err(Diagnostic::general(Problem::Data, message).help(notes.join("; ")).into());
            }
            known.push((shown(path), fields));
        }
        let headers: Vec<(&str, Vec<String>)> = known
            .iter()
            .map(|(file, fields)| (file.as_str(), fields.iter().map(|f| f.name.clone()).collect()))
            .collect();
        let naming = Naming { renamed: request.renamed, positions: request.positions, paths: request.paths };
        let Together { names, of_file, notes: of_names } = together(&headers, &naming)?;
        notes.extend(of_names);
        let mut all: Vec<Option<Column>> = names.iter().map(|_| None).collect();
        let mut places = Vec::new();
        for ((file, fields), own) in known.into_iter().zip(of_file) {
            let mut of_fields = Vec::with_capacity(fields.len());
            for (Leaf { path, ty, .. }, column) in fields.into_iter().zip(own) {
                of_fields.push((path, column));
                let name = names[column].clone();
                let declared = request.types.get(&name).copied().unwrap_or(ty);
                let there = all[column].get_or_insert(Column { name, ty, declared });
                if there.ty != ty {
                    let message = format!("`{}` is {ty} in {file} and {} in another file", there.name, there.ty);
                    let problem = Diagnostic::general(Problem::Data, message);
                    return Err(problem.help("files of one table have one type for each column").into());
                }
            }
            places.push(of_fields);
        }
        Ok(Columns { all: all.into_iter().flatten().collect(), of_file: places, notes, trim: request.trim })
    }
}

/// A column of the source.
struct Column {
    name: String,
    /// As the source has it.
    ty: Type,
    /// As the model declares it.
    declared: Type,
}

/// A file that has been opened.
enum Opened {
    Parquet(SchemaRef, Vec<GroupRows>),
    Batches(SchemaRef, Box<dyn Iterator<Item = Result<RecordBatch, ArrowError>> + Send>),
}

fn open(path: &Path) -> Result<Opened, LoadError> {
    guarded(path, || "its beginning".into(), || opened(path))
}

fn opened(path: &Path) -> Result<Opened, LoadError> {
    let file = files::open(path).map_err(|e| LoadError::io(path, e))?;
    if bytes::kind(path) == "parquet" {
        let (schema, rows) = row_groups(path, &file)?;
        return Ok(Opened::Parquet(schema, rows));
    }
    let mut reader = BufReader::new(bytes::unpacked(path, Box::new(file)));
    // A file begins with the name of its format, a stream with a message.
    let is_file = reader.fill_buf().map_err(|e| bytes::problem(path, &e))?.starts_with(b"ARROW1");
    if is_file {
        // What is found by looking from the end cannot be read as it is unpacked.
        let content = bytes::read(path)?;
        if !blocks_fit(&content) {
            let message = format!("{} cannot be read: it ends before the batches that it lists", path.display());
            let problem = Diagnostic::general(Problem::Data, message);
            return Err(problem.help("the file is damaged, or not what its name says").into());
        }
        let reader = FileReader::try_new(Cursor::new(content), None).map_err(|e| data_problem(path, e))?;
        return Ok(Opened::Batches(reader.schema(), Box::new(reader)));
    }
    let reader = StreamReader::try_new(reader, None).map_err(|e| data_problem(path, e))?;
    Ok(Opened::Batches(reader.schema(), Box::new(reader)))
}

/// Whether all that the end of an Arrow file lists can be in it: whoever reads makes room for it before looking.
fn blocks_fit(content: &[u8]) -> bool {
    // The footer, its length, and the name of the format again.
    let Some((rest, end)) = content.split_last_chunk::<10>() else { return true };
    let length = i32::from_le_bytes([end[0], end[1], end[2], end[3]]);
    let start = usize::try_from(length).ok().and_then(|length| rest.len().checked_sub(length));
    let Some(start) = start else { return false };
    // What is no footer is told by the reader.
    let Ok(footer) = arrow_ipc::root_as_footer(&rest[start..]) else { return true };
    let fits = |block: &arrow_ipc::Block| {
        let lengths = [block.offset(), i64::from(block.metaDataLength()), block.bodyLength()];
        let end = lengths.into_iter().try_fold(0, |end, length| u64::try_from(length).ok()?.checked_add(end));
        end.is_some_and(|end| end <= content.len() as u64)
    };
    footer.recordBatches().into_iter().chain(footer.dictionaries()).flatten().all(fits)
}

impl Opened {
    fn schema(&self) -> SchemaRef {
        match self {
            Opened::Parquet(schema, _) => schema.clone(),
            Opened::Batches(schema, _) => schema.clone(),
        }
    }

    fn pieces(self, path: &Path, bytes: u64) -> Result<Pieces<'_>, LoadError> {
        Ok(match self {
            Opened::Parquet(schema, rows) => {
                let pieces = rows.into_iter().map(|rows| Work::RowGroup { path, rows });
                let mut pieces: Vec<Work<'_>> = pieces.collect();
                if pieces.is_empty() {
                    pieces.push(Work::Batch(RecordBatch::new_empty(schema)));
                }
                Pieces::Groups { share: bytes / pieces.len() as u64, pieces: pieces.into_iter() }
            }
            // A stream without batches has its columns all the same.
            Opened::Batches(schema, batches) => {
                Pieces::Batches { path, bytes, first: Some(RecordBatch::new_empty(schema)), batches }
            }
        })
    }
}

/// The pieces of one file, each with its share of the file's bytes.
enum Pieces<'a> {
    Groups {
        pieces: std::vec::IntoIter<Work<'a>>,
        share: u64,
    },
    Batches {
        path: &'a Path,
        bytes: u64,
        first: Option<RecordBatch>,
        batches: Box<dyn Iterator<Item = Result<RecordBatch, ArrowError>> + Send>,
    },
}

impl<'a> Pieces<'a> {
    fn next(&mut self) -> Result<Option<(Work<'a>, u64)>, LoadError> {
        match self {
            Pieces::Groups { pieces, share } => Ok(pieces.next().map(|piece| (piece, *share))),
            Pieces::Batches { path, bytes, first, batches } => {
                if let Some(empty) = first.take() {
                    return Ok(Some((Work::Batch(empty), 0)));
                }
                let next = || batches.next().transpose().map_err(|e| data_problem(path, e));
                let batch = guarded(path, || "one of its batches".into(), next)?;
                Ok(batch.map(|batch| (Work::Batch(batch), std::mem::take(bytes))))
            }
        }
    }
}

/// The type that a column of an Arrow type gets.
fn column_type(ty: &DataType) -> Option<Type> {
    Some(match ty {
        DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::Int64 => Type::Int,
        DataType::UInt8 | DataType::UInt16 | DataType::UInt32 | DataType::UInt64 => Type::Int,
        DataType::Float32 | DataType::Float64 => Type::Float,
        DataType::Boolean => Type::Bool,
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View => Type::Text,
        DataType::Date32 | DataType::Date64 => Type::Date,
        DataType::Timestamp(..) => Type::Timestamp,
        DataType::Decimal128(_, scale) => {
            Type::Decimal { precision: exact::STORED_DIGITS, scale: u8::try_from(*scale).ok()? }
        }
        DataType::Dictionary(_, value) => column_type(value)?,
        DataType::Null => Type::Text,
        _ => return None,
    })
}

fn take(piece: Work<'_>, columns: &Columns, file: usize) -> Result<PieceColumns, Failure> {
    let (path, part) = match &piece {
        Work::RowGroup { path, rows } => (*path, format!("row group {}", rows.group + 1)),
        Work::Batch(_) => return taken(piece, columns, file),
    };
    guarded(path, || part, || taken(piece, columns, file))
}

fn taken(piece: Work<'_>, columns: &Columns, file: usize) -> Result<PieceColumns, Failure> {
    let types: Vec<Type> = columns.all.iter().map(|c| c.ty).collect();
    let (mut part, own) = (StagedPart::new(&types, true), &columns.of_file[file]);
    match piece {
        Work::Batch(batch) => append(&mut part, &batch, own)?,
        Work::RowGroup { path, rows } => (rows.read)(path, &mut |batch| Ok(append(&mut part, batch, own)?))?,
    }
    let declared = |(staging, column): (Staging, &Column)| {
        let raw = staging.raw();
        let is_right = column.declared == column.ty && !(columns.trim && column.ty == Type::Text);
        let raw = if is_right { raw } else { converted(&column.name, &raw, column.declared, columns.trim)? };
        Ok((column.name.clone(), raw))
    };
    let columns = part.columns.into_iter().zip(&columns.all).map(declared).collect::<Result<_, LoadError>>()?;
    Ok(PieceColumns { columns, bad: part.bad })
}

/// The values of a column in the type that the model declares.
fn converted(name: &str, raw: &RawColumn, ty: Type, trim: bool) -> Result<RawColumn, LoadError> {
    let rows: Vec<u32> = (0..raw.len() as u32).collect();
    let values = raw.vector(&rows);
    let mut builder = VectorBuilder::new(ty, rows.len());
    for row in 0..rows.len() {
        let value = values.get(row, raw.ty);
        let text = value.to_string();
        let text = if trim { text.trim() } else { &text };
        let turned = if value.is_null() { Some(Value::Null) } else { parse::value(text, ty) };
        builder.push(turned.ok_or_else(|| {
            let message = format!("`{value}` in column `{name}` is not {ty}");
            LoadError::from(Diagnostic::general(Problem::Data, message).help("change the column's `type`"))
        })?);
    }
    RawColumn::from_vector(builder.finish(), ty).map_err(|(row, _)| {
        let message = format!("`{}` in column `{name}` does not fit 64 bits", values.get(row, raw.ty));
        LoadError::from(Diagnostic::general(Problem::Data, message).help("change the column's `type`"))
    })
}

/// Appends the columns of a batch, each to the one that it is; those that it has not are null.
fn append(part: &mut StagedPart, batch: &RecordBatch, own: &[(Vec<usize>, usize)]) -> Result<(), LoadError> {
    for (path, to) in own {
        let Some((i, inner)) = path.split_first() else { continue };
        let taken = match batch.columns().get(*i) {
            Some(array) => at_path(array, inner).and_then(|values| column(&mut part.columns[*to], values.as_ref())),
            None => Err("the file gives fewer columns than it lists".into()),
        };
        taken.map_err(|e| {
            let name = batch.schema().fields().get(*i).map_or_else(String::new, |f| f.name().clone());
            LoadError::from(Diagnostic::general(Problem::Data, format!("column `{name}`: {e}")))
        })?;
    }
    let others = part.columns.iter_mut().enumerate().filter(|(column, _)| !own.iter().any(|(_, to)| to == column));
    others.for_each(|(_, column)| column.extend_nulls(batch.num_rows()));
    Ok(())
}

/// Tells the nulls of an array that has some.
fn nulls(array: &dyn Array) -> Option<impl Fn(usize) -> bool> {
    array.nulls().filter(|n| n.null_count() > 0).map(|n| move |i| n.is_null(i))
}

fn ints<T: ArrowPrimitiveType>(
    to: &mut Staging,
    array: &dyn Array,
    each: impl Fn(T::Native) -> Option<i64>,
) -> Result<(), String> {
    let taken = to.extend_ints(array.as_primitive::<T>().values(), nulls(array), each);
    taken.map_err(|v| format!("{v:?} does not fit 64 bits"))
}

fn floats<T: ArrowPrimitiveType>(to: &mut Staging, array: &dyn Array, each: impl Fn(T::Native) -> f64) {
    to.extend_floats(array.as_primitive::<T>().values(), nulls(array), each);
}

/// Appends values that are given as places in a dictionary.
fn dictionary(to: &mut Staging, array: &dyn Array) -> Result<(), String> {
    let array = array.as_any_dictionary();
    let texts: Vec<Option<&str>> = match array.values().data_type() {
        DataType::Utf8 => array.values().as_string::<i32>().iter().collect(),
        DataType::LargeUtf8 => array.values().as_string::<i64>().iter().collect(),
        DataType::Utf8View => array.values().as_string_view().iter().collect(),
        _ => {
            let values = arrow_select::take::take(array.values().as_ref(), array.keys(), None);
            return column(to, values.map_err(|e| e.to_string())?.as_ref());
        }
    };
    // Under a null there may be any place.
    let keys = if texts.is_empty() { vec![0; array.len()] } else { array.normalized_keys() };
    match nulls(array.keys()) {
        None => to.extend_places(&texts, keys.iter().map(|key| Some(*key))),
        Some(is_null) => {
            to.extend_places(&texts, keys.iter().enumerate().map(|(i, key)| (!is_null(i)).then_some(*key)));
        }
    }
    Ok(())
}

/// Appends the values of an array; what stands under a null is not looked at.
fn column(to: &mut Staging, array: &dyn Array) -> Result<(), String> {
    let micros = |unit: &TimeUnit, v: i64| match unit {
        TimeUnit::Second => v.checked_mul(1_000_000),
        TimeUnit::Millisecond => v.checked_mul(1000),
        TimeUnit::Microsecond => Some(v),
        TimeUnit::Nanosecond => Some(v.div_euclid(1000)),
    };
    match array.data_type() {
        DataType::Int8 => ints::<Int8Type>(to, array, |v| Some(v.into()))?,
        DataType::Int16 => ints::<Int16Type>(to, array, |v| Some(v.into()))?,
        DataType::Int32 => ints::<Int32Type>(to, array, |v| Some(v.into()))?,
        DataType::Int64 => ints::<Int64Type>(to, array, Some)?,
        DataType::UInt8 => ints::<UInt8Type>(to, array, |v| Some(v.into()))?,
        DataType::UInt16 => ints::<UInt16Type>(to, array, |v| Some(v.into()))?,
        DataType::UInt32 => ints::<UInt32Type>(to, array, |v| Some(v.into()))?,
        DataType::UInt64 => ints::<UInt64Type>(to, array, |v| i64::try_from(v).ok())?,
        DataType::Date32 => ints::<Date32Type>(to, array, |v| Some(v.into()))?,
        DataType::Decimal128(..) => ints::<Decimal128Type>(to, array, |v| i64::try_from(v).ok())?,
        DataType::Timestamp(unit @ TimeUnit::Second, _) => ints::<TimestampSecondType>(to, array, |v| micros(unit, v))?,
        DataType::Timestamp(unit @ TimeUnit::Millisecond, _) => {
            ints::<TimestampMillisecondType>(to, array, |v| micros(unit, v))?
        }
        DataType::Timestamp(unit @ TimeUnit::Microsecond, _) => {
            ints::<TimestampMicrosecondType>(to, array, |v| micros(unit, v))?
        }
        DataType::Timestamp(unit @ TimeUnit::Nanosecond, _) => {
            ints::<TimestampNanosecondType>(to, array, |v| micros(unit, v))?
        }
        DataType::Float32 => floats::<Float32Type>(to, array, f64::from),
        DataType::Float64 => floats::<Float64Type>(to, array, |v| v),
        DataType::Utf8 => to.extend_texts(array.as_string::<i32>().iter()),
        DataType::LargeUtf8 => to.extend_texts(array.as_string::<i64>().iter()),
        DataType::Utf8View => to.extend_texts(array.as_string_view().iter()),
        DataType::Dictionary(_, value) if column_type(value) == Some(Type::Text) => dictionary(to, array)?,
        DataType::Null => (0..array.len()).for_each(|_| to.push_null()),
        _ => {
            // Truth values and dictionaries, value by value.
            let (_, values) = arrow::values(array)?;
            for value in values {
                let taken = value.is_null() || to.push(value.to_string().as_bytes());
                if value.is_null() {
                    to.push_null();
                }
                if !taken {
                    return Err(format!("`{value}` does not fit the column"));
                }
            }
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_schema::Schema;
    use std::sync::Arc;

    #[test]
    fn blocks_that_are_longer_than_the_file_are_told_before_there_is_room_for_them() {
        let schema = Arc::new(Schema::new(vec![Field::new("a", DataType::Int64, false)]));
        let column = Arc::new(arrow_array::Int64Array::from_iter_values(0..1000));
        let batch = RecordBatch::try_new(schema.clone(), vec![column]).unwrap();
        let mut writer = arrow_ipc::writer::FileWriter::try_new(Vec::new(), &schema).unwrap();
        writer.write(&batch).unwrap();
        let content = writer.into_inner().unwrap();
        assert!(blocks_fit(&content) && blocks_fit(b"ARROW1") && blocks_fit(&[]));
        let body = (0..content.len() - 8).rev().find(|at| content[*at..at + 8] == 8000i64.to_le_bytes()).unwrap();
        let file = tempfile::NamedTempFile::with_suffix(".arrow").unwrap();
        for length in [content.len() as i64, 1 << 33, i64::MAX, -1] {
            let mut damaged = content.clone();
            damaged[body..body + 8].copy_from_slice(&length.to_le_bytes());
            assert!(!blocks_fit(&damaged), "{length}");
            std::fs::write(file.path(), damaged).unwrap();
            let said = opened(file.path()).err().unwrap().to_string();
            assert!(said.contains("it ends before the batches that it lists"), "{said}");
        }
        let mut damaged = content.clone();
        let at = content.len() - 10;
        damaged[at..at + 4].copy_from_slice(&i32::MAX.to_le_bytes());
        assert!(!blocks_fit(&damaged), "a footer that begins before the file");
    }
}
