//! Parquet files, Arrow IPC files and streams, as they are opened, and the pieces that they are read in.

use std::io::{BufRead, BufReader, Cursor};
use std::path::Path;

use arrow_array::RecordBatch;
use arrow_ipc::reader::{FileReader, StreamReader};
use arrow_schema::{ArrowError, SchemaRef};

use super::group::{GroupRows, data_problem};
#[cfg(feature = "parquet")]
use super::parquet::row_groups;
#[cfg(not(feature = "parquet"))]
use super::without_parquet::row_groups;
use crate::failure::Failure;
use crate::guarded::guarded;
use crate::{LoadError, bytes};
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::files;

/// A piece of work for one thread.
pub(super) enum Work<'a> {
    /// Some rows of a row group of a Parquet file.
    RowGroup {
        /// The file.
        path: &'a Path,
        /// The rows.
        rows: GroupRows,
    },
    /// A batch that is in memory.
    Batch(RecordBatch),
}

impl Work<'_> {
    /// Gives all batches of it to `take`.
    pub(super) fn each(self, take: &mut dyn FnMut(&RecordBatch) -> Result<(), Failure>) -> Result<(), Failure> {
        match self {
            Work::Batch(batch) => take(&batch),
            Work::RowGroup { path, rows } => {
                let part = format!("row group {}", rows.group + 1);
                guarded(path, || part, || (rows.read)(path, take))
            }
        }
    }
}

/// A file that has been opened.
pub(super) enum Opened {
    Parquet(SchemaRef, Vec<GroupRows>),
    Batches(SchemaRef, Box<dyn Iterator<Item = Result<RecordBatch, ArrowError>> + Send>),
}

/// Opens a file.
///
/// # Errors
/// When it is not what its name says.
pub(super) fn open(path: &Path) -> Result<Opened, LoadError> {
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
    /// Its columns.
    pub(super) fn schema(&self) -> SchemaRef {
        match self {
            Opened::Parquet(schema, _) => schema.clone(),
            Opened::Batches(schema, _) => schema.clone(),
        }
    }

    /// Its pieces; `bytes` is its length.
    pub(super) fn pieces(self, path: &Path, bytes: u64) -> Result<Pieces<'_>, LoadError> {
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
pub(super) enum Pieces<'a> {
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
    pub(super) fn next(&mut self) -> Result<Option<(Work<'a>, u64)>, LoadError> {
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

#[cfg(test)]
mod tests {
    use arrow_schema::{DataType, Field, Schema};
    use std::sync::Arc;

    use super::*;

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
