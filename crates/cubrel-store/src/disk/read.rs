//! Opening a store file.

use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use xxhash_rust::xxh3::xxh3_64;

use super::layout::{
    Block, CodesEntry, CodingEntry, ColumnEntry, Header, LookupEntry, PackedEntry, PlacesEntry, SegmentEntry,
    SortedEntry, SumEntry, TableEntry, TotalEntry,
};
use super::{MAGIC, PREAMBLE, ReadError, Stored, StoredTable, VERSION, damaged};
use crate::bits::PackedInts;
use crate::buffer::{Buffer, Stretch, Unread, Word, read_at};
use crate::checksum::{Checksum, Damage};
use crate::codes::{Codes, Segment};
use crate::column::{CodedColumn, Counts, Encoding};
use crate::dictionary::TextDictionary;
use crate::dictionary::blocks::Blocks;
use crate::dictionary::ranks::RankList;
use crate::dictionary::template::Template;
use crate::lookup::{Lookup, LookupRows};
use crate::numbers::Numbers;
use crate::places::{Marks, Places};
use crate::sorted::SortedInts;
use crate::{SegmentTotal, TotalSum};
use cubrel_value::Type;

/// Opens a store file. Only its header is read now.
///
/// # Errors
/// When it cannot be read, is of another version, or its header is damaged.
pub fn read(path: &Path) -> Result<Stored, ReadError> {
    let file = open(path)?;
    let (header, end) = header(&file)?;
    let (file, damage) = (Arc::new(file), Arc::new(Damage::default()));
    let mut reader = StoreReader { file: &file, end, damage: &damage, blocks: Vec::new() };
    let mut tables: Vec<StoredTable> = Vec::new();
    for entry in header.tables {
        let table = match entry.shares {
            Some(first) => {
                let first = tables.get(first).ok_or_else(|| damaged("a shared table is missing"))?;
                StoredTable { columns: first.columns.clone(), shares: entry.shares, name: entry.name, rows: entry.rows }
            }
            None => reader.table(entry)?,
        };
        tables.push(table);
    }
    let lookups = header.lookups.into_iter().map(|l| reader.lookup(l).map(Arc::new)).collect::<Result<_, _>>()?;
    Ok(Stored { tables, lookups, notes: header.notes, damage })
}

/// Opens a file; whatever else may have its name is not waited for.
fn open(path: &Path) -> Result<File, ReadError> {
    if !std::fs::metadata(path)?.is_file() {
        return Err(damaged("it is no regular file"));
    }
    Ok(File::open(path)?)
}

/// The header, and at which byte it begins.
fn header(file: &File) -> Result<(Header, u64), ReadError> {
    let mut preamble = [0; PREAMBLE];
    read_at(file, &mut preamble, 0).map_err(cut_off)?;
    let word = |i: usize| u64::of_bytes(&preamble[i * 8..]);
    if !preamble.starts_with(MAGIC) {
        return Err(damaged("it is not a store, or was not written to its end"));
    }
    if word(1) != VERSION {
        return Err(ReadError::Version);
    }
    let (at, length, hash, bytes) = (word(2), word(3), word(4), file.metadata()?.len());
    if at < PREAMBLE as u64 || at.checked_add(length) != Some(bytes) {
        return Err(damaged(format!("it has {bytes} bytes, not those that were written")));
    }
    let mut text = vec![0; length as usize];
    read_at(file, &mut text, at).map_err(cut_off)?;
    if xxh3_64(&text) != hash {
        return Err(damaged("the header has changed"));
    }
    Ok((serde_json::from_slice(&text).map_err(|e| damaged(e.to_string()))?, at))
}

fn cut_off(e: std::io::Error) -> ReadError {
    if e.kind() == std::io::ErrorKind::UnexpectedEof { damaged("it is cut off") } else { e.into() }
}

fn total(TotalEntry(count, codes, sum): &TotalEntry) -> SegmentTotal {
    let sum = match sum {
        SumEntry::None => None,
        SumEntry::Exact(high, low) => Some(TotalSum::Exact(i128::from(*high) << 64 | i128::from(*low))),
        SumEntry::Float(bits) => Some(TotalSum::Float(f64::from_bits(*bits))),
    };
    SegmentTotal { count: *count, codes: *codes, sum }
}

struct StoreReader<'a> {
    file: &'a Arc<File>,
    /// Where the blocks end.
    end: u64,
    damage: &'a Arc<Damage>,
    /// The blocks of the column or lookup that is read now.
    blocks: Vec<Arc<dyn Unread>>,
}

impl StoreReader<'_> {
    fn buffer<T: Word>(&mut self, Block(at, len, hash): Block) -> Result<Buffer<T>, ReadError> {
        if at.checked_add(len).is_none_or(|end| end > self.end) {
            return Err(damaged("it is cut off"));
        }
        let (buffer, unread) = Buffer::in_file(Stretch { at, len, hash });
        self.blocks.push(unread);
        Ok(buffer)
    }

    fn checksum<T>(&mut self, what: String) -> Arc<Checksum<T>> {
        let blocks = std::mem::take(&mut self.blocks);
        Arc::new(Checksum::new(self.file.clone(), blocks, what, self.damage.clone()))
    }

    fn packed(&mut self, entry: &PackedEntry) -> Result<PackedInts, ReadError> {
        PackedInts::from_words(entry.bits, entry.len, self.buffer(entry.words)?)
            .ok_or_else(|| damaged("packed codes have the wrong length"))
    }

    fn sorted(&mut self, entry: &SortedEntry) -> Result<SortedInts, ReadError> {
        SortedInts::from_parts(self.packed(&entry.low)?, self.buffer(entry.high)?, self.buffer(entry.samples)?)
            .ok_or_else(|| damaged("sorted numbers have the wrong length"))
    }

    fn places(&mut self, entry: &PlacesEntry) -> Result<Places, ReadError> {
        match entry {
            PlacesEntry::Listed(rows) => Ok(Places::Listed(self.sorted(rows)?)),
            PlacesEntry::Marked { words, counts } => Marks::from_parts(self.buffer(*words)?, self.buffer(*counts)?)
                .map(Places::Marked)
                .ok_or_else(|| damaged("marked rows have the wrong length")),
        }
    }

    fn table(&mut self, entry: TableEntry) -> Result<StoredTable, ReadError> {
        let columns = entry.columns.iter().map(|c| self.column(&entry.name, c)).collect::<Result<Vec<_>, _>>()?;
        if columns.iter().any(|(_, c)| c.rows() != entry.rows) {
            return Err(damaged(format!("the columns of `{}` differ in length", entry.name)));
        }
        Ok(StoredTable { name: entry.name, shares: None, rows: entry.rows, columns })
    }

    fn column(&mut self, table: &str, entry: &ColumnEntry) -> Result<(String, Arc<CodedColumn>), ReadError> {
        self.blocks.clear();
        let name = format!("column {table}.{}", entry.name);
        let ty = Type::parse(&entry.ty).ok_or_else(|| damaged(name.clone()))?;
        let encoding = self.encoding(&entry.encoding, entry.domain)?.ok_or_else(|| damaged(name.clone()))?;
        let segments = entry.segments.iter().map(|s| self.segment(s)).collect::<Result<Vec<_>, ReadError>>()?;
        let counts = Counts { domain: entry.domain, nulls: entry.nulls, distinct: entry.distinct };
        let column = CodedColumn::from_parts(ty, encoding, entry.digits, counts, segments);
        let column = match entry.totals.as_slice() {
            [] => column,
            totals => column.and_then(|column| column.with_totals(totals.iter().map(total).collect())),
        };
        let column = column.ok_or_else(|| damaged(name.clone()))?.with_checksum(self.checksum(name));
        Ok((entry.name.clone(), Arc::new(column)))
    }

    fn encoding(&mut self, entry: &CodingEntry, domain: u64) -> Result<Option<Encoding>, ReadError> {
        Ok(Some(match entry {
            CodingEntry::Offset { base, step } => Encoding::Offset { base: *base, step: *step },
            CodingEntry::Listed { values } => Encoding::Numbers(Numbers::Listed(self.buffer(*values)?)),
            CodingEntry::Distances { first, more } => {
                Encoding::Numbers(Numbers::Distances { first: *first, more: self.sorted(more)? })
            }
            CodingEntry::Plain { bytes, starts } => {
                let (bytes, starts) = (self.buffer(*bytes)?, self.buffer(*starts)?);
                return Ok(Some(Encoding::Texts(TextDictionary::Plain { bytes, starts })));
            }
            CodingEntry::Template { places, ranks, second } => {
                let ranks = RankList::from_parts(self.sorted(ranks)?, self.packed(second)?);
                let template = Template::from_parts(places.clone()).zip(ranks);
                return Ok(
                    template.map(|(template, ranks)| Encoding::Texts(TextDictionary::Ranked { template, ranks }))
                );
            }
            CodingEntry::Blocks { bytes: [bytes, heads, common], numbers: [starts, first, head_starts] } => {
                let bytes = [self.buffer(*bytes)?, self.buffer(*heads)?, self.buffer(*common)?];
                let numbers = [self.buffer(*starts)?, self.buffer(*first)?, self.buffer(*head_starts)?];
                let len = usize::try_from(domain).unwrap_or(usize::MAX);
                return Ok(Blocks::from_parts(len, bytes, numbers).map(|b| Encoding::Texts(TextDictionary::Blocks(b))));
            }
        }))
    }

    fn segment(&mut self, entry: &SegmentEntry) -> Result<Segment, ReadError> {
        let codes = match &entry.codes {
            CodesEntry::Packed(codes) => Codes::Packed(self.packed(codes)?),
            CodesEntry::Runs { len, ends, codes } => {
                Codes::Runs { len: *len, ends: self.sorted(ends)?, codes: self.packed(codes)? }
            }
            CodesEntry::Sparse { len, common, rows, codes } => {
                Codes::Sparse { len: *len, common: *common, rows: self.places(rows)?, codes: self.packed(codes)? }
            }
            CodesEntry::Sequence(len) => Codes::Sequence(*len),
        };
        Ok(Segment { base: entry.base, max: entry.max, codes })
    }

    fn lookup(&mut self, entry: LookupEntry) -> Result<Lookup, ReadError> {
        self.blocks.clear();
        let target = match (&entry.by_code, &entry.by_row) {
            (Some(block), _) => LookupRows::ByCode(self.buffer(*block)?),
            (None, Some(packed)) => LookupRows::ByRow(self.packed(packed)?),
            (None, None) => return Err(damaged("a lookup without rows")),
        };
        Ok(Lookup {
            target,
            unmatched_rows: entry.unmatched_rows,
            key_count: entry.key_count,
            one_rows: entry.one_rows,
            examples: entry.examples,
            checksum: Some(self.checksum("the rows that a relationship points at".into())),
            deferred: None,
        })
    }
}
