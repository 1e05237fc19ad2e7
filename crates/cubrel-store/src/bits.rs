//! Whole numbers packed to as many bits as the largest needs.
//!
//! Values lie in blocks of 64, so that a block of `b`-bit values takes exactly `b` words and can be unpacked by code
//! in which every shift is a constant.

use super::buffer::Buffer;
use super::unpack::{self, BLOCK, NARROW, Processor};

/// Where one of so many values is wanted, or more, the blocks that they stand in are unpacked.
const WORTH_A_BLOCK: usize = 8;

/// Packed numbers of up to 64 bits each.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PackedInts {
    bits: u8,
    len: usize,
    words: Buffer<u64>,
}

/// A value of those that are packed with so many bits, at least one. Whether it goes on in the next word is not asked: that is not to be
/// foreseen.
#[inline(always)]
fn value(words: &[u64], bits: u8, i: usize) -> u64 {
    let at = i * usize::from(bits);
    let (low, high) = (words[at / 64], words.get(at / 64 + 1).copied().unwrap_or(0));
    let from_there = (u128::from(high) << 64 | u128::from(low)) >> (at % 64);
    from_there as u64 & (u64::MAX >> (64 - bits))
}

/// How many bits hold every number up to `max`.
pub fn bits_for(max: u64) -> u8 {
    (64 - max.leading_zeros()) as u8
}

/// Packs numbers one after the other.
struct Packer {
    bits: u8,
    len: usize,
    words: Vec<u64>,
    /// The word that is being filled, and how many bits of it are.
    word: u64,
    filled: usize,
    next: usize,
}

impl Packer {
    /// For so many numbers of so many bits.
    fn new(len: usize, bits: u8) -> Packer {
        let words = vec![0u64; len.div_ceil(BLOCK) * usize::from(bits)];
        Packer { bits, len, words, word: 0, filled: 0, next: 0 }
    }

    #[inline(always)]
    fn push(&mut self, value: u64) {
        let width = usize::from(self.bits);
        debug_assert!(width == 64 || value >> width == 0, "{value} needs more than {width} bits");
        self.word |= value << self.filled;
        self.filled += width;
        if self.filled >= 64 {
            if let Some(slot) = self.words.get_mut(self.next) {
                *slot = self.word;
            }
            self.next += 1;
            self.filled -= 64;
            self.word = if self.filled == 0 { 0 } else { value >> (width - self.filled) };
        }
    }

    fn finish(mut self) -> PackedInts {
        if let Some(slot) = self.words.get_mut(self.next) {
            *slot = self.word;
        }
        PackedInts { bits: self.bits, len: self.len, words: self.words.into() }
    }
}

impl PackedInts {
    /// Packs `values`, none of which needs more than `bits` bits.
    ///
    /// # Panics
    /// In debug builds, when a value needs more bits.
    pub fn pack(values: impl ExactSizeIterator<Item = u64>, bits: u8) -> PackedInts {
        let mut packer = Packer::new(values.len(), bits);
        values.for_each(|value| packer.push(value));
        packer.finish()
    }

    /// As many numbers, each what `turn` makes of one of these.
    pub fn turned(&self, bits: u8, turn: impl Fn(u64) -> u64) -> PackedInts {
        let mut packer = Packer::new(self.len, bits);
        let mut block = [0; BLOCK];
        for start in (0..self.len).step_by(BLOCK) {
            let block = &mut block[..BLOCK.min(self.len - start)];
            self.unpack(start, 0, block);
            block.iter().for_each(|value| packer.push(turn(*value)));
        }
        packer.finish()
    }

    /// From what [`PackedInts::words`] gave; `None` if the lengths do not agree.
    pub fn from_words(bits: u8, len: usize, words: Buffer<u64>) -> Option<PackedInts> {
        (bits <= 64 && words.len() == len.div_ceil(BLOCK) * usize::from(bits)).then_some(PackedInts {
            bits,
            len,
            words,
        })
    }

    /// Bits of each value.
    pub fn bits(&self) -> u8 {
        self.bits
    }

    /// How many values.
    pub fn len(&self) -> usize {
        self.len
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// The packed words.
    pub fn words(&self) -> &[u64] {
        &self.words
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        self.words.len() * 8
    }

    /// The value at `i`.
    #[inline]
    pub fn get(&self, i: usize) -> u64 {
        assert!(i < self.len, "row {i} of {}", self.len);
        match self.bits {
            0 => 0,
            bits => value(&self.words, bits, i),
        }
    }

    /// Writes the values from `start` on to `out`, adding `base` to each.
    ///
    /// # Panics
    /// When there are fewer values than `out` has room for.
    pub fn unpack(&self, start: usize, base: u64, out: &mut [u64]) {
        self.unpack_with(start, out, |v| base.wrapping_add(v));
    }

    /// Writes what `map` gives for the values from `start` on to `out`.
    ///
    /// # Panics
    /// When there are fewer values than `out` has room for.
    pub fn map_rows<T: Copy + Default>(&self, start: usize, out: &mut [T], map: impl Fn(u64) -> T + Copy) {
        self.unpack_with(start, out, map);
    }

    /// What `map` gives for the values at some places, counted from `start` on and in order. Where many stand in one block, the block is
    /// unpacked: to reach for one of them takes as long as for so many to come along.
    ///
    /// # Panics
    /// When there is no value at one of the places.
    pub fn map_some<T>(&self, start: usize, places: &[u32], map: impl Fn(u64) -> T) -> Vec<T> {
        let [first, .., last] = places else {
            return places.iter().map(|place| map(self.get(start + *place as usize))).collect();
        };
        assert!(start + (*last as usize) < self.len && first <= last, "places {first} to {last} from {start} on");
        if self.bits == 0 {
            return places.iter().map(|_| map(0)).collect();
        }
        if places.len() * WORTH_A_BLOCK > (last - first) as usize {
            return self.map_near(start, places, map);
        }
        let words: &[u64] = &self.words;
        places.iter().map(|place| map(value(words, self.bits, start + *place as usize))).collect()
    }

    /// The same, block by block.
    fn map_near<T>(&self, start: usize, places: &[u32], map: impl Fn(u64) -> T) -> Vec<T> {
        let mut found = Vec::with_capacity(places.len());
        let mut block = [0u64; BLOCK];
        for near in places.chunk_by(|a, b| (start + *a as usize) / BLOCK == (start + *b as usize) / BLOCK) {
            let first = (start + near[0] as usize) / BLOCK * BLOCK;
            if first + BLOCK > self.len {
                found.extend(near.iter().map(|place| map(self.get(start + *place as usize))));
            } else {
                self.unpack(first, 0, &mut block);
                found.extend(near.iter().map(|place| map(block[(start + *place as usize) % BLOCK])));
            }
        }
        found
    }

    /// As [`PackedInts::map_rows`] for numbers of at most 32 bits, so that eight of them are mapped together where `map` allows.
    ///
    /// # Panics
    /// When there are fewer values than `out` has room for, or they have more bits.
    pub(super) fn map_narrow<T: Copy + Default>(&self, start: usize, out: &mut [T], map: impl Fn(u32) -> T + Copy) {
        assert!(start + out.len() <= self.len && (1..=NARROW).contains(&self.bits), "{} bits", self.bits);
        #[cfg(target_arch = "x86_64")]
        if Processor::here() == Processor::Avx2 {
            // SAFETY: the processor has AVX2.
            return unsafe { self.map_narrow_in_vectors(start, out, map) };
        }
        self.map_narrow_blocks(Processor::Plain, start, out, map);
    }

    /// The same where the compiler may take it that there are vectors of 256 bits, for `map` as well.
    ///
    /// # Safety
    /// The processor has AVX2.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2")]
    unsafe fn map_narrow_in_vectors<T: Copy + Default>(
        &self,
        start: usize,
        out: &mut [T],
        map: impl Fn(u32) -> T + Copy,
    ) {
        self.map_narrow_blocks(Processor::Avx2, start, out, map);
    }

    #[inline(always)]
    fn map_narrow_blocks<T: Copy + Default>(
        &self,
        processor: Processor,
        start: usize,
        out: &mut [T],
        map: impl Fn(u32) -> T + Copy,
    ) {
        let mut block = [0u32; BLOCK];
        let mut at = 0;
        while at < out.len() {
            let (first, skip) = ((start + at) / BLOCK, (start + at) % BLOCK);
            let take = (BLOCK - skip).min(out.len() - at);
            unpack::narrow(processor, self.bits, &self.words[first * usize::from(self.bits)..], &mut block);
            let target = &mut out[at..at + take];
            // Whole blocks by themselves, so that the compiler knows how many there are.
            match <&mut [T; BLOCK]>::try_from(&mut *target) {
                Ok(whole) => (0..BLOCK).for_each(|i| whole[i] = map(block[i])),
                Err(_) => target.iter_mut().zip(&block[skip..]).for_each(|(slot, value)| *slot = map(*value)),
            }
            at += take;
        }
    }

    /// As [`PackedInts::map_rows`].
    pub(super) fn unpack_with<T: Copy + Default>(&self, start: usize, out: &mut [T], make: impl Fn(u64) -> T + Copy) {
        assert!(start + out.len() <= self.len, "rows {start} to {} of {}", start + out.len(), self.len);
        #[cfg(target_arch = "x86_64")]
        if Processor::here() == Processor::Avx2 {
            // SAFETY: the processor has AVX2.
            return unsafe { self.unpack_in_vectors(start, out, make) };
        }
        self.unpack_blocks(Processor::Plain, start, out, make);
    }

    /// The same where the compiler may take it that there are vectors of 256 bits, for `make` as well.
    ///
    /// # Safety
    /// The processor has AVX2.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2")]
    unsafe fn unpack_in_vectors<T: Copy + Default>(&self, start: usize, out: &mut [T], make: impl Fn(u64) -> T + Copy) {
        self.unpack_blocks(Processor::Avx2, start, out, make);
    }

    #[inline(always)]
    fn unpack_blocks<T: Copy + Default>(
        &self,
        processor: Processor,
        start: usize,
        out: &mut [T],
        make: impl Fn(u64) -> T + Copy,
    ) {
        let width = usize::from(self.bits);
        let (mut few, mut many) = ([0u32; BLOCK], [0u64; BLOCK]);
        let mut at = 0;
        while at < out.len() {
            let row = start + at;
            let (block, skip) = (row / BLOCK, row % BLOCK);
            let take = (BLOCK - skip).min(out.len() - at);
            let words = &self.words[block * width..];
            let target = &mut out[at..at + take];
            // The numbers go through a block of their own, so that there is one piece of code for each width, and not one for
            // each width and purpose.
            match self.bits {
                0 => target.fill(make(0)),
                1..=NARROW => {
                    unpack::narrow(processor, self.bits, words, &mut few);
                    target.iter_mut().zip(&few[skip..]).for_each(|(slot, value)| *slot = make(u64::from(*value)));
                }
                _ => {
                    unpack::wide(processor, self.bits, words, &mut many);
                    target.iter_mut().zip(&many[skip..]).for_each(|(slot, value)| *slot = make(*value));
                }
            }
            at += take;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_width_gives_back_what_was_packed() {
        for bits in 0..=64u8 {
            let mask = if bits == 64 { u64::MAX } else { (1u64 << bits) - 1 };
            let values: Vec<u64> =
                (0..300u64).map(|i| i.wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(7) & mask).collect();
            let packed = PackedInts::pack(values.iter().copied(), bits);
            assert_eq!(values, (0..300).map(|i| packed.get(i)).collect::<Vec<_>>(), "{bits} bits");
            for (start, len) in [(0, 300), (64, 64), (3, 200), (299, 1), (300, 0)] {
                let mut out = vec![0; len];
                packed.unpack(start, 5, &mut out);
                let expected: Vec<u64> = values[start..start + len].iter().map(|v| v.wrapping_add(5)).collect();
                assert_eq!(out, expected, "{bits} bits from {start}");
                if (1..=NARROW).contains(&bits) {
                    let mut out = vec![0; len];
                    packed.map_narrow(start, &mut out, |v| v ^ 5);
                    let expected: Vec<u32> = values[start..start + len].iter().map(|v| *v as u32 ^ 5).collect();
                    assert_eq!(out, expected, "{bits} bits from {start}");
                }
            }
        }
    }

    #[test]
    fn some_values_are_those_at_their_places() {
        for bits in [0, 3, 17, 30, 41, 64] {
            let value = |i: u64| i.wrapping_mul(0x9E37_79B9_7F4A_7C15).checked_shr(64 - u32::from(bits)).unwrap_or(0);
            let packed = PackedInts::pack((0..1000u64).map(value).collect::<Vec<_>>().into_iter(), bits);
            for (start, step) in [(0, 1), (5, 7), (130, 40), (64, 300), (990, 2)] {
                let places: Vec<u32> = (0..(1000 - start) as u32).step_by(step).collect();
                let expected: Vec<u64> = places.iter().map(|place| packed.get(start + *place as usize) + 1).collect();
                assert_eq!(packed.map_some(start, &places, |v| v + 1), expected, "{bits} bits from {start} by {step}");
            }
            assert!(packed.map_some(3, &[], |v| v).is_empty());
        }
    }

    #[test]
    fn lengths_that_do_not_agree_are_refused() {
        let packed = PackedInts::pack([1u64, 2, 3].into_iter(), 2);
        let words: Buffer<u64> = packed.words().iter().copied().collect();
        assert_eq!(PackedInts::from_words(2, 3, words.clone()), Some(packed));
        assert_eq!(PackedInts::from_words(3, 3, words.clone()), None);
        assert_eq!(PackedInts::from_words(65, 3, words), None);
    }
}
