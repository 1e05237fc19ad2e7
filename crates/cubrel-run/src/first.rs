//! The first of many by a key, in one pass and little memory.

/// Members that are kept beyond the wanted ones, before they are looked through.
const SPARE: usize = 1 << 12;

/// Keeps those with the smallest keys, and all that are equal to the last of them.
pub(crate) struct First {
    count: usize,
    found: Vec<(u64, u32)>,
    /// Larger keys are too late.
    last: u64,
    /// Of more, the wanted ones are looked for.
    room: usize,
}

impl First {
    pub(crate) fn new(count: usize) -> First {
        First { count, found: Vec::new(), last: u64::MAX, room: SPARE.max(count.saturating_mul(4)) }
    }

    pub(crate) fn offer(&mut self, key: u64, member: u32) {
        if key > self.last {
            return;
        }
        self.found.push((key, member));
        if self.found.len() > self.room {
            self.cut();
            // Many may be equal to the last one and stay: as many more come before they are all looked at again.
            self.room = self.room.max(self.found.len().saturating_mul(2));
        }
    }

    /// Takes over what another one of the same count has kept.
    pub(crate) fn take(&mut self, other: First) {
        other.found.into_iter().for_each(|(key, member)| self.offer(key, member));
    }

    fn cut(&mut self) {
        let Some(place) = self.count.checked_sub(1) else {
            self.found.clear();
            return;
        };
        if place < self.found.len() {
            self.last = self.found.select_nth_unstable(place).1.0;
            self.found.retain(|(key, _)| *key <= self.last);
        }
    }

    /// The members that stay, in no order.
    pub(crate) fn finish(mut self) -> Vec<u32> {
        self.cut();
        self.found.into_iter().map(|(_, member)| member).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Members that are looked at grow with the members, not with their square: this would take minutes.
    #[test]
    fn equals_of_the_last_are_not_looked_at_for_each() {
        let mut first = First::new(10);
        (0..3_000_000).for_each(|i| first.offer(7, i));
        assert_eq!(first.finish().len(), 3_000_000);
    }

    #[test]
    fn the_smallest_keys_stay_with_their_equals() {
        for n in [0u32, 1, 10, 20_000] {
            for count in [0usize, 1, 7, 5000, 30_000] {
                let key = |i: u32| u64::from(i.wrapping_mul(2_654_435_761) % 1000);
                let mut first = First::new(count);
                (0..n).for_each(|i| first.offer(key(i), i));
                let mut parts = [First::new(count), First::new(count)];
                (0..n).for_each(|i| parts[i as usize % 2].offer(key(i), i));
                let mut joined = First::new(count);
                parts.into_iter().for_each(|part| joined.take(part));
                let [mut found, mut joined] = [first.finish(), joined.finish()];
                found.sort_unstable();
                joined.sort_unstable();
                assert_eq!(found, joined, "{count} of {n} in parts");
                let mut keys: Vec<u64> = (0..n).map(key).collect();
                keys.sort_unstable();
                let last = count.checked_sub(1).map(|place| keys.get(place).copied().unwrap_or(u64::MAX));
                let expected: Vec<u32> = (0..n).filter(|i| last.is_some_and(|last| key(*i) <= last)).collect();
                assert_eq!(found, expected, "{count} of {n}");
            }
        }
    }
}
