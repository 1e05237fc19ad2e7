//! Sorted texts to packed blocks, one after the other, so that not all of them have to be there at once.

use rayon::prelude::*;
use zstd::bulk::Compressor;
use zstd::dict::EncoderDictionary;

use super::super::texts::TextList;
use super::blocks::{BLOCK_BYTES, Blocks};

/// Blocks that are packed at a time, on all threads.
const AT_A_TIME: usize = 64;
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
const LEARNT_FROM_TIMES: usize = 16;
/// One in so many blocks of the sample is not learnt from, but tells whether the others have taught anything.
const HELD_OUT: usize = 8;

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

/// Packs texts that come in order.
pub(super) struct Packing {
    level: i32,
    common: Vec<u8>,
    prepared: EncoderDictionary<'static>,
    /// Blocks that wait; the last one is being filled.
    waiting: Vec<TextList>,
    packed: Vec<Vec<u8>>,
    /// The number of each block's first text.
    first: Vec<u64>,
    heads: TextList,
    len: u64,
}

impl Packing {
    fn new(level: i32, common: Vec<u8>) -> Packing {
        let prepared = EncoderDictionary::copy(&common, level);
        let (waiting, packed, first, heads) = (Vec::new(), Vec::new(), Vec::new(), TextList::default());
        Packing { level, common, prepared, waiting, packed, first, heads, len: 0 }
    }

    /// With little effort.
    pub(super) fn quick() -> Packing {
        Packing::new(LITTLE, Vec::new())
    }

    /// Having learnt from some of these texts.
    pub(super) fn learnt(sorted: &TextList) -> Packing {
        let blocks = sorted.bytes() / BLOCK_BYTES;
        let step = sample_step(sorted.bytes());
        let mut sample = Vec::new();
        for block in (0..blocks).step_by(step) {
            let mut texts = TextList::default();
            let from = sorted.len() * block / blocks;
            for i in from..sorted.len() {
                if texts.bytes() >= BLOCK_BYTES {
                    break;
                }
                texts.push_bytes(sorted.get_bytes(i));
            }
            sample.push(texts);
        }
        Packing::learnt_from(&sample, sorted.bytes())
    }

    /// Having learnt from a sample of texts that take so many bytes in all.
    pub(super) fn learnt_from(sample: &[TextList], bytes: usize) -> Packing {
        if bytes < LEARNT_FROM {
            return Packing::new(LEVEL, Vec::new());
        }
        let blocks: Vec<Vec<u8>> = sample.par_iter().map(front_coded).collect();
        let (held_out, taught): (Vec<_>, Vec<_>) = blocks.iter().enumerate().partition(|(i, _)| i % HELD_OUT == 0);
        let taught: Vec<&[u8]> = taught.into_iter().map(|(_, block)| block.as_slice()).collect();
        let size = (bytes / TEXTS_PER_BYTE).min(MOST_COMMON);
        // Too little to learn from is no reason to fail.
        let common = zstd::dict::from_samples(&taught, size).unwrap_or_default();
        let (plain, learnt) = (Packing::new(LEVEL, Vec::new()), Packing::new(LEVEL, common));
        let size = |packing: &Packing| {
            let mut compressor = packing.compressor();
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

    /// Takes the next text, in UTF-8.
    pub(super) fn push(&mut self, text: &[u8]) {
        match self.waiting.last_mut() {
            Some(block) if block.bytes() + block.len() <= BLOCK_BYTES => block.push_bytes(text),
            _ => {
                if self.waiting.len() == AT_A_TIME {
                    self.pack_waiting();
                }
                self.first.push(self.len);
                self.heads.push_bytes(text);
                let mut block = TextList::default();
                block.push_bytes(text);
                self.waiting.push(block);
            }
        }
        self.len += 1;
    }

    fn pack_waiting(&mut self) {
        let waiting = std::mem::take(&mut self.waiting);
        // What a thread packs with serves it for all its blocks.
        let each = |compressor: &mut Option<Compressor<'_>>, texts| packed(compressor, &front_coded(&texts));
        let done: Vec<Vec<u8>> = waiting.into_par_iter().map_init(|| self.compressor(), each).collect();
        self.packed.extend(done);
    }

    /// Takes all texts, and packs them.
    pub(super) fn all(mut self, sorted: &TextList) -> Blocks {
        (0..sorted.len()).for_each(|i| self.push(sorted.get_bytes(i)));
        self.finish()
    }

    /// The texts, packed.
    pub(super) fn finish(mut self) -> Blocks {
        self.pack_waiting();
        self.first.push(self.len);
        Blocks::of(&self.packed, self.first, &self.heads, self.common)
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

impl Blocks {
    /// Packs sorted distinct texts.
    pub fn new(sorted: &TextList) -> Blocks {
        Packing::learnt(sorted).all(sorted)
    }

    /// Packs sorted distinct texts in little time: they will be packed again.
    pub fn for_now(sorted: &TextList) -> Blocks {
        Packing::quick().all(sorted)
    }
}

/// Blocks that were packed with little effort, packed with all.
pub(super) fn repacked(blocks: &Blocks) -> Blocks {
    let mut packing = learnt_from(&[blocks]);
    let mut unpacker = blocks.unpacker();
    for block in 0..blocks.count() {
        let texts = unpacker.block(block);
        (0..texts.len()).for_each(|i| packing.push(texts.get_bytes(i)));
    }
    packing.finish()
}

pub(super) fn learnt_from(parts: &[&Blocks]) -> Packing {
    let bytes = parts.iter().map(|blocks| blocks.count()).sum::<usize>() * BLOCK_BYTES;
    let step = sample_step(bytes);
    let sample = parts.par_iter().flat_map_iter(|blocks| {
        let mut unpacker = blocks.unpacker();
        (0..blocks.count()).step_by(step).map(move |block| unpacker.block(block))
    });
    Packing::learnt_from(&sample.collect::<Vec<_>>(), bytes)
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
