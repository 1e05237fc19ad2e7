//! The store on disk: one file, written beside the old one and put in its place by a rename.
//!
//! ```text
//! file    = magic version header-length header-hash header block*
//! magic   = "CUBREL" 0 0                       8 bytes
//! version, header-length, header-hash          8 bytes each, little endian
//! header  = JSON, padded with spaces to a multiple of 8 bytes
//! block   = little-endian words or bytes, padded to a multiple of 8 bytes
//! ```
//!
//! The header says what the tables, columns, segments and lookups are, and for each of their parts at which offset its
//! block begins (counted from the end of the header), how long it is, and its XXH3 hash. A block or header whose hash
//! differs makes the whole file unreadable; it is made again from the sources.

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;
use std::sync::Arc;

use serde::{Deserialize, Serialize};
use xxhash_rust::xxh3::xxh3_64;

use super::bits::PackedInts;
use super::column::{Coding, Column, Segment};
use super::dictionary::TextDictionary;
use super::lookup::{Lookup, Target};
use crate::value::Type;

const MAGIC: &[u8; 8] = b"CUBREL\0\0";
/// Changes with every change of the format.
const VERSION: u64 = 1;
/// Magic, version, header length, header hash.
const PREAMBLE: usize = 32;

/// What a store file holds.
#[derive(Clone, Debug, Default)]
pub struct Stored {
    /// Tables.
    pub tables: Vec<StoredTable>,
    /// Relationships.
    pub lookups: Vec<Arc<Lookup>>,
    /// Whatever the layers above want to find again.
    pub notes: serde_json::Value,
}

/// A table of a store file.
#[derive(Clone, Debug, Default)]
pub struct StoredTable {
    /// Its name.
    pub name: String,
    /// An earlier table whose columns it shares.
    pub shares: Option<usize>,
    /// How many rows.
    pub rows: usize,
    /// Names and values.
    pub columns: Vec<(String, Arc<Column>)>,
}

/// Why a store file cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// It cannot be read.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// It was written by another version.
    #[error("it was written by another version")]
    Version,
    /// What it says does not agree with itself.
    #[error("it is damaged: {0}")]
    Damaged(String),
}

fn damaged(what: impl Into<String>) -> ReadError {
    ReadError::Damaged(what.into())
}

#[derive(Serialize, Deserialize)]
struct Header {
    tables: Vec<TableEntry>,
    lookups: Vec<LookupEntry>,
    notes: serde_json::Value,
}

#[derive(Serialize, Deserialize)]
struct TableEntry {
    name: String,
    shares: Option<usize>,
    rows: usize,
    columns: Vec<ColumnEntry>,
}

#[derive(Serialize, Deserialize)]
struct ColumnEntry {
    name: String,
    ty: String,
    coding: CodingEntry,
    domain: u64,
    nulls: u64,
    distinct: u64,
    segments: Vec<SegmentEntry>,
}

#[derive(Serialize, Deserialize)]
enum CodingEntry {
    Offset { base: i64, step: u64 },
    Numbers { values: Block },
    Texts { bytes: Block, starts: Block },
}

#[derive(Serialize, Deserialize)]
struct SegmentEntry {
    base: u64,
    max: u64,
    codes: PackedEntry,
}

#[derive(Serialize, Deserialize)]
struct PackedEntry {
    bits: u8,
    len: usize,
    words: Block,
}

#[derive(Serialize, Deserialize)]
struct LookupEntry {
    by_code: Option<Block>,
    by_row: Option<PackedEntry>,
    unmatched_rows: u64,
    key_count: u64,
    examples: Vec<String>,
}

/// A stretch of bytes after the header.
#[derive(Clone, Copy, Serialize, Deserialize)]
struct Block {
    at: u64,
    len: u64,
    hash: u64,
}

/// Writes a store file: beside the old one, to the disk, and then in its place.
///
/// # Errors
/// When something cannot be written; the old file is then still there.
pub fn write(path: &Path, stored: &Stored) -> io::Result<()> {
    let mut blocks = Blocks::default();
    let header = Header {
        tables: stored.tables.iter().map(|t| blocks.table(t)).collect(),
        lookups: stored.lookups.iter().map(|l| blocks.lookup(l)).collect(),
        notes: stored.notes.clone(),
    };
    let mut text = serde_json::to_vec(&header)?;
    text.resize(text.len().next_multiple_of(8), b' ');
    let folder = path.parent().unwrap_or(Path::new("."));
    std::fs::create_dir_all(folder)?;
    let beside = path.with_extension("new");
    let result = write_file(&beside, &text, &blocks.bytes).and_then(|()| std::fs::rename(&beside, path));
    if result.is_err() {
        // What was half written is of no use; that it cannot be removed would say nothing new.
        let _ = std::fs::remove_file(&beside);
        return result;
    }
    // The rename itself has to reach the disk, too.
    File::open(folder)?.sync_all()
}

fn write_file(path: &Path, header: &[u8], blocks: &[u8]) -> io::Result<()> {
    let mut file = File::create(path)?;
    file.write_all(MAGIC)?;
    file.write_all(&VERSION.to_le_bytes())?;
    file.write_all(&(header.len() as u64).to_le_bytes())?;
    file.write_all(&xxh3_64(header).to_le_bytes())?;
    file.write_all(header)?;
    file.write_all(blocks)?;
    file.sync_all()
}

#[derive(Default)]
struct Blocks {
    bytes: Vec<u8>,
}

impl Blocks {
    fn block(&mut self, bytes: impl Iterator<Item = u8>) -> Block {
        let at = self.bytes.len();
        self.bytes.extend(bytes);
        let len = self.bytes.len() - at;
        let hash = xxh3_64(&self.bytes[at..]);
        self.bytes.resize(self.bytes.len().next_multiple_of(8), 0);
        Block { at: at as u64, len: len as u64, hash }
    }

    fn packed(&mut self, packed: &PackedInts) -> PackedEntry {
        let words = self.block(packed.words().iter().flat_map(|w| w.to_le_bytes()));
        PackedEntry { bits: packed.bits(), len: packed.len(), words }
    }

    fn table(&mut self, table: &StoredTable) -> TableEntry {
        let columns =
            if table.shares.is_some() { Vec::new() } else { table.columns.iter().map(|c| self.column(c)).collect() };
        TableEntry { name: table.name.clone(), shares: table.shares, rows: table.rows, columns }
    }

    fn column(&mut self, (name, column): &(String, Arc<Column>)) -> ColumnEntry {
        let coding = match column.coding() {
            Coding::Offset { base, step } => CodingEntry::Offset { base: *base, step: *step },
            Coding::Numbers(values) => {
                CodingEntry::Numbers { values: self.block(values.iter().flat_map(|v| v.to_le_bytes())) }
            }
            Coding::Texts(dictionary) => {
                let (bytes, starts) = dictionary.parts();
                CodingEntry::Texts {
                    bytes: self.block(bytes.iter().copied()),
                    starts: self.block(starts.iter().flat_map(|s| s.to_le_bytes())),
                }
            }
        };
        let segment = |s: &Segment| SegmentEntry { base: s.base, max: s.max, codes: self.packed(&s.codes) };
        ColumnEntry {
            name: name.clone(),
            ty: column.ty().to_string(),
            coding,
            domain: column.domain(),
            nulls: column.nulls(),
            distinct: column.distinct(),
            segments: column.segments().iter().map(segment).collect(),
        }
    }

    fn lookup(&mut self, lookup: &Lookup) -> LookupEntry {
        let (by_code, by_row) = match &lookup.target {
            Target::ByCode(rows) => (Some(self.block(rows.iter().flat_map(|r| r.to_le_bytes()))), None),
            Target::ByRow(packed) => (None, Some(self.packed(packed))),
        };
        LookupEntry {
            by_code,
            by_row,
            unmatched_rows: lookup.unmatched_rows,
            key_count: lookup.key_count,
            examples: lookup.examples.clone(),
        }
    }
}

/// Reads a store file.
///
/// # Errors
/// When it cannot be read, is of another version, or damaged.
pub fn read(path: &Path) -> Result<Stored, ReadError> {
    let bytes = std::fs::read(path)?;
    let word = |i: usize| bytes.get(i * 8..i * 8 + 8).and_then(|b| b.try_into().ok()).map(u64::from_le_bytes);
    let (Some(version), Some(length), Some(hash)) = (word(1), word(2), word(3)) else {
        return Err(damaged("it is cut off"));
    };
    if !bytes.starts_with(MAGIC) {
        return Err(damaged("it is no store"));
    }
    if version != VERSION {
        return Err(ReadError::Version);
    }
    let end = usize::try_from(length).ok().and_then(|l| l.checked_add(PREAMBLE)).filter(|e| *e <= bytes.len());
    let end = end.ok_or_else(|| damaged("it is cut off"))?;
    let text = &bytes[PREAMBLE..end];
    if xxh3_64(text) != hash {
        return Err(damaged("the header has changed"));
    }
    let header: Header = serde_json::from_slice(text).map_err(|e| damaged(e.to_string()))?;
    let source = Bytes { bytes: &bytes[end..] };
    let mut tables: Vec<StoredTable> = Vec::new();
    for entry in header.tables {
        let table = match entry.shares {
            Some(first) => {
                let first = tables.get(first).ok_or_else(|| damaged("a shared table is missing"))?;
                StoredTable { columns: first.columns.clone(), shares: entry.shares, name: entry.name, rows: entry.rows }
            }
            None => source.table(entry)?,
        };
        tables.push(table);
    }
    let lookups = header.lookups.into_iter().map(|l| source.lookup(l).map(Arc::new)).collect::<Result<_, _>>()?;
    Ok(Stored { tables, lookups, notes: header.notes })
}

struct Bytes<'a> {
    bytes: &'a [u8],
}

impl<'a> Bytes<'a> {
    fn block(&self, block: Block) -> Result<&'a [u8], ReadError> {
        let range = usize::try_from(block.at).ok().zip(usize::try_from(block.at.saturating_add(block.len)).ok());
        let bytes = range.and_then(|(a, b)| self.bytes.get(a..b)).ok_or_else(|| damaged("it is cut off"))?;
        if xxh3_64(bytes) != block.hash {
            return Err(damaged(format!("the block at {} has changed", block.at)));
        }
        Ok(bytes)
    }

    fn words(&self, block: Block) -> Result<Box<[u64]>, ReadError> {
        let (words, _) = self.block(block)?.as_chunks::<8>();
        Ok(words.iter().map(|w| u64::from_le_bytes(*w)).collect())
    }

    fn halves(&self, block: Block) -> Result<Box<[u32]>, ReadError> {
        let (halves, _) = self.block(block)?.as_chunks::<4>();
        Ok(halves.iter().map(|w| u32::from_le_bytes(*w)).collect())
    }

    fn packed(&self, entry: &PackedEntry) -> Result<PackedInts, ReadError> {
        PackedInts::from_words(entry.bits, entry.len, self.words(entry.words)?)
            .ok_or_else(|| damaged("packed codes have the wrong length"))
    }

    fn table(&self, entry: TableEntry) -> Result<StoredTable, ReadError> {
        let columns = entry.columns.iter().map(|c| self.column(c)).collect::<Result<Vec<_>, _>>()?;
        if columns.iter().any(|(_, c)| c.rows() != entry.rows) {
            return Err(damaged(format!("the columns of `{}` differ in length", entry.name)));
        }
        Ok(StoredTable { name: entry.name, shares: None, rows: entry.rows, columns })
    }

    fn column(&self, entry: &ColumnEntry) -> Result<(String, Arc<Column>), ReadError> {
        let wrong = || damaged(format!("column `{}`", entry.name));
        let ty = Type::parse(&entry.ty).ok_or_else(wrong)?;
        let coding = match &entry.coding {
            CodingEntry::Offset { base, step } => Coding::Offset { base: *base, step: *step },
            CodingEntry::Numbers { values } => {
                Coding::Numbers(self.words(*values)?.iter().map(|w| *w as i64).collect())
            }
            CodingEntry::Texts { bytes, starts } => {
                let dictionary = TextDictionary::from_parts(self.block(*bytes)?.into(), self.halves(*starts)?);
                Coding::Texts(dictionary.ok_or_else(wrong)?)
            }
        };
        let segments = entry
            .segments
            .iter()
            .map(|s| Ok(Segment { base: s.base, max: s.max, codes: self.packed(&s.codes)? }))
            .collect::<Result<Vec<_>, ReadError>>()?;
        let column = Column::from_parts(ty, coding, entry.domain, (entry.nulls, entry.distinct), segments);
        Ok((entry.name.clone(), Arc::new(column.ok_or_else(wrong)?)))
    }

    fn lookup(&self, entry: LookupEntry) -> Result<Lookup, ReadError> {
        let target = match (&entry.by_code, &entry.by_row) {
            (Some(block), _) => Target::ByCode(self.halves(*block)?),
            (None, Some(packed)) => Target::ByRow(self.packed(packed)?),
            (None, None) => return Err(damaged("a lookup without rows")),
        };
        Ok(Lookup {
            target,
            unmatched_rows: entry.unmatched_rows,
            key_count: entry.key_count,
            examples: entry.examples,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::raw::{RawColumn, RawData};
    use crate::value::{Data, Value, Vector};

    fn sample() -> Stored {
        let texts = Vector::with_validity(
            Data::Text(["Ness", "Holm", "", "Ness"].map(Arc::from).to_vec()),
            vec![true, true, false, true],
        );
        let columns = [
            RawColumn::from_vector(texts, Type::Text).expect("fits"),
            RawColumn { ty: Type::decimal(2), data: RawData::Ints(vec![5, -700, 12, 9_000_000_000]), valid: None },
            RawColumn { ty: Type::Float, data: RawData::Floats(vec![0.5, -1.0, 1e9, 0.5]), valid: None },
        ];
        let columns = columns
            .iter()
            .zip(["t", "d", "f"])
            .map(|(raw, name)| (name.to_string(), Arc::new(Column::encode(raw, 3).expect("encodes"))));
        let first = StoredTable { name: "a".into(), shares: None, rows: 4, columns: columns.collect() };
        let second = StoredTable { name: "b".into(), shares: Some(0), rows: 4, columns: first.columns.clone() };
        let key = first.columns[0].1.clone();
        let lookup = Lookup::build(&[&key], &[&first.columns[1].1]).expect("unique");
        Stored { tables: vec![first, second], lookups: vec![Arc::new(lookup)], notes: serde_json::json!({"x": 1}) }
    }

    fn values(stored: &Stored) -> Vec<Vec<Value>> {
        let columns = stored.tables.iter().flat_map(|t| &t.columns);
        columns.map(|(_, c)| c.codes().into_iter().map(|code| c.value_of(code)).collect()).collect()
    }

    #[test]
    fn what_was_written_is_read() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("store");
        let stored = sample();
        write(&path, &stored).expect("writes");
        let back = read(&path).expect("reads");
        assert_eq!(values(&back), values(&stored));
        assert_eq!(back.notes, stored.notes);
        assert!(Arc::ptr_eq(&back.tables[0].columns[0].1, &back.tables[1].columns[0].1), "roles share their columns");
        assert_eq!(back.lookups[0].unmatched_rows, stored.lookups[0].unmatched_rows);
    }

    #[test]
    fn a_change_of_any_byte_is_noticed() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("store");
        write(&path, &sample()).expect("writes");
        let good = std::fs::read(&path).expect("reads");
        let expected = values(&sample());
        for at in 0..good.len() {
            let mut bad = good.clone();
            bad[at] ^= 0x10;
            std::fs::write(&path, &bad).expect("writes");
            // Padding between blocks is the only part that may change unseen, and then nothing read differs.
            if let Ok(stored) = read(&path) {
                assert_eq!(values(&stored), expected, "byte {at}");
            }
        }
        for cut in [0, 7, 31, 40, good.len() / 2, good.len() - 9] {
            std::fs::write(&path, &good[..cut]).expect("writes");
            assert!(read(&path).is_err(), "cut at {cut}");
        }
    }
}
