//! Texts in blocks: each without what it shares with the one before (front coding), the block packed with zstd.
//!
//! Source: I. Witten, A. Moffat, T. Bell, "Managing Gigabytes" (1999), section 4.1; RFC 8878 for zstd.

use std::sync::Arc;

use rayon::prelude::*;

use super::super::buffer::Buffer;
use super::super::texts::TextList;

/// Bytes of texts in a block, about: unpacking one takes some microseconds.
const BLOCK_BYTES: usize = 1 << 14;
/// Effort of packing.
const LEVEL: i32 = 6;

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
}

fn push_number(mut n: usize, to: &mut Vec<u8>) {
    while n >= 0x80 {
        to.push(n as u8 | 0x80);
        n >>= 7;
    }
    to.push(n as u8);
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

/// Texts `from` to `to`, each without what it shares with the one before.
fn front_coded(texts: &TextList, from: usize, to: usize) -> Vec<u8> {
    let (mut lengths, mut tails) = (Vec::new(), Vec::new());
    let mut last: &[u8] = &[];
    for i in from..to {
        let text = texts.get_bytes(i);
        let shared = last.iter().zip(text).take_while(|(a, b)| a == b).count();
        push_number(shared, &mut lengths);
        push_number(text.len() - shared, &mut lengths);
        tails.extend_from_slice(&text[shared..]);
        last = text;
    }
    let mut block = Vec::with_capacity(lengths.len() + tails.len() + 4);
    push_number(lengths.len(), &mut block);
    block.extend(lengths);
    block.extend(tails);
    block
}

impl Blocks {
    /// Packs sorted distinct texts.
    pub fn new(sorted: &TextList) -> Blocks {
        let mut first = vec![0u64];
        let mut filled = 0;
        for (i, text) in sorted.iter().enumerate() {
            if filled > BLOCK_BYTES {
                first.push(i as u64);
                filled = 0;
            }
            filled += text.len() + 1;
        }
        if !sorted.is_empty() {
            first.push(sorted.len() as u64);
        }
        let packed: Vec<Vec<u8>> = first
            .par_windows(2)
            .map(|w| {
                let block = front_coded(sorted, w[0] as usize, w[1] as usize);
                // Packing into memory does not fail; a block that did would be found out by its tests.
                zstd::bulk::compress(&block, LEVEL).unwrap_or_default()
            })
            .collect();
        let (mut starts, mut bytes) = (vec![0], Vec::new());
        for block in &packed {
            bytes.extend_from_slice(block);
            starts.push(bytes.len() as u64);
        }
        let (mut head_starts, mut heads) = (vec![0], Vec::new());
        for i in &first[..first.len() - 1] {
            heads.extend_from_slice(sorted.get_bytes(*i as usize));
            head_starts.push(heads.len() as u64);
        }
        Blocks {
            len: sorted.len(),
            bytes: bytes.into(),
            starts: starts.into(),
            first: first.into(),
            heads: heads.into(),
            head_starts: head_starts.into(),
        }
    }

    /// From what [`Blocks::parts`] gave; `None` if they do not fit each other.
    pub fn from_parts(bytes: [Buffer<u8>; 2], numbers: [Buffer<u64>; 3]) -> Option<Blocks> {
        let [bytes, heads] = bytes;
        let [starts, first, head_starts] = numbers;
        let rising = |n: &[u64], end: usize| {
            n.first() == Some(&0) && n.last() == Some(&(end as u64)) && n.windows(2).all(|w| w[0] <= w[1])
        };
        let len = usize::try_from(*first.last()?).ok()?;
        let fits = rising(&starts, bytes.len()) && rising(&head_starts, heads.len()) && rising(&first, len);
        let even = starts.len() == first.len() && head_starts.len() == first.len();
        (fits && even).then_some(Blocks { len, bytes, starts, first, heads, head_starts })
    }

    /// What a store file keeps: blocks and heads; where blocks begin, their first texts' numbers, where heads begin.
    pub fn parts(&self) -> ([&[u8]; 2], [&[u64]; 3]) {
        ([&self.bytes, &self.heads], [&self.starts, &self.first, &self.head_starts])
    }

    /// How many texts.
    pub fn len(&self) -> usize {
        self.len
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// How many blocks.
    pub fn count(&self) -> usize {
        self.first.len() - 1
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        self.bytes.len() + self.heads.len() + (self.starts.len() + self.first.len() + self.head_starts.len()) * 8
    }

    /// The texts of a block.
    pub fn block(&self, block: usize) -> TextList {
        let packed = &self.bytes[self.starts[block] as usize..self.starts[block + 1] as usize];
        let count = (self.first[block + 1] - self.first[block]) as usize;
        // Blocks from a file have been checked by their hash, so that one which does not unpack cannot occur; nothing
        // but empty texts would come of it.
        let plain = zstd::stream::decode_all(packed).unwrap_or_default();
        let mut rest = plain.as_slice();
        let lengths = take_number(&mut rest).min(rest.len());
        let (mut lengths, mut tails) = rest.split_at(lengths);
        let mut list = TextList::with_capacity(count, 2 * BLOCK_BYTES);
        let mut text: Vec<u8> = Vec::new();
        for _ in 0..count {
            text.truncate(take_number(&mut lengths));
            let (tail, rest) = tails.split_at(take_number(&mut lengths).min(tails.len()));
            tails = rest;
            text.extend_from_slice(tail);
            list.push(&String::from_utf8_lossy(&text));
        }
        list
    }

    fn block_of(&self, code: usize) -> usize {
        self.first.partition_point(|f| *f <= code as u64) - 1
    }

    /// The text of a code.
    pub fn get(&self, code: usize) -> String {
        let block = self.block_of(code);
        self.block(block).get(code - self.first[block] as usize).to_string()
    }

    /// The texts of some codes, each block unpacked once; those that are none are `empty`.
    pub fn texts(&self, codes: &[u64], empty: &Arc<str>) -> Vec<Arc<str>> {
        let mut order: Vec<u32> = (0..codes.len() as u32).collect();
        order.sort_unstable_by_key(|i| codes[*i as usize]);
        let mut texts = vec![empty.clone(); codes.len()];
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
                    held = Some((block, self.block(block)));
                }
                let place = (code - self.first[block]) as usize;
                held.as_ref().map_or_else(|| empty.clone(), |(_, list)| Arc::from(list.get(place)))
            });
            texts[i as usize] = text.clone();
            last = Some((code, text));
        }
        texts
    }

    /// The code of a text.
    pub fn find(&self, text: &str) -> Option<usize> {
        let head = |b: usize| &self.heads[self.head_starts[b] as usize..self.head_starts[b + 1] as usize];
        let (mut low, mut high) = (0, self.count());
        while low < high {
            let middle = low.midpoint(high);
            if head(middle) <= text.as_bytes() { low = middle + 1 } else { high = middle }
        }
        let block = low.checked_sub(1)?;
        let place = self.block(block).iter().position(|t| t == text)?;
        Some(self.first[block] as usize + place)
    }
}
