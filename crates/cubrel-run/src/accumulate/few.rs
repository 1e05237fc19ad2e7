//! Numbers added to the sums of their groups, and rows counted for them, where groups are few.
//!
//! Adding to a place in memory waits for what was just stored there. Few groups are therefore added up in several places each. Very few stay in
//! registers where the processor has vectors, which is found out when the program runs: the rows of a vector are added to every group, under a mask
//! that says which of them belong to it. How many groups there could be does not matter there, but how many of them come.

/// Few groups: what is added up goes to several places each.
const FEW: usize = 256;
/// Fewer of them take less of the nearest cache.
const FEWER: usize = 32;
/// The places of a group.
const PLACES: usize = 4;

/// Of at most so many groups it is found out which of them come.
const MOST_ASKED: usize = 64;
/// So many of them, at most, stay in registers.
const MOST_COMING: u32 = 8;

/// The groups that come, of `most` that there could be, each once; `None` where they are more than stay in registers.
pub(super) fn coming(groups: &[u32], most: usize) -> Option<Vec<u32>> {
    let bits = if most <= MOST_ASKED { in_registers::bits(groups) } else { u64::MAX };
    let come = |group: &u32| bits >> group & 1 == 1;
    (bits.count_ones() <= MOST_COMING).then(|| (0..u64::BITS).filter(come).collect())
}

/// Adds each number to the sum of its group; `coming` has all groups that come, where that is known.
pub(super) fn add_each(sums: &mut [i64], groups: &[u32], coming: Option<&[u32]>, values: &[i64]) {
    if sums.len() > FEW || values.len() < FEW {
        return groups.iter().zip(values).for_each(|(group, v)| sums[*group as usize] += v);
    }
    if coming.is_some_and(|coming| in_registers::add(sums, groups, coming, values)) {
        return;
    }
    match sums.len() > FEWER {
        true => add_in_places::<FEW>(sums, groups, values),
        false => add_in_places::<FEWER>(sums, groups, values),
    }
}

/// Counts each row for its group; `coming` has all groups that come, where that is known.
pub(super) fn count_each(counts: &mut [u64], groups: &[u32], coming: Option<&[u32]>) {
    if counts.len() > FEW || groups.len() < FEW {
        groups.iter().for_each(|group| counts[*group as usize] += 1);
    } else if !coming.is_some_and(|coming| in_registers::count(counts, groups, coming)) {
        count_in_places(counts, groups);
    }
}

/// Adds numbers where there are at most `MOST` groups.
fn add_in_places<const MOST: usize>(sums: &mut [i64], groups: &[u32], values: &[i64]) {
    let mut places = [[0i64; MOST]; PLACES];
    let (four_groups, groups) = groups.as_chunks::<PLACES>();
    let (four_values, values) = values.as_chunks::<PLACES>();
    for (groups, values) in four_groups.iter().zip(four_values) {
        for (place, (group, v)) in places.iter_mut().zip(groups.iter().zip(values)) {
            place[*group as usize % MOST] += v;
        }
    }
    groups.iter().zip(values).for_each(|(group, v)| sums[*group as usize] += v);
    for place in &places {
        sums.iter_mut().zip(place).for_each(|(sum, more)| *sum += more);
    }
}

fn count_in_places(counts: &mut [u64], groups: &[u32]) {
    let mut places = [[0u32; FEW]; PLACES];
    let (fours, rest) = groups.as_chunks::<PLACES>();
    for four in fours {
        places.iter_mut().zip(four).for_each(|(place, group)| place[*group as usize % FEW] += 1);
    }
    rest.iter().for_each(|group| counts[*group as usize] += 1);
    for place in &places {
        counts.iter_mut().zip(place).for_each(|(count, more)| *count += u64::from(*more));
    }
}

#[cfg(not(target_arch = "x86_64"))]
mod in_registers {
    pub(super) fn bits(groups: &[u32]) -> u64 {
        groups.iter().fold(0, |bits, group| bits | 1u64.wrapping_shl(*group))
    }

    pub(super) fn add(_: &mut [i64], _: &[u32], _: &[u32], _: &[i64]) -> bool {
        false
    }

    pub(super) fn count(_: &mut [u64], _: &[u32], _: &[u32]) -> bool {
        false
    }
}

#[cfg(target_arch = "x86_64")]
mod in_registers {
    use std::arch::is_x86_feature_detected;
    use std::arch::x86_64::*;

    /// No group.
    const NONE: u32 = u32::MAX;

    /// A bit for each of the groups that come, all of them below 64.
    pub(super) fn bits(groups: &[u32]) -> u64 {
        if is_x86_feature_detected!("avx2") {
            // SAFETY: the processor has AVX2.
            unsafe { bits_in_vectors(groups) }
        } else {
            bits_of(groups)
        }
    }

    #[target_feature(enable = "avx2")]
    fn bits_in_vectors(groups: &[u32]) -> u64 {
        bits_of(groups)
    }

    #[inline(always)]
    fn bits_of(groups: &[u32]) -> u64 {
        groups.iter().fold(0, |bits, group| bits | 1u64.wrapping_shl(*group))
    }

    /// The groups that come, and no others behind them.
    fn named<const MOST: usize>(coming: &[u32]) -> [u32; MOST] {
        std::array::from_fn(|place| coming.get(place).copied().unwrap_or(NONE))
    }

    /// Adds the numbers; false where groups are too many for the registers that there are.
    pub(super) fn add(sums: &mut [i64], groups: &[u32], coming: &[u32], values: &[i64]) -> bool {
        if is_x86_feature_detected!("avx512f") && is_x86_feature_detected!("avx512vl") {
            // SAFETY: the processor has both.
            unsafe {
                match coming.len() {
                    0..=2 => add_eight::<2>(sums, groups, named(coming), values),
                    3..=4 => add_eight::<4>(sums, groups, named(coming), values),
                    5..=8 => add_eight::<8>(sums, groups, named(coming), values),
                    _ => return false,
                }
            }
            return true;
        }
        if !is_x86_feature_detected!("avx2") {
            return false;
        }
        // SAFETY: the processor has AVX2.
        unsafe {
            match coming.len() {
                0..=2 => add_four::<2>(sums, groups, named(coming), values),
                3..=4 => add_four::<4>(sums, groups, named(coming), values),
                // More of them take as long as places in memory, and then longer.
                _ => return false,
            }
        }
        true
    }

    /// Counts the rows; false where groups are too many for the registers that there are.
    pub(super) fn count(counts: &mut [u64], groups: &[u32], coming: &[u32]) -> bool {
        if !is_x86_feature_detected!("avx2") {
            return false;
        }
        // SAFETY: the processor has AVX2.
        unsafe {
            match coming.len() {
                0..=2 => count_eight::<2>(counts, groups, named(coming)),
                3..=4 => count_eight::<4>(counts, groups, named(coming)),
                5..=8 => count_eight::<8>(counts, groups, named(coming)),
                _ => return false,
            }
        }
        true
    }

    /// Adds the numbers of at most `MOST` groups, eight rows at a time.
    #[target_feature(enable = "avx512f,avx512vl")]
    pub(super) fn add_eight<const MOST: usize>(sums: &mut [i64], groups: &[u32], named: [u32; MOST], values: &[i64]) {
        let (groups, last_groups) = groups.as_chunks::<8>();
        let (values, last_values) = values.as_chunks::<8>();
        let mut of_named = [_mm512_setzero_si512(); MOST];
        for (groups, values) in groups.iter().zip(values) {
            // SAFETY: there are eight of each.
            let (groups, values) =
                unsafe { (_mm256_loadu_si256(groups.as_ptr().cast()), _mm512_loadu_si512(values.as_ptr().cast())) };
            for (sum, group) in of_named.iter_mut().zip(named) {
                let belong = _mm256_cmpeq_epi32_mask(groups, _mm256_set1_epi32(group as i32));
                *sum = _mm512_mask_add_epi64(*sum, belong, *sum, values);
            }
        }
        for (group, more) in named.into_iter().zip(of_named).filter(|(group, _)| *group != NONE) {
            sums[group as usize] += _mm512_reduce_add_epi64(more);
        }
        last_groups.iter().zip(last_values).for_each(|(group, v)| sums[*group as usize] += v);
    }

    /// Adds the numbers of at most `MOST` groups, four rows at a time.
    #[target_feature(enable = "avx2")]
    pub(super) fn add_four<const MOST: usize>(sums: &mut [i64], groups: &[u32], named: [u32; MOST], values: &[i64]) {
        let (groups, last_groups) = groups.as_chunks::<4>();
        let (values, last_values) = values.as_chunks::<4>();
        let mut of_named = [_mm256_setzero_si256(); MOST];
        for (groups, values) in groups.iter().zip(values) {
            // SAFETY: there are four of each.
            let (groups, values) =
                unsafe { (_mm_loadu_si128(groups.as_ptr().cast()), _mm256_loadu_si256(values.as_ptr().cast())) };
            let groups = _mm256_cvtepu32_epi64(groups);
            for (sum, group) in of_named.iter_mut().zip(named) {
                let belong = _mm256_cmpeq_epi64(groups, _mm256_set1_epi64x(i64::from(group)));
                *sum = _mm256_add_epi64(*sum, _mm256_and_si256(belong, values));
            }
        }
        for (group, more) in named.into_iter().zip(of_named).filter(|(group, _)| *group != NONE) {
            let mut lanes = [0i64; 4];
            // SAFETY: there is room for four.
            unsafe { _mm256_storeu_si256(lanes.as_mut_ptr().cast(), more) };
            sums[group as usize] += lanes.iter().sum::<i64>();
        }
        last_groups.iter().zip(last_values).for_each(|(group, v)| sums[*group as usize] += v);
    }

    /// Counts the rows of at most `MOST` groups, eight at a time.
    #[target_feature(enable = "avx2")]
    pub(super) fn count_eight<const MOST: usize>(counts: &mut [u64], groups: &[u32], named: [u32; MOST]) {
        let (groups, last) = groups.as_chunks::<8>();
        let mut of_named = [_mm256_setzero_si256(); MOST];
        for groups in groups {
            // SAFETY: there are eight.
            let groups = unsafe { _mm256_loadu_si256(groups.as_ptr().cast()) };
            for (count, group) in of_named.iter_mut().zip(named) {
                // A lane that belongs to the group is -1.
                *count = _mm256_sub_epi32(*count, _mm256_cmpeq_epi32(groups, _mm256_set1_epi32(group as i32)));
            }
        }
        for (group, more) in named.into_iter().zip(of_named).filter(|(group, _)| *group != NONE) {
            let mut lanes = [0u32; 8];
            // SAFETY: there is room for eight.
            unsafe { _mm256_storeu_si256(lanes.as_mut_ptr().cast(), more) };
            counts[group as usize] += lanes.iter().map(|lane| u64::from(*lane)).sum::<u64>();
        }
        last.iter().for_each(|group| counts[*group as usize] += 1);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    type Add = fn(&mut [i64], &[u32], &[i64]);

    /// All ways to add up numbers of so many groups that this processor knows.
    fn ways(groups: usize) -> Vec<Add> {
        let mut ways: Vec<Add> = vec![
            |sums, groups, values| add_each(sums, groups, None, values),
            |sums, groups, values| add_each(sums, groups, coming(groups, sums.len()).as_deref(), values),
            add_in_places::<FEW>,
        ];
        if groups <= FEWER {
            ways.push(add_in_places::<FEWER>);
        }
        #[cfg(target_arch = "x86_64")]
        if groups <= 4 && std::arch::is_x86_feature_detected!("avx2") {
            // SAFETY: the processor has AVX2.
            ways.push(|sums, groups, values| unsafe { in_registers::add_four(sums, groups, [0, 1, 2, 3], values) });
        }
        ways
    }

    const ROWS: [usize; 8] = [0, 3, 255, 256, 257, 260, 1021, 4096];

    /// How many groups there could be, and how many of them come.
    fn cases() -> impl Iterator<Item = (usize, usize)> {
        [4, 9, 32, 33, 63, 64, 65, 256, 257, 5000].into_iter().flat_map(|most| {
            [1, 2, 3, 4, 5, 8, 9, 60].into_iter().filter(move |come| *come <= most).map(move |come| (most, come))
        })
    }

    /// The groups of so many rows, the last of all among them.
    fn groups_of(rows: usize, (most, come): (usize, usize)) -> Vec<u32> {
        let group = |i: u32| (most - 1) as u32 - i.wrapping_mul(2_654_435_761) % come as u32 * (most / come) as u32;
        (0..rows as u32).map(group).collect()
    }

    #[test]
    fn sums_of_few_groups_are_those_of_their_rows() {
        for (case, rows) in cases().flat_map(|case| ROWS.map(|rows| (case, rows))) {
            let of_row = groups_of(rows, case);
            let values: Vec<i64> = (0..rows as i64).map(|i| (i * 7_919 - 5_000_000) << (i % 30)).collect();
            let mut expected = vec![7; case.0];
            of_row.iter().zip(&values).for_each(|(group, v)| expected[*group as usize] += v);
            for (way, add) in ways(case.0).into_iter().enumerate().filter(|(way, _)| *way < 2 || case.0 <= FEW) {
                let mut sums = vec![7; case.0];
                add(&mut sums, &of_row, &values);
                assert_eq!(sums, expected, "{rows} rows in {case:?} groups, way {way}");
            }
        }
    }

    #[test]
    fn counts_of_few_groups_are_those_of_their_rows() {
        for (case, rows) in cases().flat_map(|case| ROWS.map(|rows| (case, rows))) {
            let of_row = groups_of(rows, case);
            let mut expected = vec![5; case.0];
            of_row.iter().for_each(|group| expected[*group as usize] += 1);
            for coming in [None, coming(&of_row, case.0)] {
                let mut counts = vec![5; case.0];
                count_each(&mut counts, &of_row, coming.as_deref());
                assert_eq!(counts, expected, "{rows} rows in {case:?} groups, {coming:?}");
            }
        }
    }

    #[test]
    fn groups_that_come_are_told_once_each() {
        for (case, rows) in cases().flat_map(|case| ROWS.map(|rows| (case, rows))) {
            let of_row = groups_of(rows, case);
            let mut expected = of_row.clone();
            expected.sort_unstable();
            expected.dedup();
            let is_told = case.0 <= MOST_ASKED && expected.len() <= MOST_COMING as usize;
            let expected = is_told.then_some(expected);
            assert_eq!(coming(&of_row, case.0), expected, "{rows} rows in {case:?} groups");
        }
    }
}
