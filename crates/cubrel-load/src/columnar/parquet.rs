//! Parquet files, a row group at a time.

use crate::failure::Failure;
use cubrel_value::files;
use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::{DataType, Field, Schema, SchemaRef};
use parquet::arrow::arrow_reader::{ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReaderBuilder};
use parquet::basic::Encoding;
use parquet::file::metadata::ColumnChunkMetaData;

use super::super::LoadError;
use super::group::{GroupRows, data_problem};

/// Rows of a batch of Parquet.
const BATCH: usize = 1 << 15;
/// Rows of a row group that one thread reads; a larger group is read in pieces.
const MOST_ROWS: usize = 1 << 20;

/// The columns of a file, and its rows in pieces of at most a row group.
pub(super) fn row_groups(path: &Path, file: &File) -> Result<(SchemaRef, Vec<GroupRows>), LoadError> {
    let metadata = ArrowReaderMetadata::load(file, ArrowReaderOptions::new()).map_err(|e| data_problem(path, e))?;
    let metadata = with_dictionaries(metadata);
    let groups = metadata.metadata().row_groups();
    let rows = groups.iter().map(|group| usize::try_from(group.num_rows()).unwrap_or(0)).enumerate();
    let pieces = rows.flat_map(|(group, all)| {
        let steps = (0..all.max(1)).step_by(MOST_ROWS);
        let metadata = &metadata;
        steps.map(move |skip| rows_of(metadata.clone(), group, skip, MOST_ROWS.min(all - skip)))
    });
    let pieces = pieces.collect();
    Ok((metadata.schema().clone(), pieces))
}

/// Some rows of a row group: how many to skip, and how many to read.
fn rows_of(metadata: ArrowReaderMetadata, group: usize, skip: usize, rows: usize) -> GroupRows {
    let read = Box::new(move |path: &Path, take: &mut dyn FnMut(&RecordBatch) -> Result<(), Failure>| {
        let file = files::open(path).map_err(|e| LoadError::io(path, e))?;
        let builder = ParquetRecordBatchReaderBuilder::new_with_metadata(file, metadata);
        let rows = builder.with_row_groups(vec![group]).with_offset(skip).with_limit(rows);
        let reader = rows.with_batch_size(BATCH).build().map_err(|e| data_problem(path, e))?;
        for batch in reader {
            take(&batch.map_err(|e| data_problem(path, e))?)?;
        }
        Ok(())
    });
    GroupRows { group, read }
}

/// Has texts that stand in dictionaries in the whole file given as places in them, so that no text is read twice.
fn with_dictionaries(metadata: ArrowReaderMetadata) -> ArrowReaderMetadata {
    let groups = metadata.metadata().row_groups();
    let fields = metadata.schema().fields();
    if groups.iter().any(|group| group.num_columns() != fields.len()) {
        return metadata;
    }
    let is_listed = |i: usize| groups.iter().all(|group| has_dictionary(group.column(i)));
    let field = |(i, field): (usize, &Arc<Field>)| match field.data_type() {
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View if is_listed(i) => {
            let ty = DataType::Dictionary(DataType::Int32.into(), DataType::Utf8.into());
            Arc::new(field.as_ref().clone().with_data_type(ty))
        }
        _ => field.clone(),
    };
    let schema = Schema::new(fields.iter().enumerate().map(field).collect::<Vec<_>>());
    let options = ArrowReaderOptions::new().with_schema(Arc::new(schema));
    ArrowReaderMetadata::try_new(metadata.metadata().clone(), options).unwrap_or(metadata)
}

/// Whether all values of a column are places in its dictionary.
fn has_dictionary(column: &ColumnChunkMetaData) -> bool {
    let of_places = |e: Encoding| matches!(e, Encoding::PLAIN_DICTIONARY | Encoding::RLE_DICTIONARY);
    match column.page_encoding_stats_mask() {
        Some(pages) => pages.encodings().all(of_places),
        // Without a word on the pages, dictionaries that are written plainly cannot be told from such values.
        None => column.encodings().any(of_places) && !column.encodings().any(|e| e == Encoding::PLAIN),
    }
}
