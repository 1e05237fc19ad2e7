//! Parquet and Arrow IPC: columns that know their types.

use std::fs::File;
use std::io::Cursor;
use std::path::Path;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Decimal128Type, Float32Type, Float64Type, Int8Type, Int16Type, Int32Type, Int64Type,
    TimestampMicrosecondType, TimestampMillisecondType, TimestampNanosecondType, TimestampSecondType, UInt8Type,
    UInt16Type, UInt32Type, UInt64Type,
};
use arrow_array::{Array, ArrowPrimitiveType, RecordBatch};
use arrow_schema::{DataType, Schema, SchemaRef, TimeUnit};
use parquet::arrow::arrow_reader::ParquetRecordBatchReaderBuilder;
use rayon::prelude::*;

use super::csv::Request;
use super::staging::{Loaded, Part, Staging, join};
use super::{LoadError, Observer, bytes};
use crate::formula::source::{Diagnostic, Problem};
use crate::value::{Type, arrow, exact};

/// Rows of a batch of Parquet.
const BATCH: usize = 1 << 15;

/// A piece of work for one thread.
enum Piece<'a> {
    /// One row group of a Parquet file.
    RowGroup(&'a Path, usize),
    /// Batches that are in memory.
    Batches(Vec<RecordBatch>),
}

fn data_problem(path: &Path, error: impl std::fmt::Display) -> LoadError {
    let message = format!("{} cannot be read: {error}", path.display());
    Diagnostic::general(Problem::Data, message).help("the file is damaged, or not what its name says").into()
}

/// Reads Parquet files, or Arrow IPC files and streams.
///
/// # Errors
/// When a file cannot be read, has columns of types that cannot be columns, or other columns than the first.
pub fn read(request: &Request<'_>, observer: &dyn Observer) -> Result<Loaded, LoadError> {
    let paths: Vec<_> = request.files.iter().map(|f| request.folder.join(&f.path)).collect();
    let mut pieces = Vec::new();
    let mut first: Option<SchemaRef> = None;
    for path in &paths {
        let schema = open(path, &mut pieces)?;
        match &first {
            None => first = Some(schema),
            Some(expected) => same_columns(expected, &schema, path, &paths[0])?,
        }
    }
    let schema = first.unwrap_or_else(|| SchemaRef::new(Schema::empty()));
    let mut types = Vec::new();
    for field in schema.fields() {
        types.push(column_type(field.data_type()).ok_or_else(|| {
            let message = format!("column `{}` is {}, which cannot be a column", field.name(), field.data_type());
            LoadError::from(Diagnostic::general(Problem::Data, message).help("leave it out of the file"))
        })?);
    }
    let bytes: u64 = request.files.iter().map(|f| f.bytes).sum();
    let share = bytes / pieces.len().max(1) as u64;
    let parts: Vec<Part> = pieces
        .into_par_iter()
        .map(|piece| {
            let part = take(piece, &types)?;
            observer.progress(request.table, share);
            Ok::<_, LoadError>(part)
        })
        .collect::<Result<_, _>>()?;
    let names: Vec<String> =
        schema.fields().iter().map(|f| request.renamed.get(f.name()).unwrap_or(f.name()).clone()).collect();
    Ok(join(names, types, parts))
}

fn open<'a>(path: &'a Path, pieces: &mut Vec<Piece<'a>>) -> Result<SchemaRef, LoadError> {
    if bytes::kind(path) == "parquet" {
        let file = File::open(path).map_err(|e| LoadError::io(path, e))?;
        let builder = ParquetRecordBatchReaderBuilder::try_new(file).map_err(|e| data_problem(path, e))?;
        pieces.extend((0..builder.metadata().num_row_groups()).map(|g| Piece::RowGroup(path, g)));
        return Ok(builder.schema().clone());
    }
    let content = bytes::read(path)?;
    // A file begins with the name of its format, a stream with a message.
    if content.starts_with(b"ARROW1") {
        let reader =
            arrow_ipc::reader::FileReader::try_new(Cursor::new(content), None).map_err(|e| data_problem(path, e))?;
        let schema = reader.schema();
        pieces.push(Piece::Batches(reader.collect::<Result<_, _>>().map_err(|e| data_problem(path, e))?));
        return Ok(schema);
    }
    let reader =
        arrow_ipc::reader::StreamReader::try_new(Cursor::new(content), None).map_err(|e| data_problem(path, e))?;
    let schema = reader.schema();
    pieces.push(Piece::Batches(reader.collect::<Result<_, _>>().map_err(|e| data_problem(path, e))?));
    Ok(schema)
}

fn same_columns(expected: &Schema, found: &Schema, path: &Path, first: &Path) -> Result<(), LoadError> {
    let shape = |s: &Schema| -> Vec<(String, Option<Type>)> {
        s.fields().iter().map(|f| (f.name().clone(), column_type(f.data_type()))).collect()
    };
    if shape(expected) == shape(found) {
        return Ok(());
    }
    let message = format!("{} has other columns than {}", path.display(), first.display());
    Err(Diagnostic::general(Problem::Data, message).help("all files of one table have the same columns").into())
}

/// The type that a column of an Arrow type gets.
fn column_type(ty: &DataType) -> Option<Type> {
    Some(match ty {
        DataType::Int8 | DataType::Int16 | DataType::Int32 | DataType::Int64 => Type::Int,
        DataType::UInt8 | DataType::UInt16 | DataType::UInt32 | DataType::UInt64 => Type::Int,
        DataType::Float32 | DataType::Float64 => Type::Float,
        DataType::Boolean => Type::Bool,
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View => Type::Text,
        DataType::Date32 => Type::Date,
        DataType::Timestamp(..) => Type::Timestamp,
        DataType::Decimal128(_, scale) => {
            Type::Decimal { precision: exact::STORED_DIGITS, scale: u8::try_from(*scale).ok()? }
        }
        DataType::Dictionary(_, value) => column_type(value)?,
        DataType::Null => Type::Text,
        _ => return None,
    })
}

fn take(piece: Piece<'_>, types: &[Type]) -> Result<Part, LoadError> {
    let mut part = Part::new(types);
    match piece {
        Piece::Batches(batches) => {
            for batch in &batches {
                append(&mut part, batch)?;
            }
        }
        Piece::RowGroup(path, group) => {
            let file = File::open(path).map_err(|e| LoadError::io(path, e))?;
            let reader = ParquetRecordBatchReaderBuilder::try_new(file)
                .and_then(|b| b.with_row_groups(vec![group]).with_batch_size(BATCH).build())
                .map_err(|e| data_problem(path, e))?;
            for batch in reader {
                append(&mut part, &batch.map_err(|e| data_problem(path, e))?)?;
            }
        }
    }
    Ok(part)
}

fn append(part: &mut Part, batch: &RecordBatch) -> Result<(), LoadError> {
    for (i, array) in batch.columns().iter().enumerate() {
        column(&mut part.columns[i], array.as_ref()).map_err(|e| {
            let message = format!("column `{}`: {e}", batch.schema().field(i).name());
            LoadError::from(Diagnostic::general(Problem::Data, message))
        })?;
        let valid = (0..array.len()).map(|row| !array.is_null(row));
        match array.data_type() {
            // What stands under the key of a dictionary can be null, too.
            DataType::Dictionary(..) => part.valid[i]
                .extend(array.logical_nulls().map_or_else(|| vec![true; array.len()], |nulls| nulls.iter().collect())),
            DataType::Null => part.valid[i].extend(std::iter::repeat_n(false, array.len())),
            _ => part.valid[i].extend(valid),
        }
    }
    Ok(())
}

fn ints<T: ArrowPrimitiveType>(
    to: &mut Staging,
    array: &dyn Array,
    each: impl Fn(T::Native) -> Option<i64>,
) -> Result<(), String> {
    let Staging::Ints(values, _) = to else { return Ok(()) };
    for value in array.as_primitive::<T>() {
        match value {
            None => values.push(0),
            Some(v) => values.push(each(v).ok_or_else(|| format!("{v:?} does not fit 64 bits"))?),
        }
    }
    Ok(())
}

fn floats<T: ArrowPrimitiveType>(to: &mut Staging, array: &dyn Array, each: impl Fn(T::Native) -> f64) {
    if let Staging::Floats(values) = to {
        values.extend(array.as_primitive::<T>().iter().map(|v| v.map_or(0.0, &each)));
    }
}

fn texts<'t>(to: &mut Staging, values: impl Iterator<Item = Option<&'t str>>) {
    for value in values {
        match value {
            Some(text) => to.push_text(text),
            None => to.push_null(),
        }
    }
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
        DataType::Utf8 => texts(to, array.as_string::<i32>().iter()),
        DataType::LargeUtf8 => texts(to, array.as_string::<i64>().iter()),
        DataType::Utf8View => texts(to, array.as_string_view().iter()),
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
