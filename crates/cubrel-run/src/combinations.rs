//! Combinations of codes, numbered, column by column.

use std::collections::HashMap;
use std::hash::{BuildHasher, Hasher};
use std::sync::{Arc, OnceLock};

use crate::frame::{SharedCodes, near_room};

/// Stands for a combination that is not there.
pub(super) const NO_COMBINATION: u32 = u32::MAX;
/// Combinations are found by an array over all that there could be, up to this many of them for each that there is.
const ROOM_PER_COMBINATION: u128 = 16;
const SMALL_ROOM: u128 = 1 << 16;
/// A hash table begins with room for one in so many rows.
const ROWS_PER_COMBINATION: usize = 4;

/// To look this many combinations up costs what going through all of them in their order does.
const LOOKUPS_PER_STEP: usize = 16;

type NumberMap = HashMap<u128, u32, foldhash::fast::RandomState>;

/// Distinct combinations; each has the place where it stands as its number.
pub(super) struct Combinations {
    /// Key by key, the codes.
    pub(super) columns: Vec<SharedCodes>,
    /// How many codes each key has.
    sizes: Vec<u64>,
    count: usize,
    /// Made when a combination is looked for.
    index: Option<NumberIndex>,
}

enum NumberIndex {
    ByPlace(Vec<u32>),
    ByHash(NumberMap),
}

/// The codes of a row as one number: they are its digits, unless there could be more than 128 bits of them. Then they are mixed, each
/// time the program runs in another way, so that two rows with other codes have, as good as never, the same.
pub(super) fn packed<'a>(columns: &'a [&[u64]], sizes: &'a [u64]) -> impl Fn(usize) -> u128 + 'a {
    let fits = sizes.iter().try_fold(1u128, |all, size| all.checked_mul(u128::from(*size))).is_some();
    let seeds = (!fits).then(|| SEEDS.get_or_init(|| [0, 1].map(|_| foldhash::quality::RandomState::default())));
    move |row| match (columns, seeds) {
        ([only], _) => u128::from(only[row]),
        (_, Some(seeds)) => mixed(seeds, columns, row),
        _ => columns.iter().zip(sizes).fold(0, |key, (codes, size)| key * u128::from(*size) + u128::from(codes[row])),
    }
}

/// How codes are mixed, in each half.
static SEEDS: OnceLock<[foldhash::quality::RandomState; 2]> = OnceLock::new();

fn mixed(seeds: &[foldhash::quality::RandomState; 2], columns: &[&[u64]], row: usize) -> u128 {
    let half = |seed: &foldhash::quality::RandomState| {
        let mut hasher = seed.build_hasher();
        columns.iter().for_each(|codes| hasher.write_u64(codes[row]));
        u128::from(hasher.finish())
    };
    half(&seeds[0]) << 64 | half(&seeds[1])
}

impl Combinations {
    pub(super) fn new(sizes: Vec<u64>) -> Combinations {
        Combinations { columns: vec![SharedCodes::default(); sizes.len()], sizes, count: 0, index: None }
    }

    pub(super) fn len(&self) -> usize {
        self.count
    }

    fn slices(&self) -> Vec<&[u64]> {
        self.columns.iter().map(|codes| codes.as_slice()).collect()
    }

    /// The index, made for so many rows if there is none yet.
    fn index(&mut self, rows: usize) -> &mut NumberIndex {
        if self.index.is_none() {
            let room = self.sizes.iter().fold(1u128, |room, size| room.saturating_mul(u128::from(*size)));
            let allowed = (ROOM_PER_COMBINATION * self.count as u128).max(u128::from(near_room(rows)));
            let small = room <= SMALL_ROOM.max(allowed);
            let mut index = if small {
                NumberIndex::ByPlace(vec![NO_COMBINATION; room as usize])
            } else {
                let likely = self.count.max(rows / ROWS_PER_COMBINATION);
                NumberIndex::ByHash(NumberMap::with_capacity_and_hasher(likely, Default::default()))
            };
            {
                let columns = self.slices();
                let key = packed(&columns, &self.sizes);
                (0..self.count).for_each(|number| {
                    index.number(key(number), number as u32);
                });
            }
            self.index = Some(index);
        }
        self.index.get_or_insert(NumberIndex::ByHash(NumberMap::default()))
    }

    /// The number of each row's combination, new ones added. Rows are distinct where `distinct` says so, or the codes of
    /// one key are in order.
    pub(super) fn numbers(&mut self, columns: Vec<SharedCodes>, rows: usize, distinct: bool) -> Vec<u32> {
        let ascend = |codes: &SharedCodes| codes.is_sorted_by(|a, b| a < b);
        if self.count == 0 && (distinct || columns.iter().any(ascend)) {
            self.columns = columns;
            self.count = rows;
            return (0..rows as u32).collect();
        }
        let slices: Vec<&[u64]> = columns.iter().map(|codes| codes.as_slice()).collect();
        let sizes = self.sizes.clone();
        let key = packed(&slices, &sizes);
        let mut count = self.count as u32;
        let mut fresh = Vec::new();
        let index = self.index(rows);
        let number = |row: usize| {
            let number = index.number(key(row), count);
            if number == count {
                count += 1;
                fresh.push(row);
            }
            number
        };
        let numbers = (0..rows).map(number).collect();
        for (all, more) in self.columns.iter_mut().zip(&columns) {
            Arc::make_mut(all).extend(fresh.iter().map(|row| more[*row]));
        }
        self.count = count as usize;
        numbers
    }

    /// The number of each row's combination, or [`NO_COMBINATION`].
    pub(super) fn find(&mut self, columns: &[&[u64]], rows: usize) -> Vec<u32> {
        if self.are(columns, rows) {
            return (0..rows as u32).collect();
        }
        if let Some(found) = self.found_by_order(columns) {
            return found;
        }
        if self.index.is_none()
            && let Some(found) = self.found_in_step(columns, rows)
        {
            return found;
        }
        let sizes = self.sizes.clone();
        let key = packed(columns, &sizes);
        let index = self.index(0);
        (0..rows).map(|row| index.find(key(row))).collect()
    }

    /// The same where combinations stand in the order of all their keys, there and here.
    fn found_in_step(&self, columns: &[&[u64]], rows: usize) -> Option<Vec<u32>> {
        if rows * LOOKUPS_PER_STEP < self.count {
            return None;
        }
        let wanted: Vec<u128> = (0..rows).map(packed(columns, &self.sizes)).collect();
        if !wanted.is_sorted() {
            return None;
        }
        let own: Vec<u128> = (0..self.count).map(packed(&self.slices(), &self.sizes)).collect();
        own.is_sorted().then(|| places_in_order(&own, &wanted, NO_COMBINATION))
    }

    /// The same where one key tells all combinations apart, and they stand in its order there and here.
    fn found_by_order(&self, columns: &[&[u64]]) -> Option<Vec<u32>> {
        let tells = |(own, wanted): &(&SharedCodes, &&[u64])| own.is_sorted_by(|a, b| a < b) && wanted.is_sorted();
        let (own, wanted) = self.columns.iter().zip(columns).find(tells)?;
        let mut found = places_in_order(own.as_slice(), wanted, NO_COMBINATION);
        for (own, wanted) in self.columns.iter().zip(columns) {
            for (number, code) in found.iter_mut().zip(*wanted) {
                if own.get(*number as usize) != Some(code) {
                    *number = NO_COMBINATION;
                }
            }
        }
        Some(found)
    }

    /// Whether they are those of certain rows, in that order: the read that brought them was asked again.
    pub(super) fn are(&self, columns: &[&[u64]], rows: usize) -> bool {
        let same =
            |(own, codes): (&SharedCodes, &&[u64])| std::ptr::eq(own.as_slice(), *codes) || own.as_slice() == *codes;
        rows == self.count && self.columns.iter().zip(columns).all(same)
    }

    /// The numbers of the combinations that have certain codes in some of the keys, by these codes as [`packed`].
    pub(super) fn by_part(&self, keys: &[usize]) -> HashMap<u128, Vec<u32>, foldhash::fast::RandomState> {
        let columns: Vec<&[u64]> = keys.iter().map(|k| self.columns[*k].as_slice()).collect();
        let mut found: HashMap<u128, Vec<u32>, _> = HashMap::default();
        let sizes = self.sizes_of(keys);
        let key = packed(&columns, &sizes);
        (0..self.count).for_each(|number| found.entry(key(number)).or_default().push(number as u32));
        found
    }

    /// How many codes some of the keys have.
    pub(super) fn sizes_of(&self, keys: &[usize]) -> Vec<u64> {
        keys.iter().map(|k| self.sizes[*k]).collect()
    }
}

/// The place of each wanted one among others, or `none`; both are in order.
pub(super) fn places_in_order<T: Ord>(all: &[T], wanted: &[T], none: u32) -> Vec<u32> {
    let mut at = 0;
    let place = |one: &T| {
        while all.get(at).is_some_and(|other| other < one) {
            at += 1;
        }
        if all.get(at) == Some(one) { at as u32 } else { none }
    };
    wanted.iter().map(place).collect()
}

impl NumberIndex {
    /// The number of a combination, which becomes `next` when it is new.
    fn number(&mut self, key: u128, next: u32) -> u32 {
        match self {
            NumberIndex::ByHash(numbers) => *numbers.entry(key).or_insert(next),
            NumberIndex::ByPlace(numbers) => {
                let slot = &mut numbers[key as usize];
                if *slot == NO_COMBINATION {
                    *slot = next;
                }
                *slot
            }
        }
    }

    fn find(&self, key: u128) -> u32 {
        match self {
            NumberIndex::ByHash(numbers) => numbers.get(&key).copied().unwrap_or(NO_COMBINATION),
            NumberIndex::ByPlace(numbers) => numbers.get(key as usize).copied().unwrap_or(NO_COMBINATION),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn codes(columns: [&[u64]; 2]) -> Vec<SharedCodes> {
        columns.map(|c| SharedCodes::new(c.to_vec())).to_vec()
    }

    #[test]
    fn more_codes_than_128_bits_hold_are_told_apart() {
        // As digits, the first column of these would be lost.
        let sizes = [1u64 << 63, 1 << 63, 1 << 63];
        let columns: [&[u64]; 3] = [&[1, 5, 1, 8], &[2, 2, 2, 2], &[3, 3, 3, 4]];
        let key = packed(&columns, &sizes);
        assert_eq!((0..4).map(|row| key(row) == key(0)).collect::<Vec<_>>(), [true, false, true, false]);
        let mut all = Combinations::new(sizes.to_vec());
        let shared = columns.map(|codes| SharedCodes::new(codes.to_vec())).to_vec();
        assert_eq!(all.numbers(shared, 4, false), [0, 1, 0, 2]);
    }

    #[test]
    fn combinations_are_numbered_once_whichever_index_finds_them() {
        for sizes in [vec![5, 7], vec![1 << 40, 1 << 50]] {
            let mut all = Combinations::new(sizes);
            assert_eq!(all.numbers(codes([&[1, 2], &[3, 3]]), 2, true), [0, 1]);
            assert_eq!(all.numbers(codes([&[2, 4, 4, 1], &[3, 6, 6, 3]]), 4, false), [1, 2, 2, 0]);
            assert_eq!(all.columns, codes([&[1, 2, 4], &[3, 3, 6]]));
            assert_eq!(all.find(&[&[4, 4], &[6, 5]], 2), [2, NO_COMBINATION]);
            let mut read = Combinations::new(all.sizes.clone());
            read.numbers(codes([&[1, 1, 2, 2], &[3, 5, 0, 2]]), 4, true);
            assert_eq!(
                read.find(&[&[0, 1, 1, 2, 2], &[6, 4, 5, 0, 1]], 5),
                [NO_COMBINATION, NO_COMBINATION, 1, 2, NO_COMBINATION]
            );
            assert!(read.index.is_none(), "both in order");
            assert_eq!(read.find(&[&[2, 1, 3], &[2, 3, 0]], 3), [3, 0, NO_COMBINATION]);
            assert_eq!(all.find(&[&[0, 1, 2, 4], &[3, 3, 4, 6]], 4), [NO_COMBINATION, 0, NO_COMBINATION, 2]);
            assert_eq!(all.by_part(&[1])[&3], [0, 1]);
            assert_eq!(all.len(), 3);
        }
    }
}
