//! Work on all threads: of many values that take the same time, and of few things that do not.
//!
//! What a thread pool needs to share work is built once, for [`each_part`]; built for each closure it would be a sixth of the library.

use std::cmp::Reverse;
use std::ops::Range;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use rayon::prelude::*;

/// So many values are worth a thread.
pub const WORTH_A_THREAD: usize = 1 << 16;

/// Into so many parts for each thread work is cut that takes a different time for each of its items.
const PARTS_OF_A_THREAD: usize = 8;

/// How many of `count` items a part has, at least `least`, so that there are a few for each thread.
pub fn part_size(count: usize, least: usize) -> usize {
    count.div_ceil(PARTS_OF_A_THREAD * rayon::current_num_threads()).max(least)
}

/// Does `work` for each number below `count`.
pub fn each_part(count: usize, work: &(dyn Fn(usize) + Sync)) {
    match count {
        0 => {}
        1 => work(0),
        _ => (0..count).into_par_iter().for_each(work),
    }
}

/// What `make` gives for each number below `count`, in their order.
pub fn map_parts<B: Send>(count: usize, make: impl Fn(usize) -> B + Sync) -> Vec<B> {
    let made: Vec<Mutex<Option<B>>> = (0..count).map(|_| Mutex::new(None)).collect();
    each_part(count, &|part| *lock(&made[part]) = Some(make(part)));
    made.into_iter().filter_map(|made| made.into_inner().unwrap_or_else(PoisonError::into_inner)).collect()
}

/// What `make` gives for each item, in their order.
pub fn map_each<'a, A: Sync, B: Send>(items: &'a [A], make: impl Fn(&'a A) -> B + Sync) -> Vec<B> {
    map_parts(items.len(), |place| make(&items[place]))
}

/// The same of items that are used up.
pub fn map_owned<A: Send, B: Send>(items: Vec<A>, make: impl Fn(A) -> B + Sync) -> Vec<B> {
    let items: Vec<Mutex<Option<A>>> = items.into_iter().map(|item| Mutex::new(Some(item))).collect();
    map_parts(items.len(), |place| lock(&items[place]).take().map(&make)).into_iter().flatten().collect()
}

/// What `make` gives for ranges of at most `size` numbers below `count`, in their order.
pub fn map_ranges<B: Send>(count: usize, size: usize, make: impl Fn(Range<usize>) -> B + Sync) -> Vec<B> {
    map_parts(count.div_ceil(size), |part| make(part * size..count.min((part + 1) * size)))
}

/// What `work` gives for parts of at most `size` items, each with the place where it begins, in their order.
pub fn map_chunks<A: Send, B: Send>(
    items: &mut [A],
    size: usize,
    work: impl Fn(usize, &mut [A]) -> B + Sync,
) -> Vec<B> {
    let chunks: Vec<Mutex<&mut [A]>> = items.chunks_mut(size).map(Mutex::new).collect();
    map_parts(chunks.len(), |chunk| work(chunk * size, &mut lock(&chunks[chunk])))
}

/// What `map` makes of each of some values, in their order.
pub fn map_many<A: Sync, B: Copy + Default + Send>(values: &[A], map: impl Fn(&A) -> B + Sync) -> Vec<B> {
    if values.len() <= WORTH_A_THREAD {
        return values.iter().map(map).collect();
    }
    let mut mapped = vec![B::default(); values.len()];
    // Just above that, two threads have something to do.
    map_chunks(&mut mapped, WORTH_A_THREAD / 2, |start, mapped| {
        mapped.iter_mut().zip(&values[start..]).for_each(|(mapped, value)| *mapped = map(value));
    });
    mapped
}

/// What is within, also where a thread has panicked with it: the panic goes on by itself.
pub fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
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
    in_order(map_parts(threads, |_| left.map_what_is_left(each)))
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
        lock(&self.left).pop()
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
            assert_eq!(map_parts(count, |i| i * 3), expected);
            assert_eq!(map_each(&items, |i| i * 3), expected);
            assert_eq!(map_owned(items.clone(), |i| i * 3), expected);
            for size in [1, 2, count.max(1), count + 1] {
                assert_eq!(map_ranges(count, size, |some| items[some].to_vec()).concat(), items, "{size}");
                let mut tripled = items.clone();
                let starts = map_chunks(&mut tripled, size, |start, some| {
                    some.iter_mut().for_each(|i| *i *= 3);
                    start
                });
                assert_eq!(tripled, expected, "{size}");
                assert_eq!(starts, (0..count).step_by(size).collect::<Vec<usize>>());
            }
            assert_eq!(map_costliest_first(items.clone(), |i| i % 5, |i| i * 3), expected);
            assert_eq!(map_two_at_once(items, |i| i % 5, |i, _| i * 3), expected);
        }
    }

    #[test]
    fn few_items_are_shared_among_threads_and_many_are_not_parted_too_often() {
        let four = rayon::ThreadPoolBuilder::new().num_threads(4).build().expect("a pool of four");
        for (count, least, size) in [(0, 1, 1), (3, 1, 1), (40, 1, 2), (40, 8, 8), (3200, 8, 100)] {
            assert_eq!(four.install(|| part_size(count, least)), size, "{count} items");
        }
    }

    #[test]
    fn a_panic_goes_on_and_hides_nothing() {
        for threads in [1, 2] {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("a pool");
            let one_fails = || map_parts(5, |part| if part == 3 { panic!("part {part}") } else { part });
            let run = std::panic::AssertUnwindSafe(|| pool.install(one_fails));
            let panic = std::panic::catch_unwind(run).expect_err("it fails");
            assert_eq!(panic.downcast_ref::<String>().map(String::as_str), Some("part 3"));
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
