//! Between which numbers the values of an expression lie.

/// Bits of a number that leave room for its sign, and for adding two of them.
const MOST_BITS: u32 = 62;

/// The smallest and the largest that a number can be; both, and all between them, fit 62 bits and a sign.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Bounds {
    /// No number is smaller.
    pub least: i64,
    /// No number is larger.
    pub most: i64,
}

impl Bounds {
    /// From two ends, in any order; `None` where they leave no room.
    pub fn of(a: i128, b: i128) -> Option<Bounds> {
        let fits = |v: i128| i64::try_from(v).ok().filter(|v| v.unsigned_abs() < 1 << MOST_BITS);
        Some(Bounds { least: fits(a.min(b))?, most: fits(a.max(b))? })
    }

    /// Of one number.
    pub fn one(v: i64) -> Option<Bounds> {
        Bounds::of(v.into(), v.into())
    }

    /// What is in either.
    #[must_use]
    pub fn or(self, other: Bounds) -> Bounds {
        Bounds { least: self.least.min(other.least), most: self.most.max(other.most) }
    }

    /// What a function gives that has its extremes where its arguments have theirs.
    pub fn of_ends(self, other: Bounds, f: impl Fn(i128, i128) -> i128) -> Option<Bounds> {
        let ends = |bounds: Bounds| [i128::from(bounds.least), i128::from(bounds.most)];
        let all: Vec<i128> = ends(self).into_iter().flat_map(|a| ends(other).map(|b| f(a, b))).collect();
        Bounds::of(*all.iter().min()?, *all.iter().max()?)
    }

    /// The same for a function of one number that nowhere turns.
    pub fn map(self, f: impl Fn(i128) -> i128) -> Option<Bounds> {
        self.of_ends(self, |a, _| f(a))
    }

    /// The largest magnitude.
    pub fn magnitude(self) -> u64 {
        self.least.unsigned_abs().max(self.most.unsigned_abs())
    }

    /// The bits that the largest magnitude takes.
    pub fn bits(self) -> u32 {
        64 - self.magnitude().leading_zeros()
    }

    /// Whether all fit 32 bits with their signs.
    pub fn is_narrow(self) -> bool {
        i32::try_from(self.least).is_ok() && i32::try_from(self.most).is_ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bounds_hold_what_comes_of_all_pairs() {
        for (a, b) in [((-3, 5), (2, 7)), ((0, 9), (-4, -1)), ((-8, -2), (-6, 3))] {
            let bounds = |(least, most)| Bounds { least, most };
            for op in [|a, b| a + b, |a, b| a - b, |a: i128, b| a * b] {
                let found = bounds(a).of_ends(bounds(b), op).expect("they are small");
                let all = (a.0..=a.1).flat_map(|x| (b.0..=b.1).map(move |y| op(x.into(), y.into()) as i64));
                let (least, most) = all.fold((i64::MAX, i64::MIN), |(least, most), v| (least.min(v), most.max(v)));
                assert_eq!(found, bounds((least, most)));
            }
        }
    }

    #[test]
    fn what_leaves_no_room_has_no_bounds() {
        let end = 1i128 << MOST_BITS;
        assert_eq!(Bounds::of(0, end), None);
        assert_eq!(Bounds::of(-end, 0), None);
        let largest = Bounds::of(1 - end, end - 1).expect("they fit");
        assert_eq!((largest.bits(), largest.is_narrow()), (MOST_BITS, false));
        assert_eq!(largest.of_ends(largest, |a, b| a + b), None);
    }
}
