//! Distinct numbers in order, and the place of each number among them.
//!
//! Source: D. Knuth, "The Art of Computer Programming", volume 3, section 5.2.5: sorting by digits, the last one first.
//! Digits in which all numbers agree are left out. Many numbers are parted by their first bits before, so that all threads have parts to
//! sort, and each part stays in the caches meanwhile.

use std::sync::atomic::{AtomicU32, Ordering};

use rayon::prelude::*;

use super::bits::bits_for;
use cubrel_value::threads::{map_each, map_owned, map_parts, map_ranges};

/// Bits of a digit: so many that few digits are needed, and so few that a place for each value of one stays in the caches.
const DIGIT: u32 = 11;
const DIGITS: usize = 1 << DIGIT;

/// So many numbers are sorted in parts.
const IN_PARTS: usize = 1 << 16;
/// Numbers of a part, about.
const OF_A_PART: usize = 1 << 14;

/// Some numbers' order.
pub struct Ranks<N> {
    /// The different numbers, in order.
    pub numbers: Vec<N>,
    /// For each of them a row that has it: the first one.
    pub firsts: Vec<u32>,
    /// For each row the place of its number among them.
    pub places: Vec<u32>,
}

impl Ranks<u64> {
    /// Of the numbers of so many rows, at most 2^32.
    pub fn of(rows: usize, numbers: impl Iterator<Item = u64>) -> Ranks<u64> {
        let mut all = Vec::with_capacity(rows);
        all.extend(numbers);
        Ranks::of_list(all)
    }

    /// Of the numbers of rows, at most 2^32.
    pub fn of_list(all: Vec<u64>) -> Ranks<u64> {
        let (low, high) = all.iter().fold((u64::MAX, 0), |(low, high), n| (low.min(*n), high.max(*n)));
        let (row_bits, bits) = (u32::from(bits_for(all.len() as u64)), u32::from(bits_for(high.saturating_sub(low))));
        if row_bits + bits <= u64::BITS {
            // Number and row in one word: half as much to move.
            let rows = (1 << row_bits) - 1;
            let mut keys = all;
            keys.iter_mut().zip(0u64..).for_each(|(n, row)| *n = (*n - low) << row_bits | row);
            let sorted = in_parts(keys, (row_bits, row_bits + bits), digit);
            return Ranks::of_parts(&sorted, |key| (low + (key >> row_bits), (key & rows) as u32));
        }
        let pairs: Vec<(u64, u32)> = all.into_iter().zip(0..).map(|(n, row)| (n - low, row)).collect();
        let sorted = in_parts(pairs, (0, bits), |(n, _), shift| digit(n, shift));
        Ranks::of_parts(&sorted, |(n, row)| (low + n, row))
    }

    /// Of numbers in order, in parts that share none, each with its row.
    fn of_parts<T: Copy + Sync>(parts: &[Vec<T>], number_and_row: impl Fn(T) -> (u64, u32) + Sync) -> Ranks<u64> {
        if let [one] = parts {
            return Ranks::of_sorted(one.iter().map(|key| number_and_row(*key)));
        }
        let differ = |pair: &[T]| number_and_row(pair[0]).0 != number_and_row(pair[1]).0;
        let distinct =
            |part: &Vec<T>| part.windows(2).filter(|pair| differ(pair)).count() + usize::from(!part.is_empty());
        let counts = map_each(parts, distinct);
        // Each row is in one part, so that no two threads write to the same place.
        let places: Vec<AtomicU32> = (0..parts.iter().map(Vec::len).sum()).map(|_| AtomicU32::new(0)).collect();
        let (mut numbers, mut firsts) = (vec![0; counts.iter().sum()], vec![0; counts.iter().sum()]);
        let (mut numbers_left, mut firsts_left, mut before) = (numbers.as_mut_slice(), firsts.as_mut_slice(), 0);
        let own = |(part, count): (_, &usize)| {
            let (numbers, firsts) = (numbers_left.split_off_mut(..*count), firsts_left.split_off_mut(..*count));
            before += count;
            (part, before - count, numbers.unwrap_or_default(), firsts.unwrap_or_default())
        };
        let work = parts.iter().zip(&counts).map(own).collect::<Vec<_>>();
        map_owned(work, |(part, before, numbers, firsts)| {
            let (mut last, mut count) = (None, 0);
            for key in part {
                let (number, row) = number_and_row(*key);
                if last != Some(number) {
                    last = Some(number);
                    (numbers[count], firsts[count]) = (number, row);
                    count += 1;
                }
                places[row as usize].store((before + count - 1) as u32, Ordering::Relaxed);
            }
        });
        let places = places.into_iter().map(AtomicU32::into_inner).collect();
        Ranks { numbers, firsts, places }
    }
}

impl<N: Copy + Ord + Send> Ranks<N> {
    /// Of numbers without digits, by row, at most 2^32.
    pub fn of_any(numbers: impl Iterator<Item = N>) -> Ranks<N> {
        let mut all: Vec<(N, u32)> = numbers.zip(0..).collect();
        all.par_sort_unstable();
        Ranks::of_sorted(all.into_iter())
    }

    /// Of numbers in order, each with its row.
    fn of_sorted(sorted: impl ExactSizeIterator<Item = (N, u32)>) -> Ranks<N> {
        let mut ranks = Ranks { numbers: Vec::new(), firsts: Vec::new(), places: vec![0; sorted.len()] };
        for (number, row) in sorted {
            if ranks.numbers.last() != Some(&number) {
                ranks.numbers.push(number);
                ranks.firsts.push(row);
            }
            ranks.places[row as usize] = ranks.firsts.len() as u32 - 1;
        }
        ranks
    }
}

/// A number without a sign that has the same order.
pub(super) fn ordered(n: i64) -> u64 {
    n as u64 ^ 1 << 63
}

/// The number of an [`ordered`] one.
pub(super) fn number(ordered: u64) -> i64 {
    (ordered ^ 1 << 63) as i64
}

/// The digit of a number that begins at bit `shift`.
pub(super) fn digit(n: u64, shift: u32) -> usize {
    (n >> shift) as usize % DIGITS
}

/// Sorts by the bits of a range, a digit at a time; what agrees in them stays in order.
pub(super) fn by_digits<T: Copy>(mut keys: Vec<T>, bits: (u32, u32), digit: impl Fn(T, u32) -> usize) -> Vec<T> {
    let Some(first) = keys.first().copied() else { return keys };
    let mut other = vec![first; keys.len()];
    for shift in (bits.0..bits.1).step_by(DIGIT as usize) {
        let mut starts = [0usize; DIGITS];
        keys.iter().for_each(|key| starts[digit(*key, shift)] += 1);
        if starts[digit(first, shift)] == keys.len() {
            continue;
        }
        let mut before = 0;
        for start in &mut starts {
            before += std::mem::replace(start, before);
        }
        for key in &keys {
            let start = &mut starts[digit(*key, shift)];
            other[*start] = *key;
            *start += 1;
        }
        std::mem::swap(&mut keys, &mut other);
    }
    keys
}

/// Sorts as [`by_digits`] does, on all threads where there are many: parts of which each comes before the next.
fn in_parts<T: Copy + Send + Sync>(
    keys: Vec<T>,
    bits: (u32, u32),
    digit: impl Fn(T, u32) -> usize + Sync,
) -> Vec<Vec<T>> {
    if keys.len() < IN_PARTS || bits.1 - bits.0 <= DIGIT {
        return vec![by_digits(keys, bits, digit)];
    }
    let first_bits = u32::from(bits_for((keys.len() / OF_A_PART) as u64)).min(DIGIT);
    let shift = bits.1 - first_bits;
    let parts = 1 << first_bits;
    // Each thread parts a range of them; a part is what all ranges have of it, one after the other.
    let range = keys.len().div_ceil(rayon::current_num_threads());
    let parted = map_ranges(keys.len(), range, |range| parted(&keys[range], parts, |key| digit(key, shift)));
    drop(keys);
    let part = |part: usize| {
        let of_ranges = || parted.iter().map(|(keys, starts)| &keys[starts[part]..starts[part + 1]]);
        let mut all = Vec::with_capacity(of_ranges().map(<[T]>::len).sum());
        of_ranges().for_each(|some| all.extend_from_slice(some));
        by_digits(all, (bits.0, shift), &digit)
    };
    map_parts(parts, part)
}

/// Numbers by their part, in each as they came; and where each part begins, and the end.
fn parted<T: Copy>(keys: &[T], parts: usize, part: impl Fn(T) -> usize) -> (Vec<T>, Vec<usize>) {
    let mut starts = vec![0; parts + 1];
    keys.iter().for_each(|key| starts[part(*key) + 1] += 1);
    (0..parts).for_each(|part| starts[part + 1] += starts[part]);
    let mut next = starts.clone();
    let mut to: Vec<T> = keys.to_vec();
    for key in keys {
        let place = &mut next[part(*key)];
        to[*place] = *key;
        *place += 1;
    }
    (to, starts)
}

/// The places of some numbers, at most 2^32, in the order of the numbers; equal ones keep their order.
pub fn order_of(numbers: &[u64]) -> Vec<u32> {
    if numbers.is_sorted() {
        return (0..numbers.len() as u32).collect();
    }
    let row_bits = u32::from(bits_for(numbers.len() as u64));
    let bits = u32::from(bits_for(numbers.iter().copied().max().unwrap_or(0)));
    if row_bits + bits <= u64::BITS {
        let keys: Vec<u64> = numbers.iter().zip(0u64..).map(|(n, row)| n << row_bits | row).collect();
        let mask = (1 << row_bits) - 1;
        let sorted = in_parts(keys, (row_bits, row_bits + bits), digit);
        return map_owned(sorted, |part| part.into_iter().map(|key| (key & mask) as u32).collect::<Vec<u32>>())
            .concat();
    }
    let mut pairs: Vec<(u64, u32)> = numbers.iter().copied().zip(0..).collect();
    pairs.par_sort_unstable();
    pairs.into_iter().map(|(_, place)| place).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_those_in_the_sorted_list() {
        let far = |n: u64| n.wrapping_mul(0x9E37_79B9_7F4A_7C15) as i64;
        let lists: [Vec<i64>; 8] = [
            vec![],
            vec![7],
            vec![3, -1, 3, 3, -1],
            vec![i64::MIN, i64::MAX, 0, -1, 1],
            (0..3000).map(|i| far(i % 1700)).collect(),
            (0..3000).map(|i| (far(i) >> 50) * 256).collect(),
            // Many, which are sorted in parts: spread evenly, and all but a few in one part.
            (0..150_000).map(|i| far(i % 100_000) >> 20).collect(),
            (0..150_000).map(|i| if i % 50_000 == 7 { far(i) } else { (i * 7919 % 40_961) as i64 }).collect(),
        ];
        for numbers in lists {
            for wide in [0, 33] {
                let codes: Vec<u64> = numbers.iter().map(|n| ordered(*n) >> wide).collect();
                let mut stable: Vec<u32> = (0..codes.len() as u32).collect();
                stable.sort_by_key(|place| codes[*place as usize]);
                assert_eq!(order_of(&codes), stable);
            }
            let ranks = Ranks::of(numbers.len(), numbers.iter().map(|n| ordered(*n)));
            let mut sorted = numbers.clone();
            sorted.sort_unstable();
            sorted.dedup();
            assert_eq!(ranks.numbers.iter().map(|n| number(*n)).collect::<Vec<_>>(), sorted);
            assert_eq!(ranks.firsts.iter().map(|row| numbers[*row as usize]).collect::<Vec<_>>(), sorted);
            let mut first = std::collections::HashMap::new();
            for (n, row) in numbers.iter().zip(0u32..) {
                first.entry(*n).or_insert(row);
            }
            assert!(ranks.firsts.iter().all(|row| first[&numbers[*row as usize]] == *row));
            let back: Vec<i64> = ranks.places.iter().map(|place| sorted[*place as usize]).collect();
            assert_eq!(back, numbers);
            let any = Ranks::of_any(numbers.iter().map(|n| (ordered(*n), 7)));
            assert_eq!(any.numbers, ranks.numbers.iter().map(|n| (*n, 7)).collect::<Vec<_>>());
            assert_eq!((any.firsts, any.places), (ranks.firsts, ranks.places));
        }
    }
}
