//! Loops over plain arrays, in equal parts on as many threads as there are cores, as reads do.

use std::iter::Sum;
use std::ops::Range;
use std::thread;

pub fn cores() -> usize {
    thread::available_parallelism().map_or(1, usize::from)
}

/// A number without any order.
pub fn mix(i: u64) -> u64 {
    let mut z = i.wrapping_mul(0x9E37_79B9_7F4A_7C15);
    z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    z ^ (z >> 31)
}

/// What a loop makes of equal parts of the rows, one for each thread.
pub fn each_part<T: Send>(threads: usize, rows: usize, work: impl Fn(Range<usize>) -> T + Sync) -> Vec<T> {
    let part = rows.div_ceil(threads);
    thread::scope(|scope| {
        let work = &work;
        let parts = (0..threads).map(|t| scope.spawn(move || work(t * part..((t + 1) * part).min(rows))));
        parts.collect::<Vec<_>>().into_iter().map(|part| part.join().unwrap()).collect()
    })
}

/// Runs a loop over equal parts of the rows, and adds the results up slot by slot.
pub fn in_parts<T: Copy + Default + Send + Sum>(
    threads: usize,
    rows: usize,
    slots: usize,
    work: impl Fn(Range<usize>, &mut [T]) + Sync,
) -> Vec<T> {
    let sums = each_part(threads, rows, |range| {
        let mut sums = vec![T::default(); slots];
        work(range, &mut sums);
        sums
    });
    (0..slots).map(|s| sums.iter().map(|p| p[s]).sum()).collect()
}

/// A question to the model beside a loop that answers it from arrays, on one thread and on all cores.
macro_rules! question {
    ($name:ident, $text:literal, $slots:expr, $loop:expr) => {
        mod $name {
            use super::*;

            #[divan::bench]
            fn cubrel(bencher: Bencher<'_, '_>) {
                let query = query($text);
                bencher.bench(|| query.run().unwrap());
            }

            #[divan::bench]
            fn plain_loop(bencher: Bencher<'_, '_>) {
                let data = &*DATA;
                bencher.bench(|| in_parts(1, BOOKINGS, $slots, |range, sums| ($loop)(data, range, sums)));
            }

            #[divan::bench]
            fn plain_loop_on_all_cores(bencher: Bencher<'_, '_>) {
                let data = &*DATA;
                bencher.bench(|| in_parts(cores(), BOOKINGS, $slots, |range, sums| ($loop)(data, range, sums)));
            }
        }
    };
}
