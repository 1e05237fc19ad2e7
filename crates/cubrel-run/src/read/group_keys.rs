//! The keys of groups that are numbered as they come while rows are gone through: in order once all have come, so that groups of
//! several parts, and cells that stand in that order, are brought together without looking each of them up.

use super::super::combinations::places_in_order;
use cubrel_store::{Ranks, order_of};
use cubrel_value::threads::map_many;

/// Fewer wanted keys than one in so many groups are searched for one by one.
const GROUPS_PER_SEARCH: usize = 32;

/// The keys of groups, in order: the place of a key is its group's number.
#[derive(Debug)]
pub(super) enum GroupKeys {
    /// All of which fit 64 bits.
    Narrow(Vec<u64>),
    /// Others.
    Wide(Vec<u128>),
}

impl GroupKeys {
    /// Those of several parts, and for each part the numbers of its own groups among them.
    pub(super) fn of_parts(parts: &[&[u128]]) -> (GroupKeys, Vec<Vec<u32>>) {
        let rows = parts.iter().map(|part| part.len()).sum();
        let all = || parts.iter().copied().flatten().copied();
        let is_narrow = all().all(|key| u64::try_from(key).is_ok());
        let (keys, places) = match is_narrow {
            true => {
                let Ranks { numbers, places, .. } = Ranks::of(rows, all().map(|key| key as u64));
                (GroupKeys::Narrow(numbers), places)
            }
            false => {
                let Ranks { numbers, places, .. } = Ranks::of_any(all());
                (GroupKeys::Wide(numbers), places)
            }
        };
        let mut rest = places.as_slice();
        let mut own = |part: &&[u128]| rest.split_off(..part.len()).unwrap_or_default().to_vec();
        let numbers = parts.iter().map(&mut own).collect();
        (keys, numbers)
    }

    /// Groups of one key that have these codes, which are in order.
    pub(super) fn of_codes(codes: Vec<u64>) -> GroupKeys {
        GroupKeys::Narrow(codes)
    }

    /// How many groups there are.
    pub(super) fn len(&self) -> usize {
        match self {
            GroupKeys::Narrow(keys) => keys.len(),
            GroupKeys::Wide(keys) => keys.len(),
        }
    }

    /// The code that groups have in a key, each of which counts so many times, and of which there are so many.
    pub(super) fn codes(&self, groups: &[u32], stride: u128, size: u64) -> Vec<u64> {
        match (self, u64::try_from(stride)) {
            // A division of 64 bits takes a fraction of one of 128.
            (GroupKeys::Narrow(keys), Ok(stride)) => map_many(groups, |group| keys[*group as usize] / stride % size),
            (GroupKeys::Narrow(_), Err(_)) => vec![0; groups.len()],
            (GroupKeys::Wide(keys), _) => {
                map_many(groups, |group| (keys[*group as usize] / stride % u128::from(size)) as u64)
            }
        }
    }

    /// The group of each wanted key, or `none`.
    pub(super) fn find(&self, wanted: &[u128], none: u32) -> Vec<u32> {
        match self {
            GroupKeys::Narrow(keys) => {
                // What does not fit is no key of a group; the largest number stands in its place, and is looked at again.
                let narrow: Vec<u64> = wanted.iter().map(|key| u64::try_from(*key).unwrap_or(u64::MAX)).collect();
                let mut found = find(keys, &narrow, none);
                let is_other = |(key, group): &(&u128, &mut u32)| **group != none && u64::try_from(**key).is_err();
                wanted.iter().zip(&mut found).filter(is_other).for_each(|(_, group)| *group = none);
                found
            }
            GroupKeys::Wide(keys) => find(keys, wanted, none),
        }
    }
}

/// The place of each wanted key among `keys`, which are in order, or `none`.
fn find<K: GroupKey>(keys: &[K], wanted: &[K], none: u32) -> Vec<u32> {
    if wanted.len() < keys.len() / GROUPS_PER_SEARCH {
        let place = |key: &K| keys.binary_search(key).map_or(none, |place| place as u32);
        return wanted.iter().map(place).collect();
    }
    if wanted.is_sorted() {
        return places_in_order(keys, wanted, none);
    }
    // To sort them by their digits takes less than looking them up one by one, all over the memory.
    let order = K::order_of(wanted);
    let sorted: Vec<K> = order.iter().map(|place| wanted[*place as usize]).collect();
    let mut found = vec![none; wanted.len()];
    let groups = places_in_order(keys, &sorted, none);
    order.into_iter().zip(groups).for_each(|(place, group)| found[place as usize] = group);
    found
}

/// A number that is the key of a group.
trait GroupKey: Copy + Ord {
    /// The places of keys in their order.
    fn order_of(keys: &[Self]) -> Vec<u32>;
}

impl GroupKey for u64 {
    fn order_of(keys: &[u64]) -> Vec<u32> {
        order_of(keys)
    }
}

impl GroupKey for u128 {
    fn order_of(keys: &[u128]) -> Vec<u32> {
        order_of_wide(keys)
    }
}

/// The places of keys in their order.
fn order_of_wide(keys: &[u128]) -> Vec<u32> {
    match keys.iter().map(|key| u64::try_from(*key)).collect::<Result<Vec<u64>, _>>() {
        Ok(narrow) => order_of(&narrow),
        Err(_) => {
            let mut order: Vec<u32> = (0..keys.len() as u32).collect();
            order.sort_unstable_by_key(|place| keys[*place as usize]);
            order
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Parts that share some of their keys, in no order.
    fn parts(factor: u128) -> Vec<Vec<u128>> {
        let key = |i: u64| u128::from(i.wrapping_mul(0x9E37_79B9_7F4A_7C15) % 50) * factor;
        let mut parts: Vec<Vec<u128>> =
            vec![(0..40).map(key).collect(), Vec::new(), (20..90).map(key).collect(), (0..3).map(key).collect()];
        for part in &mut parts {
            let mut seen = Vec::new();
            part.retain(|key| {
                !seen.contains(key) && {
                    seen.push(*key);
                    true
                }
            });
        }
        parts
    }

    #[test]
    fn keys_of_all_parts_stand_in_order_and_are_found_again() {
        for factor in [1, 1 << 40, 1 << 90] {
            let parts = parts(factor);
            let slices: Vec<&[u128]> = parts.iter().map(Vec::as_slice).collect();
            let (keys, numbers) = GroupKeys::of_parts(&slices);
            let all: Vec<u128> = match &keys {
                GroupKeys::Narrow(all) => all.iter().map(|key| u128::from(*key)).collect(),
                GroupKeys::Wide(all) => all.clone(),
            };
            assert!(all.is_sorted_by(|a, b| a < b), "each once");
            assert_eq!(keys.len(), parts.concat().iter().collect::<std::collections::HashSet<_>>().len());
            for (part, numbers) in parts.iter().zip(&numbers) {
                assert_eq!(part.len(), numbers.len());
                assert!(part.iter().zip(numbers).all(|(key, number)| all[*number as usize] == *key));
            }
            let known = |key: &u128| all.iter().position(|k| k == key).map_or(77, |place| place as u32);
            let mut wanted: Vec<u128> =
                (0..60).rev().map(|i| i * factor).chain([7 * factor + 1, u64::MAX.into(), 1 << 64]).collect();
            for _ in 0..2 {
                let expected: Vec<u32> = wanted.iter().map(known).collect();
                assert_eq!(keys.find(&wanted, 77), expected, "as they come, then in order");
                assert_eq!(keys.find(&wanted[30..31], 77), expected[30..31]);
                wanted.sort();
            }
        }
    }

    #[test]
    fn codes_are_the_digits_of_a_key() {
        for sizes in [[7u64, 11], [1 << 40, 1 << 50]] {
            let codes = |i: u64| [i * 3 % sizes[0], i * 5 % sizes[1]];
            let key = |i: u64| u128::from(codes(i)[0]) * u128::from(sizes[1]) + u128::from(codes(i)[1]);
            let all: Vec<u128> = (0..7).map(key).collect();
            let (keys, numbers) = GroupKeys::of_parts(&[&all]);
            let strides = [u128::from(sizes[1]), 1];
            for (place, (stride, size)) in strides.into_iter().zip(sizes).enumerate() {
                let expected: Vec<u64> = (0..7).map(|i| codes(i)[place]).collect();
                assert_eq!(keys.codes(&numbers[0], stride, size), expected);
            }
        }
    }
}
