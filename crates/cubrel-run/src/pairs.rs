//! Two whole numbers of each row to one: sums, differences and products that fit 64 bits.

/// What is done with two numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PairOp {
    /// `a + b`
    Add,
    /// `a - b`
    Subtract,
    /// `a * b`
    Multiply,
}

/// Bits of a result that leave room for its sign.
const MOST_BITS: u32 = 62;
/// Bits of numbers that fit 32 with their signs: two of them are multiplied in one step.
const NARROW: u32 = 31;

/// Which results the numbers of a pair have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PairBits {
    /// The bits that the largest takes.
    pub most: u32,
    /// Whether both numbers fit 32 bits.
    is_narrow: bool,
}

impl PairBits {
    /// Of numbers of so many bits; `None` where a result could leave 64.
    pub fn of(op: PairOp, [a, b]: [u32; 2]) -> Option<PairBits> {
        let most = if op == PairOp::Multiply { a + b } else { a.max(b) + 1 };
        (most <= MOST_BITS).then_some(PairBits { most, is_narrow: a.max(b) <= NARROW })
    }
}

impl PairOp {
    /// Does it with numbers whose results have these bits, and leaves them in place of the first ones.
    pub fn apply(self, to: &mut [i64], with: &[i64], bits: PairBits) {
        #[cfg(target_arch = "x86_64")]
        if std::arch::is_x86_feature_detected!("avx2") {
            // SAFETY: the processor has AVX2.
            return unsafe { self.apply_in_vectors(to, with, bits) };
        }
        self.apply_each(to, with, bits);
    }

    /// The same where the compiler may take it that there are vectors of 256 bits.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx2")]
    fn apply_in_vectors(self, to: &mut [i64], with: &[i64], bits: PairBits) {
        self.apply_each(to, with, bits);
    }

    #[inline(always)]
    fn apply_each(self, to: &mut [i64], with: &[i64], bits: PairBits) {
        let both = to.iter_mut().zip(with);
        match self {
            PairOp::Add => both.for_each(|(a, b)| *a += b),
            PairOp::Subtract => both.for_each(|(a, b)| *a -= b),
            PairOp::Multiply if bits.is_narrow => {
                both.for_each(|(a, b)| *a = i64::from(*a as i32) * i64::from(*b as i32))
            }
            PairOp::Multiply => both.for_each(|(a, b)| *a *= b),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cubrel_value::exact::bits_of;

    type PlainOp = fn(i128, i128) -> i128;

    #[test]
    fn results_are_those_of_each_pair_up_to_the_last_bit() {
        let largest = |bits: u32| (1i64 << bits) - 1;
        for [a, b] in [[1, 1], [20, 7], [31, 31], [32, 30], [30, 32], [61, 1], [61, 61]] {
            let numbers = |bits: u32| -> Vec<i64> {
                let noise = |i: i64| i.wrapping_mul(0x9E37_79B9_7F4A_7C15u64 as i64) >> (63 - bits);
                [largest(bits), -largest(bits), 0, 1, -1].into_iter().chain((0..200).map(noise)).collect()
            };
            let (left, mut right) = (numbers(a), numbers(b));
            right.rotate_left(1);
            let ops: [(PairOp, PlainOp); 3] =
                [(PairOp::Add, |a, b| a + b), (PairOp::Subtract, |a, b| a - b), (PairOp::Multiply, |a, b| a * b)];
            for (op, plain) in ops {
                let Some(bits) = PairBits::of(op, [bits_of(&left), bits_of(&right)]) else {
                    assert!(op == PairOp::Multiply && a + b > MOST_BITS, "{a} and {b} bits");
                    continue;
                };
                for len in [left.len(), 7, 0] {
                    let mut found = left[..len].to_vec();
                    op.apply(&mut found, &right[..len], bits);
                    let pairs = left[..len].iter().zip(&right[..len]);
                    let expected: Vec<i64> = pairs.map(|(a, b)| plain((*a).into(), (*b).into()) as i64).collect();
                    assert_eq!(found, expected, "{op:?} of {a} and {b} bits");
                    assert!(bits_of(&found) <= bits.most);
                }
            }
        }
    }
}
