//! The keys of groups that are numbered as they come while rows are gone through: in order once all have come, so that groups of
//! several parts, and cells that stand in that order, are brought together without looking each of them up.

use super::super::combinations::places_in_order;
use cubrel_store::{Ranks, order_of};
use cubrel_value::threads::map_many;

/// Fewer wanted keys than one in so many groups are searched for one by one.
const GROUPS_PER_SEARCH: usize = 32;

/// The keys of groups, in order: the place of a key is its group's number.
#[derive(Debug, Default)]
pub(super) struct GroupKeys(Vec<u128>);

impl GroupKeys {
    /// Those of several parts, and for each part the numbers of its own groups among them.
    pub(super) fn of_parts(parts: &[&[u128]]) -> (GroupKeys, Vec<Vec<u32>>) {
        let rows = parts.iter().map(|part| part.len()).sum();
        let all = || parts.iter().copied().flatten().copied();
        let is_narrow = all().all(|key| u64::try_from(key).is_ok());
        let (keys, places) = match is_narrow {
            true => {
                let Ranks { numbers, places, .. } = Ranks::of(rows, all().map(|key| key as u64));
                (numbers.into_iter().map(u128::from).collect(), places)
            }
            false => {
                let Ranks { numbers, places, .. } = Ranks::of_any(all());
                (numbers, places)
            }
        };
        let mut rest = places.as_slice();
        let mut own = |part: &&[u128]| rest.split_off(..part.len()).unwrap_or_default().to_vec();
        let numbers = parts.iter().map(&mut own).collect();
        (GroupKeys(keys), numbers)
    }

    /// Groups of one key that have these codes, which are in order.
    pub(super) fn of_codes(codes: impl Iterator<Item = u64>) -> GroupKeys {
        GroupKeys(codes.map(u128::from).collect())
    }

    /// How many groups there are.
    pub(super) fn len(&self) -> usize {
        self.0.len()
    }

    /// The code that groups have in a key, each of which counts so many times, and of which there are so many.
    pub(super) fn codes(&self, groups: &[u32], stride: u128, size: u64) -> Vec<u64> {
        let narrow = u64::try_from(stride).ok();
        let code = |group: &u32| match (u64::try_from(self.0[*group as usize]), narrow) {
            // A division of 64 bits takes a fraction of one of 128.
            (Ok(key), Some(stride)) => key / stride % size,
            (Ok(_), None) => 0,
            (Err(_), _) => (self.0[*group as usize] / stride % u128::from(size)) as u64,
        };
        map_many(groups, code)
    }

    /// The group of each wanted key, or `none`.
    pub(super) fn find(&self, wanted: &[u128], none: u32) -> Vec<u32> {
        if wanted.len() < self.len() / GROUPS_PER_SEARCH {
            let place = |key: &u128| self.0.binary_search(key).map_or(none, |place| place as u32);
            return wanted.iter().map(place).collect();
        }
        if wanted.is_sorted() {
            return places_in_order(&self.0, wanted, none);
        }
        // To sort them by their digits takes less than looking them up one by one, all over the memory.
        let order = order_of_keys(wanted);
        let sorted: Vec<u128> = order.iter().map(|place| wanted[*place as usize]).collect();
        let mut found = vec![none; wanted.len()];
        let groups = places_in_order(&self.0, &sorted, none);
        order.into_iter().zip(groups).for_each(|(place, group)| found[place as usize] = group);
        found
    }
}

/// The places of keys in their order.
fn order_of_keys(keys: &[u128]) -> Vec<u32> {
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
            assert!(keys.0.is_sorted_by(|a, b| a < b), "each once");
            assert_eq!(keys.len(), parts.concat().iter().collect::<std::collections::HashSet<_>>().len());
            for (part, numbers) in parts.iter().zip(&numbers) {
                assert_eq!(part.len(), numbers.len());
                assert!(part.iter().zip(numbers).all(|(key, number)| keys.0[*number as usize] == *key));
            }
            let known = |key: &u128| keys.0.iter().position(|k| k == key).map_or(77, |place| place as u32);
            let mut wanted: Vec<u128> = (0..60).rev().map(|i| i * factor).chain([7 * factor + 1]).collect();
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
