//! What a read gives: groups, their aggregates, and what was gone through.

use super::super::accumulate::GroupNumbers;
use super::super::frame::Frame;
use crate::value::Vector;

/// What a read gives.
#[derive(Debug)]
pub struct ReadResult {
    /// How many codes each key has, null's included.
    pub(super) sizes: Vec<u64>,
    pub(super) numbering: Numbering,
    /// Whether a group has rows; one more for "no group".
    pub seen: Vec<bool>,
    /// The aggregates of each group, and after them the result over no rows.
    pub columns: Vec<Vector>,
    /// What the read went through.
    pub stats: ReadStats,
}

/// What a read went through: exact, and the same in every run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ReadStats {
    /// Rows of the table.
    pub rows: u64,
    /// Rows looked at.
    pub rows_read: u64,
    /// Rows that passed.
    pub rows_passed: u64,
    /// Segments in which no row could pass.
    pub segments_skipped: u64,
    /// Bytes of packed codes that were unpacked.
    pub bytes_read: u64,
    /// Groups that have rows.
    pub groups: u64,
}

#[derive(Debug)]
pub(super) enum Numbering {
    /// By place: the sum of code × stride.
    Dense,
    /// By hash of that sum.
    Hashed(GroupNumbers, Vec<u128>),
}

impl ReadResult {
    /// How many groups there is room for.
    pub fn groups(&self) -> usize {
        self.seen.len() - 1
    }

    /// For each cell its group, or the number of groups for none.
    pub fn find(&self, frame: &Frame, dims: &[usize]) -> Vec<u32> {
        let none = self.groups() as u32;
        if dims.is_empty() {
            return vec![0; frame.cells];
        }
        let columns: Vec<&[u64]> = dims.iter().map(|d| frame.dims[*d].codes.as_slice()).collect();
        let strides = strides(&self.sizes);
        (0..frame.cells)
            .map(|cell| {
                let key: u128 = columns.iter().zip(&strides).map(|(c, s)| u128::from(c[cell]) * s).sum();
                match &self.numbering {
                    Numbering::Dense => key as u32,
                    Numbering::Hashed(numbers, _) => numbers.get(&key).copied().unwrap_or(none),
                }
            })
            .collect()
    }

    /// The groups that have rows.
    pub fn present_groups(&self) -> Vec<u32> {
        (0..self.groups() as u32).filter(|g| self.seen[*g as usize]).collect()
    }

    /// How many codes a key has, null's included.
    pub fn size(&self, key: usize) -> u64 {
        self.sizes[key]
    }

    /// The codes of every group that has rows, key by key.
    pub fn present(&self) -> Vec<Vec<u64>> {
        let strides = strides(&self.sizes);
        let groups = (0..self.groups()).filter(|g| self.seen[*g]);
        let mut columns = vec![Vec::new(); self.sizes.len()];
        for group in groups {
            let key = match &self.numbering {
                Numbering::Dense => group as u128,
                Numbering::Hashed(_, keys) => keys[group],
            };
            for ((column, size), stride) in columns.iter_mut().zip(&self.sizes).zip(&strides) {
                column.push((key / stride % u128::from(*size)) as u64);
            }
        }
        columns
    }
}

pub(super) fn strides(sizes: &[u64]) -> Vec<u128> {
    let mut strides = vec![1u128; sizes.len()];
    for i in (0..sizes.len().saturating_sub(1)).rev() {
        strides[i] = strides[i + 1].saturating_mul(u128::from(sizes[i + 1]));
    }
    strides
}
