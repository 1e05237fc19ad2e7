//! Numbers of groups without those that are dropped, and what stands beside them: the rows that pass.
//!
//! Eight numbers or sixteen are looked at together where the processor has vectors for that: a mask says which of them stay. How eight move together
//! is told by a table for each mask; of sixteen the processor knows it.

use super::keys::DROPPED;
use super::lanes::Lanes;

/// The places of the numbers that are not dropped, and these numbers.
pub(super) fn kept(numbers: &[u32]) -> (Vec<u32>, Vec<u32>) {
    kept_of(numbers, None)
}

/// What stands beside the numbers that are not dropped, and these numbers.
pub(super) fn kept_beside(numbers: &[u32], beside: &[u32]) -> (Vec<u32>, Vec<u32>) {
    kept_of(numbers, Some(beside))
}

/// Leaves those positions that pass.
pub(super) fn keep(positions: &mut Vec<u32>, passes: impl Iterator<Item = bool>) {
    let dropped: Vec<u32> = passes.take(positions.len()).map(|passes| if passes { 0 } else { DROPPED }).collect();
    (*positions, _) = kept_beside(&dropped, positions);
}

/// The places of those that are true.
pub(super) fn true_at(truths: &[bool]) -> Vec<u32> {
    let mut places = Vec::with_capacity(truths.len() + LANES);
    let mut done = 0;
    #[cfg(target_arch = "x86_64")]
    if Lanes::here() != Lanes::One {
        done = truths.len() / LANES * LANES;
        // SAFETY: the processor has AVX2 and counts bits; there is room for all places and eight more, and as many as are told were written.
        unsafe {
            let count = vectors::true_at(&truths[..done], places.as_mut_ptr());
            places.set_len(count);
        }
    }
    places.extend((done..truths.len()).filter(|i| truths[*i]).map(|i| i as u32));
    places
}

/// As many as are looked at together with AVX2.
const LANES: usize = 8;
/// No more are written behind what stays.
const MOST_LANES: usize = 16;

fn kept_of(numbers: &[u32], beside: Option<&[u32]>) -> (Vec<u32>, Vec<u32>) {
    kept_by(Lanes::here(), numbers, beside)
}

fn kept_by(lanes: Lanes, numbers: &[u32], beside: Option<&[u32]>) -> (Vec<u32>, Vec<u32>) {
    debug_assert!(beside.is_none_or(|beside| beside.len() == numbers.len()));
    let room = numbers.len() + MOST_LANES;
    let (mut places, mut stay) = (Vec::<u32>::with_capacity(room), Vec::<u32>::with_capacity(room));
    #[cfg(target_arch = "x86_64")]
    let to = (places.as_mut_ptr(), stay.as_mut_ptr());
    // SAFETY: the processor has what the function takes; both lists have room for all numbers and sixteen more.
    let (done, count) = match lanes {
        Lanes::One => (0, 0),
        #[cfg(target_arch = "x86_64")]
        Lanes::Eight => unsafe { vectors::kept_of_8(numbers, beside, to) },
        #[cfg(target_arch = "x86_64")]
        Lanes::Sixteen => unsafe { vectors::kept_of_16(numbers, beside, to) },
    };
    // SAFETY: as many as are told stay and were written.
    unsafe {
        places.set_len(count);
        stay.set_len(count);
    }
    for (i, number) in numbers.iter().enumerate().skip(done).filter(|(_, number)| **number & DROPPED == 0) {
        places.push(beside.map_or(i as u32, |beside| beside[i]));
        stay.push(*number);
    }
    (places, stay)
}

#[cfg(target_arch = "x86_64")]
mod vectors {
    use std::arch::x86_64::*;

    use super::{DROPPED, LANES, MOST_LANES};

    /// For each mask of dropped lanes the lanes that stay, moved together.
    static ORDERS: [[u32; LANES]; 1 << LANES] = orders();

    const fn orders() -> [[u32; LANES]; 1 << LANES] {
        let mut orders = [[0; LANES]; 1 << LANES];
        let mut mask = 0;
        while mask < orders.len() {
            let (mut lane, mut at) = (0, 0);
            while lane < LANES {
                if mask >> lane & 1 == 0 {
                    orders[mask][at] = lane as u32;
                    at += 1;
                }
                lane += 1;
            }
            mask += 1;
        }
        orders
    }

    /// How many of them are true; `places` get where these stand.
    ///
    /// # Safety
    /// The processor has AVX2 and counts bits. There are eight times some number of `truths`; `places` can be written to for so many, and eight more.
    #[target_feature(enable = "avx2,popcnt")]
    pub(super) unsafe fn true_at(truths: &[bool], places: *mut u32) -> usize {
        debug_assert!(truths.len().is_multiple_of(LANES));
        let first = _mm256_setr_epi32(0, 1, 2, 3, 4, 5, 6, 7);
        let (eights, _) = truths.as_chunks::<LANES>();
        let mut count = 0;
        for (at, eight) in eights.iter().enumerate() {
            // Each truth value is a byte of 0 or 1, which the product moves to a bit of the last byte.
            let bytes = u64::from_le_bytes(eight.map(u8::from));
            let stay = (bytes.wrapping_mul(0x0102_0408_1020_4080) >> 56) as usize;
            let of = _mm256_add_epi32(first, _mm256_set1_epi32((at * LANES) as i32));
            // SAFETY: the table has 32 bytes for each mask; no more are true than were looked at, and eight fit behind these.
            unsafe {
                let order = _mm256_loadu_si256(ORDERS[!stay & ((1 << LANES) - 1)].as_ptr().cast());
                _mm256_storeu_si256(places.add(count).cast(), _mm256_permutevar8x32_epi32(of, order));
            }
            count += stay.count_ones() as usize;
        }
        count
    }

    // A mask is made of the highest bits.
    const _: () = assert!(DROPPED == 1 << 31);

    /// How many numbers it has gone through, and how many of these stay; the lists get what stands beside them, or their places, and the numbers
    /// themselves.
    ///
    /// # Safety
    /// The processor has AVX2 and counts bits. The lists can be written to for all numbers and eight more.
    #[target_feature(enable = "avx2,popcnt")]
    pub(super) unsafe fn kept_of_8(
        numbers: &[u32],
        beside: Option<&[u32]>,
        (places, stay): (*mut u32, *mut u32),
    ) -> (usize, usize) {
        let first = _mm256_setr_epi32(0, 1, 2, 3, 4, 5, 6, 7);
        let (eights, _) = numbers.as_chunks::<LANES>();
        let mut count = 0;
        for (at, eight) in (0..).step_by(LANES).zip(eights) {
            // SAFETY: there are eight numbers.
            let lanes = unsafe { _mm256_loadu_si256(eight.as_ptr().cast()) };
            let dropped = _mm256_movemask_ps(_mm256_castsi256_ps(lanes)) as usize;
            if dropped == (1 << LANES) - 1 {
                continue;
            }
            let of = match beside.map(|beside| &beside[at..at + LANES]) {
                // SAFETY: as many stand beside them.
                Some(beside) => unsafe { _mm256_loadu_si256(beside.as_ptr().cast()) },
                None => _mm256_add_epi32(first, _mm256_set1_epi32(at as i32)),
            };
            // SAFETY: the table has 32 bytes for each mask; no more stay than were looked at, and eight fit behind these.
            unsafe {
                let order = _mm256_loadu_si256(ORDERS[dropped].as_ptr().cast());
                _mm256_storeu_si256(places.add(count).cast(), _mm256_permutevar8x32_epi32(of, order));
                _mm256_storeu_si256(stay.add(count).cast(), _mm256_permutevar8x32_epi32(lanes, order));
            }
            count += LANES - dropped.count_ones() as usize;
        }
        (eights.len() * LANES, count)
    }

    /// The same for sixteen of them together.
    ///
    /// # Safety
    /// The processor has AVX-512 and counts bits. The lists can be written to for all numbers and sixteen more.
    #[target_feature(enable = "avx512f,popcnt")]
    pub(super) unsafe fn kept_of_16(
        numbers: &[u32],
        beside: Option<&[u32]>,
        (places, stay): (*mut u32, *mut u32),
    ) -> (usize, usize) {
        let first = _mm512_setr_epi32(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15);
        let mark = _mm512_set1_epi32(DROPPED as i32);
        let (sixteens, _) = numbers.as_chunks::<MOST_LANES>();
        let mut count = 0;
        for (at, sixteen) in (0..).step_by(MOST_LANES).zip(sixteens) {
            // SAFETY: there are sixteen numbers.
            let lanes = unsafe { _mm512_loadu_si512(sixteen.as_ptr().cast()) };
            let keep = _mm512_testn_epi32_mask(lanes, mark);
            if keep == 0 {
                continue;
            }
            let of = match beside.map(|beside| &beside[at..at + MOST_LANES]) {
                // SAFETY: as many stand beside them.
                Some(beside) => unsafe { _mm512_loadu_si512(beside.as_ptr().cast()) },
                None => _mm512_add_epi32(first, _mm512_set1_epi32(at as i32)),
            };
            // SAFETY: no more stay than were looked at, and sixteen fit behind these.
            unsafe {
                _mm512_storeu_si512(places.add(count).cast(), _mm512_maskz_compress_epi32(keep, of));
                _mm512_storeu_si512(stay.add(count).cast(), _mm512_maskz_compress_epi32(keep, lanes));
            }
            count += keep.count_ones() as usize;
        }
        (sixteens.len() * MOST_LANES, count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_dropped_stays_in_its_order() {
        let noise = |i: u32| i.wrapping_mul(2_654_435_761) >> 7;
        for rows in [0u32, 1, 7, 8, 9, 63, 64, 1000, 4096, 4099] {
            // From nothing dropped to all.
            for share in [0, 1, 8, 15, 16] {
                let number = |i: u32| if noise(i) % 16 < share { (i % 5) | DROPPED } else { noise(i) % 1000 };
                let numbers: Vec<u32> = (0..rows).map(number).collect();
                let beside: Vec<u32> = (0..rows).map(|i| 3 * i + 1).collect();
                let stay: Vec<usize> = (0..rows as usize).filter(|i| numbers[*i] & DROPPED == 0).collect();
                let values: Vec<u32> = stay.iter().map(|i| numbers[*i]).collect();
                let places: Vec<u32> = stay.iter().map(|i| *i as u32).collect();
                assert_eq!(true_at(&numbers.iter().map(|n| n & DROPPED == 0).collect::<Vec<bool>>()), places);
                let others: Vec<u32> = stay.iter().map(|i| beside[*i]).collect();
                for lanes in Lanes::all_here() {
                    let found = kept_by(lanes, &numbers, None);
                    assert_eq!(found, (places.clone(), values.clone()), "{share} of 16 of {rows}, {lanes:?}");
                    let found = kept_by(lanes, &numbers, Some(&beside));
                    assert_eq!(found, (others.clone(), values.clone()), "{share} of 16 of {rows}, {lanes:?}");
                }
            }
        }
    }
}
