//! Numbers of groups by their keys.

use std::collections::HashMap;

type NumbersOf<K> = HashMap<K, u32, foldhash::fast::RandomState>;

/// For each distinct key its group number.
pub enum GroupNumbers {
    /// Keys of at most 64 bits: an entry takes half as much, and more of them stay in the caches.
    Narrow(NumbersOf<u64>),
    /// Any keys.
    Wide(NumbersOf<u128>),
}

impl GroupNumbers {
    /// For keys below a bound.
    pub fn below(bound: u128) -> GroupNumbers {
        match u64::try_from(bound) {
            Ok(_) => GroupNumbers::Narrow(NumbersOf::default()),
            Err(_) => GroupNumbers::Wide(NumbersOf::default()),
        }
    }

    /// The number of a key, which becomes `next` when it is new.
    pub fn number(&mut self, key: u128, next: u32) -> u32 {
        match self {
            GroupNumbers::Narrow(numbers) => *numbers.entry(key as u64).or_insert(next),
            GroupNumbers::Wide(numbers) => *numbers.entry(key).or_insert(next),
        }
    }
}
