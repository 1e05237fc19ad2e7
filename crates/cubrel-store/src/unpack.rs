//! Blocks of packed numbers, unpacked: for each width code in which every place and shift is a constant, and vector
//! instructions where the processor has them, which is found out when the program runs.
//!
//! Each group of eight numbers begins at a whole byte. Four of them lie within 16 bytes while they have at most 25 bits each,
//! so that one shuffle brings the bytes of each into a lane of its own, where a shift and a mask leave the number; two of them while they
//! have at most 57. The crates
//! that pack integers for vectors (`bitpacking`, `fastlanes`) keep other orders, in which a single value is further to reach.

/// Numbers in a block.
pub(super) const BLOCK: usize = 64;
/// Numbers of at most so many bits are unpacked to 32 bits.
pub(super) const NARROW: u8 = 32;

/// What the processor can do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Processor {
    /// Nothing beyond what every one of its kind can.
    Plain,
    /// Vectors of 256 bits whose lanes are shifted each by its own amount, and bits that are counted and found in one step.
    #[cfg(target_arch = "x86_64")]
    Avx2,
}

impl Processor {
    /// This one.
    pub(super) fn here() -> Processor {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2")
            && std::arch::is_x86_feature_detected!("popcnt")
            && std::arch::is_x86_feature_detected!("bmi1")
        {
            return Processor::Avx2;
        }
        Processor::Plain
    }
}

/// Calls a function with the constant that a width is.
macro_rules! with_width {
    ($bits:expr, $call:ident $args:tt, $($n:literal)*) => {
        match $bits {
            $($n => $call::<$n> $args,)*
            _ => unreachable!("widths are chosen by the caller"),
        }
    };
}

/// Unpacks a block of numbers of 1 to 32 bits. `words` begin with the block and go on to the end of all.
pub(super) fn narrow(processor: Processor, bits: u8, words: &[u64], out: &mut [u32; BLOCK]) {
    with_width!(bits, narrow_of(processor, words, out), 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26
        27 28 29 30 31 32);
}

/// Unpacks a block of numbers of 33 to 64 bits.
pub(super) fn wide(processor: Processor, bits: u8, words: &[u64], out: &mut [u64; BLOCK]) {
    with_width!(bits, wide_of(processor, words, out), 33 34 35 36 37 38 39 40 41 42 43 44 45 46 47 48 49 50 51 52 53 54 55 56 57 58 59
        60 61 62 63 64);
}

/// One number of a block, at a place and width that the compiler knows.
#[inline(always)]
fn value_at<const BITS: usize>(words: &[u64; BITS], i: usize) -> u64 {
    let mask = if BITS == 64 { u64::MAX } else { (1u64 << (BITS % 64)) - 1 };
    let at = i * BITS;
    let (word, shift) = (at / 64, at % 64);
    let low = words[word] >> shift;
    let value = if shift + BITS > 64 { low | words[word + 1] << (64 - shift) } else { low };
    value & mask
}

/// Written out number by number: left to itself the compiler keeps a loop, and computes places and shifts anew for each.
macro_rules! each_value {
    ($words:ident, $out:ident, $as:ty, $($i:literal)*) => { $($out[$i] = value_at($words, $i) as $as;)* };
}

fn narrow_of<const BITS: usize>(processor: Processor, words: &[u64], out: &mut [u32; BLOCK]) {
    #[cfg(target_arch = "x86_64")]
    if BITS <= vectors::WIDEST && processor == Processor::Avx2 && words.len() >= BITS + vectors::SLACK {
        // SAFETY: the processor has AVX2, and there are as many words as it reads.
        unsafe { vectors::unpack::<BITS>(words, out) };
        return;
    }
    let _ = processor;
    let Some(words) = words.first_chunk::<BITS>() else { return };
    each_value!(words, out, u32, 0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30 31 32 33 34
        35 36 37 38 39 40 41 42 43 44 45 46 47 48 49 50 51 52 53 54 55 56 57 58 59 60 61 62 63);
}

/// Numbers of so many bits lie within eight bytes, wherever they begin.
const WITHIN_WORD: usize = 57;

fn wide_of<const BITS: usize>(processor: Processor, words: &[u64], out: &mut [u64; BLOCK]) {
    #[cfg(target_arch = "x86_64")]
    if BITS <= WITHIN_WORD && processor == Processor::Avx2 && words.len() > BITS {
        // SAFETY: the processor has AVX2, and there is a word behind the block.
        unsafe { vectors::unpack_wide::<BITS>(words, out) };
        return;
    }
    let _ = processor;
    if BITS <= WITHIN_WORD && cfg!(target_endian = "little") && words.len() > BITS {
        return within_words::<BITS>(words, out);
    }
    let Some(words) = words.first_chunk::<BITS>() else { return };
    each_value!(words, out, u64, 0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30 31 32 33 34
        35 36 37 38 39 40 41 42 43 44 45 46 47 48 49 50 51 52 53 54 55 56 57 58 59 60 61 62 63);
}

/// Each number from the eight bytes at whose first it begins. There is a word behind the block.
fn within_words<const BITS: usize>(words: &[u64], out: &mut [u64; BLOCK]) {
    assert!(BITS <= WITHIN_WORD && words.len() > BITS);
    let bytes = words.as_ptr().cast::<u8>();
    let mask = u64::MAX >> (64 - BITS);
    macro_rules! each {
        ($($i:literal)*) => {
            $(
                // SAFETY: the last number begins in the last word of the block, and there is one behind it.
                let value = unsafe { bytes.add($i * BITS / 8).cast::<u64>().read_unaligned() };
                out[$i] = value >> ($i * BITS % 8) & mask;
            )*
        };
    }
    each!(0 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30 31 32 33 34 35 36 37 38 39 40 41 42 43
        44 45 46 47 48 49 50 51 52 53 54 55 56 57 58 59 60 61 62 63);
}

#[cfg(target_arch = "x86_64")]
mod vectors {
    use std::arch::x86_64::*;

    use super::{BLOCK, WITHIN_WORD};

    /// Numbers of more bits can lie in five bytes.
    pub(super) const WIDEST: usize = 25;
    /// Words behind a block that are read with it, and not looked at.
    pub(super) const SLACK: usize = 2;

    /// For each byte of a group's eight lanes the byte of the 16 that are loaded for its half.
    const fn places<const BITS: usize>() -> [u8; 32] {
        let mut places = [0; 32];
        let mut i = 0;
        while i < 32 {
            let (lane, half) = (i / 4, i / 16);
            places[i] = (lane * BITS / 8 - half * (BITS / 2) + i % 4) as u8;
            i += 1;
        }
        places
    }

    /// For each of a group's lanes the bits before its number.
    const fn shifts<const BITS: usize>() -> [u32; 8] {
        let mut shifts = [0; 8];
        let mut lane = 0;
        while lane < 8 {
            shifts[lane] = (lane * BITS % 8) as u32;
            lane += 1;
        }
        shifts
    }

    /// For each byte of four lanes of a group, of which the first is told, the byte of the 16 that are loaded for its half.
    const fn wide_places<const BITS: usize>(first: usize) -> [u8; 32] {
        let mut places = [0; 32];
        let mut i = 0;
        while i < 32 {
            let (lane, pair) = (first + i / 8, first + i / 16 * 2);
            places[i] = (lane * BITS / 8 - pair * BITS / 8 + i % 8) as u8;
            i += 1;
        }
        places
    }

    /// For each of these lanes the bits before its number.
    const fn wide_shifts<const BITS: usize>(first: usize) -> [u64; 4] {
        let mut shifts = [0; 4];
        let mut lane = 0;
        while lane < 4 {
            shifts[lane] = ((first + lane) * BITS % 8) as u64;
            lane += 1;
        }
        shifts
    }

    /// Unpacks a block of wider numbers, four at once.
    ///
    /// # Safety
    /// The processor has AVX2; there are more than `BITS` words, and `BITS` is at most [`WITHIN_WORD`].
    #[target_feature(enable = "avx2")]
    pub(super) unsafe fn unpack_wide<const BITS: usize>(words: &[u64], out: &mut [u64; BLOCK]) {
        debug_assert!(BITS <= WITHIN_WORD && words.len() > BITS);
        let bytes = words.as_ptr().cast::<u8>();
        let places = const { [wide_places::<BITS>(0), wide_places::<BITS>(4)] };
        let shifts = const { [wide_shifts::<BITS>(0), wide_shifts::<BITS>(4)] };
        let mask = _mm256_set1_epi64x((u64::MAX >> (64 - BITS)) as i64);
        for (group, out) in out.chunks_exact_mut(8).enumerate() {
            for (half, out) in out.chunks_exact_mut(4).enumerate() {
                let pair = |lane: usize| group * BITS + lane * BITS / 8;
                // SAFETY: the last two numbers of the block begin at most 15 bytes before its end, and there are eight behind it. The arrays
                // have 32 bytes, and a chunk has four numbers of 64 bits.
                unsafe {
                    let low = _mm_loadu_si128(bytes.add(pair(4 * half)).cast());
                    let high = _mm_loadu_si128(bytes.add(pair(4 * half + 2)).cast());
                    let places = _mm256_loadu_si256(places[half].as_ptr().cast());
                    let shifts = _mm256_loadu_si256(shifts[half].as_ptr().cast());
                    let both = _mm256_inserti128_si256::<1>(_mm256_castsi128_si256(low), high);
                    let lanes = _mm256_srlv_epi64(_mm256_shuffle_epi8(both, places), shifts);
                    _mm256_storeu_si256(out.as_mut_ptr().cast(), _mm256_and_si256(lanes, mask));
                }
            }
        }
    }

    /// Unpacks a block, eight numbers at once.
    ///
    /// # Safety
    /// The processor has AVX2; there are at least `BITS + SLACK` words, and `BITS` is at most [`WIDEST`].
    #[target_feature(enable = "avx2")]
    pub(super) unsafe fn unpack<const BITS: usize>(words: &[u64], out: &mut [u32; BLOCK]) {
        debug_assert!(BITS <= WIDEST && words.len() >= BITS + SLACK);
        let bytes = words.as_ptr().cast::<u8>();
        let (places, shifts) = (const { places::<BITS>() }, const { shifts::<BITS>() });
        // SAFETY: both arrays have 32 bytes.
        let (places, shifts) =
            unsafe { (_mm256_loadu_si256(places.as_ptr().cast()), _mm256_loadu_si256(shifts.as_ptr().cast())) };
        let mask = _mm256_set1_epi32((1 << BITS) - 1);
        for (group, out) in out.chunks_exact_mut(8).enumerate() {
            // SAFETY: the last group begins at byte 7 `BITS`, and its second half is loaded `BITS / 2` bytes on, up to at most
            // 16 bytes behind the block: those of `SLACK`.
            let (low, high) = unsafe {
                let at = bytes.add(group * BITS);
                (_mm_loadu_si128(at.cast()), _mm_loadu_si128(at.add(BITS / 2).cast()))
            };
            let both = _mm256_inserti128_si256::<1>(_mm256_castsi128_si256(low), high);
            let lanes = _mm256_srlv_epi32(_mm256_shuffle_epi8(both, places), shifts);
            // SAFETY: a chunk has eight numbers of 32 bits.
            unsafe { _mm256_storeu_si256(out.as_mut_ptr().cast(), _mm256_and_si256(lanes, mask)) };
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wide_numbers_are_those_that_stand_there() {
        let word = |i: u64| (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(11);
        for bits in NARROW + 1..=64 {
            let words: Vec<u64> = (0..2 * u64::from(bits)).map(word).collect();
            for block in 0..2 {
                let rest = &words[block * usize::from(bits)..];
                let (mut found, mut plain) = ([0; BLOCK], [1; BLOCK]);
                wide(Processor::here(), bits, rest, &mut found);
                wide(Processor::Plain, bits, rest, &mut plain);
                assert_eq!(found, plain, "{bits} bits, block {block}");
                let by_hand = |i: usize| {
                    let at = i * usize::from(bits);
                    let bit = |b: usize| (rest[(at + b) / 64] >> ((at + b) % 64) & 1) << b;
                    (0..usize::from(bits)).map(bit).sum::<u64>()
                };
                assert!(found.iter().enumerate().all(|(i, v)| *v == by_hand(i)), "{bits} bits, block {block}");
            }
        }
    }

    #[test]
    fn vectors_give_what_plain_code_gives() {
        let word = |i: u64| (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(11);
        for bits in 1..=NARROW {
            for blocks in 1..4usize {
                let words: Vec<u64> = (0..(blocks * usize::from(bits)) as u64).map(word).collect();
                for block in 0..blocks {
                    let rest = &words[block * usize::from(bits)..];
                    let (mut plain, mut here) = ([0; BLOCK], [1; BLOCK]);
                    narrow(Processor::Plain, bits, rest, &mut plain);
                    narrow(Processor::here(), bits, rest, &mut here);
                    assert_eq!(plain, here, "{bits} bits, block {block} of {blocks}");
                    let by_hand = |i: usize| {
                        let at = i * usize::from(bits);
                        let bit = |b: usize| u64::from(rest[(at + b) / 64] >> ((at + b) % 64) & 1 == 1) << b;
                        (0..usize::from(bits)).map(bit).sum::<u64>()
                    };
                    assert!(plain.iter().enumerate().all(|(i, v)| u64::from(*v) == by_hand(i)), "{bits} bits");
                }
            }
        }
    }
}
