//! What a batch hands to aggregates: which group each of its rows belongs to, and for how much it counts.

use std::cell::OnceCell;
use std::ops::Range;

use super::few::{coming, count_each};

/// The entries of a batch: rows, or runs of rows that are alike.
#[derive(Clone, Copy)]
pub struct Entries<'a> {
    /// The group of each.
    pub groups: Groups<'a>,
    /// How many rows each stands for; `None` when each is one row.
    pub weights: Option<&'a [u32]>,
    /// The groups that come, each once, where they are known to be few.
    pub coming: Option<&'a [u32]>,
}

impl<'a> From<Groups<'a>> for Entries<'a> {
    fn from(groups: Groups<'a>) -> Entries<'a> {
        Entries { groups, weights: None, coming: None }
    }
}

impl<'a> Entries<'a> {
    /// The same entries with a number for each of them.
    pub(super) fn one_by_one(self) -> Entries<'a> {
        Entries { groups: self.groups.one_by_one(), ..self }
    }

    pub(super) fn group(self, entry: usize) -> usize {
        self.groups.of(entry)
    }

    pub(super) fn weight(self, entry: usize) -> u64 {
        self.weights.map_or(1, |w| u64::from(w[entry]))
    }

    /// Adds how many rows there are to the counts of their groups.
    pub(super) fn count(self, entries: usize, counts: &mut [u64]) {
        match (self.groups, self.weights) {
            (Groups::One, None) => counts[0] += entries as u64,
            (Groups::One, Some(weights)) => counts[0] += weights.iter().map(|w| u64::from(*w)).sum::<u64>(),
            (Groups::Many(groups), None) => count_each(counts, groups, self.coming),
            (Groups::Many(groups), Some(weights)) => {
                groups.iter().zip(weights).for_each(|(g, w)| counts[*g as usize] += u64::from(*w));
            }
            (Groups::InRuns(runs), None) => runs.each(|group, rows| counts[group] += rows.len() as u64),
            (Groups::InRuns(_), Some(_)) => self.one_by_one().count(entries, counts),
        }
    }
}

/// Which group each row of a batch belongs to.
#[derive(Clone, Copy)]
pub enum Groups<'a> {
    /// All to the first group.
    One,
    /// One number a row.
    Many(&'a [u32]),
    /// The same number for several rows.
    InRuns(&'a RunGroups),
}

impl<'a> Groups<'a> {
    /// The group of a row.
    pub(super) fn of(self, row: usize) -> usize {
        match self {
            Groups::One => 0,
            Groups::Many(groups) => groups[row] as usize,
            Groups::InRuns(runs) => runs.groups[runs.ends.partition_point(|end| *end as usize <= row)] as usize,
        }
    }

    /// The groups, in any order and any of them as often as it likes.
    pub fn of_runs_or_rows(self) -> &'a [u32] {
        match self {
            Groups::One => &[0],
            Groups::Many(groups) => groups,
            Groups::InRuns(runs) => runs.groups(),
        }
    }

    /// The groups that come, each once, of so many that there could be; `None` where they are not few.
    pub fn coming(self, most: usize) -> Option<Vec<u32>> {
        match self {
            Groups::Many(groups) => coming(groups, most),
            Groups::One | Groups::InRuns(_) => None,
        }
    }

    /// Marks the groups as seen.
    pub fn mark(self, seen: &mut [bool]) {
        self.of_runs_or_rows().iter().for_each(|group| seen[*group as usize] = true);
    }

    fn one_by_one(self) -> Groups<'a> {
        match self {
            Groups::InRuns(runs) => Groups::Many(runs.of_rows()),
            other => other,
        }
    }
}

/// Rows of runs that are short in the mean.
const SHORT_RUN: usize = 16;

/// Rows that stand next to each other and belong to the same group.
#[derive(Debug, Default)]
pub struct RunGroups {
    /// Behind which row each run ends.
    ends: Vec<u32>,
    /// The group of each run.
    groups: Vec<u32>,
    of_rows: OnceCell<Vec<u32>>,
}

impl RunGroups {
    /// From where runs end and the group of each.
    pub fn new(ends: Vec<u32>, groups: Vec<u32>) -> RunGroups {
        RunGroups { ends, groups, of_rows: OnceCell::new() }
    }

    /// The group of each run.
    pub fn groups(&self) -> &[u32] {
        &self.groups
    }

    /// Calls `visit` with the group and the rows of each run.
    pub fn each(&self, mut visit: impl FnMut(usize, Range<usize>)) {
        let mut start = 0;
        for (end, group) in self.ends.iter().zip(&self.groups) {
            visit(*group as usize, start..*end as usize);
            start = *end as usize;
        }
    }

    /// Calls `visit` with the group of each run and the sum of its rows' numbers, which together leave room in 64 bits.
    pub(super) fn each_sum(&self, values: &[i64], mut visit: impl FnMut(usize, i64)) {
        if values.len() > SHORT_RUN * self.ends.len() {
            return self.each(|group, rows| visit(group, values[rows].iter().sum()));
        }
        // Where a short run ends is not to be foreseen: sums up to each row take less than going through its rows.
        let mut sums = Vec::with_capacity(values.len() + 1);
        let mut sum = 0;
        sums.push(sum);
        sums.extend(values.iter().map(|value| {
            sum += value;
            sum
        }));
        let mut before = 0;
        for (end, group) in self.ends.iter().zip(&self.groups) {
            let after = sums[*end as usize];
            visit(*group as usize, after - before);
            before = after;
        }
    }

    /// The group of each row.
    pub fn of_rows(&self) -> &[u32] {
        self.of_rows.get_or_init(|| {
            let mut of_rows = vec![0; self.ends.last().map_or(0, |end| *end as usize)];
            self.each(|group, rows| of_rows[rows].fill(group as u32));
            of_rows
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_the_rows_that_they_stand_for() {
        let runs = RunGroups::new(vec![3, 4, 9], vec![7, 0, 7]);
        assert_eq!(runs.of_rows(), [7, 7, 7, 0, 7, 7, 7, 7, 7]);
        let rows: Vec<usize> = (0..9).map(|row| Groups::InRuns(&runs).of(row)).collect();
        assert_eq!(rows, [7, 7, 7, 0, 7, 7, 7, 7, 7]);
        let weights = [1, 2, 1, 1, 5, 1, 1, 1, 1];
        for weights in [None, Some(weights.as_slice())] {
            let (mut in_runs, mut one_by_one) = ([0; 8], [0; 8]);
            let entries = Entries { weights, ..Entries::from(Groups::InRuns(&runs)) };
            entries.count(9, &mut in_runs);
            entries.one_by_one().count(9, &mut one_by_one);
            assert_eq!(in_runs, one_by_one);
        }
        assert!(RunGroups::default().of_rows().is_empty());
    }

    #[test]
    fn sums_of_runs_are_those_of_their_rows() {
        for length in [1u32, 2, 5, 40] {
            let ends: Vec<u32> = (1..50).map(|run| run * length + run % length.min(3)).collect();
            let runs = RunGroups::new(ends.clone(), (0..49).map(|run| run % 7).collect());
            let values: Vec<i64> = (0..i64::from(ends[48])).map(|i| i * i % 1009 - 500).collect();
            let (mut found, mut expected) = ([0; 7], [0; 7]);
            runs.each_sum(&values, |group, sum| found[group] += sum);
            runs.of_rows().iter().zip(&values).for_each(|(group, v)| expected[*group as usize] += v);
            assert_eq!(found, expected, "runs of about {length}");
        }
    }
}
