//! Sorted texts to packed blocks: a block at a time, and ranges of texts on all threads.

use zstd::bulk::Compressor;
use zstd::dict::EncoderDictionary;

use super::super::texts::TextList;
use super::blocks::{BLOCK_BYTES, Blocks, PackedTexts};
use cubrel_value::threads::{map_each, map_owned, map_parts};

/// Blocks that a thread packs at a time, about.
const BLOCKS_AT_A_TIME: usize = 64;
/// Effort of packing. More gains nothing where blocks have learnt what they have in common.
const LEVEL: i32 = 3;
/// Effort of packing what is packed again later.
const LITTLE: i32 = 1;

/// What texts have in common is learnt where they take at least so many bytes.
const LEARNT_FROM: usize = 1 << 18;
/// Most bytes of it: what zstd's authors recommend.
const MOST_COMMON: usize = 110 << 10;
/// It may take one byte for so many bytes of texts.
const TEXTS_PER_BYTE: usize = 64;
/// It is learnt from so many times its own bytes.
const LEARNT_FROM_TIMES: usize = 6;
/// One in so many blocks of the sample is not learnt from, but tells whether the others have taught anything.
const HELD_OUT: usize = 8;

/// Sorted texts that stand one after the other.
pub(super) trait SortedTexts: Sync {
    /// How many.
    fn count(&self) -> usize;
    /// How many bytes those before a text take.
    fn start(&self, text: usize) -> usize;
    /// The bytes of a text.
    fn text(&self, text: usize) -> &[u8];

    /// The bytes of all.
    fn all_bytes(&self) -> usize {
        self.start(self.count())
    }

    /// The texts up to the first that begins behind so many bytes.
    fn within(&self, bytes: usize) -> usize {
        let (mut low, mut high) = (0, self.count());
        while low < high {
            let middle = low.midpoint(high);
            if self.start(middle) < bytes { low = middle + 1 } else { high = middle }
        }
        low
    }
}

impl SortedTexts for TextList {
    fn count(&self) -> usize {
        self.len()
    }

    fn start(&self, text: usize) -> usize {
        self.bytes_before(text)
    }

    fn text(&self, text: usize) -> &[u8] {
        self.get_bytes(text)
    }
}

fn push_number(mut n: usize, to: &mut Vec<u8>) {
    while n >= 0x80 {
        to.push(n as u8 | 0x80);
        n >>= 7;
    }
    to.push(n as u8);
}

/// Sorted texts, each without what it shares with the one before.
fn front_coded(texts: &TextList) -> Vec<u8> {
    let (mut lengths, mut tails) = (Vec::new(), Vec::with_capacity(texts.bytes()));
    let mut last: &[u8] = &[];
    for i in 0..texts.len() {
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

/// What blocks are packed with.
pub(super) struct BlockPacker {
    level: i32,
    common: Vec<u8>,
    prepared: EncoderDictionary<'static>,
}

impl BlockPacker {
    fn new(level: i32, common: Vec<u8>) -> BlockPacker {
        let prepared = EncoderDictionary::copy(&common, level);
        BlockPacker { level, common, prepared }
    }

    /// With little effort.
    pub(super) fn quick() -> BlockPacker {
        BlockPacker::new(LITTLE, Vec::new())
    }

    /// Having learnt from a sample of texts that take so many bytes in all.
    pub(super) fn learnt_from(sample: &[TextList], bytes: usize) -> BlockPacker {
        if bytes < LEARNT_FROM {
            return BlockPacker::new(LEVEL, Vec::new());
        }
        let blocks: Vec<Vec<u8>> = map_each(sample, front_coded);
        let (held_out, taught): (Vec<_>, Vec<_>) = blocks.iter().enumerate().partition(|(i, _)| i % HELD_OUT == 0);
        let taught: Vec<&[u8]> = taught.into_iter().map(|(_, block)| block.as_slice()).collect();
        let size = (bytes / TEXTS_PER_BYTE).min(MOST_COMMON);
        // Too little to learn from is no reason to fail.
        let common = zstd::dict::from_samples(&taught, size).unwrap_or_default();
        let (plain, learnt) = (BlockPacker::new(LEVEL, Vec::new()), BlockPacker::new(LEVEL, common));
        let size = |packer: &BlockPacker| {
            let mut compressor = packer.compressor();
            held_out.iter().map(|(_, block)| packed(&mut compressor, block).len()).sum::<usize>()
        };
        let of_all = bytes as f64 / held_out.iter().map(|(i, _)| sample[*i].bytes()).sum::<usize>().max(1) as f64;
        let saved = (size(&plain) as f64 - size(&learnt) as f64) * of_all;
        if saved > learnt.common.len() as f64 { learnt } else { plain }
    }

    fn compressor(&self) -> Option<Compressor<'_>> {
        match self.common.is_empty() {
            true => Compressor::new(self.level).ok(),
            false => Compressor::with_prepared_dictionary(&self.prepared).ok(),
        }
    }

    /// Packing of texts that come in order.
    pub(super) fn start(&self) -> Packing<'_> {
        Packing { compressor: self.compressor(), block: TextList::default(), done: PackedTexts::default() }
    }

    /// All texts, packed on all threads.
    pub(super) fn all(self, texts: &impl SortedTexts) -> Blocks {
        let size = BLOCKS_AT_A_TIME * BLOCK_BYTES;
        let cuts: Vec<usize> = (0..texts.all_bytes().max(1)).step_by(size).map(|bytes| texts.within(bytes)).collect();
        let range = |i: usize| {
            let mut packing = self.start();
            let end = cuts.get(i + 1).copied().unwrap_or_else(|| texts.count());
            (cuts[i]..end).for_each(|text| packing.push(texts.text(text)));
            packing.finish()
        };
        let parts = map_parts(cuts.len(), range);
        self.blocks(parts)
    }

    /// The blocks of ranges of texts that were packed with it, one after the other.
    pub(super) fn blocks(self, ranges: Vec<PackedTexts>) -> Blocks {
        Blocks::of(ranges, self.common)
    }
}

/// Packs texts that come in order.
pub(super) struct Packing<'p> {
    compressor: Option<Compressor<'p>>,
    /// The block that is being filled.
    block: TextList,
    done: PackedTexts,
}

impl Packing<'_> {
    /// Takes the next text, in UTF-8.
    pub(super) fn push(&mut self, text: &[u8]) {
        if self.block.bytes() + self.block.len() > BLOCK_BYTES {
            self.pack();
        }
        if self.block.is_empty() {
            self.done.heads.push_bytes(text);
        }
        self.block.push_bytes(text);
    }

    fn pack(&mut self) {
        let block = packed(&mut self.compressor, &front_coded(&self.block));
        self.done.bytes.extend_from_slice(&block);
        self.done.sizes.push(block.len());
        self.done.counts.push(self.block.len());
        self.block.clear();
    }

    /// The texts, packed.
    pub(super) fn finish(mut self) -> PackedTexts {
        if !self.block.is_empty() {
            self.pack();
        }
        self.done
    }
}

/// A block, packed.
fn packed(compressor: &mut Option<Compressor<'_>>, block: &[u8]) -> Vec<u8> {
    // Packing into memory does not fail; a block that did would be found out by its tests.
    compressor.as_mut().and_then(|compressor| compressor.compress(block).ok()).unwrap_or_default()
}

/// Of how many blocks one is learnt from, where texts take so many bytes.
pub(super) fn sample_step(bytes: usize) -> usize {
    (bytes / (MOST_COMMON * LEARNT_FROM_TIMES)).max(1)
}

/// One block of texts in so many.
pub(super) fn sample_of(texts: &impl SortedTexts, step: usize) -> Vec<TextList> {
    let blocks = texts.all_bytes() / BLOCK_BYTES;
    let block = |block: usize| {
        let mut list = TextList::default();
        for text in texts.count() * block / blocks..texts.count() {
            if list.bytes() >= BLOCK_BYTES {
                break;
            }
            list.push_bytes(texts.text(text));
        }
        list
    };
    (0..blocks).step_by(step).map(block).collect()
}

/// One block in so many, unpacked.
pub(super) fn sample_of_blocks(blocks: &Blocks, step: usize) -> Vec<TextList> {
    let mut unpacker = blocks.unpacker();
    (0..blocks.count()).step_by(step).map(|block| unpacker.block(block)).collect()
}

/// Blocks that were packed with little effort, packed with all.
pub(super) fn repacked(blocks: &Blocks) -> Blocks {
    let bytes = blocks.count() * BLOCK_BYTES;
    let packer = BlockPacker::learnt_from(&sample_of_blocks(blocks, sample_step(bytes)), bytes);
    let range = |from: usize| {
        let (mut packing, mut unpacker) = (packer.start(), blocks.unpacker());
        let end = blocks.count().min(from + BLOCKS_AT_A_TIME);
        (from..end).for_each(|block| unpacker.each(block, |text| packing.push(text)));
        packing.finish()
    };
    let starts: Vec<usize> = (0..blocks.count()).step_by(BLOCKS_AT_A_TIME).collect();
    let ranges = map_owned(starts, range);
    packer.blocks(ranges)
}

impl Blocks {
    /// Packs sorted distinct texts.
    pub(super) fn new(sorted: &impl SortedTexts) -> Blocks {
        let bytes = sorted.all_bytes();
        BlockPacker::learnt_from(&sample_of(sorted, sample_step(bytes)), bytes).all(sorted)
    }

    /// Packs sorted distinct texts in little time: they will be packed again.
    pub(super) fn for_now(sorted: &impl SortedTexts) -> Blocks {
        BlockPacker::quick().all(sorted)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn notes(count: usize) -> TextList {
        let word = |n: usize| ["harbour", "fog", "the boat", "waits", "early", "tide", "crew", "paid"][n % 8];
        let noise = |i: usize| i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 20;
        let note = |i: usize| (0..3 + i % 9).map(|k| word(noise(i * 31 + k))).collect::<Vec<_>>().join(" ");
        let mut notes: Vec<String> = (0..count).map(|i| format!("{} {i}", note(i))).collect();
        notes.sort();
        notes.dedup();
        notes.iter().map(String::as_str).collect()
    }

    fn check(blocks: &Blocks, texts: &TextList) {
        assert_eq!((blocks.len(), blocks.is_empty()), (texts.len(), texts.is_empty()));
        let mut unpacker = blocks.unpacker();
        let unpacked = (0..blocks.count()).map(|block| unpacker.block(block));
        let back: Vec<String> = unpacked.flat_map(|list| list.iter().map(String::from).collect::<Vec<_>>()).collect();
        assert!(back.iter().map(String::as_str).eq(texts.iter()));
        for i in (0..texts.len()).step_by(997) {
            assert_eq!(blocks.get(i), texts.get(i));
            assert_eq!(blocks.find(texts.get(i)), Some(i));
        }
    }

    #[test]
    fn texts_come_back_whatever_was_learnt() {
        for count in [0, 1, 400, 3000, 40_000] {
            let texts = notes(count);
            let (learnt, quick) = (Blocks::new(&texts), Blocks::for_now(&texts));
            check(&learnt, &texts);
            check(&quick, &texts);
            assert!(!quick.has_common());
            assert_eq!(learnt.has_common(), count == 40_000, "{count} notes of {} bytes", texts.bytes());
            assert!(learnt.heap_bytes() <= quick.heap_bytes() || count < 3000, "{count} notes");
        }
    }

    #[test]
    fn what_teaches_nothing_is_not_kept() {
        // Letters that say nothing of one another.
        let noise =
            |i: u64| (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(31).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        let mut texts: Vec<String> =
            (0..30_000u64).map(|i| format!("{:016x}{:016x}", noise(i), noise(i + 70_000))).collect();
        texts.sort();
        let texts: TextList = texts.iter().map(String::as_str).collect();
        let blocks = Blocks::new(&texts);
        assert!(!blocks.has_common());
        check(&blocks, &texts);
    }

    #[test]
    fn a_text_can_be_longer_than_a_block() {
        let long: Vec<String> = ["a", "b", "c"].iter().map(|t| t.repeat(3 * BLOCK_BYTES)).collect();
        let texts: TextList = long.iter().map(String::as_str).chain(["d"]).collect();
        let blocks = Blocks::new(&texts);
        check(&blocks, &texts);
        assert_eq!(blocks.count(), 4);
    }
}
