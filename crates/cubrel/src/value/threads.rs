//! Work on all threads: of many values that take the same time, and of few things that do not.

use std::cmp::Reverse;
use std::sync::{Mutex, PoisonError};

use rayon::prelude::*;

/// So many values are worth a thread.
pub const WORTH_A_THREAD: usize = 1 << 16;

/// What `map` makes of each of some values, in their order.
pub fn map_many<A: Sync, B: Send>(values: &[A], map: impl Fn(&A) -> B + Sync + Send) -> Vec<B> {
    if values.len() <= WORTH_A_THREAD {
        return values.iter().map(map).collect();
    }
    // Just above that, two threads have something to do.
    values.par_iter().with_min_len(WORTH_A_THREAD / 2).map(map).collect()
}

/// What `map` makes of each item, in their order. What costs most is begun first, and whoever is free takes the next, so that no
/// thread is left with a large one at the end.
pub fn map_costliest_first<A: Send, B: Send>(
    items: impl IntoIterator<Item = A>,
    cost: impl Fn(&A) -> usize,
    map: impl Fn(A) -> B + Sync,
) -> Vec<B> {
    let mut left: Vec<(usize, A)> = items.into_iter().enumerate().collect();
    left.sort_by_cached_key(|(place, item)| (cost(item), Reverse(*place)));
    let threads = rayon::current_num_threads().min(left.len());
    let left = Mutex::new(left);
    let next = || left.lock().unwrap_or_else(PoisonError::into_inner).pop();
    let made = (0..threads).into_par_iter().with_max_len(1).map(|_| {
        let mut made = Vec::new();
        while let Some((place, item)) = next() {
            made.push((place, map(item)));
        }
        made
    });
    let mut made = made.collect::<Vec<Vec<(usize, B)>>>().into_iter().flatten().collect::<Vec<_>>();
    made.sort_unstable_by_key(|(place, _)| *place);
    made.into_iter().map(|(_, made)| made).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_made_stands_in_the_order_of_the_items() {
        for count in [0, 1, 7, 3 * WORTH_A_THREAD] {
            let items: Vec<usize> = (0..count).collect();
            let expected: Vec<usize> = items.iter().map(|i| i * 3).collect();
            assert_eq!(map_many(&items, |i| i * 3), expected);
            assert_eq!(map_costliest_first(items, |i| i % 5, |i| i * 3), expected);
        }
    }

    #[test]
    fn one_thread_begins_with_what_costs_most() {
        let one = rayon::ThreadPoolBuilder::new().num_threads(1).build().expect("a pool of one");
        let begun = Mutex::new(Vec::new());
        one.install(|| {
            map_costliest_first(["b", "ccc", "a", "dd"], |s| s.len(), |s| begun.lock().expect("whole").push(s))
        });
        assert_eq!(begun.into_inner().expect("whole"), ["ccc", "dd", "b", "a"]);
    }
}
