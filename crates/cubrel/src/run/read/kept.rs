//! Numbers of groups without those that are dropped, and what stands beside them: the rows that pass.
//!
//! Eight numbers are looked at together where the processor has vectors for that, which is found out when the program runs: a mask says
//! which of them stay, and a table for each mask how they move together.

use super::keys::DROPPED;

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
    if std::arch::is_x86_feature_detected!("avx2") {
        done = truths.len() / LANES * LANES;
        // SAFETY: the processor has AVX2; there is room for all places and eight more, and as many as are told were written.
        unsafe {
            let count = vectors::true_at(&truths[..done], places.as_mut_ptr());
            places.set_len(count);
        }
    }
    places.extend((done..truths.len()).filter(|i| truths[*i]).map(|i| i as u32));
    places
}

/// As many as are looked at together.
const LANES: usize = 8;

fn kept_of(numbers: &[u32], beside: Option<&[u32]>) -> (Vec<u32>, Vec<u32>) {
    let room = numbers.len() + LANES;
    let (mut places, mut stay) = (Vec::with_capacity(room), Vec::with_capacity(room));
    let mut done = 0;
    #[cfg(target_arch = "x86_64")]
    if std::arch::is_x86_feature_detected!("avx2") {
        done = numbers.len() / LANES * LANES;
        let beside = beside.map(|beside| &beside[..done]);
        // SAFETY: the processor has AVX2; both lists have room for all numbers and eight more, as many stand beside them, and as many
        // as are told stay and were written.
        unsafe {
            let count = vectors::kept(&numbers[..done], beside, places.as_mut_ptr(), stay.as_mut_ptr());
            places.set_len(count);
            stay.set_len(count);
        }
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

    use super::{DROPPED, LANES};

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
    /// The processor has AVX2. There are eight times some number of `truths`; `places` can be written to for so many, and eight more.
    #[target_feature(enable = "avx2")]
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

    /// How many numbers stay; `places` get what stands beside them, or their places, and `stay` the numbers.
    ///
    /// # Safety
    /// The processor has AVX2. There are eight times some number of `numbers` and as many in `beside`; `places` and `stay` can be written
    /// to for so many, and eight more.
    #[target_feature(enable = "avx2")]
    pub(super) unsafe fn kept(numbers: &[u32], beside: Option<&[u32]>, places: *mut u32, stay: *mut u32) -> usize {
        debug_assert!(numbers.len().is_multiple_of(LANES));
        debug_assert!(beside.is_none_or(|beside| beside.len() == numbers.len()));
        let first = _mm256_setr_epi32(0, 1, 2, 3, 4, 5, 6, 7);
        let mut count = 0;
        for at in (0..numbers.len()).step_by(LANES) {
            // SAFETY: eight numbers begin there.
            let lanes = unsafe { _mm256_loadu_si256(numbers.as_ptr().add(at).cast()) };
            let dropped = _mm256_movemask_ps(_mm256_castsi256_ps(lanes)) as usize;
            if dropped == (1 << LANES) - 1 {
                continue;
            }
            let of = match beside {
                // SAFETY: as many stand beside them.
                Some(beside) => unsafe { _mm256_loadu_si256(beside.as_ptr().add(at).cast()) },
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
        count
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
                assert_eq!(kept(&numbers), (places, values.clone()), "{share} of 16 of {rows}");
                let others: Vec<u32> = stay.iter().map(|i| beside[*i]).collect();
                assert_eq!(kept_beside(&numbers, &beside), (others, values), "{share} of 16 of {rows}");
            }
        }
    }
}
