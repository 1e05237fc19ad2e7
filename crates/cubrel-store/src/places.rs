//! Some of a segment's rows: a list of them, or where they are many a mark for each row.
//!
//! A list takes `2 + log2(rows / listed)` bits for each listed row, marks little more than a bit for every row. Which rows are
//! marked is counted ahead, so that how many stand before a row is told by one look: G. Jacobson, "Space-efficient static
//! trees and graphs" (FOCS 1989).

use super::buffer::Buffer;
use super::sorted::SortedInts;
use super::unpack::Processor;

/// Rows of a word of marks.
const WORD: usize = 64;
/// Words between two counts.
const COUNTED: usize = 8;
/// Marks are taken where they need at most one byte more in so many: they are gone through several times as fast.
const MARKS_MAY_COST: usize = 8;

/// Some rows of a segment, in ascending order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Places {
    /// The number of each.
    Listed(SortedInts),
    /// A bit for every row.
    Marked(Marks),
}

/// A bit for each row of a segment.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Marks {
    words: Buffer<u64>,
    /// How many rows are marked before each [`COUNTED`] words, and in all.
    counts: Buffer<u32>,
}

impl Marks {
    fn bytes_for(rows: usize) -> usize {
        let words = rows.div_ceil(WORD);
        words * 8 + (words.div_ceil(COUNTED) + 1) * 4
    }

    fn new(marked: impl Iterator<Item = u64>, rows: usize) -> Marks {
        let mut words = vec![0u64; rows.div_ceil(WORD)];
        marked.for_each(|row| words[row as usize / WORD] |= 1 << (row as usize % WORD));
        let mut counts = Vec::with_capacity(words.len().div_ceil(COUNTED) + 1);
        counts.push(0);
        let mut count = 0;
        for words in words.chunks(COUNTED) {
            count += words.iter().map(|word| word.count_ones()).sum::<u32>();
            counts.push(count);
        }
        Marks { words: words.into(), counts: counts.into() }
    }

    /// From what [`Marks::parts`] gave; `None` if they do not fit each other.
    pub fn from_parts(words: Buffer<u64>, counts: Buffer<u32>) -> Option<Marks> {
        (counts.len() == words.len().div_ceil(COUNTED) + 1).then_some(Marks { words, counts })
    }

    /// What a store file keeps.
    pub fn parts(&self) -> (&[u64], &[u32]) {
        (&self.words, &self.counts)
    }

    /// How many rows before `row` are marked.
    fn rank(&self, row: usize) -> usize {
        let (word, bit) = (row / WORD, row % WORD);
        let counted = word / COUNTED;
        let whole = self.words[counted * COUNTED..word].iter().map(|w| w.count_ones()).sum::<u32>();
        let rest = if bit == 0 { 0 } else { (self.words[word] << (WORD - bit)).count_ones() };
        (self.counts[counted] + whole + rest) as usize
    }

    fn contains(&self, row: usize) -> bool {
        self.words[row / WORD] >> (row % WORD) & 1 == 1
    }

    /// The places among all marked rows of those of some ascending rows, counted from `start` on, that are marked; and for each of the
    /// rows which of these places is its, counted from 1, or 0.
    pub(super) fn places_of(&self, start: usize, rows: &[u32]) -> (Vec<u32>, Vec<u32>) {
        #[cfg(target_arch = "x86_64")]
        if Processor::here() == Processor::Avx2 {
            // SAFETY: the processor has these.
            return unsafe { self.places_counted(start, rows) };
        }
        self.places_of_each(start, rows)
    }

    /// The same where the compiler may take it that bits are counted in one step.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2,popcnt,bmi1")]
    fn places_counted(&self, start: usize, rows: &[u32]) -> (Vec<u32>, Vec<u32>) {
        self.places_of_each(start, rows)
    }

    #[inline(always)]
    fn places_of_each(&self, start: usize, rows: &[u32]) -> (Vec<u32>, Vec<u32>) {
        let (mut places, mut which) = (vec![0; rows.len()], Vec::with_capacity(rows.len()));
        let first = rows.first().map_or(0, |row| (start + *row as usize) / WORD);
        // The word of the row before, and how many rows are marked before it.
        let (mut at, mut before) = (first, self.rank(first * WORD));
        let mut found = 0;
        for row in rows {
            let (word, bit) = ((start + *row as usize) / WORD, (start + *row as usize) % WORD);
            if word - at > COUNTED {
                (at, before) = (word, self.rank(word * WORD));
            } else if word != at {
                let passed = self.words[at..word].iter().map(|w| w.count_ones() as usize).sum::<usize>();
                (at, before) = (word, before + passed);
            }
            let bits = self.words[word];
            // Whether a row is marked is not to be foreseen: what is written for one that is not, is written over.
            places[found] = (before + (bits & ((1 << bit) - 1)).count_ones() as usize) as u32;
            let is_marked = (bits >> bit & 1) as usize;
            found += is_marked;
            which.push((found * is_marked) as u32);
        }
        places.truncate(found);
        (places, which)
    }

    /// The marks of 64 rows from a row on, those behind the end unmarked.
    fn from(&self, row: usize) -> u64 {
        let (word, bit) = (row / WORD, row % WORD);
        let low = self.words.get(word).map_or(0, |w| w >> bit);
        let high = if bit == 0 { 0 } else { self.words.get(word + 1).map_or(0, |w| w << (WORD - bit)) };
        low | high
    }
}

impl Places {
    /// Keeps ascending rows of a segment of so many, in the form that suits them.
    pub fn new(places: impl ExactSizeIterator<Item = u64> + Clone, rows: usize) -> Places {
        if Places::are_marked(places.len(), rows) {
            Places::Marked(Marks::new(places, rows))
        } else {
            Places::Listed(SortedInts::new(places, rows as u64))
        }
    }

    fn are_marked(len: usize, rows: usize) -> bool {
        let listed = SortedInts::bytes_for(len, rows as u64);
        Marks::bytes_for(rows) <= listed + listed / MARKS_MAY_COST
    }

    /// How many bytes [`Places::new`] takes.
    pub fn bytes_for(len: usize, rows: usize) -> usize {
        if Places::are_marked(len, rows) { Marks::bytes_for(rows) } else { SortedInts::bytes_for(len, rows as u64) }
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        match self {
            Places::Listed(rows) => rows.heap_bytes(),
            Places::Marked(marks) => marks.words.len() * 8 + marks.counts.len() * 4,
        }
    }

    /// The place of a row among these rows, if it is one of them.
    pub fn find(&self, row: usize) -> Option<usize> {
        match self {
            Places::Listed(rows) => {
                let place = rows.rank(row as u64);
                (place < rows.len() && rows.get(place) == row as u64).then_some(place)
            }
            Places::Marked(marks) => marks.contains(row).then(|| marks.rank(row)),
        }
    }

    /// Puts values at those of these rows that lie from `start` on, and `common` everywhere else. `values` writes so many of
    /// them, from a place among these rows on.
    pub fn spread<T: Copy + Default>(&self, start: usize, out: &mut [T], common: T, values: impl Fn(usize, &mut [T])) {
        match self {
            Places::Listed(rows) => {
                out.fill(common);
                let (first, mut places) = (rows.rank(start as u64), Vec::new());
                rows.extend_upto(first, start as u64, out.len() as u32, &mut places);
                // Behind them stands the end.
                places.pop();
                let mut some = vec![T::default(); places.len()];
                values(first, &mut some);
                places.iter().zip(some).for_each(|(place, value)| out[*place as usize] = value);
            }
            Places::Marked(marks) => {
                out.fill(common);
                let first = marks.rank(start);
                let mut some = vec![T::default(); marks.rank(start + out.len()) - first];
                values(first, &mut some);
                let mut left = some.as_slice();
                for (i, out) in out.chunks_mut(WORD).enumerate() {
                    left = put(marks.from(start + i * WORD), left, out);
                }
            }
        }
    }
}

/// Puts the next of `values` where a bit is set; gives the values that are left. A step for each bit that is set, whose number is
/// known: which of them are is not to be foreseen, so that asking each would cost several times as much.
fn put<'v, T: Copy>(bits: u64, values: &'v [T], out: &mut [T]) -> &'v [T] {
    let mut left = if out.len() < WORD { bits & ((1 << out.len()) - 1) } else { bits };
    let (taken, rest) = values.split_at(left.count_ones() as usize);
    if taken.len() == out.len() {
        out.copy_from_slice(taken);
        return rest;
    }
    for value in taken {
        out[left.trailing_zeros() as usize] = *value;
        left &= left.wrapping_sub(1);
    }
    rest
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_find_and_spread_the_same_rows() {
        let noise = |i: usize| (i as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 33;
        for rows in [1usize, 63, 64, 65, 511, 512, 513, 5000] {
            for one_in in [1, 2, 3, 7, 97, usize::MAX] {
                let all: Vec<u64> =
                    (0..rows).filter(|i| (noise(*i) as usize).is_multiple_of(one_in)).map(|i| i as u64).collect();
                let listed = Places::Listed(SortedInts::new(all.iter().copied(), rows as u64));
                let marked = Places::Marked(Marks::new(all.iter().copied(), rows));
                let chosen = Places::new(all.iter().copied(), rows);
                assert_eq!(chosen.heap_bytes(), Places::bytes_for(all.len(), rows), "{rows} rows, one in {one_in}");
                assert_eq!(marked.heap_bytes(), Marks::bytes_for(rows));
                let values = |first: usize, out: &mut [u64]| {
                    out.iter_mut().enumerate().for_each(|(i, slot)| *slot = 1000 + (first + i) as u64);
                };
                for row in 0..rows {
                    let expected = all.binary_search(&(row as u64)).ok();
                    assert_eq!((listed.find(row), marked.find(row)), (expected, expected), "row {row} of {rows}");
                }
                for (start, step) in [(0, 1), (rows / 3, 1), (rows / 5, 3), (rows / 2, 130), (rows - 1, 1)] {
                    let some: Vec<u32> = (0..(rows - start) as u32).step_by(step).collect();
                    let Places::Marked(marks) = &marked else { panic!("they are marked") };
                    let of_row = |row: &u32| all.binary_search(&(start as u64 + u64::from(*row))).ok();
                    let expected = some.iter().map(of_row);
                    let places: Vec<u32> = expected.clone().flatten().map(|place| place as u32).collect();
                    let count = |found: &mut u32, place: Option<usize>| {
                        *found += u32::from(place.is_some());
                        Some(if place.is_some() { *found } else { 0 })
                    };
                    let expected = (places, expected.scan(0, count).collect::<Vec<u32>>());
                    assert_eq!(marks.places_of(start, &some), expected, "from {start} by {step}");
                    assert_eq!(marks.places_of_each(start, &some), expected, "from {start} by {step}");
                }
                for (start, len) in [(0, rows), (rows / 3, rows / 2), (rows - 1, 1), (rows / 2, 0)] {
                    let (mut a, mut b) = (vec![0; len], vec![0; len]);
                    listed.spread(start, &mut a, 7, values);
                    marked.spread(start, &mut b, 7, values);
                    let of_row = |row: usize| all.binary_search(&(row as u64)).map_or(7, |place| 1000 + place as u64);
                    assert_eq!(a, (start..start + len).map(of_row).collect::<Vec<_>>(), "{rows} rows from {start}");
                    assert_eq!(a, b, "{rows} rows, one in {one_in}, from {start}");
                }
            }
        }
    }

    #[test]
    fn many_rows_are_marked_and_few_are_listed() {
        let places =
            |one_in: usize| Places::new((0..100_000u64).step_by(one_in).collect::<Vec<_>>().into_iter(), 100_000);
        for (one_in, is_marked) in [(2, true), (3, true), (10, false), (100, false)] {
            assert_eq!(matches!(places(one_in), Places::Marked(_)), is_marked, "one in {one_in}");
        }
    }
}
