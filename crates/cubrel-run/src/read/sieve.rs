//! Which of many codes pass, in a bit each: more of that stays in the nearer caches than of anything else that tells it.
//!
//! Eight codes or sixteen are looked up together where the processor gathers from several places at once. Without a branch for each of them it costs
//! the same whether few pass or many, and whether that can be foreseen or not.

use std::ops::Range;

use super::keys::DROPPED;
use super::lanes::Lanes;
use cubrel_value::threads::{WORTH_A_THREAD, map_ranges};

/// A bit for each code: whether it passes.
#[derive(Default)]
pub(super) struct Sieve(Vec<u64>);

impl Sieve {
    /// Of so many codes those that pass.
    pub(super) fn of(pass: &[bool]) -> Sieve {
        let byte = |pass: &[bool]| pass.iter().rev().fold(0, |byte, pass| byte << 1 | u64::from(*pass));
        let word = |pass: &[bool]| pass.chunks(8).rev().fold(0, |word, pass| word << 8 | byte(pass));
        let words = |some: Range<usize>| pass[some].chunks(64).map(word).collect::<Vec<u64>>();
        Sieve(map_ranges(pass.len(), WORTH_A_THREAD, words).concat())
    }

    /// Whether nothing is known of any code.
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether a code passes; one that is not known does not.
    #[inline(always)]
    pub(super) fn passes(&self, code: u64) -> bool {
        self.0.get((code / 64) as usize).is_some_and(|word| word >> (code % 64) & 1 == 1)
    }

    /// How many codes pass before those of each word.
    pub(super) fn ranks(&self) -> Vec<u32> {
        let mut before = 0;
        let rank = |word: &u64| {
            let rank = before;
            before += word.count_ones();
            rank
        };
        self.0.iter().map(rank).collect()
    }

    /// How many codes pass before one, by what has been counted for each word.
    #[inline(always)]
    pub(super) fn rank(&self, ranks: &[u32], code: u32) -> u32 {
        let place = (code / 64) as usize;
        match (self.0.get(place), ranks.get(place)) {
            (Some(word), Some(rank)) => rank + (word & ((1 << (code % 64)) - 1)).count_ones(),
            _ => 0,
        }
    }

    /// Adds [`DROPPED`] to codes that do not pass.
    pub(super) fn drop_others(&self, codes: &mut [u32]) {
        self.drop_others_by(Lanes::here(), codes);
    }

    fn drop_others_by(&self, lanes: Lanes, codes: &mut [u32]) {
        let done = match lanes {
            Lanes::One => 0,
            // SAFETY: the processor has AVX2.
            #[cfg(target_arch = "x86_64")]
            Lanes::Eight => unsafe { vectors::drop_others_of_8(&self.0, codes) },
            // SAFETY: the processor has AVX-512.
            #[cfg(target_arch = "x86_64")]
            Lanes::Sixteen => unsafe { vectors::drop_others_of_16(&self.0, codes) },
        };
        for code in &mut codes[done..] {
            *code |= u32::from(!self.passes(u64::from(*code))) << DROPPED.trailing_zeros();
        }
    }
}

#[cfg(target_arch = "x86_64")]
mod vectors {
    use std::arch::x86_64::*;

    use crate::read::keys::DROPPED;

    // A dropped code is one whose highest bit is set.
    const _: () = assert!(DROPPED == 1 << 31);

    /// Adds [`DROPPED`] to those of most `codes` whose bit is not set; how many it has gone through.
    ///
    /// # Safety
    /// The processor has AVX2.
    #[target_feature(enable = "avx2")]
    pub(super) unsafe fn drop_others_of_8(bits: &[u64], codes: &mut [u32]) -> usize {
        const LANES: usize = 8;
        let known = i32::try_from(bits.len().saturating_mul(64)).unwrap_or(i32::MAX);
        let (known, none, one) = (_mm256_set1_epi32(known), _mm256_setzero_si256(), _mm256_set1_epi32(1));
        let (eights, rest) = codes.as_chunks_mut::<LANES>();
        let done = eights.len() * LANES;
        debug_assert!(rest.len() < LANES);
        for eight in eights {
            // SAFETY: there are eight codes.
            let codes = unsafe { _mm256_loadu_si256(eight.as_ptr().cast()) };
            let is_known = _mm256_andnot_si256(_mm256_cmpgt_epi32(none, codes), _mm256_cmpgt_epi32(known, codes));
            // SAFETY: a word of 32 bits is read for codes from 0 to below the number of bits alone; the lower half of 64 bits comes first.
            let words = unsafe {
                _mm256_mask_i32gather_epi32::<4>(none, bits.as_ptr().cast(), _mm256_srli_epi32::<5>(codes), is_known)
            };
            let pass = _mm256_srlv_epi32(words, _mm256_and_si256(codes, _mm256_set1_epi32(31)));
            let dropped = _mm256_slli_epi32::<31>(_mm256_andnot_si256(pass, one));
            // SAFETY: there are eight of them.
            unsafe { _mm256_storeu_si256(eight.as_mut_ptr().cast(), _mm256_or_si256(codes, dropped)) };
        }
        done
    }

    /// The same for sixteen of them together.
    ///
    /// # Safety
    /// The processor has AVX-512.
    #[target_feature(enable = "avx512f")]
    pub(super) unsafe fn drop_others_of_16(bits: &[u64], codes: &mut [u32]) -> usize {
        const LANES: usize = 16;
        let known = i32::try_from(bits.len().saturating_mul(64)).unwrap_or(i32::MAX);
        let (known, none, one) = (_mm512_set1_epi32(known), _mm512_setzero_si512(), _mm512_set1_epi32(1));
        let dropped = _mm512_set1_epi32(DROPPED as i32);
        let (sixteens, _) = codes.as_chunks_mut::<LANES>();
        for sixteen in sixteens.iter_mut() {
            // SAFETY: there are sixteen codes.
            let codes = unsafe { _mm512_loadu_si512(sixteen.as_ptr().cast()) };
            let is_known = _mm512_cmplt_epu32_mask(codes, known);
            let places = _mm512_srli_epi32::<5>(codes);
            // SAFETY: a word of 32 bits is read for codes below the number of bits alone; the lower half of 64 bits comes first.
            let words = unsafe { _mm512_mask_i32gather_epi32::<4>(none, is_known, places, bits.as_ptr().cast()) };
            let drops = _mm512_testn_epi32_mask(words, _mm512_rolv_epi32(one, codes));
            // SAFETY: there are sixteen of them.
            unsafe {
                _mm512_storeu_si512(sixteen.as_mut_ptr().cast(), _mm512_mask_or_epi32(codes, drops, codes, dropped))
            };
        }
        sixteens.len() * LANES
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_pass_whose_bit_is_set() {
        let noise = |i: usize| (i as u32).wrapping_mul(2_654_435_761) >> 9;
        for count in [1usize, 7, 31, 32, 33, 63, 64, 65, 1000, 3 * WORTH_A_THREAD + 5] {
            for share in [0, 1, 8, 16] {
                let pass: Vec<bool> = (0..count).map(|i| noise(i) % 16 < share).collect();
                let sieve = Sieve::of(&pass);
                for rows in [0, 1, 8, 15, 4099] {
                    let codes: Vec<u32> = (0..rows).map(|i| noise(i * 3) % count as u32).collect();
                    let expected = |code: &u32| if pass[*code as usize] { *code } else { *code | DROPPED };
                    let expected: Vec<u32> = codes.iter().map(expected).collect();
                    for lanes in Lanes::all_here() {
                        let mut sieved = codes.clone();
                        sieve.drop_others_by(lanes, &mut sieved);
                        assert_eq!(sieved, expected, "{share} of 16 of {count} codes, {rows} rows, {lanes:?}");
                    }
                }
                assert!((0..count).all(|code| sieve.passes(code as u64) == pass[code]), "{count}");
            }
        }
    }

    #[test]
    fn codes_that_pass_are_counted_from_the_first_on() {
        for count in [1usize, 63, 64, 65, 1000] {
            let pass: Vec<bool> = (0..count).map(|i| i % 7 == 0 || i > 900).collect();
            let sieve = Sieve::of(&pass);
            let ranks = sieve.ranks();
            let passing = (0..count as u32).filter(|code| pass[*code as usize]);
            passing.zip(0..).for_each(|(code, place)| assert_eq!(sieve.rank(&ranks, code), place, "{code} of {count}"));
            assert_eq!(sieve.rank(&ranks, u32::MAX), 0, "none that is known");
        }
    }

    #[test]
    fn a_code_that_is_not_known_does_not_pass() {
        let sieve = Sieve::of(&[true; 64]);
        let known = [true, false, false, false, false, false, true, false, false];
        for lanes in Lanes::all_here() {
            let mut codes = [63, 64, 1 << 20, i32::MAX as u32, DROPPED, u32::MAX, 0, 65, 64].repeat(3);
            sieve.drop_others_by(lanes, &mut codes);
            let passes: Vec<bool> = codes.iter().map(|code| code & DROPPED == 0).collect();
            assert_eq!(passes, known.repeat(3), "{lanes:?}");
        }
    }
}
