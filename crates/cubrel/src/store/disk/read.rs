//! Opening a store file.

use std::fs::File;
use std::path::Path;
use std::sync::Arc;

use memmap2::Mmap;
use xxhash_rust::xxh3::xxh3_64;

use super::layout::{
    Block, CodesEntry, CodingEntry, ColumnEntry, Header, LookupEntry, PackedEntry, SegmentEntry, SortedEntry,
    TableEntry,
};
use super::{MAGIC, PREAMBLE, ReadError, Stored, StoredTable, VERSION, damaged};
use crate::store::bits::PackedInts;
use crate::store::buffer::{Buffer, Source, Word};
use crate::store::codes::{Codes, Segment};
use crate::store::column::{Column, Counts, Encoding};
use crate::store::dictionary::TextDictionary;
use crate::store::dictionary::blocks::Blocks;
use crate::store::dictionary::ranks::RankList;
use crate::store::dictionary::template::Template;
use crate::store::lookup::{Lookup, Target};
use crate::store::numbers::Numbers;
use crate::store::proof::{Damage, Proof, Stretch};
use crate::store::sorted::SortedInts;
use crate::value::Type;

/// Opens a store file. Only its header is read now.
///
/// # Errors
/// When it cannot be read, is of another version, or its header is damaged.
pub fn read(path: &Path) -> Result<Stored, ReadError> {
    let source = open(path)?;
    let bytes = source.bytes();
    let word = |i: usize| bytes.get(i * 8..i * 8 + 8).map(u64::of_bytes);
    if !bytes.starts_with(MAGIC) {
        return Err(damaged("it is not a store, or was not written to its end"));
    }
    if word(1) != Some(VERSION) {
        return Err(ReadError::Version);
    }
    let (Some(at), Some(length), Some(hash)) = (word(2), word(3), word(4)) else {
        return Err(damaged("it is cut off"));
    };
    let range = usize::try_from(at).ok().zip(usize::try_from(at.saturating_add(length)).ok());
    let text = range.filter(|(a, _)| *a >= PREAMBLE).and_then(|(a, b)| bytes.get(a..b));
    let text = text.ok_or_else(|| damaged("it is cut off"))?;
    if xxh3_64(text) != hash {
        return Err(damaged("the header has changed"));
    }
    let header: Header = serde_json::from_slice(text).map_err(|e| damaged(e.to_string()))?;
    let damage = Arc::new(Damage::default());
    let mut reader = Reader { source: &source, damage: &damage, stretches: Vec::new() };
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

fn open(path: &Path) -> Result<Source, ReadError> {
    let file = File::open(path)?;
    // SAFETY: a store file is never written in place: a new one takes its name by a rename, and the mapped one lives on
    // for as long as it is used. Somebody who writes into the file all the same gets wrong numbers, as from any file.
    match unsafe { Mmap::map(&file) } {
        Ok(map) => Ok(Source::Map(Arc::new(map))),
        Err(_) => Ok(Source::Bytes(std::fs::read(path)?.into())),
    }
}

struct Reader<'a> {
    source: &'a Source,
    damage: &'a Arc<Damage>,
    /// The blocks of the column or lookup that is read now.
    stretches: Vec<Stretch>,
}

impl Reader<'_> {
    fn buffer<T: Word>(&mut self, Block(at, len, hash): Block) -> Result<Buffer<T>, ReadError> {
        let (Ok(at), Ok(len)) = (usize::try_from(at), usize::try_from(len)) else {
            return Err(damaged("it is cut off"));
        };
        self.stretches.push(Stretch { at, len, hash });
        Buffer::in_file(self.source, at, len / size_of::<T>()).ok_or_else(|| damaged("it is cut off"))
    }

    fn proof<T>(&mut self, what: String) -> Arc<Proof<T>> {
        let stretches = std::mem::take(&mut self.stretches);
        Arc::new(Proof::new(self.source.clone(), stretches, what, self.damage.clone()))
    }

    fn packed(&mut self, entry: &PackedEntry) -> Result<PackedInts, ReadError> {
        PackedInts::from_words(entry.bits, entry.len, self.buffer(entry.words)?)
            .ok_or_else(|| damaged("packed codes have the wrong length"))
    }

    fn sorted(&mut self, entry: &SortedEntry) -> Result<SortedInts, ReadError> {
        SortedInts::from_parts(self.packed(&entry.low)?, self.buffer(entry.high)?, self.buffer(entry.samples)?)
            .ok_or_else(|| damaged("sorted numbers have the wrong length"))
    }

    fn table(&mut self, entry: TableEntry) -> Result<StoredTable, ReadError> {
        let columns = entry.columns.iter().map(|c| self.column(&entry.name, c)).collect::<Result<Vec<_>, _>>()?;
        if columns.iter().any(|(_, c)| c.rows() != entry.rows) {
            return Err(damaged(format!("the columns of `{}` differ in length", entry.name)));
        }
        Ok(StoredTable { name: entry.name, shares: None, rows: entry.rows, columns })
    }

    fn column(&mut self, table: &str, entry: &ColumnEntry) -> Result<(String, Arc<Column>), ReadError> {
        self.stretches.clear();
        let name = format!("column {table}.{}", entry.name);
        let ty = Type::parse(&entry.ty).ok_or_else(|| damaged(name.clone()))?;
        let encoding = self.encoding(&entry.encoding)?.ok_or_else(|| damaged(name.clone()))?;
        let segments = entry.segments.iter().map(|s| self.segment(s)).collect::<Result<Vec<_>, ReadError>>()?;
        let counts = Counts { domain: entry.domain, nulls: entry.nulls, distinct: entry.distinct };
        let column = Column::from_parts(ty, encoding, entry.digits, counts, segments);
        let column = column.ok_or_else(|| damaged(name.clone()))?.with_proof(self.proof(name));
        Ok((entry.name.clone(), Arc::new(column)))
    }

    fn encoding(&mut self, entry: &CodingEntry) -> Result<Option<Encoding>, ReadError> {
        Ok(Some(match entry {
            CodingEntry::Offset { base, step } => Encoding::Offset { base: *base, step: *step },
            CodingEntry::Listed { values } => Encoding::Numbers(Numbers::Listed(self.buffer(*values)?)),
            CodingEntry::Distances { first, more } => {
                Encoding::Numbers(Numbers::Distances { first: *first, more: self.sorted(more)? })
            }
            CodingEntry::Plain { bytes, starts } => {
                let (bytes, starts) = (self.buffer(*bytes)?, self.buffer(*starts)?);
                return Ok(TextDictionary::from_plain(bytes, starts).map(Encoding::Texts));
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
                return Ok(Blocks::from_parts(bytes, numbers).map(|b| Encoding::Texts(TextDictionary::Blocks(b))));
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
                Codes::Sparse { len: *len, common: *common, rows: self.sorted(rows)?, codes: self.packed(codes)? }
            }
            CodesEntry::Sequence(len) => Codes::Sequence(*len),
        };
        Ok(Segment { base: entry.base, max: entry.max, codes })
    }

    fn lookup(&mut self, entry: LookupEntry) -> Result<Lookup, ReadError> {
        self.stretches.clear();
        let target = match (&entry.by_code, &entry.by_row) {
            (Some(block), _) => Target::ByCode(self.buffer(*block)?),
            (None, Some(packed)) => Target::ByRow(self.packed(packed)?),
            (None, None) => return Err(damaged("a lookup without rows")),
        };
        Ok(Lookup {
            target,
            unmatched_rows: entry.unmatched_rows,
            key_count: entry.key_count,
            one_rows: entry.one_rows,
            examples: entry.examples,
            proof: Some(self.proof("the rows that a relationship points at".into())),
            deferred: None,
        })
    }
}
