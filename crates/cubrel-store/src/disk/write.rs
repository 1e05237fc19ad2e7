//! Writing a store file.

use std::io::{self, Seek, SeekFrom, Write};
use std::sync::Arc;

use xxhash_rust::xxh3::Xxh3;

use super::layout::{
    Block, CodesEntry, CodingEntry, ColumnEntry, Header, LookupEntry, PackedEntry, PlacesEntry, SegmentEntry,
    SortedEntry, SumEntry, TableEntry, TotalEntry,
};
use super::{MAGIC, PREAMBLE, Stored, StoredTable, VERSION};
use crate::bits::PackedInts;
use crate::codes::{Codes, Segment};
use crate::column::{CodedColumn, Encoding};
use crate::dictionary::TextDictionary;
use crate::lookup::{Lookup, LookupRows};
use crate::numbers::Numbers;
use crate::places::Places;
use crate::sorted::SortedInts;
use crate::{SegmentTotal, TotalSum};

/// Writes what a store file consists of.
///
/// # Errors
/// When something cannot be written.
pub fn write_to(file: &mut (impl Write + Seek), stored: &Stored) -> io::Result<()> {
    file.write_all(&[0; PREAMBLE])?;
    let mut blocks = BlockWriter { file, at: PREAMBLE as u64 };
    let header = Header {
        tables: stored.tables.iter().map(|t| blocks.table(t)).collect::<io::Result<_>>()?,
        lookups: stored.lookups.iter().map(|l| blocks.lookup(l)).collect::<io::Result<_>>()?,
        notes: stored.notes.clone(),
    };
    let text = serde_json::to_vec(&header)?;
    let at = blocks.at;
    file.write_all(&text)?;
    file.seek(SeekFrom::Start(0))?;
    file.write_all(MAGIC)?;
    for word in [VERSION, at, text.len() as u64, xxhash_rust::xxh3::xxh3_64(&text)] {
        file.write_all(&word.to_le_bytes())?;
    }
    Ok(())
}

fn total_entry(total: &SegmentTotal) -> TotalEntry {
    let sum = match total.sum {
        None => SumEntry::None,
        Some(TotalSum::Exact(sum)) => SumEntry::Exact((sum >> 64) as i64, sum as u64),
        Some(TotalSum::Float(sum)) => SumEntry::Float(sum.to_bits()),
    };
    TotalEntry(total.count, total.codes, sum)
}

/// Blocks on their way to a file.
struct BlockWriter<'f, F> {
    file: &'f mut F,
    at: u64,
}

impl<F: Write> BlockWriter<'_, F> {
    fn block<const N: usize>(&mut self, values: impl Iterator<Item = [u8; N]>) -> io::Result<Block> {
        let (start, mut hash) = (self.at, Xxh3::new());
        let mut buffer = Vec::with_capacity(1 << 16);
        for value in values {
            buffer.extend_from_slice(&value);
            if buffer.len() + N > 1 << 16 {
                self.put(&buffer, &mut hash)?;
                buffer.clear();
            }
        }
        self.put(&buffer, &mut hash)?;
        self.ended(start, &hash)
    }

    fn put(&mut self, bytes: &[u8], hash: &mut Xxh3) -> io::Result<()> {
        hash.update(bytes);
        self.file.write_all(bytes)?;
        self.at += bytes.len() as u64;
        Ok(())
    }

    /// The block that began there; the next one begins at a whole word.
    fn ended(&mut self, start: u64, hash: &Xxh3) -> io::Result<Block> {
        let len = self.at - start;
        let padding = (len.next_multiple_of(8) - len) as usize;
        self.file.write_all(&[0; 8][..padding])?;
        self.at += padding as u64;
        Ok(Block(start, len, hash.digest()))
    }

    fn words(&mut self, words: &[u64]) -> io::Result<Block> {
        self.block(words.iter().map(|w| w.to_le_bytes()))
    }

    fn bytes(&mut self, bytes: &[u8]) -> io::Result<Block> {
        let (start, mut hash) = (self.at, Xxh3::new());
        self.put(bytes, &mut hash)?;
        self.ended(start, &hash)
    }

    fn packed(&mut self, packed: &PackedInts) -> io::Result<PackedEntry> {
        Ok(PackedEntry { bits: packed.bits(), len: packed.len(), words: self.words(packed.words())? })
    }

    fn sorted(&mut self, sorted: &SortedInts) -> io::Result<SortedEntry> {
        let (low, high, samples) = sorted.parts();
        Ok(SortedEntry { low: self.packed(low)?, high: self.words(high)?, samples: self.words(samples)? })
    }

    fn places(&mut self, places: &Places) -> io::Result<PlacesEntry> {
        Ok(match places {
            Places::Listed(rows) => PlacesEntry::Listed(self.sorted(rows)?),
            Places::Marked(marks) => {
                let (words, counts) = marks.parts();
                let counts = self.block(counts.iter().map(|count| count.to_le_bytes()))?;
                PlacesEntry::Marked { words: self.words(words)?, counts }
            }
        })
    }

    fn table(&mut self, table: &StoredTable) -> io::Result<TableEntry> {
        let columns = match table.shares {
            Some(_) => Vec::new(),
            None => table.columns.iter().map(|c| self.column(c)).collect::<io::Result<_>>()?,
        };
        Ok(TableEntry { name: table.name.clone(), shares: table.shares, rows: table.rows, columns })
    }

    fn column(&mut self, (name, column): &(String, Arc<CodedColumn>)) -> io::Result<ColumnEntry> {
        Ok(ColumnEntry {
            name: name.clone(),
            ty: column.ty().to_string(),
            encoding: self.encoding(column.encoding())?,
            digits: column.digits(),
            domain: column.domain(),
            nulls: column.nulls(),
            distinct: column.distinct(),
            segments: column.segments().iter().map(|s| self.segment(s)).collect::<io::Result<_>>()?,
            totals: column.totals().iter().map(total_entry).collect(),
        })
    }

    fn encoding(&mut self, encoding: &Encoding) -> io::Result<CodingEntry> {
        Ok(match encoding {
            Encoding::Offset { base, step } => CodingEntry::Offset { base: *base, step: *step },
            Encoding::Numbers(Numbers::Listed(values)) => {
                CodingEntry::Listed { values: self.block(values.iter().map(|v| v.to_le_bytes()))? }
            }
            Encoding::Numbers(Numbers::Distances { first, more }) => {
                CodingEntry::Distances { first: *first, more: self.sorted(more)? }
            }
            Encoding::Texts(TextDictionary::Plain { bytes, starts }) => CodingEntry::Plain {
                bytes: self.bytes(bytes)?,
                starts: self.block(starts.iter().map(|s| s.to_le_bytes()))?,
            },
            Encoding::Texts(TextDictionary::Ranked { template, ranks }) => {
                let (first, second) = ranks.parts();
                let (ranks, second) = (self.sorted(first)?, self.packed(second)?);
                CodingEntry::Template { places: template.parts(), ranks, second }
            }
            Encoding::Texts(TextDictionary::Blocks(blocks)) => {
                let ([bytes, heads, common], [starts, first, head_starts]) = blocks.parts();
                CodingEntry::Blocks {
                    bytes: [self.bytes(bytes)?, self.bytes(heads)?, self.bytes(common)?],
                    numbers: [self.words(starts)?, self.words(first)?, self.words(head_starts)?],
                }
            }
        })
    }

    fn segment(&mut self, segment: &Segment) -> io::Result<SegmentEntry> {
        let codes = match &segment.codes {
            Codes::Packed(codes) => CodesEntry::Packed(self.packed(codes)?),
            Codes::Runs { len, ends, codes } => {
                CodesEntry::Runs { len: *len, ends: self.sorted(ends)?, codes: self.packed(codes)? }
            }
            Codes::Sparse { len, common, rows, codes } => {
                CodesEntry::Sparse { len: *len, common: *common, rows: self.places(rows)?, codes: self.packed(codes)? }
            }
            Codes::Sequence(len) => CodesEntry::Sequence(*len),
        };
        Ok(SegmentEntry { base: segment.base, max: segment.max, codes })
    }

    fn lookup(&mut self, lookup: &Lookup) -> io::Result<LookupEntry> {
        let (by_code, by_row) = match &lookup.target {
            LookupRows::ByCode(rows) => (Some(self.block(rows.iter().map(|r| r.to_le_bytes()))?), None),
            LookupRows::ByRow(packed) => (None, Some(self.packed(packed)?)),
        };
        Ok(LookupEntry {
            by_code,
            by_row,
            unmatched_rows: lookup.unmatched_rows,
            key_count: lookup.key_count,
            one_rows: lookup.one_rows,
            examples: lookup.examples.clone(),
        })
    }
}
