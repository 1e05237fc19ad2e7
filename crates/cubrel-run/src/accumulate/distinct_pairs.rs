//! How many different codes each of very many groups has: pairs of group and code are put down as they come, brought to
//! their groups by counting, and sorted within each, which takes a fraction of what looking each of them up takes.

use std::any::Any;
use std::fmt::Debug;

use rayon::prelude::*;

use super::entries::Entries;
use super::results::counted;
use super::spec::Spec;
use super::state::{At, State, same};
use cubrel_value::Vector;
use cubrel_value::threads::{WORTH_A_THREAD, map_chunks, map_owned, map_parts};

/// So many pairs are put down before those that came more than once are looked for.
const PAIRS: usize = 1 << 22;
/// Groups that are worked on at a time.
const GROUPS_OF_BUCKET: usize = 1 << 12;

/// A group and a code as one number; its high bits are the group.
pub(super) trait GroupCode: Copy + Default + Ord + Send + Sync + Debug + 'static {
    fn new(group: u32, code: u64, bits: u32) -> Self;
    fn group(self, bits: u32) -> usize;
    fn code(self, bits: u32) -> u64;
}

macro_rules! pairs {
    ($($word:ty)*) => {
        $(impl GroupCode for $word {
            fn new(group: u32, code: u64, bits: u32) -> $word {
                <$word>::from(group) << bits | <$word>::from(code)
            }

            fn group(self, bits: u32) -> usize {
                (self >> bits) as usize
            }

            fn code(self, bits: u32) -> u64 {
                (self & ((1 << bits) - 1)) as u64
            }
        })*
    };
}

pairs!(u64 u128);

/// Codes by their groups.
#[derive(Debug)]
pub(super) struct DistinctPairs<P> {
    /// Each of them at least once; the last list grows, those before are what others have seen.
    lists: Vec<Vec<P>>,
    /// Bits of a code.
    bits: u32,
    groups: usize,
    /// So many are put down before they are made fewer.
    most: usize,
}

/// For codes of a column, or of several together, in pairs as narrow as these and any group's number allow.
pub(super) fn distinct_pairs(groups: usize, spec: &Spec) -> Box<dyn State> {
    let codes = spec.codes().unwrap_or(u64::MAX);
    let bits = u64::BITS - codes.leading_zeros();
    if bits <= u32::BITS {
        Box::new(DistinctPairs::<u64>::new(groups, bits))
    } else {
        Box::new(DistinctPairs::<u128>::new(groups, bits))
    }
}

impl<P: GroupCode> DistinctPairs<P> {
    fn new(groups: usize, bits: u32) -> DistinctPairs<P> {
        DistinctPairs { lists: vec![Vec::new()], bits, groups, most: PAIRS }
    }

    /// Takes out what is there more than once, where there are many.
    fn make_room(&mut self) {
        if self.lists.iter().map(Vec::len).sum::<usize>() > self.most {
            let firsts = self.each_bucket(|bucket, counts, starts| {
                let firsts = |group: usize| bucket[starts[group]..starts[group] + counts[group] as usize].iter();
                (0..counts.len()).flat_map(firsts).copied().collect::<Vec<P>>()
            });
            let pairs = firsts.concat();
            self.most = PAIRS.max(2 * pairs.len());
            self.lists = vec![pairs];
        }
    }

    /// What `make` gives for the groups of each bucket, which are so few that their counts stay in the nearest caches: the pairs in
    /// order, the different ones at the front of those of their group, how many of these each group has, and where it begins.
    /// No pair is left.
    fn each_bucket<T: Send>(&mut self, make: impl Fn(&[P], &[u64], &[usize]) -> T + Sync) -> Vec<T> {
        let (bits, groups) = (self.bits, self.groups);
        let buckets = groups.div_ceil(GROUPS_OF_BUCKET);
        let lists = std::mem::take(&mut self.lists);
        let lists: Vec<PairsInBuckets<P>> = map_owned(lists, |pairs| PairsInBuckets::of(&pairs, bits, buckets));
        let each = |bucket: usize| {
            let parts: Vec<&[P]> = lists.iter().map(|list| list.of_bucket(bucket)).collect();
            let first = bucket * GROUPS_OF_BUCKET;
            let groups = GROUPS_OF_BUCKET.min(groups - first);
            let (mut pairs, starts) = together(&parts, groups, |pair| pair.group(bits) - first);
            let counts: Vec<u64> = starts.windows(2).map(|ends| distinct(&mut pairs[ends[0]..ends[1]])).collect();
            make(&pairs, &counts, &starts)
        };
        map_parts(buckets, each)
    }
}

/// The pairs of a list by bucket.
struct PairsInBuckets<P> {
    pairs: Vec<P>,
    /// Where each bucket begins, and the end.
    starts: Vec<usize>,
}

impl<P: GroupCode> PairsInBuckets<P> {
    fn of(pairs: &[P], bits: u32, buckets: usize) -> PairsInBuckets<P> {
        let (pairs, starts) = together(&[pairs], buckets, |pair| pair.group(bits) / GROUPS_OF_BUCKET);
        PairsInBuckets { pairs, starts }
    }

    fn of_bucket(&self, bucket: usize) -> &[P] {
        &self.pairs[self.starts[bucket]..self.starts[bucket + 1]]
    }
}

/// All pairs of some lists, those of one of so many places together, and where each place begins, and the end.
fn together<P: GroupCode>(lists: &[&[P]], places: usize, place: impl Fn(P) -> usize) -> (Vec<P>, Vec<usize>) {
    let mut starts = vec![0usize; places + 1];
    lists.iter().for_each(|list| list.iter().for_each(|pair| starts[place(*pair) + 1] += 1));
    (1..starts.len()).for_each(|i| starts[i] += starts[i - 1]);
    let mut next = starts.clone();
    let mut out = vec![P::default(); lists.iter().map(|list| list.len()).sum()];
    for list in lists {
        for pair in *list {
            let at = &mut next[place(*pair)];
            out[*at] = *pair;
            *at += 1;
        }
    }
    (out, starts)
}

/// How many different ones there are; they are brought to the front.
fn distinct<P: GroupCode>(pairs: &mut [P]) -> u64 {
    if pairs.len() > WORTH_A_THREAD {
        pairs.par_sort_unstable()
    } else {
        pairs.sort_unstable()
    }
    let mut count = 0;
    for i in 0..pairs.len() {
        if i == 0 || pairs[i] != pairs[count - 1] {
            pairs[count] = pairs[i];
            count += 1;
        }
    }
    count as u64
}

impl<P: GroupCode> State for DistinctPairs<P> {
    fn resize(&mut self, groups: usize) {
        self.groups = groups;
    }

    fn add_codes(&mut self, entries: Entries<'_>, codes: &[u64], null: u64) {
        let entries = entries.one_by_one();
        let bits = self.bits;
        let Some(list) = self.lists.last_mut() else { return };
        for (i, code) in codes.iter().enumerate().filter(|(_, code)| **code != null) {
            let pair = P::new(entries.group(i) as u32, *code, bits);
            if list.last() != Some(&pair) {
                list.push(pair);
            }
        }
        self.make_room();
    }

    fn merge(&mut self, other: Box<dyn State>, at: At<'_>) {
        let Some(DistinctPairs::<P> { mut lists, bits, .. }) = same(other) else { return };
        if at.0.is_some() {
            let moved = |pair: &mut P| *pair = P::new(at.of(pair.group(bits)) as u32, pair.code(bits), bits);
            for list in &mut lists {
                map_chunks(list, WORTH_A_THREAD, |_, some| some.iter_mut().for_each(moved));
            }
        }
        self.lists.splice(0..0, lists);
        self.make_room();
    }

    fn finish(mut self: Box<Self>, _: &[bool]) -> Result<Vector, String> {
        Ok(counted(self.each_bucket(|_, counts, _| counts.to_vec()).concat()))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::super::entries::Groups;
    use super::*;

    fn counts<P: GroupCode>(groups: usize, most: usize, rows: &[(u32, u64)]) -> Vec<i64> {
        let mut parts = rows.chunks(rows.len().div_ceil(3).max(1)).map(|rows| {
            let mut part = DistinctPairs::<P> { most, ..DistinctPairs::new(groups, 32) };
            for rows in rows.chunks(7) {
                let (groups, codes): (Vec<u32>, Vec<u64>) = rows.iter().copied().unzip();
                part.add_codes(Groups::Many(&groups).into(), &codes, 99);
                // Of so few no room is made again.
                part.most = most;
            }
            Box::new(part)
        });
        let mut all = parts.next().unwrap_or_else(|| Box::new(DistinctPairs::new(groups, 32)));
        parts.for_each(|part| all.merge(part, At(None)));
        let result = all.finish(&[]).expect("counts");
        match result.data {
            cubrel_value::Data::I64(counts) => counts,
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn every_group_has_as_many_as_a_set_of_them() {
        let noise = |i: u64| i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 33;
        for groups in [1usize, 3, 5000, 10_000] {
            for rows in [0u64, 1, 40, 20_000] {
                let rows: Vec<(u32, u64)> =
                    (0..rows).map(|i| ((noise(i) % groups as u64) as u32, noise(i + 7) % 100)).collect();
                let mut sets = vec![BTreeSet::new(); groups];
                rows.iter().filter(|(_, code)| *code != 99).for_each(|(group, code)| {
                    sets[*group as usize].insert(*code);
                });
                // The last one stands for no rows.
                let expected: Vec<i64> = sets.iter().map(|set| set.len() as i64).chain([0]).collect();
                for most in [0, 10, usize::MAX] {
                    assert_eq!(counts::<u64>(groups, most, &rows), expected, "{groups} groups, {} rows", rows.len());
                    assert_eq!(counts::<u128>(groups, most, &rows), expected, "{groups} groups, {} rows", rows.len());
                }
            }
        }
    }
}
