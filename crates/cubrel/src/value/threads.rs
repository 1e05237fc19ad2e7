//! Work on all threads: of many values that take the same time, and of few things that do not.

use std::cmp::Reverse;
use std::sync::atomic::{AtomicUsize, Ordering};
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
    let left = Costliest::of(items, cost);
    let threads = rayon::current_num_threads().min(left.count);
    let each = |item, _: &AtWork| map(item);
    in_order((0..threads).into_par_iter().with_max_len(1).map(|_| left.map_what_is_left(each)).collect())
}

/// The same for few items of which each keeps all threads busy for a part of its time: two at once, each with as many threads
/// as there are here, so that one has the processors while the other works on one thread alone. (In a pool that both share,
/// a thread that waits for its own item would take up work of the other, and come back late.) `map` can ask whether there is
/// another one.
pub fn map_two_at_once<A: Send, B: Send>(
    items: impl IntoIterator<Item = A>,
    cost: impl Fn(&A) -> usize,
    map: impl Fn(A, &AtWork) -> B + Sync,
) -> Vec<B> {
    let left = Costliest::of(items, cost);
    let threads = rayon::current_num_threads();
    let second = (threads > 1 && left.count > 1).then(|| rayon::ThreadPoolBuilder::new().num_threads(threads).build());
    let Some(Ok(second)) = second else {
        return in_order(vec![left.map_what_is_left(&map)]);
    };
    let made = std::thread::scope(|scope| {
        let others = scope.spawn(|| second.install(|| left.map_what_is_left(&map)));
        let made = left.map_what_is_left(&map);
        [made, others.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))]
    });
    in_order(made.into())
}

/// How many items are being worked on.
#[derive(Debug, Default)]
pub struct AtWork(AtomicUsize);

impl AtWork {
    /// Whether there is another one.
    pub fn is_shared(&self) -> bool {
        self.0.load(Ordering::Relaxed) > 1
    }
}

/// Items with their places, of which the costliest is taken first.
struct Costliest<A> {
    left: Mutex<Vec<(usize, A)>>,
    count: usize,
    at_work: AtWork,
}

impl<A> Costliest<A> {
    fn of(items: impl IntoIterator<Item = A>, cost: impl Fn(&A) -> usize) -> Costliest<A> {
        let mut left: Vec<(usize, A)> = items.into_iter().enumerate().collect();
        left.sort_by_cached_key(|(place, item)| (cost(item), Reverse(*place)));
        Costliest { count: left.len(), left: Mutex::new(left), at_work: AtWork::default() }
    }

    fn next(&self) -> Option<(usize, A)> {
        self.left.lock().unwrap_or_else(PoisonError::into_inner).pop()
    }

    fn map_what_is_left<B>(&self, map: impl Fn(A, &AtWork) -> B) -> Vec<(usize, B)> {
        let mut made = Vec::new();
        while let Some((place, item)) = self.next() {
            self.at_work.0.fetch_add(1, Ordering::Relaxed);
            made.push((place, map(item, &self.at_work)));
            self.at_work.0.fetch_sub(1, Ordering::Relaxed);
        }
        made
    }
}

/// What several threads have made, by its place.
fn in_order<B>(made: Vec<Vec<(usize, B)>>) -> Vec<B> {
    let mut made: Vec<(usize, B)> = made.into_iter().flatten().collect();
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
            assert_eq!(map_costliest_first(items.clone(), |i| i % 5, |i| i * 3), expected);
            assert_eq!(map_two_at_once(items, |i| i % 5, |i, _| i * 3), expected);
        }
    }

    #[test]
    fn the_second_item_does_not_wait_for_the_first() {
        let two = rayon::ThreadPoolBuilder::new().num_threads(2).build().expect("a pool of two");
        let meet = std::sync::Barrier::new(2);
        let sum = |n: u64, at_work: &AtWork| {
            meet.wait();
            assert!(at_work.is_shared());
            meet.wait();
            (0..n).into_par_iter().sum::<u64>()
        };
        assert_eq!(two.install(|| map_two_at_once([10, 100], |_| 1, sum)), [45, 4950]);
        let one = |n: u64, at_work: &AtWork| n + u64::from(at_work.is_shared());
        assert_eq!(two.install(|| map_two_at_once([10], |_| 1, one)), [10]);
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
