//! Which values stand at a rank, without sorting all of them.

use cubrel_value::threads::{WORTH_A_THREAD, map_ranges, part_size};

/// What values are ordered by.
pub(super) trait RankKey: Copy + Ord + Send + Sync {
    /// The smallest and the largest that there can be.
    const ENDS: (Self, Self);
    /// The same as a wide one, in the same order.
    fn wide(self) -> u64;
    /// The key of a wide one that it has been.
    fn narrow(wide: u64) -> Self;
}

impl RankKey for u32 {
    const ENDS: (u32, u32) = (0, u32::MAX);

    fn wide(self) -> u64 {
        u64::from(self)
    }

    fn narrow(wide: u64) -> u32 {
        wide as u32
    }
}

impl RankKey for u64 {
    const ENDS: (u64, u64) = (0, u64::MAX);

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
    /// Those that come once each, the last of them where they are many.
    once: Vec<K>,
    /// All others.
    more: Option<Box<More<K>>>,
    /// The smallest and the largest; the other way round where there are none.
    least: K,
    most: K,
}

/// Values of which most lists have none.
#[derive(Clone, Debug)]
struct More<K> {
    /// Those that come once each, in pieces: to grow, none is copied.
    pieces: Vec<Vec<K>>,
    /// Those that come several times, with how often.
    often: Vec<(K, u32)>,
}

impl<K> Default for More<K> {
    fn default() -> More<K> {
        More { pieces: Vec::new(), often: Vec::new() }
    }
}

impl<K: RankKey> Default for Ranked<K> {
    fn default() -> Ranked<K> {
        let (least, most) = K::ENDS;
        Ranked { once: Vec::new(), more: None, least: most, most: least }
    }
}

/// Values of a piece.
const PIECE: usize = 1 << 13;

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
    /// Of values that come once each, in pieces, and of others.
    fn of(pieces: Vec<Vec<K>>, often: Vec<(K, u32)>) -> Ranked<K> {
        let mut all = Ranked::default();
        pieces.iter().flatten().for_each(|key| all.widen(*key));
        often.iter().for_each(|(key, _)| all.widen(*key));
        all.more = Some(Box::new(More { pieces, often }));
        all
    }

    fn widen(&mut self, key: K) {
        self.least = self.least.min(key);
        self.most = self.most.max(key);
    }

    /// Takes a value that comes so often.
    pub(super) fn take(&mut self, key: K, times: u32) {
        self.widen(key);
        if times != 1 {
            return self.more.get_or_insert_default().often.push((key, times));
        }
        if self.once.len() == PIECE {
            self.put_by(Vec::with_capacity(PIECE));
        }
        self.once.push(key);
    }

    /// Takes values that come once each.
    pub(super) fn take_all(&mut self, keys: impl Iterator<Item = K>) {
        keys.for_each(|key| self.take(key, 1));
    }

    /// Goes on with another piece.
    fn put_by(&mut self, next: Vec<K>) {
        let full = std::mem::replace(&mut self.once, next);
        self.more.get_or_insert_default().pieces.push(full);
    }

    /// Takes over what another one has.
    pub(super) fn join(&mut self, other: Ranked<K>) {
        let Ranked { once, more, least, most } = other;
        (self.least, self.most) = (self.least.min(least), self.most.max(most));
        if let Some(more) = more {
            let own = self.more.get_or_insert_default();
            own.pieces.extend(more.pieces);
            own.often.extend(more.often);
        }
        if self.once.len() + once.len() > PIECE {
            self.put_by(once);
        } else if self.once.is_empty() {
            self.once = once;
        } else {
            self.once.extend(once);
        }
    }

    /// The values that come once each.
    fn pieces(&self) -> Vec<&[K]> {
        let pieces = self.more.iter().flat_map(|more| &more.pieces).map(Vec::as_slice);
        pieces.chain([self.once.as_slice()]).collect()
    }

    /// Those that come several times.
    fn often(&self) -> &[(K, u32)] {
        self.more.as_ref().map_or(&[], |more| &more.often)
    }

    /// How many values there are, each once.
    fn len(&self) -> usize {
        self.pieces().iter().map(|piece| piece.len()).sum::<usize>() + self.often().len()
    }

    /// How many values there are.
    pub(super) fn count(&self) -> u64 {
        let once: usize = self.pieces().iter().map(|piece| piece.len()).sum();
        once as u64 + self.often().iter().map(|(_, times)| u64::from(*times)).sum::<u64>()
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
        if self.len() <= FEW {
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
        (self.least <= self.most).then_some((self.least, self.most))
    }

    fn sorted_at(self, low: u64, high: u64) -> Option<(K, K)> {
        let mut once = self.pieces().concat();
        if self.often().is_empty() {
            once.sort_unstable();
            return Some((*once.get(low as usize)?, *once.get(high as usize)?));
        }
        let mut all = self.often().to_vec();
        all.extend(once.into_iter().map(|key| (key, 1)));
        all.sort_unstable();
        let at = |rank: u64| {
            let mut left = rank;
            all.iter().find(|(_, times)| match left.checked_sub(u64::from(*times)) {
                Some(after) => {
                    left = after;
                    false
                }
                None => true,
            })
        };
        Some((at(low)?.0, at(high)?.0))
    }

    /// What `of` gives for some pieces at a time, on all threads.
    fn of_pieces<T: Send>(&self, of: impl Fn(&[&[K]]) -> T + Sync) -> Vec<T> {
        let pieces = self.pieces();
        map_ranges(pieces.len(), part_size(pieces.len(), WORTH_A_THREAD / PIECE), |some| of(&pieces[some]))
    }

    /// How many values have each digit.
    fn counts(&self, digits: Digits) -> Vec<u64> {
        let parts = self.of_pieces(|pieces| {
            let mut counts = vec![0u32; 1 << DIGIT];
            pieces.iter().flat_map(|piece| piece.iter()).for_each(|key| counts[digits.of(*key)] += 1);
            counts
        });
        let mut counts = vec![0u64; 1 << DIGIT];
        for part in parts {
            counts.iter_mut().zip(part).for_each(|(count, more)| *count += u64::from(more));
        }
        self.often().iter().for_each(|(key, times)| counts[digits.of(*key)] += u64::from(*times));
        counts
    }

    /// The values with one digit.
    fn of_digit(&self, digits: Digits, digit: usize) -> Ranked<K> {
        let has_it = |key: &K| digits.of(*key) == digit;
        let once = self.of_pieces(|pieces| {
            pieces.iter().flat_map(|piece| piece.iter().copied().filter(has_it)).collect::<Vec<K>>()
        });
        let often = self.often().iter().copied().filter(|(key, _)| has_it(key)).collect();
        Ranked::of(once, often)
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
