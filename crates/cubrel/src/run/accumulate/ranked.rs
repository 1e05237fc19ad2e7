//! Which values stand at a rank, without sorting all of them.

use crate::value::threads::{WORTH_A_THREAD, map_ranges, part_size};

/// What values are ordered by.
pub(super) trait RankKey: Copy + Ord + Send + Sync {
    /// The same as a wide one, in the same order.
    fn wide(self) -> u64;
    /// The key of a wide one that it has been.
    fn narrow(wide: u64) -> Self;
}

impl RankKey for u32 {
    fn wide(self) -> u64 {
        u64::from(self)
    }

    fn narrow(wide: u64) -> u32 {
        wide as u32
    }
}

impl RankKey for u64 {
    fn wide(self) -> u64 {
        self
    }

    fn narrow(wide: u64) -> u64 {
        wide
    }
}

/// Values in no order.
#[derive(Clone, Debug)]
pub(super) struct Ranked<K> {
    /// Those that come once each.
    once: Vec<K>,
    /// Those that come several times, with how often.
    often: Vec<(K, u32)>,
}

impl<K> Default for Ranked<K> {
    fn default() -> Ranked<K> {
        Ranked { once: Vec::new(), often: Vec::new() }
    }
}

/// So many values are sorted.
const FEW: usize = 1 << 10;

/// Bits of a digit: so many counts stay in the nearest cache.
const DIGIT: u32 = 11;

/// Values are parted by their digits from `shift` bits on, counted from the least value.
#[derive(Clone, Copy)]
struct Digits {
    least: u64,
    shift: u32,
}

impl Digits {
    fn of(self, key: impl RankKey) -> usize {
        ((key.wide() - self.least) >> self.shift) as usize
    }
}

impl<K: RankKey> Ranked<K> {
    /// Takes a value that comes so often.
    pub(super) fn take(&mut self, key: K, times: u32) {
        match times {
            1 => self.once.push(key),
            _ => self.often.push((key, times)),
        }
    }

    /// Takes values that come once each.
    pub(super) fn take_all(&mut self, keys: impl Iterator<Item = K>) {
        self.once.extend(keys);
    }

    /// Takes over what another one has.
    pub(super) fn join(&mut self, other: Ranked<K>) {
        let Ranked { once, often } = other;
        if self.once.is_empty() {
            self.once = once
        } else {
            self.once.extend(once)
        }
        if self.often.is_empty() { self.often = often } else { self.often.extend(often) }
    }

    /// How many values there are.
    pub(super) fn count(&self) -> u64 {
        self.once.len() as u64 + self.often.iter().map(|(_, times)| u64::from(*times)).sum::<u64>()
    }

    /// The values before which so many others stand, of two ranks that are the same or neighbours; `None` where there are not so
    /// many.
    ///
    /// As a sort that distributes values by their digits, the highest first, but only the part that the ranks lie in is gone on
    /// with (D. Knuth, "The Art of Computer Programming" 3, 5.2.5; C. Hoare, "Algorithm 65: find", CACM 4(7), 1961).
    pub(super) fn at(self, low: u64, high: u64) -> Option<(K, K)> {
        let (least, most) = self.bounds()?;
        if least == most {
            return (high < self.count()).then_some((least, most));
        }
        if self.once.len() + self.often.len() <= FEW {
            return self.sorted_at(low, high);
        }
        let bits = u64::BITS - (most.wide() - least.wide()).leading_zeros();
        let digits = Digits { least: least.wide(), shift: bits.saturating_sub(DIGIT) };
        let counts = self.counts(digits);
        let (low_digit, before) = digit_at(&counts, low)?;
        let (high_digit, _) = digit_at(&counts, high)?;
        let of_low = self.of_digit(digits, low_digit);
        if low_digit == high_digit {
            return of_low.at(low - before, high - before);
        }
        // Neighbours in two digits: the last of one, and the first of the other.
        let of_high = self.of_digit(digits, high_digit);
        Some((of_low.bounds()?.1, of_high.bounds()?.0))
    }

    /// The smallest and the largest value.
    fn bounds(&self) -> Option<(K, K)> {
        let often = || self.often.iter().map(|(key, _)| *key);
        let least = self.once.iter().copied().min().into_iter().chain(often().min()).min()?;
        let most = self.once.iter().copied().max().into_iter().chain(often().max()).max()?;
        Some((least, most))
    }

    fn sorted_at(mut self, low: u64, high: u64) -> Option<(K, K)> {
        if self.often.is_empty() {
            self.once.sort_unstable();
            return Some((*self.once.get(low as usize)?, *self.once.get(high as usize)?));
        }
        self.often.extend(self.once.into_iter().map(|key| (key, 1)));
        self.often.sort_unstable();
        let at = |rank: u64| {
            let mut left = rank;
            self.often.iter().find(|(_, times)| match left.checked_sub(u64::from(*times)) {
                Some(after) => {
                    left = after;
                    false
                }
                None => true,
            })
        };
        Some((at(low)?.0, at(high)?.0))
    }

    /// How many values have each digit.
    fn counts(&self, digits: Digits) -> Vec<u64> {
        let size = part_size(self.once.len(), WORTH_A_THREAD);
        let parts = map_ranges(self.once.len(), size, |some| {
            let mut counts = vec![0u32; 1 << DIGIT];
            self.once[some].iter().for_each(|key| counts[digits.of(*key)] += 1);
            counts
        });
        let mut counts = vec![0u64; 1 << DIGIT];
        for part in parts {
            counts.iter_mut().zip(part).for_each(|(count, more)| *count += u64::from(more));
        }
        self.often.iter().for_each(|(key, times)| counts[digits.of(*key)] += u64::from(*times));
        counts
    }

    /// The values with one digit.
    fn of_digit(&self, digits: Digits, digit: usize) -> Ranked<K> {
        let size = part_size(self.once.len(), WORTH_A_THREAD);
        let once = map_ranges(self.once.len(), size, |some| {
            self.once[some].iter().copied().filter(|key| digits.of(*key) == digit).collect::<Vec<K>>()
        });
        let often = self.often.iter().copied().filter(|(key, _)| digits.of(*key) == digit).collect();
        Ranked { once: once.concat(), often }
    }
}

/// In which digit the value of a rank is, and how many are in those before it.
fn digit_at(counts: &[u64], rank: u64) -> Option<(usize, u64)> {
    let mut before = 0;
    for (digit, count) in counts.iter().enumerate() {
        if rank < before + count {
            return Some((digit, before));
        }
        before += count;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Values with little or much of what makes digits differ, the last of them far away from all others.
    fn keys(count: u64, spread: u64) -> Vec<u64> {
        let keys = (0..count).map(|i| i.wrapping_mul(0x9e37_79b9_7f4a_7c15) % spread);
        keys.chain((count > 2).then_some(u64::from(u32::MAX))).collect()
    }

    fn check<K: RankKey + std::fmt::Debug>(keys: &[u64], times: impl Fn(usize) -> u32) {
        let (mut ranked, mut other, mut sorted) = (Ranked::default(), Ranked::default(), Vec::new());
        for (i, key) in keys.iter().enumerate() {
            let to = if i % 3 == 0 { &mut ranked } else { &mut other };
            to.take(K::narrow(*key), times(i));
            sorted.extend(std::iter::repeat_n(K::narrow(*key), times(i) as usize));
        }
        ranked.join(other);
        sorted.sort_unstable();
        assert_eq!(ranked.count(), sorted.len() as u64);
        let last = sorted.len().saturating_sub(1);
        for low in [0, 1, last / 3, last / 2, last.saturating_sub(1), last] {
            for high in [low, low + 1] {
                let expected = sorted.get(low).zip(sorted.get(high)).map(|(low, high)| (*low, *high));
                assert_eq!(
                    ranked.clone().at(low as u64, high as u64),
                    expected,
                    "{low} and {high} of {}",
                    sorted.len()
                );
            }
        }
    }

    #[test]
    fn what_stands_at_a_rank_is_what_stands_there_sorted() {
        for count in [0, 1, 2, 7, FEW as u64, 5000, 3 * WORTH_A_THREAD as u64] {
            for spread in [1, 3, 3000, 1 << 20, 1 << 32] {
                let keys = keys(count, spread);
                for times in [|_| 1, |i| 1 + i as u32 % 2, |i| 2 + i as u32 % 5] as [fn(usize) -> u32; 3] {
                    check::<u32>(&keys, times);
                    check::<u64>(&keys, times);
                }
                check::<u64>(&keys.iter().map(|key| u64::MAX - key).collect::<Vec<u64>>(), |_| 1);
            }
        }
    }
}
