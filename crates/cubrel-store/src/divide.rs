//! Division by one number over and over, without dividing.
//!
//! Source: T. Granlund and P. Montgomery, "Division by invariant integers using multiplication" (PLDI 1994), section 9.

/// A divisor of numbers most of which are multiples of it.
#[derive(Clone, Copy, Debug)]
pub struct Divisor {
    divisor: u64,
    /// How many twos it has.
    twos: u32,
    /// What its odd part gives 1 with, modulo 2^64.
    inverse: u64,
    /// The largest quotient by the odd part.
    most: u64,
}

impl Divisor {
    /// For a number that is not 0.
    pub fn new(divisor: u64) -> Divisor {
        let twos = divisor.trailing_zeros();
        let odd = divisor >> twos;
        // Each step doubles the bits that are right; an odd number is its own inverse in three bits.
        let inverse = (0..5).fold(odd, |x, _| x.wrapping_mul(2u64.wrapping_sub(odd.wrapping_mul(x))));
        Divisor { divisor, twos, inverse, most: u64::MAX / odd }
    }

    /// The divisor.
    pub fn get(self) -> u64 {
        self.divisor
    }

    /// Whether a number is a multiple.
    #[inline]
    pub fn divides(self, n: u64) -> bool {
        n & ((1 << self.twos) - 1) == 0 && (n >> self.twos).wrapping_mul(self.inverse) <= self.most
    }

    /// The quotient of a multiple.
    #[inline]
    pub fn quotient(self, multiple: u64) -> u64 {
        (multiple >> self.twos).wrapping_mul(self.inverse)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_as_dividing() {
        for divisor in [1, 2, 3, 5, 7, 10, 50, 64, 1000, 1_000_000, 86_400_000_000, (1 << 63) - 25, 1 << 63] {
            let by = Divisor::new(divisor);
            assert_eq!(by.get(), divisor);
            for k in [0, 1, 2, 3, 999, 12_345_678, u64::MAX / divisor] {
                let Some(multiple) = divisor.checked_mul(k) else { continue };
                assert_eq!((by.quotient(multiple), by.divides(multiple)), (k, true), "{multiple} / {divisor}");
                for off in [1, 2, divisor / 2, divisor - 1] {
                    let n = multiple.wrapping_add(off);
                    assert_eq!(by.divides(n), n.is_multiple_of(divisor), "{n} / {divisor}");
                }
            }
        }
    }
}
