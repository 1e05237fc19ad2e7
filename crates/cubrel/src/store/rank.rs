//! Distinct numbers in order, and the place of each number among them.
//!
//! Source: D. Knuth, "The Art of Computer Programming", volume 3, section 5.2.5: sorting by digits, the last one first.
//! Digits in which all numbers agree are left out.

/// Bits of a digit: so many that few digits are needed, and so few that a place for each value of one stays in the caches.
const DIGIT: u32 = 11;
const DIGITS: usize = 1 << DIGIT;

/// Some numbers' order.
pub(super) struct Ranks {
    /// The different numbers, in order.
    pub(super) numbers: Vec<u64>,
    /// For each of them a row that has it: the first one.
    pub(super) firsts: Vec<u32>,
    /// For each row the place of its number among them.
    pub(super) places: Vec<u32>,
}

impl Ranks {
    /// Of the numbers of so many rows, at most 2^32.
    pub(super) fn of(rows: usize, numbers: impl Iterator<Item = u64>) -> Ranks {
        let mut pairs: Vec<(u64, u32)> = Vec::with_capacity(rows);
        numbers.for_each(|n| pairs.push((n, pairs.len() as u32)));
        let first = pairs.first().map_or(0, |(n, _)| *n);
        let varying = pairs.iter().fold(0, |bits, (n, _)| bits | n ^ first);
        let mut other = vec![(0, 0); pairs.len()];
        for shift in (0..u64::BITS).step_by(DIGIT as usize).filter(|shift| digit(varying, *shift) != 0) {
            by_digit(&pairs, &mut other, shift);
            std::mem::swap(&mut pairs, &mut other);
        }
        let mut ranks = Ranks { numbers: Vec::new(), firsts: Vec::new(), places: vec![0; pairs.len()] };
        for (number, row) in pairs {
            if ranks.numbers.last() != Some(&number) {
                ranks.numbers.push(number);
                ranks.firsts.push(row);
            }
            ranks.places[row as usize] = ranks.firsts.len() as u32 - 1;
        }
        ranks
    }
}

/// A number without a sign that has the same order.
pub(super) fn ordered(n: i64) -> u64 {
    n as u64 ^ 1 << 63
}

/// The number of an [`ordered`] one.
pub(super) fn number(ordered: u64) -> i64 {
    (ordered ^ 1 << 63) as i64
}

fn digit(n: u64, shift: u32) -> usize {
    (n >> shift) as usize % DIGITS
}

/// Brings pairs into the order of one digit; those that agree in it stay in theirs.
fn by_digit(from: &[(u64, u32)], to: &mut [(u64, u32)], shift: u32) {
    let mut starts = [0usize; DIGITS];
    from.iter().for_each(|(n, _)| starts[digit(*n, shift)] += 1);
    let mut before = 0;
    for start in &mut starts {
        before += std::mem::replace(start, before);
    }
    for pair in from {
        let start = &mut starts[digit(pair.0, shift)];
        to[*start] = *pair;
        *start += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_those_in_the_sorted_list() {
        let far = |n: u64| n.wrapping_mul(0x9E37_79B9_7F4A_7C15) as i64;
        let lists: [Vec<i64>; 6] = [
            vec![],
            vec![7],
            vec![3, -1, 3, 3, -1],
            vec![i64::MIN, i64::MAX, 0, -1, 1],
            (0..3000).map(|i| far(i % 1700)).collect(),
            (0..3000).map(|i| (far(i) >> 50) * 256).collect(),
        ];
        for numbers in lists {
            let ranks = Ranks::of(numbers.len(), numbers.iter().map(|n| ordered(*n)));
            let mut sorted = numbers.clone();
            sorted.sort_unstable();
            sorted.dedup();
            assert_eq!(ranks.numbers.iter().map(|n| number(*n)).collect::<Vec<_>>(), sorted);
            assert_eq!(ranks.firsts.iter().map(|row| numbers[*row as usize]).collect::<Vec<_>>(), sorted);
            let is_first = |row: &u32| !numbers[..*row as usize].contains(&numbers[*row as usize]);
            assert!(ranks.firsts.iter().all(is_first));
            let back: Vec<i64> = ranks.places.iter().map(|place| sorted[*place as usize]).collect();
            assert_eq!(back, numbers);
        }
    }
}
