//! What the header of a store file says.

use serde::{Deserialize, Serialize};

#[derive(Serialize, Deserialize)]
pub(super) struct Header {
    pub(super) tables: Vec<TableEntry>,
    pub(super) lookups: Vec<LookupEntry>,
    pub(super) notes: serde_json::Value,
}

#[derive(Serialize, Deserialize)]
pub(super) struct TableEntry {
    pub(super) name: String,
    /// The number of an earlier table with the same columns.
    pub(super) shares: Option<usize>,
    pub(super) rows: usize,
    pub(super) columns: Vec<ColumnEntry>,
}

#[derive(Serialize, Deserialize)]
pub(super) struct ColumnEntry {
    pub(super) name: String,
    /// As `model.toml` writes types.
    pub(super) ty: String,
    pub(super) encoding: CodingEntry,
    /// Decimal digits of doubles that are kept as whole numbers.
    pub(super) digits: Option<u8>,
    pub(super) domain: u64,
    pub(super) nulls: u64,
    pub(super) distinct: u64,
    pub(super) segments: Vec<SegmentEntry>,
    /// By segment; files of earlier versions have none.
    #[serde(default)]
    pub(super) totals: Vec<TotalEntry>,
}

/// How many values, the smallest and the largest code, and the sum.
#[derive(Clone, Copy, Serialize, Deserialize)]
pub(super) struct TotalEntry(pub(super) u64, pub(super) (u64, u64), pub(super) SumEntry);

#[derive(Clone, Copy, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum SumEntry {
    None,
    /// The high and the low 64 bits of a whole number.
    Exact(i64, u64),
    /// The bits of a double.
    Float(u64),
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum CodingEntry {
    Offset {
        base: i64,
        step: u64,
    },
    /// Whole numbers of 8 bytes.
    Listed {
        values: Block,
    },
    Distances {
        first: i64,
        more: SortedEntry,
    },
    /// UTF-8, and where each text begins in 4 bytes.
    Plain {
        bytes: Block,
        starts: Block,
    },
    /// By place the letters, and whether a text can end before it; the first numbers of texts, and the second ones.
    Template {
        places: Vec<(Vec<u8>, bool)>,
        ranks: SortedEntry,
        second: PackedEntry,
    },
    /// Packed blocks, first texts, and what blocks have in common; starts of blocks, numbers of first texts, starts of first
    /// texts in 8 bytes.
    Blocks {
        bytes: [Block; 3],
        numbers: [Block; 3],
    },
}

#[derive(Serialize, Deserialize)]
pub(super) struct SegmentEntry {
    pub(super) base: u64,
    pub(super) max: u64,
    pub(super) codes: CodesEntry,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum CodesEntry {
    Packed(PackedEntry),
    Runs { len: usize, ends: SortedEntry, codes: PackedEntry },
    Sparse { len: usize, common: u64, rows: PlacesEntry, codes: PackedEntry },
    Sequence(usize),
}

/// Some rows of a segment.
#[derive(Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub(super) enum PlacesEntry {
    Listed(SortedEntry),
    /// A bit for each row, in words of 8 bytes; how many rows are marked before each eight of them, in 4 bytes.
    Marked {
        words: Block,
        counts: Block,
    },
}

/// Numbers of so many bits each, in words of 8 bytes; 64 numbers begin with a new word.
#[derive(Serialize, Deserialize)]
pub(super) struct PackedEntry {
    pub(super) bits: u8,
    pub(super) len: usize,
    pub(super) words: Block,
}

/// Ascending numbers: low bits, high bits in unary, places of every 128th.
#[derive(Serialize, Deserialize)]
pub(super) struct SortedEntry {
    pub(super) low: PackedEntry,
    pub(super) high: Block,
    pub(super) samples: Block,
}

#[derive(Serialize, Deserialize)]
pub(super) struct LookupEntry {
    /// Rows of 4 bytes by key code, null's last.
    pub(super) by_code: Option<Block>,
    /// By row of the many side.
    pub(super) by_row: Option<PackedEntry>,
    pub(super) unmatched_rows: u64,
    pub(super) key_count: u64,
    pub(super) one_rows: usize,
    pub(super) examples: Vec<String>,
}

/// First byte in the file, how many, and their hash.
#[derive(Clone, Copy, Serialize, Deserialize)]
pub(super) struct Block(pub(super) u64, pub(super) u64, pub(super) u64);
