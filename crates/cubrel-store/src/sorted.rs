//! Numbers that never fall, in few bits each and with each in reach: Elias–Fano encoding.
//!
//! Source: P. Elias, "Efficient storage and retrieval by content and address of static files" (JACM 21(2), 1974);
//! R. Fano, "On the number of bits required to implement an associative memory" (MIT, 1971). With `n` numbers up to `u`
//! it takes at most `2 + log2(u / n)` bits for each, and half a bit more for finding the `i`-th at once.

use super::bits::PackedInts;
use super::buffer::Buffer;
use super::unpack::Processor;

/// Numbers between two places of the high bits that are remembered.
const SAMPLE: usize = 128;

/// Whole numbers in ascending order, repeats allowed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SortedInts {
    /// The low bits of each number.
    low: PackedInts,
    /// For each number a one, with a zero before it for every step of the high bits.
    high: Buffer<u64>,
    /// Where the ones of numbers 0, [`SAMPLE`], … stand in `high`.
    samples: Buffer<u64>,
}

fn low_bits(len: usize, max: u64) -> u8 {
    (max / len.max(1) as u64).checked_ilog2().unwrap_or(0) as u8
}

impl SortedInts {
    /// Codes ascending numbers of which none is greater than `max`.
    ///
    /// # Panics
    /// In debug builds, when a number is smaller than the one before, or greater than `max`.
    pub fn new(values: impl ExactSizeIterator<Item = u64> + Clone, max: u64) -> SortedInts {
        let len = values.len();
        let bits = low_bits(len, max);
        let mask = (1u64 << bits) - 1;
        let low = PackedInts::pack(values.clone().map(|v| v & mask), bits);
        let mut high = vec![0u64; (len + (max >> bits) as usize + 1).div_ceil(64)];
        let mut samples = Vec::with_capacity(len.div_ceil(SAMPLE));
        let mut last = 0;
        for (i, value) in values.enumerate() {
            debug_assert!(last <= value && value <= max, "{value} after {last}, at most {max}");
            last = value;
            let place = i + (value >> bits) as usize;
            high[place / 64] |= 1 << (place % 64);
            if i % SAMPLE == 0 {
                samples.push(place as u64);
            }
        }
        SortedInts { low, high: high.into(), samples: samples.into() }
    }

    /// How many bytes [`SortedInts::new`] will take.
    pub fn bytes_for(len: usize, max: u64) -> usize {
        let bits = low_bits(len, max);
        let high = (len as u64 + (max >> bits) + 1).div_ceil(64) as usize;
        (len.div_ceil(64) * usize::from(bits) + high + len.div_ceil(SAMPLE)) * 8
    }

    /// From what [`SortedInts::parts`] gave; `None` if they do not fit each other.
    pub fn from_parts(low: PackedInts, high: Buffer<u64>, samples: Buffer<u64>) -> Option<SortedInts> {
        let fits = samples.len() == low.len().div_ceil(SAMPLE) && high.len() * 64 >= low.len();
        fits.then_some(SortedInts { low, high, samples })
    }

    /// What a store file keeps.
    pub fn parts(&self) -> (&PackedInts, &[u64], &[u64]) {
        (&self.low, &self.high, &self.samples)
    }

    /// How many numbers.
    pub fn len(&self) -> usize {
        self.low.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.low.is_empty()
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        self.low.heap_bytes() + (self.high.len() + self.samples.len()) * 8
    }

    /// The number at `i`.
    ///
    /// # Panics
    /// When there are not so many.
    pub fn get(&self, i: usize) -> u64 {
        let place = self.place(i);
        (place - i as u64) << self.low.bits() | self.low.get(i)
    }

    /// Where the `i`-th one stands.
    fn place(&self, i: usize) -> u64 {
        let start = self.samples[i / SAMPLE];
        let mut left = (i % SAMPLE) as u32;
        let mut word = (start / 64) as usize;
        let mut bits = self.high[word] & (u64::MAX << (start % 64));
        while bits.count_ones() <= left {
            left -= bits.count_ones();
            word += 1;
            bits = self.high.get(word).copied().unwrap_or(u64::MAX);
        }
        for _ in 0..left {
            bits &= bits - 1;
        }
        word as u64 * 64 + u64::from(bits.trailing_zeros())
    }

    /// The numbers from `i` on.
    pub fn iter_from(&self, i: usize) -> SortedIter<'_> {
        let (word, bits) = if i < self.len() {
            let place = self.place(i);
            ((place / 64) as usize, self.high[(place / 64) as usize] & (u64::MAX << (place % 64)))
        } else {
            (0, 0)
        };
        SortedIter { of: self, at: i.min(self.len()), word, bits, lows: [0; BUFFERED], from: usize::MAX }
    }

    /// Adds the numbers from the `first` on, each less `start`, to `out`, up to the first that reaches `len`; that one, and
    /// the end of the numbers, become `len`.
    pub fn extend_upto(&self, first: usize, start: u64, len: u32, out: &mut Vec<u32>) {
        #[cfg(target_arch = "x86_64")]
        if Processor::here() == Processor::Avx2 {
            // SAFETY: the processor has these.
            return unsafe { self.extend_in_vectors(first, start, len, out) };
        }
        self.extend_each(first, start, len, out);
    }

    /// The same where the compiler may take it that bits are counted and found in one step, and that there are vectors of 256 bits.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2,popcnt,bmi1")]
    fn extend_in_vectors(&self, first: usize, start: u64, len: u32, out: &mut Vec<u32>) {
        self.extend_each(first, start, len, out);
    }

    #[inline(always)]
    fn extend_each(&self, first: usize, start: u64, len: u32, out: &mut Vec<u32>) {
        let width = self.low.bits();
        let (mut lows, mut places) = ([0u64; BUFFERED], [0u64; BUFFERED]);
        let mut at = first;
        let mut ones = self.iter_from(first);
        while at < self.len() {
            let count = BUFFERED.min(self.len() - at);
            if width > 0 {
                self.low.unpack(at, 0, &mut lows[..count]);
            }
            ones.take_places(&mut places[..count]);
            // A value of the last one tells whether all of them are below.
            let before = out.len();
            out.extend(places[..count].iter().zip(&lows).enumerate().map(|(i, (place, low))| {
                let value = ((place - (at + i) as u64) << width | low) - start;
                value.min(u64::from(len)) as u32
            }));
            if out.last() == Some(&len) {
                out.truncate(before + out[before..].partition_point(|value| *value < len) + 1);
                return;
            }
            at += count;
        }
        if out.last() != Some(&len) {
            out.push(len);
        }
    }

    /// How many numbers are smaller than `value`.
    pub fn rank(&self, value: u64) -> usize {
        let (mut low, mut high) = (0, self.len());
        while low < high {
            let middle = low.midpoint(high);
            if self.get(middle) < value { low = middle + 1 } else { high = middle }
        }
        low
    }
}

/// Low bits that are unpacked at a time.
const BUFFERED: usize = 64;

/// Goes through sorted numbers.
#[derive(Clone, Debug)]
pub struct SortedIter<'a> {
    of: &'a SortedInts,
    at: usize,
    word: usize,
    /// The ones of `word` that are still to come.
    bits: u64,
    lows: [u64; BUFFERED],
    /// The number whose low bits are the first of `lows`.
    from: usize,
}

impl SortedIter<'_> {
    /// Where the next ones stand in the high bits.
    #[inline(always)]
    fn take_places(&mut self, places: &mut [u64]) {
        let mut left = places;
        while !left.is_empty() {
            let (here, rest) = left.split_at_mut(left.len().min(self.bits.count_ones() as usize));
            for place in here {
                *place = self.word as u64 * 64 + u64::from(self.bits.trailing_zeros());
                self.bits &= self.bits - 1;
            }
            left = rest;
            if self.bits == 0 {
                self.word += 1;
                self.bits = self.of.high.get(self.word).copied().unwrap_or(u64::MAX);
            }
        }
    }

    /// Where the next one stands in the high bits.
    #[inline]
    fn next_place(&mut self) -> u64 {
        while self.bits == 0 {
            self.word += 1;
            self.bits = self.of.high.get(self.word).copied().unwrap_or(u64::MAX);
        }
        let place = self.word as u64 * 64 + u64::from(self.bits.trailing_zeros());
        self.bits &= self.bits - 1;
        place
    }
}

impl Iterator for SortedIter<'_> {
    type Item = u64;

    #[inline]
    fn next(&mut self) -> Option<u64> {
        if self.at >= self.of.len() {
            return None;
        }
        let place = self.next_place();
        let i = self.at;
        self.at += 1;
        if i / BUFFERED * BUFFERED != self.from {
            self.from = i / BUFFERED * BUFFERED;
            let count = BUFFERED.min(self.of.len() - self.from);
            self.of.low.unpack(self.from, 0, &mut self.lows[..count]);
        }
        Some((place - i as u64) << self.of.low.bits() | self.lows[i % BUFFERED])
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        let left = self.of.len() - self.at;
        (left, Some(left))
    }
}

impl ExactSizeIterator for SortedIter<'_> {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_come_back_one_by_one_and_in_a_row() {
        let spread = |n: u64, step: u64| -> Vec<u64> { (0..n).map(|i| i * step + (i * i) % step.max(1)).collect() };
        let cases: Vec<Vec<u64>> = vec![
            vec![],
            vec![0],
            vec![u64::MAX - 1],
            vec![3, 3, 3, 9],
            (0..1000).collect(),
            spread(700, 1_000_003),
            [0, 1, 2, 1 << 60].to_vec(),
            (0..500).map(|i| if i < 250 { i } else { 1 << 40 }).collect(),
        ];
        for values in cases {
            let max = values.last().copied().unwrap_or(0);
            let sorted = SortedInts::new(values.iter().copied(), max);
            assert_eq!(sorted.len(), values.len());
            assert_eq!(sorted.heap_bytes(), SortedInts::bytes_for(values.len(), max), "{} values", values.len());
            for (i, value) in values.iter().enumerate() {
                assert_eq!(sorted.get(i), *value);
                assert_eq!(sorted.rank(*value), values.partition_point(|v| v < value));
                assert_eq!(sorted.rank(value + 1), values.partition_point(|v| v <= value));
            }
            for start in [0, 1, 63, 64, 100, values.len()] {
                let from: Vec<u64> = sorted.iter_from(start).collect();
                assert_eq!(from, values[start.min(values.len())..], "from {start}");
            }
        }
    }

    #[test]
    fn two_bits_and_the_logarithm_of_the_gaps() {
        let values: Vec<u64> = (0..100_000u64).map(|i| i * 1000 + i % 7).collect();
        let bits = SortedInts::new(values.iter().copied(), 100_000_000).heap_bytes() as f64 * 8.0 / 100_000.0;
        assert!(bits < 2.0 + 1000f64.log2() + 0.6, "{bits} bits each");
    }
}
