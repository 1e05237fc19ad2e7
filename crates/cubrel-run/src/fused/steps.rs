//! The steps, and what does them: a stack of short vectors.

use super::source::Loaded;

/// So many rows are worked on at a time: a few vectors of them stay in the nearest cache.
pub(super) const CHUNK: usize = 512;

/// Doubles hold whole numbers of so many bits.
const FLOAT_BITS: u32 = 52;
/// What a double adds to a whole number of so many bits so that it stands in the last ones of it.
const FLOAT_BIAS: f64 = (1u64 << FLOAT_BITS) as f64;

/// One step. Truth values are numbers of which all bits are the same.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum VectorStep {
    /// The numbers of a load.
    Load(usize),
    /// Where a load is not null.
    There(usize),
    /// Where a load is true, or false.
    Is(usize, bool),
    /// The same number everywhere.
    Constant(i64),
    Add,
    Subtract,
    Multiply {
        /// Whether both fit 32 bits with their signs.
        narrow: bool,
    },
    AddConstant(i64),
    MultiplyBy {
        by: i64,
        narrow: bool,
    },
    Magnitude,
    Least,
    Greatest,
    Divide(Divide),
    Compare(NumberComparison),
    CompareWith(NumberComparison, i64),
    And,
    Or,
    Not,
    /// Of three: the last one where the middle one is true, and else the first.
    Select,
    /// Of two: the number where the last one is true, and else the first.
    SelectConstant(i64),
}

impl VectorStep {
    /// The load that it takes from.
    pub(super) fn load(&self) -> Option<usize> {
        match self {
            VectorStep::Load(load) | VectorStep::There(load) | VectorStep::Is(load, _) => Some(*load),
            _ => None,
        }
    }
}

/// How two numbers are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum NumberComparison {
    Equal,
    Differ,
    Less,
    AtMost,
    More,
    AtLeast,
}

impl NumberComparison {
    /// The one that is true where this one is not.
    pub(super) fn opposite(self) -> NumberComparison {
        match self {
            NumberComparison::Equal => NumberComparison::Differ,
            NumberComparison::Differ => NumberComparison::Equal,
            NumberComparison::Less => NumberComparison::AtLeast,
            NumberComparison::AtMost => NumberComparison::More,
            NumberComparison::More => NumberComparison::AtMost,
            NumberComparison::AtLeast => NumberComparison::Less,
        }
    }
}

/// A division by a number that is the same everywhere, with what is left over dropped or not.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Divide {
    /// What is added to the magnitudes of numbers before they are divided: of those that are not negative, and of the others.
    add: [i64; 2],
    /// Whether some are negative.
    signed: bool,
    way: Way,
}

/// In which way magnitudes are divided.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Way {
    /// Those of 31 bits: times this, and so many bits dropped.
    Narrow { factor: u32, shift: u32 },
    /// Others, as doubles.
    Float { by: f64 },
}

impl Divide {
    /// A division of magnitudes of at most `most`, `add` and all, by a number of at least 2; `None` where they are too large.
    ///
    /// With l bits for the divisor, and 2^(31 + l) / divisor rounded up, the product of that and a number of 31 bits is too large by
    /// less than 2^(31 + l) / divisor (Granlund and Montgomery, "Division by invariant integers using multiplication", 1994). The
    /// nearest double of a quotient is on the same side of each whole number as the quotient, while both fit 52 bits.
    pub(super) fn of(by: i64, add: [i64; 2], most: u64, signed: bool) -> Option<Divide> {
        let divisor = u64::try_from(by).ok().filter(|by| *by >= 2)?;
        let most = most.checked_add(add[0].max(add[1]).unsigned_abs())?;
        let way = if most < 1 << 31 && divisor < 1 << 31 {
            let bits = 64 - (divisor - 1).leading_zeros();
            let factor = (1u64 << (31 + bits)).div_ceil(divisor);
            Way::Narrow { factor: u32::try_from(factor).ok()?, shift: 31 + bits }
        } else if most.checked_add(divisor)? < 1 << FLOAT_BITS {
            Way::Float { by: divisor as f64 }
        } else {
            return None;
        };
        Some(Divide { add, signed, way })
    }

    #[inline(always)]
    fn apply(self, values: &mut [i64]) {
        match self.way {
            Way::Narrow { factor, shift } => {
                self.each(values, |magnitude| ((u64::from(magnitude as u32) * u64::from(factor)) >> shift) as i64)
            }
            Way::Float { by } => self.each(values, |magnitude| {
                let number = f64::from_bits(magnitude as u64 | FLOAT_BIAS.to_bits()) - FLOAT_BIAS;
                (((number / by).floor() + FLOAT_BIAS).to_bits() ^ FLOAT_BIAS.to_bits()) as i64
            }),
        }
    }

    #[inline(always)]
    fn each(self, values: &mut [i64], quotient: impl Fn(i64) -> i64 + Copy) {
        let [add, add_to_negative] = self.add;
        if !self.signed {
            return values.iter_mut().for_each(|v| *v = quotient(*v + add));
        }
        values.iter_mut().for_each(|v| {
            let sign = *v >> 63;
            let magnitude = ((*v ^ sign) - sign) + ((sign & add_to_negative) | (!sign & add));
            *v = (quotient(magnitude) ^ sign) - sign;
        });
    }
}

/// Vectors on top of each other, each of [`CHUNK`] numbers.
pub(super) struct Machine {
    stack: Vec<i64>,
}

impl Machine {
    /// With room for so many vectors.
    pub(super) fn new(depth: usize) -> Machine {
        Machine { stack: vec![0; depth * CHUNK] }
    }

    /// Does all steps for `rows` rows from `start` on, and gives what is left on the stack.
    pub(super) fn run(&mut self, steps: &[VectorStep], loaded: &[Loaded<'_>], start: usize, rows: usize) -> &[i64] {
        let mut height = 0;
        for step in steps {
            self.step(step, loaded, start, rows, &mut height);
        }
        &self.stack[..rows]
    }

    fn step(&mut self, step: &VectorStep, loaded: &[Loaded<'_>], start: usize, rows: usize, height: &mut usize) {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2") {
            // SAFETY: the processor has AVX2.
            return unsafe { self.step_in_vectors(step, loaded, start, rows, height) };
        }
        self.step_each(step, loaded, start, rows, height);
    }

    /// The same where the compiler may take it that there are vectors of 256 bits.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2")]
    fn step_in_vectors(
        &mut self,
        step: &VectorStep,
        loaded: &[Loaded<'_>],
        start: usize,
        rows: usize,
        height: &mut usize,
    ) {
        self.step_each(step, loaded, start, rows, height);
    }

    #[inline(always)]
    fn step_each(&mut self, step: &VectorStep, loaded: &[Loaded<'_>], start: usize, rows: usize, height: &mut usize) {
        match *step {
            VectorStep::Load(_) | VectorStep::There(_) | VectorStep::Is(..) | VectorStep::Constant(_) => {
                let to = &mut self.stack[*height * CHUNK..][..rows];
                push(step, to, loaded, start);
                *height += 1;
            }
            VectorStep::AddConstant(_)
            | VectorStep::MultiplyBy { .. }
            | VectorStep::Magnitude
            | VectorStep::Divide(_)
            | VectorStep::CompareWith(..)
            | VectorStep::Not => change(step, &mut self.stack[(*height - 1) * CHUNK..][..rows]),
            VectorStep::Select => {
                let (low, high) = self.stack.split_at_mut((*height - 2) * CHUNK);
                let (masks, values) = high.split_at(CHUNK);
                let to = &mut low[(*height - 3) * CHUNK..][..rows];
                let all = to.iter_mut().zip(&masks[..rows]).zip(&values[..rows]);
                all.for_each(|((to, mask), value)| *to = (*value & mask) | (*to & !mask));
                *height -= 2;
            }
            _ => {
                let (low, high) = self.stack.split_at_mut((*height - 1) * CHUNK);
                combine(step, &mut low[(*height - 2) * CHUNK..][..rows], &high[..rows]);
                *height -= 1;
            }
        }
    }
}

#[inline(always)]
fn mask(truth: bool) -> i64 {
    -i64::from(truth)
}

/// Fills a vector with what a step brings.
#[inline(always)]
fn push(step: &VectorStep, to: &mut [i64], loaded: &[Loaded<'_>], start: usize) {
    let rows = start..start + to.len();
    match *step {
        VectorStep::Constant(v) => to.fill(v),
        VectorStep::Load(load) => match &loaded[load] {
            Loaded::Numbers(values, _) => to.copy_from_slice(&values[rows]),
            Loaded::InParts(unpack) => unpack(start, to),
            Loaded::Truths(..) => {}
        },
        VectorStep::There(load) => match &loaded[load] {
            Loaded::Numbers(_, Some(there)) | Loaded::Truths(_, Some(there)) => {
                to.iter_mut().zip(&there[rows]).for_each(|(to, there)| *to = mask(*there));
            }
            Loaded::Numbers(_, None) | Loaded::Truths(_, None) | Loaded::InParts(_) => to.fill(-1),
        },
        VectorStep::Is(load, wanted) => {
            if let Loaded::Truths(truths, there) = &loaded[load] {
                let truths = &truths[rows.clone()];
                to.iter_mut().zip(truths).for_each(|(to, truth)| *to = mask(*truth == wanted));
                let there = there.iter().flat_map(|there| &there[rows.clone()]);
                to.iter_mut().zip(there).for_each(|(to, there)| *to &= mask(*there));
            }
        }
        _ => {}
    }
}

/// Changes each number of a vector.
#[inline(always)]
fn change(step: &VectorStep, values: &mut [i64]) {
    let narrow = |v: i64| i64::from(v as i32);
    match *step {
        VectorStep::AddConstant(by) => values.iter_mut().for_each(|v| *v += by),
        VectorStep::MultiplyBy { by, narrow: true } => values.iter_mut().for_each(|v| *v = narrow(*v) * narrow(by)),
        VectorStep::MultiplyBy { by, narrow: false } => values.iter_mut().for_each(|v| *v *= by),
        VectorStep::Magnitude => values.iter_mut().for_each(|v| *v = v.abs()),
        VectorStep::Divide(divide) => divide.apply(values),
        VectorStep::Not => values.iter_mut().for_each(|v| *v = !*v),
        VectorStep::CompareWith(how, with) => match how {
            NumberComparison::Equal => values.iter_mut().for_each(|v| *v = mask(*v == with)),
            NumberComparison::Differ => values.iter_mut().for_each(|v| *v = mask(*v != with)),
            NumberComparison::Less => values.iter_mut().for_each(|v| *v = mask(*v < with)),
            NumberComparison::AtMost => values.iter_mut().for_each(|v| *v = mask(*v <= with)),
            NumberComparison::More => values.iter_mut().for_each(|v| *v = mask(*v > with)),
            NumberComparison::AtLeast => values.iter_mut().for_each(|v| *v = mask(*v >= with)),
        },
        _ => {}
    }
}

/// Two vectors to one, in the place of the first.
#[inline(always)]
fn combine(step: &VectorStep, to: &mut [i64], with: &[i64]) {
    let narrow = |v: i64| i64::from(v as i32);
    let both = to.iter_mut().zip(with);
    match *step {
        VectorStep::Add => both.for_each(|(a, b)| *a += b),
        VectorStep::Subtract => both.for_each(|(a, b)| *a -= b),
        VectorStep::Multiply { narrow: true } => both.for_each(|(a, b)| *a = narrow(*a) * narrow(*b)),
        VectorStep::Multiply { narrow: false } => both.for_each(|(a, b)| *a *= b),
        VectorStep::Least => both.for_each(|(a, b)| *a = (*a).min(*b)),
        VectorStep::Greatest => both.for_each(|(a, b)| *a = (*a).max(*b)),
        VectorStep::And => both.for_each(|(a, b)| *a &= b),
        VectorStep::Or => both.for_each(|(a, b)| *a |= b),
        VectorStep::SelectConstant(v) => both.for_each(|(a, b)| *a = (v & b) | (*a & !b)),
        VectorStep::Compare(how) => match how {
            NumberComparison::Equal => both.for_each(|(a, b)| *a = mask(*a == *b)),
            NumberComparison::Differ => both.for_each(|(a, b)| *a = mask(*a != *b)),
            NumberComparison::Less => both.for_each(|(a, b)| *a = mask(*a < *b)),
            NumberComparison::AtMost => both.for_each(|(a, b)| *a = mask(*a <= *b)),
            NumberComparison::More => both.for_each(|(a, b)| *a = mask(*a > *b)),
            NumberComparison::AtLeast => both.for_each(|(a, b)| *a = mask(*a >= *b)),
        },
        _ => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Numbers next to multiples of the divisor and next to the largest, of both signs.
    fn numbers(by: i64, most: i64) -> Vec<i64> {
        let multiples = [0, 1, 2, 7, most / by / 2, most / by - 1, most / by].map(|times| times * by);
        let near = multiples.into_iter().flat_map(|v| [v - 1, v, v + 1, v + by / 2 - 1, v + by / 2]);
        let noise = (0..500u64).map(|i| (i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 1) as i64 % (most + 1));
        near.chain(noise).chain([most]).filter(|v| (0..=most).contains(v)).flat_map(|v| [v, -v]).collect()
    }

    #[test]
    fn quotients_are_those_of_whole_numbers() {
        let divisors = [2i64, 3, 7, 10, 100, 1000, 10_000, 1 << 20, (1 << 30) + 1, 86_400_000_000];
        for by in divisors {
            for most in [(1i64 << 31) - 1 - by, (1 << 31) - by, 1 << 40, (1 << 52) - 1 - 2 * by] {
                for add in [[0, 0], [by / 2, by / 2], [0, by - 1], [by - 1, 0]] {
                    if most < 1 {
                        continue;
                    }
                    let divide = Divide::of(by, add, most as u64, true).expect("it fits");
                    let (mut found, expected): (Vec<i64>, Vec<i64>) = numbers(by, most)
                        .into_iter()
                        .map(|v| (v, v.signum() * ((v.abs() + add[usize::from(v < 0)]) / by)))
                        .unzip();
                    divide.apply(&mut found);
                    assert_eq!(found, expected, "by {by} up to {most} with {add:?}");
                }
            }
        }
        assert_eq!(Divide::of(10, [0, 0], 1 << 52, true), None);
        assert_eq!(Divide::of(1, [0, 0], 5, true), None);
    }

    #[test]
    fn the_opposite_is_true_where_a_comparison_is_not() {
        use NumberComparison::{AtLeast, AtMost, Differ, Equal, Less, More};
        for how in [Equal, Differ, Less, AtMost, More, AtLeast] {
            let of = |how| {
                let (mut to, with) = ([1, 2, 3, -1], [2, 2, 2, 2]);
                combine(&VectorStep::Compare(how), &mut to, &with);
                let mut alone = [1, 2, 3, -1];
                change(&VectorStep::CompareWith(how, 2), &mut alone);
                assert_eq!(to, alone);
                to
            };
            assert_eq!(of(how), of(how.opposite()).map(|mask| !mask), "{how:?}");
        }
    }
}
