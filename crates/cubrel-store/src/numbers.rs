//! Distinct numbers in order, so that comparing codes compares numbers.

use super::buffer::Buffer;
use super::sorted::SortedInts;

/// Up to this many numbers stand one by one, where the fastest way to each counts more than a few bytes.
const LISTED: usize = 1024;

/// Where fewer than one in so many are looked for, each is by itself.
const FEW_OF: usize = 16;

/// Sorted distinct numbers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Numbers {
    /// One by one.
    Listed(Buffer<i64>),
    /// As distances from the first.
    Distances {
        /// The first number.
        first: i64,
        /// What each number is more than the first.
        more: SortedInts,
    },
}

impl Numbers {
    /// From sorted distinct numbers.
    pub fn new(sorted: Vec<i64>) -> Numbers {
        match (sorted.first().copied(), sorted.last().copied()) {
            (Some(first), Some(last)) if sorted.len() > LISTED => {
                let more = sorted.iter().map(|v| v.wrapping_sub(first) as u64);
                Numbers::Distances { first, more: SortedInts::new(more, last.wrapping_sub(first) as u64) }
            }
            _ => Numbers::Listed(sorted.into()),
        }
    }

    /// How many bytes [`Numbers::new`] will take.
    pub fn bytes_for(count: usize, range: u64) -> usize {
        if count > LISTED { SortedInts::bytes_for(count, range) } else { count * 8 }
    }

    /// How many numbers.
    pub fn len(&self) -> usize {
        match self {
            Numbers::Listed(values) => values.len(),
            Numbers::Distances { more, .. } => more.len(),
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The number of a code.
    pub fn get(&self, code: usize) -> i64 {
        match self {
            Numbers::Listed(values) => values[code],
            Numbers::Distances { first, more } => first.wrapping_add(more.get(code) as i64),
        }
    }

    /// The code of a number.
    pub fn find(&self, value: i64) -> Option<usize> {
        match self {
            Numbers::Listed(values) => values.binary_search(&value).ok(),
            Numbers::Distances { first, more } => {
                let distance = u64::try_from(i128::from(value) - i128::from(*first)).ok()?;
                let place = more.rank(distance);
                (place < more.len() && more.get(place) == distance).then_some(place)
            }
        }
    }

    /// Calls `take` with the code of each of some ascending numbers, or with none.
    pub fn find_each(&self, ascending: &[i64], mut take: impl FnMut(Option<usize>)) {
        let (Some(first), Some(last)) = (ascending.first(), ascending.last()) else { return };
        let (from, end) = (self.smaller(*first), self.smaller(*last));
        if end.saturating_sub(from) / FEW_OF > ascending.len() {
            return ascending.iter().for_each(|value| take(self.find(*value)));
        }
        // Both are gone through once, which is faster than looking for each.
        let mut code = from;
        let mut all: Box<dyn Iterator<Item = i64> + '_> = match self {
            Numbers::Listed(values) => Box::new(values[from..].iter().copied()),
            Numbers::Distances { first, more } => Box::new(more.iter_from(from).map(|v| first.wrapping_add(v as i64))),
        };
        let mut next = all.next();
        for value in ascending {
            while next.is_some_and(|next| next < *value) {
                next = all.next();
                code += 1;
            }
            take((next == Some(*value)).then_some(code));
        }
    }

    /// How many numbers are smaller.
    fn smaller(&self, value: i64) -> usize {
        match self {
            Numbers::Listed(values) => values.partition_point(|v| *v < value),
            Numbers::Distances { first, more } => {
                u64::try_from(i128::from(value) - i128::from(*first)).map_or(0, |distance| more.rank(distance))
            }
        }
    }

    /// All numbers, in order.
    pub fn all(&self) -> Vec<i64> {
        match self {
            Numbers::Listed(values) => values.to_vec(),
            Numbers::Distances { first, more } => more.iter_from(0).map(|v| first.wrapping_add(v as i64)).collect(),
        }
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        match self {
            Numbers::Listed(values) => values.len() * 8,
            Numbers::Distances { more, .. } => more.heap_bytes(),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn numbers_are_found_and_come_back() {
        let far = |n: i64| (0..n).map(|i| i * i * 31 - 5_000_000).collect::<Vec<i64>>();
        for values in [vec![], vec![i64::MIN, -1, 0, i64::MAX], far(100), far(3000)] {
            let numbers = Numbers::new(values.clone());
            assert_eq!(numbers.all(), values);
            assert_eq!(numbers.len(), values.len());
            for (code, value) in values.iter().enumerate() {
                assert_eq!((numbers.get(code), numbers.find(*value)), (*value, Some(code)));
            }
            for (some, step) in [(&values[..], 1), (&values[..], 7), (&values[values.len() / 3..], 40)] {
                let there = some.iter().step_by(step);
                let asked: BTreeSet<i64> = there.flat_map(|v| [*v, v.wrapping_add(1), v.wrapping_mul(3)]).collect();
                let asked: Vec<i64> = asked.into_iter().collect();
                let mut found = Vec::new();
                numbers.find_each(&asked, |code| found.push(code));
                assert_eq!(found, asked.iter().map(|v| numbers.find(*v)).collect::<Vec<_>>());
            }
            assert_eq!(numbers.find(7), None);
            assert_eq!(numbers.find(i64::MIN + 1), None);
        }
    }
}
