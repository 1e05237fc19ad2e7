//! Numbers of groups by their keys.

use std::collections::HashMap;
use std::hash::BuildHasher;

use foldhash::fast::RandomState;

/// For each distinct key its group number: they are numbered as they come.
pub enum GroupNumbers {
    /// Keys of at most 64 bits: an entry takes half as much, and more of them stay in the caches.
    Narrow(NarrowNumbers),
    /// Any keys.
    Wide(HashMap<u128, u32, RandomState>),
}

impl GroupNumbers {
    /// For keys below a bound.
    pub fn below(bound: u128) -> GroupNumbers {
        match u64::try_from(bound) {
            Ok(_) => GroupNumbers::Narrow(NarrowNumbers::default()),
            Err(_) => GroupNumbers::Wide(HashMap::default()),
        }
    }

    /// The number of each of some keys. Those that are new get the next ones, and are put behind the `known`.
    pub fn of(&mut self, keys: impl Iterator<Item = u128>, known: &mut Vec<u128>) -> Vec<u32> {
        match self {
            GroupNumbers::Narrow(numbers) => {
                let keys: Vec<u64> = keys.map(|key| key as u64).collect();
                numbers.of(&keys, known)
            }
            GroupNumbers::Wide(numbers) => {
                let number = |key| {
                    *numbers.entry(key).or_insert_with(|| {
                        known.push(key);
                        known.len() as u32 - 1
                    })
                };
                keys.map(number).collect()
            }
        }
    }
}

/// So many keys are looked for at a time: none of them waits until the memory has given another one.
const AT_ONCE: usize = 16;

/// Places of a table that has just been begun.
const FIRST_PLACES: usize = 1 << 8;

/// A key and its number, from 1; 0 where there is none.
type NumberedKey = (u64, u32);

/// Numbers of keys of 64 bits, in an open table with linear probing. The first bits of a hash tell the place, so that a table grows from
/// its beginning to its end.
///
/// Source: D. Knuth, "The Art of Computer Programming", volume 3 (1998), section 6.4, algorithm L.
pub struct NarrowNumbers {
    places: Vec<NumberedKey>,
    /// Told by chance, so that no data can be made to stand in one place.
    hasher: RandomState,
    /// How many bits of a hash are not looked at.
    shift: u32,
}

impl Default for NarrowNumbers {
    fn default() -> NarrowNumbers {
        NarrowNumbers::with(FIRST_PLACES, RandomState::default())
    }
}

impl NarrowNumbers {
    /// A table of so many places, a power of two.
    fn with(places: usize, hasher: RandomState) -> NarrowNumbers {
        NarrowNumbers { places: vec![(0, 0); places], hasher, shift: 64 - places.trailing_zeros() }
    }

    fn place(&self, key: u64) -> usize {
        (self.hasher.hash_one(key) >> self.shift) as usize
    }

    /// As [`GroupNumbers::of`].
    fn of(&mut self, keys: &[u64], known: &mut Vec<u128>) -> Vec<u32> {
        let mut numbers = Vec::with_capacity(keys.len());
        let (chunks, rest) = keys.as_chunks::<AT_ONCE>();
        for chunk in chunks {
            let found = chunk.map(|key| self.places[self.place(key)]);
            for (key, (there, number)) in chunk.iter().zip(found) {
                let is_it = number > 0 && there == *key;
                numbers.push(if is_it { number - 1 } else { self.number(*key, known) });
            }
        }
        numbers.extend(rest.iter().map(|key| self.number(*key, known)));
        numbers
    }

    /// The number of a key, the next one where it is new.
    fn number(&mut self, key: u64, known: &mut Vec<u128>) -> u32 {
        let mut at = self.place(key);
        loop {
            match self.places[at] {
                (_, 0) => break,
                (there, number) if there == key => return number - 1,
                _ => at = (at + 1) & (self.places.len() - 1),
            }
        }
        known.push(u128::from(key));
        self.places[at] = (key, known.len() as u32);
        // Beyond three quarters ways become long.
        if known.len() > self.places.len() / 4 * 3 {
            self.grow();
        }
        known.len() as u32 - 1
    }

    fn grow(&mut self) {
        let mut larger = NarrowNumbers::with(self.places.len() * 2, self.hasher.clone());
        for (key, number) in self.places.iter().filter(|(_, number)| *number > 0) {
            let mut at = larger.place(*key);
            while larger.places[at].1 > 0 {
                at = (at + 1) & (larger.places.len() - 1);
            }
            larger.places[at] = (*key, *number);
        }
        *self = larger;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Keys as they come, some of them again and again: of few, of many, with large steps between them, and all that there are.
    #[test]
    fn each_key_has_one_number_in_the_order_in_which_they_come() {
        let ends = [0, 1, u64::MAX, u64::MAX - 1, 1 << 63];
        for (step, different, count) in
            [(1u64, 7u64, 100u64), (1 << 40, 900, 5000), (1 << 56, 200, 400), (3, 100_000, 120_000)]
        {
            let key = |i: u64| u128::from((i.wrapping_mul(0x9E37_79B9) % different).wrapping_mul(step));
            let keys: Vec<u128> = (0..count).map(key).chain(ends.map(u128::from)).collect();
            for bound in [u128::from(u64::MAX), u128::MAX] {
                let (mut numbers, mut known) = (GroupNumbers::below(bound), Vec::new());
                let mut expected: HashMap<u128, u32> = HashMap::new();
                for part in keys.chunks(1037) {
                    let found = numbers.of(part.iter().copied(), &mut known);
                    for (key, number) in part.iter().zip(found) {
                        let next = expected.len() as u32;
                        assert_eq!(number, *expected.entry(*key).or_insert(next), "{key} of {different}");
                        assert_eq!(known[number as usize], *key);
                    }
                }
                assert_eq!(known.len(), expected.len());
            }
        }
    }
}
