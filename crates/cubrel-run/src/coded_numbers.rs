//! Numbers that follow from codes: one by one, on a line, or in a few steps.

use cubrel_store::FloatLine;
use cubrel_value::exact::bits_of;

/// Whole numbers by code, all there.
#[derive(Clone, Copy, Debug)]
pub enum Ints<'a> {
    /// One by one.
    ByCode(&'a [i64]),
    /// `base + code × step`
    Line {
        /// The number of the first code.
        base: i64,
        /// From one code to the next.
        step: i64,
        /// The number of the last code.
        last: i64,
    },
    /// The same for all codes up to some code, and then another.
    Steps(&'a Steps),
}

/// So many steps are told by comparing a code with all of them.
pub const MOST_STEPS: usize = 4;

/// Numbers that change at a few codes.
#[derive(Clone, Copy, Debug)]
pub struct Steps {
    first: i64,
    /// The codes at which they change, and how much they grow there.
    at: [i64; MOST_STEPS],
    by: [i64; MOST_STEPS],
}

impl Steps {
    /// From the first number, and at which codes it grows by how much, in order.
    ///
    /// # Panics
    /// When there are more than [`MOST_STEPS`].
    pub fn new(first: i64, steps: &[(i64, i64)]) -> Steps {
        let (mut at, mut by) = ([i64::MAX; MOST_STEPS], [0; MOST_STEPS]);
        for (place, step) in steps.iter().enumerate() {
            (at[place], by[place]) = *step;
        }
        Steps { first, at, by }
    }

    /// The number of a code.
    #[inline(always)]
    pub fn of(self, code: u64) -> i64 {
        let step = |i: usize| if code as i64 >= self.at[i] { self.by[i] } else { 0 };
        // The number fits 64 bits, whatever is in between.
        let (near, far) = (step(0).wrapping_add(step(1)), step(2).wrapping_add(step(3)));
        self.first.wrapping_add(near).wrapping_add(far)
    }

    fn ends(self) -> (i64, i64) {
        let numbers = self.by.iter().scan(self.first, |at, by| {
            *at += by;
            Some(*at)
        });
        numbers.fold((self.first, self.first), |(least, most), v| (least.min(v), most.max(v)))
    }
}

/// Whole numbers by code, some of them null.
#[derive(Clone, Copy, Debug)]
pub enum SomeInts<'a> {
    /// One by one, and whether each is there.
    ByCode(&'a [i64], &'a [bool]),
    /// `base + code × step`, but for one code.
    Line {
        /// The number of the first code.
        base: i64,
        /// From one code to the next.
        step: i64,
        /// The code of null.
        null: u64,
    },
}

impl SomeInts<'_> {
    /// The smallest and the largest of them, and of 0.
    pub fn ends(self) -> (i64, i64) {
        match self {
            SomeInts::ByCode(values, valid) => {
                let there = values.iter().zip(valid).map(|(v, valid)| if *valid { *v } else { 0 });
                there.fold((0, 0), |(least, most), v| (least.min(v), most.max(v)))
            }
            SomeInts::Line { base, null, .. } => {
                let last = self.of(null.saturating_sub(1)).0;
                (base.min(last).min(0), base.max(last).max(0))
            }
        }
    }

    /// The number of a code, 0 for null, and whether it is one.
    #[inline(always)]
    pub fn of(self, code: u64) -> (i64, bool) {
        match self {
            SomeInts::ByCode(values, valid) => {
                let is_there = valid[code as usize];
                (if is_there { values[code as usize] } else { 0 }, is_there)
            }
            SomeInts::Line { base, step, null } => {
                let is_there = code != null;
                let v = base.wrapping_add((code as i64).wrapping_mul(step));
                (if is_there { v } else { 0 }, is_there)
            }
        }
    }
}

/// Doubles by code, not a number for null.
#[derive(Clone, Copy, Debug)]
pub enum Floats<'a> {
    /// One by one.
    ByCode(&'a [f64]),
    /// As they follow from the code.
    Line(FloatLine),
}

impl Ints<'_> {
    /// The number of a code.
    #[inline]
    pub fn of(self, code: u64) -> i64 {
        match self {
            Ints::ByCode(values) => values[code as usize],
            Ints::Line { base, step, .. } => base.wrapping_add((code as i64).wrapping_mul(step)),
            Ints::Steps(steps) => steps.of(code),
        }
    }

    /// The smallest and the largest of them; 0 twice where there are none.
    pub fn ends(self) -> (i64, i64) {
        match self {
            Ints::ByCode(values) => {
                let ends = |(least, most): (i64, i64), v: &i64| (least.min(*v), most.max(*v));
                values.first().map_or((0, 0), |first| values.iter().fold((*first, *first), ends))
            }
            Ints::Line { base, last, .. } => (base.min(last), base.max(last)),
            Ints::Steps(steps) => steps.ends(),
        }
    }

    /// The bits that the largest of them takes.
    pub fn bits(self) -> u32 {
        match self {
            Ints::ByCode(values) => bits_of(values),
            Ints::Line { base, last, .. } => bits_of(&[base, last]),
            Ints::Steps(steps) => {
                let (least, most) = steps.ends();
                bits_of(&[least, most])
            }
        }
    }
}

/// Numbers in a row that are all as far apart as the first two: the first, how far apart, and the last.
pub fn line_of(numbers: &[i64]) -> Option<(i64, i64, i64)> {
    let (first, last) = (*numbers.first()?, *numbers.last()?);
    let step = numbers.get(1).map_or(Some(0), |second| second.checked_sub(first))?;
    numbers.windows(2).all(|pair| pair[1].checked_sub(pair[0]) == Some(step)).then_some((first, step, last))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_as_far_apart_as_the_first_two_are_a_line() {
        assert_eq!(line_of(&[]), None);
        assert_eq!(line_of(&[7]), Some((7, 0, 7)));
        assert_eq!(line_of(&[100, 99, 98]), Some((100, -1, 98)));
        assert_eq!(line_of(&[i64::MIN, 0]), None);
        assert_eq!(line_of(&[0, 5, 10, 16]), None);
        let Some((base, step, last)) = line_of(&[3, 13, 23, 33]) else { panic!("it is one") };
        let line = Ints::Line { base, step, last };
        assert_eq!(line.ends(), (3, 33));
        assert_eq!((0..4).map(|code| line.of(code)).collect::<Vec<i64>>(), [3, 13, 23, 33]);
    }
}
