//! What one anchor decides of a row: whether it passes, and what it adds to the number of its group.

use super::super::tables::{Anchor, Tables};
use super::batch::Batch;
use super::keys::DROPPED;
use super::ranges::CodeRanges;
use crate::formula::schema::{ColumnId, TableId};

/// So many numbers of 32 bits stay in a near cache.
const NEAR_CODES: usize = 1 << 14;
/// What stands for [`DROPPED`] where numbers have a byte.
const TINY_DROPPED: u8 = u8::MAX;

/// Numbers of groups in a byte each; nothing where one of them needs more.
fn tiny(numbers: &[u32]) -> Vec<u8> {
    let most = numbers.iter().map(|number| if number & DROPPED == 0 { *number } else { 0 }).max().unwrap_or(0);
    let byte = |number: &u32| if number & DROPPED == 0 { *number as u8 } else { TINY_DROPPED };
    if most < u32::from(TINY_DROPPED) { numbers.iter().map(byte).collect() } else { Vec::new() }
}

/// Few codes pass where at most one in so many does.
const FEW_OF: usize = 4;

fn as_bits(pass: &[bool]) -> Vec<u64> {
    let word = |pass: &[bool]| pass.iter().rev().fold(0, |word, pass| word << 1 | u64::from(*pass));
    pass.chunks(64).map(word).collect()
}

#[inline(always)]
fn bit(bits: &[u64], code: u64) -> bool {
    bits[(code / 64) as usize] >> (code % 64) & 1 == 1
}

/// What one anchor decides of a row.
pub(super) struct AnchorPlan {
    pub(super) anchor: Anchor,
    /// By code: whether the row passes; all do when empty.
    pub(super) pass: Vec<bool>,
    /// The codes of which rows pass, besides; all of them where there is none.
    pub(super) within: Option<CodeRanges>,
    /// Whether codes add something to the group's number.
    pub(super) adds: bool,
    /// What a code adds to the group's number for each that it is: it is a key itself.
    pub(super) own: u128,
    /// By code: what it adds besides, where there are few groups, with [`DROPPED`] where it does not pass; nothing does when
    /// empty.
    dense: Vec<u32>,
    /// The same in a byte each, where there are many codes and all numbers are that small: more of it stays in the nearer caches.
    tiny: Vec<u8>,
    /// Which of many codes pass, in a bit each, where nothing else is asked of them or few do.
    bits: Vec<u64>,
    /// The same for large numbers of groups, without dropping.
    wide: Vec<u128>,
}

impl AnchorPlan {
    pub(super) fn new(anchor: Anchor) -> AnchorPlan {
        AnchorPlan {
            anchor,
            pass: Vec::new(),
            within: None,
            adds: false,
            own: 0,
            dense: Vec::new(),
            tiny: Vec::new(),
            bits: Vec::new(),
            wide: Vec::new(),
        }
    }

    /// Adds what each code is worth to a key's part of the number; 32 bits suffice where there are few groups.
    pub(super) fn add(&mut self, codes: &[u64], stride: u128, few_groups: bool) {
        self.adds = true;
        if few_groups {
            self.dense.resize(codes.len(), 0);
            let stride = stride as u32;
            self.dense.iter_mut().zip(codes).for_each(|(sum, code)| *sum = sum.wrapping_add(*code as u32 * stride));
        } else {
            self.wide.resize(codes.len(), 0);
            self.wide.iter_mut().zip(codes).for_each(|(sum, code)| *sum += u128::from(*code) * stride);
        }
    }

    /// The same where there are few groups.
    pub(super) fn add_few(&mut self, codes: &[u32], stride: u32) {
        self.adds = true;
        if self.dense.is_empty() && stride == 1 {
            self.dense = codes.to_vec();
            return;
        }
        self.dense.resize(codes.len(), 0);
        self.dense.iter_mut().zip(codes).for_each(|(sum, code)| *sum = sum.wrapping_add(code * stride));
    }

    /// What a code adds to a number that may be large.
    pub(super) fn worth(&self, code: u64) -> u128 {
        let narrow = self.dense.get(code as usize).copied().map_or(0, u128::from);
        narrow + self.wide.get(code as usize).copied().unwrap_or(0) + u128::from(code) * self.own
    }

    pub(super) fn narrow(&mut self, pass: &[bool]) {
        if self.pass.is_empty() {
            self.pass = pass.to_vec();
        } else {
            self.pass.iter_mut().zip(pass).for_each(|(a, b)| *a &= b);
        }
    }

    pub(super) fn narrow_to(&mut self, ranges: CodeRanges) {
        self.within = Some(self.within.as_ref().map_or(ranges.clone(), |known| known.and(&ranges)));
    }

    /// Whether rows can be dropped by it.
    pub(super) fn filters(&self) -> bool {
        !self.pass.is_empty() || self.within.is_some()
    }

    /// Whether that is all it does.
    pub(super) fn only_filters(&self) -> bool {
        self.own == 0 && !self.adds && self.filters()
    }

    /// By what it comes before others: filters by the share of codes that they let through, then all that is needed anyway.
    pub(super) fn rank(&self, tables: Tables<'_>, table: TableId) -> (bool, u64) {
        if !self.only_filters() {
            return (true, 0);
        }
        let codes = tables.codes_of(table, self.anchor).max(1);
        let through = match &self.within {
            Some(within) => within.len(),
            None if self.dense.is_empty() => self.pass.iter().filter(|pass| **pass).count() as u64,
            None => self.dense.iter().filter(|number| **number & DROPPED == 0).count() as u64,
        };
        (false, (u128::from(through) * 1000 / u128::from(codes)) as u64)
    }

    /// The share of codes that it lets through.
    pub(super) fn share(&self, tables: Tables<'_>, table: TableId) -> f64 {
        let codes = tables.codes_of(table, self.anchor).max(1);
        let of_range = self.within.as_ref().map_or(1.0, |within| within.len() as f64 / codes as f64);
        let passing = self.pass.iter().filter(|pass| **pass).count();
        let of_codes = if self.pass.is_empty() { 1.0 } else { passing as f64 / self.pass.len() as f64 };
        of_range.min(1.0) * of_codes
    }

    /// A filter on a column of many codes as ranges of them.
    pub(super) fn in_ranges(&mut self, many_codes: usize) {
        if self.only_filters()
            && self.pass.len() > many_codes
            && let Some(ranges) = CodeRanges::of_array(&self.pass, 1)
        {
            self.narrow_to(ranges);
            self.pass = Vec::new();
        }
    }

    /// Brings the sums into the form that the rows are looked up in.
    pub(super) fn seal(&mut self, dense: bool, many_codes: usize) {
        self.in_ranges(many_codes);
        let has_many = self.pass.len() > many_codes;
        if has_many && self.only_filters() && self.within.is_none() {
            self.bits = as_bits(&self.pass);
            return;
        }
        if !dense && !self.only_filters() {
            return;
        }
        self.dense.resize(self.dense.len().max(self.pass.len()), 0);
        for (sum, _) in self.dense.iter_mut().zip(&self.pass).filter(|(_, pass)| !**pass) {
            *sum |= DROPPED;
        }
        if self.own > 0 && !self.dense.is_empty() {
            let own = std::mem::take(&mut self.own) as u32;
            self.adds = true;
            self.dense.iter_mut().enumerate().for_each(|(i, sum)| *sum += own * i as u32);
        }
        self.tiny = if self.dense.len() > NEAR_CODES { tiny(&self.dense) } else { Vec::new() };
        let passing = || self.pass.iter().filter(|pass| **pass).count();
        if has_many && self.tiny.is_empty() && passing() * FEW_OF <= self.pass.len() {
            self.bits = as_bits(&self.pass);
        }
    }

    /// What the codes of a batch add to the numbers of groups.
    pub(super) fn numbers(&self, batch: &Batch<'_>, out: &mut [u32]) {
        let own = self.own as u32;
        match (self.dense.as_slice(), own, &self.within) {
            ([], 0, Some(within)) => match within.single() {
                Some((first, more)) => {
                    let drop = move |code: u64| if code.wrapping_sub(first) <= more { 0 } else { DROPPED };
                    batch.map(self.anchor, out, drop);
                }
                None => batch.map(self.anchor, out, |code| if within.contains(code) { 0 } else { DROPPED }),
            },
            ([], 0, None) if !self.bits.is_empty() => {
                let bits = self.bits.as_slice();
                batch.map(self.anchor, out, |code| if bit(bits, code) { 0 } else { DROPPED });
            }
            (dense, own, Some(within)) => {
                let add = |code: u64| dense.get(code as usize).copied().unwrap_or(0) + code as u32 * own;
                let drop = |code: u64| if within.contains(code) { 0 } else { DROPPED };
                batch.map(self.anchor, out, |code| add(code) | drop(code));
            }
            ([], 1, None) => batch.map(self.anchor, out, |code| code as u32),
            ([], own, None) => batch.map(self.anchor, out, |code| code as u32 * own),
            (_, _, None) if !self.tiny.is_empty() => {
                let tiny = self.tiny.as_slice();
                batch.map(self.anchor, out, |code| match tiny[code as usize] {
                    TINY_DROPPED => DROPPED,
                    number => u32::from(number),
                });
            }
            (dense, _, None) if !self.bits.is_empty() => {
                let bits = self.bits.as_slice();
                batch.map(self.anchor, out, |code| if bit(bits, code) { dense[code as usize] } else { DROPPED });
            }
            (dense, _, None) => batch.map(self.anchor, out, |code| dense[code as usize]),
        }
    }

    /// The same for some entries, where these are few.
    pub(super) fn few_numbers(&self, batch: &Batch<'_>, positions: &[u32]) -> Vec<u32> {
        let own = self.own as u32;
        let number = |code: u64| {
            let drop = self.within.as_ref().is_some_and(|within| !within.contains(code))
                || !self.bits.is_empty() && !bit(&self.bits, code);
            let add = self.dense.get(code as usize).copied().unwrap_or(0).wrapping_add((code as u32).wrapping_mul(own));
            if drop { add | DROPPED } else { add }
        };
        batch.wide_codes(self.anchor, positions).into_iter().map(number).collect()
    }

    /// Whether a code lets its rows through.
    pub(super) fn passes(&self, code: u64) -> bool {
        self.pass.get(code as usize).copied().unwrap_or(true)
            && self.within.as_ref().is_none_or(|within| within.contains(code))
    }

    /// Whether every code of a segment passes, of which nothing else is wanted.
    pub(super) fn lets_all_through(&self, tables: Tables<'_>, table: TableId, segment: usize) -> bool {
        let Anchor::Column(index) = self.anchor else { return false };
        let column = tables.column(ColumnId { table, index });
        let Some(segment) = column.segments().get(segment).filter(|_| self.only_filters()) else { return false };
        let (base, max) = (segment.base, segment.max);
        let of_codes = self.pass.get(base as usize..=max as usize).is_none_or(|pass| !pass.contains(&false));
        of_codes && self.within.as_ref().is_none_or(|within| within.holds(base, max))
    }

    /// Whether no code of a segment passes.
    pub(super) fn skips(&self, tables: Tables<'_>, table: TableId, segment: usize) -> bool {
        let Anchor::Column(index) = self.anchor else { return false };
        let column = tables.column(ColumnId { table, index });
        let Some(segment) = column.segments().get(segment) else { return false };
        let (base, max) = (segment.base, segment.max);
        let none = !self.pass.is_empty() && !self.pass[base as usize..=max as usize].contains(&true);
        none || self.within.as_ref().is_some_and(|within| !within.meets(base, max))
    }
}
