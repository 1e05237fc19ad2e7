//! The codes of one segment, in whichever form takes the least.

use super::bits::{PackedInts, bits_for};
use super::places::Places;
use super::sorted::SortedInts;
use super::unpack::BLOCK;

/// The codes of some consecutive rows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Segment {
    /// Smallest code, which is taken off the kept ones.
    pub base: u64,
    /// Largest code, null's included.
    pub max: u64,
    /// The codes less `base`.
    pub codes: Codes,
}

/// Codes less the segment's smallest one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Codes {
    /// Each in as many bits as the largest needs.
    Packed(PackedInts),
    /// Each code once for all rows that have it in a row.
    Runs {
        /// How many rows.
        len: usize,
        /// The row at which each run begins, the first left out, and the number of rows.
        ends: SortedInts,
        /// The code of each run.
        codes: PackedInts,
    },
    /// One code in most rows, and the rows with another.
    Sparse {
        /// How many rows.
        len: usize,
        /// The code of most rows.
        common: u64,
        /// The other rows.
        rows: Places,
        /// Their codes.
        codes: PackedInts,
    },
    /// Each row's code is its place in the segment.
    Sequence(usize),
}

impl Segment {
    /// How many rows.
    pub fn len(&self) -> usize {
        self.codes.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The code of a row.
    #[inline]
    pub fn get(&self, row: usize) -> u64 {
        self.base + self.codes.get(row)
    }

    /// Whether the code of any row is told at once, without looking for its place.
    pub fn is_reached_at_once(&self) -> bool {
        match &self.codes {
            Codes::Packed(_) | Codes::Sequence(_) => true,
            Codes::Sparse { rows: Places::Marked(_), .. } => true,
            Codes::Sparse { .. } | Codes::Runs { .. } => false,
        }
    }

    /// The codes from row `start` on.
    pub fn unpack(&self, start: usize, out: &mut [u64]) {
        self.codes.unpack(start, self.base, out);
    }

    /// What `map` gives for the codes from row `start` on; once for each run, where rows stand in runs.
    pub fn map_rows<T: Copy + Default>(&self, start: usize, out: &mut [T], map: impl Fn(u64) -> T + Copy) {
        let base = self.base;
        self.codes.map(start, out, |code| map(base + code));
    }

    /// The same where no code has more than 32 bits; `wide` is `map` for what has more.
    pub fn map_narrow<T: Copy + Default>(
        &self,
        start: usize,
        out: &mut [T],
        map: impl Fn(u32) -> T + Copy,
        wide: impl Fn(u64) -> T + Copy,
    ) {
        match (&self.codes, u32::try_from(self.max)) {
            (Codes::Packed(codes), Ok(_)) if codes.bits() > 0 => {
                // No code is larger than the largest.
                let base = self.base as u32;
                codes.map_narrow(start, out, |code| map(base.wrapping_add(code)));
            }
            _ => self.map_rows(start, out, wide),
        }
    }

    /// What `map` gives for the codes of some rows, counted from `start` on; `None` where rows are not reached one by one.
    pub fn map_some<T: Copy>(&self, start: usize, rows: &[u32], map: impl Fn(u64) -> T) -> Option<Vec<T>> {
        match &self.codes {
            Codes::Packed(codes) => Some(codes.map_some(start, rows, |code| map(self.base + code))),
            Codes::Sparse { common, rows: Places::Marked(marks), codes, .. } => {
                let (places, which) = marks.places_of(start, rows);
                let marked = codes.map_some(0, &places, |code| map(self.base + code));
                let found: Vec<T> = [map(self.base + common)].into_iter().chain(marked).collect();
                Some(which.into_iter().map(|place| found[place as usize]).collect())
            }
            _ if self.is_reached_at_once() => {
                Some(rows.iter().map(|row| map(self.get(start + *row as usize))).collect())
            }
            _ => None,
        }
    }

    /// How many runs of equal codes there are, where that is known without looking at every row.
    pub fn runs(&self) -> Option<usize> {
        match &self.codes {
            Codes::Runs { codes, .. } => Some(codes.len()),
            _ if self.base == self.max => Some(1),
            _ => None,
        }
    }

    /// The runs of equal codes in some rows: where each ends, counted from `start`, and its code.
    pub fn runs_within(&self, start: usize, len: usize) -> (Vec<u32>, Vec<u64>) {
        match &self.codes {
            _ if len == 0 => (Vec::new(), Vec::new()),
            _ if self.base == self.max => (vec![len as u32], vec![self.base]),
            Codes::Runs { ends, codes, .. } => {
                let first = ends.rank(start as u64 + 1);
                let mut found = Vec::new();
                ends.extend_upto(first, start as u64, len as u32, &mut found);
                let mut run_codes = vec![0; found.len()];
                codes.unpack(first, self.base, &mut run_codes);
                (found, run_codes)
            }
            _ => {
                let mut codes = vec![0; len];
                self.unpack(start, &mut codes);
                let mut ends: Vec<u32> =
                    (1..len as u32).filter(|i| codes[*i as usize - 1] != codes[*i as usize]).collect();
                ends.push(len as u32);
                let run_codes = ends.iter().map(|end| codes[*end as usize - 1]).collect();
                (ends, run_codes)
            }
        }
    }

    /// All codes.
    pub fn all(&self) -> Vec<u64> {
        let mut out = vec![0; self.len()];
        self.unpack(0, &mut out);
        out
    }

    /// Calls `visit` with codes until it has had every code that occurs; with some of them more often.
    pub fn each_code(&self, mut visit: impl FnMut(u64)) {
        let base = self.base;
        match &self.codes {
            Codes::Packed(codes) => Unpacked::new(codes, 0).for_each(|c| visit(base + c)),
            Codes::Runs { codes, .. } => Unpacked::new(codes, 0).for_each(|c| visit(base + c)),
            Codes::Sparse { common, codes, .. } => {
                visit(base + common);
                Unpacked::new(codes, 0).for_each(|c| visit(base + c));
            }
            Codes::Sequence(len) => (0..*len as u64).for_each(|c| visit(base + c)),
        }
    }

    /// The same rows with codes that are all greater by so much, or smaller, as numbers wrap.
    #[must_use]
    pub fn shifted(self, by: u64) -> Segment {
        Segment { base: self.base.wrapping_add(by), max: self.max.wrapping_add(by), codes: self.codes }
    }

    /// The same rows with other codes; `to` keeps the order. Null's code is `null`, before and after.
    #[must_use]
    pub fn recoded(&self, null: (u64, u64), to: impl Fn(u64) -> u64) -> Segment {
        let turned = |code: u64| if code == null.0 { null.1 } else { to(code) };
        let base = turned(self.base);
        let max = turned(self.max);
        let less = |codes: &PackedInts| codes.turned(bits_for(max - base), |code| turned(self.base + code) - base);
        let codes = match &self.codes {
            Codes::Runs { len, ends, codes } => Codes::Runs { len: *len, ends: ends.clone(), codes: less(codes) },
            Codes::Sparse { len, common, rows, codes } => Codes::Sparse {
                len: *len,
                common: turned(self.base + common) - base,
                rows: rows.clone(),
                codes: less(codes),
            },
            Codes::Packed(codes) => Codes::Packed(less(codes)),
            Codes::Sequence(len) if max - base + 1 == *len as u64 => Codes::Sequence(*len),
            Codes::Sequence(_) => {
                Codes::Packed(PackedInts::pack(self.all().into_iter().map(|c| turned(c) - base), bits_for(max - base)))
            }
        };
        Segment { base, max, codes }
    }
}

/// Numbers that codes are unpacked to.
pub trait CodeWord: Copy + Default + Ord {
    /// A code as this number; what it has not room for is cut off.
    fn of(code: u64) -> Self;
    /// A base and a code.
    fn plus(self, code: u64) -> Self;
    /// The same number.
    fn wide(self) -> u64;
}

impl CodeWord for u64 {
    #[inline(always)]
    fn of(code: u64) -> u64 {
        code
    }

    #[inline(always)]
    fn plus(self, code: u64) -> u64 {
        self.wrapping_add(code)
    }

    #[inline(always)]
    fn wide(self) -> u64 {
        self
    }
}

impl CodeWord for u32 {
    #[inline(always)]
    fn of(code: u64) -> u32 {
        code as u32
    }

    #[inline(always)]
    fn plus(self, code: u64) -> u32 {
        self.wrapping_add(code as u32)
    }

    #[inline(always)]
    fn wide(self) -> u64 {
        u64::from(self)
    }
}

impl Codes {
    /// How many rows.
    pub fn len(&self) -> usize {
        match self {
            Codes::Packed(codes) => codes.len(),
            Codes::Runs { len, .. } | Codes::Sparse { len, .. } | Codes::Sequence(len) => *len,
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Bits of a kept code.
    pub fn bits(&self) -> u8 {
        match self {
            Codes::Packed(codes) | Codes::Runs { codes, .. } | Codes::Sparse { codes, .. } => codes.bits(),
            Codes::Sequence(_) => 0,
        }
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        match self {
            Codes::Packed(codes) => codes.heap_bytes(),
            Codes::Runs { ends, codes, .. } => ends.heap_bytes() + codes.heap_bytes(),
            Codes::Sparse { rows, codes, .. } => rows.heap_bytes() + codes.heap_bytes(),
            Codes::Sequence(_) => 0,
        }
    }

    /// The code of a row, less the segment's base.
    #[inline]
    pub fn get(&self, row: usize) -> u64 {
        match self {
            Codes::Packed(codes) => codes.get(row),
            Codes::Runs { ends, codes, .. } => codes.get(ends.rank(row as u64 + 1)),
            Codes::Sparse { common, rows, codes, .. } => rows.find(row).map_or(*common, |place| codes.get(place)),
            Codes::Sequence(_) => row as u64,
        }
    }

    /// Writes the codes from row `start` on to `out`, adding `base` to each.
    ///
    /// # Panics
    /// When there are fewer rows than `out` has room for.
    pub fn unpack<T: CodeWord>(&self, start: usize, base: T, out: &mut [T]) {
        self.map(start, out, |code| base.plus(code));
    }

    /// Writes what `map` gives for the codes from row `start` on to `out`.
    ///
    /// # Panics
    /// When there are fewer rows than `out` has room for.
    fn map<T: Copy + Default>(&self, start: usize, out: &mut [T], map: impl Fn(u64) -> T + Copy) {
        match self {
            _ if out.is_empty() => {}
            Codes::Packed(packed) if packed.bits() == 0 && start + out.len() <= packed.len() => out.fill(map(0)),
            Codes::Packed(packed) => packed.unpack_with(start, out, map),
            Codes::Runs { ends, codes, .. } => {
                let first = ends.rank(start as u64 + 1);
                let mut run_ends = Vec::new();
                ends.extend_upto(first, start as u64, out.len() as u32, &mut run_ends);
                let (mut values, mut done, mut at) = ([T::default(); BLOCK], 0, 0);
                while done < run_ends.len() {
                    // Up to the end of a block of packed numbers.
                    let some = (BLOCK - (first + done) % BLOCK).min(run_ends.len() - done);
                    codes.unpack_with(first + done, &mut values[..some], map);
                    at = put_runs(&run_ends[done..done + some], &values, at, out);
                    done += some;
                }
            }
            Codes::Sparse { common, rows, codes, .. } => {
                rows.spread(start, out, map(*common), |first, some| codes.unpack_with(first, some, map));
            }
            Codes::Sequence(_) => {
                for (i, slot) in out.iter_mut().enumerate() {
                    *slot = map((start + i) as u64);
                }
            }
        }
    }
}

/// Runs of at most so many rows are written as if they had so many.
const SHORT_RUN: usize = 8;

/// Writes the value of each run from a row on up to its end, and gives the end of the last. What is written behind a short run, so that
/// its length need not be asked, is written over by the next.
fn put_runs<T: Copy>(ends: &[u32], values: &[T], mut at: usize, out: &mut [T]) -> usize {
    for (end, value) in ends.iter().zip(values) {
        let end = *end as usize;
        match out[at..].first_chunk_mut::<SHORT_RUN>() {
            Some(next) if end - at <= SHORT_RUN => next.fill(*value),
            _ => out[at..end].fill(*value),
        }
        at = end;
    }
    at
}

/// Packed numbers one after the other, unpacked by the block.
pub(super) struct Unpacked<'a> {
    of: &'a PackedInts,
    at: usize,
    block: [u64; 64],
    from: usize,
}

impl<'a> Unpacked<'a> {
    pub(super) fn new(of: &'a PackedInts, at: usize) -> Unpacked<'a> {
        Unpacked { of, at, block: [0; 64], from: usize::MAX }
    }
}

impl Iterator for Unpacked<'_> {
    type Item = u64;

    #[inline]
    fn next(&mut self) -> Option<u64> {
        if self.at >= self.of.len() {
            return None;
        }
        let from = self.at / 64 * 64;
        if from != self.from {
            self.from = from;
            let count = 64.min(self.of.len() - from);
            self.of.unpack(from, 0, &mut self.block[..count]);
        }
        self.at += 1;
        Some(self.block[(self.at - 1) % 64])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every form gives back what was put in, row by row and from any row on.
    fn check(codes: &[u64], form: &str) {
        let segment = Segment::new(codes);
        let name = match &segment.codes {
            Codes::Packed(_) => "packed",
            Codes::Runs { .. } => "runs",
            Codes::Sparse { .. } => "sparse",
            Codes::Sequence(_) => "sequence",
        };
        assert_eq!(name, form, "{} codes", codes.len());
        assert_eq!(segment.all(), codes);
        assert_eq!(segment.len(), codes.len());
        for row in (0..codes.len()).step_by(7) {
            assert_eq!(segment.get(row), codes[row], "{form} row {row}");
            let len = (codes.len() - row).min(100);
            let mut wide = vec![0; len];
            segment.unpack(row, &mut wide);
            assert_eq!(wide, codes[row..row + len], "{form} from {row}");
        }
        for (start, len) in
            [(0, codes.len()), (codes.len() / 3, codes.len() / 2)].into_iter().filter(|(_, len)| *len > 0)
        {
            let rows = &codes[start..start + len];
            let (ends, found) = segment.runs_within(start, len);
            let expected: Vec<&[u64]> = rows.chunk_by(|a, b| a == b).collect();
            assert_eq!(found, expected.iter().map(|run| run[0]).collect::<Vec<_>>(), "{form}: runs from {start}");
            let lengths = ends.iter().scan(0, |at, end| Some(*end as usize - std::mem::replace(at, *end as usize)));
            assert!(lengths.eq(expected.iter().map(|run| run.len())), "{form}: ends of runs from {start}");
            assert!(segment.runs().is_none_or(|n| n >= expected.len()), "{form}");
        }
        let (null, more) = (segment.max, 5 * segment.max + 9);
        if more < 1 << 62 {
            let turned = segment.recoded((null, more), |c| 3 * c + 2);
            let expected: Vec<u64> = codes.iter().map(|c| if *c == null { more } else { 3 * c + 2 }).collect();
            assert_eq!(turned.all(), expected, "{form} recoded");
        }
        let shifted = segment.recoded((u64::MAX, u64::MAX), |c| c);
        assert_eq!(shifted, segment, "{form} recoded to itself");
    }

    #[test]
    fn the_smallest_form_is_taken_and_gives_back_the_codes() {
        let noise = |i: u64| i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40;
        check(&[], "packed");
        check(&[7], "packed");
        check(&[4; 500], "packed");
        check(&(0..1000).map(noise).collect::<Vec<_>>(), "packed");
        check(&(0..1000).map(|i| noise(i / 50)).collect::<Vec<_>>(), "runs");
        check(&(0..1000).map(|i| 900 + i).collect::<Vec<_>>(), "sequence");
        check(&(0..4000).map(|i| if i % 97 == 5 { noise(i) } else { 3 }).collect::<Vec<_>>(), "sparse");
        check(&(0..4000).map(|i| if i % 97 == 5 { 3 } else { 1 << 50 }).collect::<Vec<_>>(), "sparse");
        check(&(0..4000).map(|i| if noise(i) % 3 == 0 { noise(i) } else { 3 }).collect::<Vec<_>>(), "sparse");
        // Null has the largest code, and is left out even where it is in few rows.
        check(&(0..4000).map(|i| if noise(i) % 3 == 0 { 1 << 40 } else { noise(i) }).collect::<Vec<_>>(), "sparse");
    }
}
