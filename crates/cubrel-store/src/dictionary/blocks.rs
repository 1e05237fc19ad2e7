//! Texts in blocks: each without what it shares with the one before (front encoding), the block packed with zstd. What many
//! blocks have in common is learnt from some of them and kept once.
//!
//! Source: I. Witten, A. Moffat, T. Bell, "Managing Gigabytes" (1999), section 4.1; RFC 8878 for zstd and its dictionaries.

use std::ops::Range;
use std::sync::Arc;

use zstd::bulk::Decompressor;

use super::super::buffer::Buffer;
use super::super::texts::TextList;
use cubrel_value::threads::{map_ranges, part_size};

/// Bytes of texts in a block, about: unpacking one takes some microseconds.
pub(super) const BLOCK_BYTES: usize = 1 << 14;

/// Sorted distinct texts in blocks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Blocks {
    len: usize,
    /// The packed blocks, one after the other.
    bytes: Buffer<u8>,
    /// Where each block begins, and the end.
    starts: Buffer<u64>,
    /// The number of each block's first text, and how many texts there are.
    first: Buffer<u64>,
    /// The bytes of each block's first text, one after the other.
    heads: Buffer<u8>,
    /// Where each of those begins, and the end.
    head_starts: Buffer<u64>,
    /// What all blocks have in common: a dictionary of zstd's, or nothing.
    common: Buffer<u8>,
}

/// Texts in blocks that have been packed.
#[derive(Default)]
pub(super) struct PackedTexts {
    /// The blocks, one after the other.
    pub(super) bytes: Vec<u8>,
    /// How many bytes each has,
    pub(super) sizes: Vec<usize>,
    /// how many texts,
    pub(super) counts: Vec<usize>,
    /// and its first text.
    pub(super) heads: TextList,
}

fn take_number(bytes: &mut &[u8]) -> usize {
    let (mut n, mut shift) = (0usize, 0u32);
    while let Some((byte, rest)) = bytes.split_first() {
        *bytes = rest;
        n |= usize::from(byte & 0x7f).checked_shl(shift).unwrap_or(0);
        shift += 7;
        if byte & 0x80 == 0 {
            break;
        }
    }
    n
}

/// Where things of these lengths begin when they stand one after the other, and the end.
fn ends_of(lengths: impl Iterator<Item = usize>) -> Vec<u64> {
    let mut ends = vec![0];
    let mut at = 0;
    ends.extend(lengths.map(|len| {
        at += len as u64;
        at
    }));
    ends
}

/// Making ready to unpack is worth it for so many blocks.
const BLOCKS_OF_A_THREAD: usize = 64;

impl Blocks {
    /// Of ranges of packed texts, one after the other, and what they have in common.
    pub(super) fn of(ranges: Vec<PackedTexts>, common: Vec<u8>) -> Blocks {
        let starts = ends_of(ranges.iter().flat_map(|range| &range.sizes).copied());
        let first = ends_of(ranges.iter().flat_map(|range| &range.counts).copied());
        let mut all = TextList::default();
        ranges.iter().for_each(|range| all.extend(&range.heads));
        let head_starts = ends_of((0..all.len()).map(|head| all.get_bytes(head).len()));
        let mut bytes = Vec::with_capacity(ranges.iter().map(|range| range.bytes.len()).sum());
        // Each range goes when it has been taken, so that not all of them are there twice.
        ranges.into_iter().for_each(|range| bytes.extend_from_slice(&range.bytes));
        Blocks {
            len: first.last().map_or(0, |len| *len as usize),
            bytes: bytes.into(),
            starts: starts.into(),
            first: first.into(),
            heads: all.joined().to_vec().into(),
            head_starts: head_starts.into(),
            common: common.into(),
        }
    }

    /// From what [`Blocks::parts`] gave, for so many texts; `None` if they do not fit each other.
    pub fn from_parts(len: usize, bytes: [Buffer<u8>; 3], numbers: [Buffer<u64>; 3]) -> Option<Blocks> {
        let [bytes, heads, common] = bytes;
        let [starts, first, head_starts] = numbers;
        let even = starts.len() == first.len() && head_starts.len() == first.len();
        even.then_some(Blocks { len, bytes, starts, first, heads, head_starts, common })
    }

    /// Whether stored parts that have been read fit each other.
    pub fn is_sound(&self) -> bool {
        let rising = |n: &[u64], end: usize| {
            n.first() == Some(&0) && n.last() == Some(&(end as u64)) && n.windows(2).all(|w| w[0] <= w[1])
        };
        rising(&self.starts, self.bytes.len())
            && rising(&self.head_starts, self.heads.len())
            && rising(&self.first, self.len)
    }

    /// What a store file keeps: blocks, heads, and what blocks have in common; where blocks begin, their first texts' numbers,
    /// where heads begin.
    pub fn parts(&self) -> ([&[u8]; 3], [&[u64]; 3]) {
        ([&self.bytes, &self.heads, &self.common], [&self.starts, &self.first, &self.head_starts])
    }

    /// How many texts.
    pub fn len(&self) -> usize {
        self.len
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// The code of a block's first text.
    pub(super) fn first_of(&self, block: usize) -> usize {
        self.first[block] as usize
    }

    /// How many blocks.
    pub fn count(&self) -> usize {
        self.first.len() - 1
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        self.bytes.len()
            + self.heads.len()
            + self.common.len()
            + (self.starts.len() + self.first.len() + self.head_starts.len()) * 8
    }

    /// Whether what blocks have in common has been learnt.
    pub(super) fn has_common(&self) -> bool {
        !self.common.is_empty()
    }

    /// What unpacks blocks; one of them for many is faster than one for each.
    pub fn unpacker(&self) -> Unpacker<'_> {
        // Without memory for it there is nothing that could be told; blocks then unpack to empty texts.
        let zstd = Decompressor::with_dictionary(&self.common).ok();
        Unpacker { blocks: self, zstd, plain: Vec::new() }
    }

    /// The block in which the text of a code stands.
    pub(super) fn block_of(&self, code: usize) -> usize {
        self.first.partition_point(|f| *f <= code as u64) - 1
    }

    /// The text of a code.
    pub fn get(&self, code: usize) -> String {
        let block = self.block_of(code);
        self.unpacker().block(block).get(code - self.first[block] as usize).to_string()
    }

    /// The texts of some codes, each block unpacked once; those that are none are `empty`.
    pub fn texts(&self, codes: &[u64], empty: &Arc<str>) -> Vec<Arc<str>> {
        let mut order: Vec<u32> = (0..codes.len() as u32).collect();
        order.sort_unstable_by_key(|i| codes[*i as usize]);
        let mut texts = vec![empty.clone(); codes.len()];
        let mut unpacker = self.unpacker();
        let mut held: Option<(usize, TextList)> = None;
        let mut last: Option<(u64, Arc<str>)> = None;
        for i in order {
            let code = codes[i as usize];
            if code >= self.len as u64 {
                break;
            }
            let known = last.take().filter(|(c, _)| *c == code).map(|(_, text)| text);
            let text = known.unwrap_or_else(|| {
                let block = self.block_of(code as usize);
                if held.as_ref().is_none_or(|(b, _)| *b != block) {
                    held = Some((block, unpacker.block(block)));
                }
                let place = (code - self.first[block]) as usize;
                held.as_ref().map_or_else(|| empty.clone(), |(_, list)| Arc::from(list.get(place)))
            });
            texts[i as usize] = text.clone();
            last = Some((code, text));
        }
        texts
    }

    /// What `map` makes of every text's bytes, in order and on all threads.
    pub fn map<T: Clone + Send>(&self, map: impl Fn(&[u8]) -> T + Sync) -> Vec<T> {
        let of_blocks = |blocks: Range<usize>| {
            let mut unpacker = self.unpacker();
            let mut mapped = Vec::with_capacity((self.first[blocks.end] - self.first[blocks.start]) as usize);
            blocks.for_each(|block| unpacker.each(block, |text| mapped.push(map(text))));
            mapped
        };
        map_ranges(self.count(), part_size(self.count(), BLOCKS_OF_A_THREAD), of_blocks).concat()
    }

    /// What `map` makes of each text of a block, for all blocks in order and on all threads.
    pub(super) fn map_lists<T: Clone + Send>(&self, map: impl Fn(&TextList) -> Vec<T> + Sync) -> Vec<T> {
        let of_blocks = |blocks: Range<usize>| {
            let (mut unpacker, mut list) = (self.unpacker(), TextList::default());
            let mut mapped = Vec::with_capacity((self.first[blocks.end] - self.first[blocks.start]) as usize);
            for block in blocks {
                unpacker.fill(block, &mut list);
                mapped.extend(map(&list));
            }
            mapped
        };
        map_ranges(self.count(), part_size(self.count(), BLOCKS_OF_A_THREAD), of_blocks).concat()
    }

    /// The last block that begins with what comes before some bytes or is equal to them.
    fn block_around(&self, bytes: &[u8]) -> Option<usize> {
        let head = |b: usize| &self.heads[self.head_starts[b] as usize..self.head_starts[b + 1] as usize];
        let (mut low, mut high) = (0, self.count());
        while low < high {
            let middle = low.midpoint(high);
            if head(middle) <= bytes { low = middle + 1 } else { high = middle }
        }
        low.checked_sub(1)
    }

    /// How many texts come before some bytes.
    pub(super) fn before(&self, bytes: &[u8]) -> usize {
        let Some(block) = self.block_around(bytes) else { return 0 };
        let mut before = self.first[block] as usize;
        self.unpacker().each(block, |text| before += usize::from(text < bytes));
        before
    }

    /// The code of a text.
    pub fn find(&self, text: &str) -> Option<usize> {
        let block = self.block_around(text.as_bytes())?;
        let place = self.unpacker().block(block).iter().position(|t| t == text)?;
        Some(self.first[block] as usize + place)
    }
}

/// Unpacks blocks.
pub struct Unpacker<'b> {
    blocks: &'b Blocks,
    zstd: Option<Decompressor<'static>>,
    /// Room for what is unpacked.
    plain: Vec<u8>,
}

impl Unpacker<'_> {
    /// The texts of a block.
    pub fn block(&mut self, block: usize) -> TextList {
        let count = (self.blocks.first[block + 1] - self.blocks.first[block]) as usize;
        let mut list = TextList::with_capacity(count, 2 * BLOCK_BYTES);
        self.fill(block, &mut list);
        list
    }

    /// Puts the texts of a block in the place of what is in a list.
    fn fill(&mut self, block: usize, list: &mut TextList) {
        list.clear();
        self.each_part(block, |shared, rest| list.push_after(shared, rest));
    }

    /// Gives the bytes of each text of a block to `visit`, in order.
    pub fn each(&mut self, block: usize, mut visit: impl FnMut(&[u8])) {
        let mut text: Vec<u8> = Vec::new();
        self.each_part(block, |shared, rest| {
            text.truncate(shared);
            text.extend_from_slice(rest);
            visit(&text);
        });
    }

    /// Tells of each text of a block how many bytes it shares with the one before, and the rest of it.
    fn each_part(&mut self, block: usize, mut visit: impl FnMut(usize, &[u8])) {
        let of = self.blocks;
        let packed = &of.bytes[of.starts[block] as usize..of.starts[block + 1] as usize];
        let count = (of.first[block + 1] - of.first[block]) as usize;
        // Blocks from a file have been checked by their hash, so that one which does not unpack cannot occur; nothing
        // but empty texts would come of it.
        let bytes = zstd::zstd_safe::get_frame_content_size(packed).ok().flatten().unwrap_or(0);
        self.plain.clear();
        self.plain.reserve(bytes as usize);
        if let Some(zstd) = &mut self.zstd
            && zstd.decompress_to_buffer(packed, &mut self.plain).is_err()
        {
            self.plain.clear();
        }
        let mut rest = self.plain.as_slice();
        let lengths = take_number(&mut rest).min(rest.len());
        let (mut lengths, mut tails) = rest.split_at(lengths);
        for _ in 0..count {
            let shared = take_number(&mut lengths);
            let (tail, rest) = tails.split_at(take_number(&mut lengths).min(tails.len()));
            tails = rest;
            visit(shared, tail);
        }
    }
}
