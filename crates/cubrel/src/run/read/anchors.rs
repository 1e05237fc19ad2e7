//! What one anchor decides of a row: whether it passes, and what it adds to the number of its group.

use super::super::tables::{Anchor, Tables};
use super::batch::Batch;
use super::keys::DROPPED;
use super::ranges::CodeRanges;
use crate::formula::schema::{ColumnId, TableId};

/// An array over so many codes stays in the nearest cache; a longer one is looked into where no range tells as much.
pub(super) const NEAR: usize = 1 << 12;

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
    /// By code: what it adds besides, with [`DROPPED`] where it does not pass; nothing does when empty.
    pub(super) dense: Vec<u32>,
    /// The same for large numbers of groups, without dropping.
    pub(super) wide: Vec<u128>,
}

impl AnchorPlan {
    pub(super) fn new(anchor: Anchor) -> AnchorPlan {
        AnchorPlan { anchor, pass: Vec::new(), within: None, adds: false, own: 0, dense: Vec::new(), wide: Vec::new() }
    }

    /// The sums to which a key adds what its codes are worth.
    pub(super) fn sums(&mut self, codes: usize) -> &mut [u128] {
        self.adds = true;
        self.wide.resize(codes, 0);
        &mut self.wide
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
            None => self.dense.iter().filter(|number| **number & DROPPED == 0).count() as u64,
        };
        (false, (u128::from(through) * 1000 / u128::from(codes)) as u64)
    }

    /// Brings the sums into the form that the rows are looked up in.
    pub(super) fn seal(&mut self, dense: bool) {
        if self.only_filters()
            && self.pass.len() > NEAR
            && let Some(ranges) = CodeRanges::of_array(&self.pass, 1)
        {
            self.narrow_to(ranges);
            self.pass = Vec::new();
        }
        if !dense {
            return;
        }
        let wide = std::mem::take(&mut self.wide);
        let add = |i: usize| wide.get(i).map_or(0, |sum| *sum as u32);
        let drop = |i: usize| {
            if self.pass.get(i).copied().unwrap_or(true) { 0 } else { DROPPED }
        };
        self.dense = (0..wide.len().max(self.pass.len())).map(|i| add(i) | drop(i)).collect();
        if self.own > 0 && !self.dense.is_empty() {
            let own = std::mem::take(&mut self.own) as u32;
            self.dense.iter_mut().enumerate().for_each(|(i, sum)| *sum += own * i as u32);
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
            (dense, own, Some(within)) => {
                let add = |code: u64| dense.get(code as usize).copied().unwrap_or(0) + code as u32 * own;
                let drop = |code: u64| if within.contains(code) { 0 } else { DROPPED };
                batch.map(self.anchor, out, |code| add(code) | drop(code));
            }
            ([], 1, None) => batch.map(self.anchor, out, |code| code as u32),
            ([], own, None) => batch.map(self.anchor, out, |code| code as u32 * own),
            (dense, _, None) => batch.map(self.anchor, out, |code| dense[code as usize]),
        }
    }

    /// The same for some entries, where these are few.
    pub(super) fn few_numbers(&self, batch: &Batch<'_>, positions: &[u32]) -> Vec<u32> {
        let own = self.own as u32;
        let number = |code: u64| {
            let drop = self.within.as_ref().is_some_and(|within| !within.contains(code));
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
