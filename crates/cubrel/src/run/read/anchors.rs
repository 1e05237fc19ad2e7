//! What one anchor decides of a row: whether it passes, and what it adds to the number of its group.

use std::sync::Arc;

use super::super::tables::{Anchor, Tables};
use super::batch::Batch;
use super::keys::DROPPED;
use super::ranges::CodeRanges;
use crate::formula::schema::{ColumnId, TableId};
use crate::store::spans::CodeSpan;
use crate::store::{ChainCodes, with_chain_codes};
use crate::value::threads::{WORTH_A_THREAD, map_chunks, map_many, map_ranges};

/// So many numbers of 32 bits stay in a near cache.
const NEAR_CODES: usize = 1 << 14;
/// What stands for [`DROPPED`] where numbers have a byte.
const TINY_DROPPED: u8 = u8::MAX;
/// Among so many codes it is looked for one that passes, to spare the rows that have them.
const MOST_LOOKED_AT: u64 = 1 << 14;
/// Few codes pass where at most one in so many does.
const FEW_OF: usize = 4;

/// A bit for each.
fn as_bits(pass: &[bool]) -> Vec<u64> {
    let byte = |pass: &[bool]| pass.iter().rev().fold(0, |byte, pass| byte << 1 | u64::from(*pass));
    let word = |pass: &[bool]| pass.chunks(8).rev().fold(0, |word, pass| word << 8 | byte(pass));
    map_ranges(pass.len(), WORTH_A_THREAD, |some| pass[some].chunks(64).map(word).collect::<Vec<u64>>()).concat()
}

#[inline(always)]
fn bit(bits: &[u64], code: u64) -> bool {
    bits[(code / 64) as usize] >> (code % 64) & 1 == 1
}

/// By code, what it adds to the number of a group that is a place in an array, and whether it passes.
enum CodeNumbers {
    /// Nothing is added.
    None,
    /// With [`DROPPED`] where a code does not pass.
    Words(Vec<u32>),
    /// The same in a byte each, where there are many codes and all numbers are that small: more of it stays in the nearer caches.
    Bytes(Vec<u8>),
}

#[inline(always)]
fn of_byte(number: u8) -> u32 {
    if number == TINY_DROPPED { DROPPED } else { u32::from(number) }
}

impl CodeNumbers {
    fn of(&self, code: u64) -> u32 {
        match self {
            CodeNumbers::None => 0,
            CodeNumbers::Words(all) => all.get(code as usize).copied().unwrap_or(0),
            CodeNumbers::Bytes(all) => all.get(code as usize).map_or(0, |number| of_byte(*number)),
        }
    }
}

/// What one anchor decides of a row.
pub(super) struct AnchorPlan {
    pub(super) anchor: Anchor,
    /// By code: whether the row passes; all do when empty.
    pub(super) pass: Vec<bool>,
    /// The codes of which rows pass, besides; all of them where there is none.
    pub(super) within: Option<CodeRanges>,
    /// Whether codes add something to the group's number.
    adds: bool,
    /// What a code adds to the group's number for each that it is: it is a key itself.
    own: u128,
    /// What stands at the ends of chains that begin with it, and what that adds for each that it is.
    far: Vec<(Arc<ChainCodes>, u128)>,
    /// All of this together, where groups are places in an array.
    numbers: CodeNumbers,
    /// Which of many codes pass, in a bit each, where nothing else is asked of them or few do.
    bits: Vec<u64>,
}

impl AnchorPlan {
    pub(super) fn new(anchor: Anchor) -> AnchorPlan {
        AnchorPlan {
            anchor,
            pass: Vec::new(),
            within: None,
            adds: false,
            own: 0,
            far: Vec::new(),
            numbers: CodeNumbers::None,
            bits: Vec::new(),
        }
    }

    /// Adds each code itself to a key's part of the number.
    pub(super) fn add_own(&mut self, stride: u128) {
        self.adds = true;
        self.own += stride;
    }

    /// Adds what each code finds at the end of a chain.
    pub(super) fn add(&mut self, codes: Arc<ChainCodes>, stride: u128) {
        self.adds = true;
        match *codes {
            ChainCodes::Same(_) => self.own += stride,
            _ => self.far.push((codes, stride)),
        }
    }

    /// What a code adds to a number that may be large.
    pub(super) fn worth(&self, code: u64) -> u128 {
        let far = self.far.iter().map(|(codes, stride)| u128::from(codes.get(code)) * stride);
        u128::from(code) * self.own + far.sum::<u128>()
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
        !self.adds && self.filters()
    }

    /// By what it comes before others: what lets the fewest through first, so that the rest is looked at for these alone.
    pub(super) fn rank(&self, tables: Tables<'_>, table: TableId) -> (bool, u64) {
        match self.filters() {
            true => (false, (self.share(tables, table) * 1000.0) as u64),
            false => (true, 0),
        }
    }

    /// The share of codes that it lets through.
    pub(super) fn share(&self, tables: Tables<'_>, table: TableId) -> f64 {
        let codes = tables.codes_of(table, self.anchor).max(1);
        let of_range = self.within.as_ref().map_or(1.0, |within| within.len() as f64 / codes as f64);
        let passing = self.pass.iter().filter(|pass| **pass).count();
        let of_codes = if self.pass.is_empty() { 1.0 } else { passing as f64 / self.pass.len() as f64 };
        of_range.min(1.0) * of_codes
    }

    /// A filter as a range of codes, where it is one: to compare a code with its ends is less than to look it up.
    pub(super) fn in_ranges(&mut self) {
        if self.only_filters()
            && !self.pass.is_empty()
            && let Some(ranges) = CodeRanges::of_array(&self.pass, 1)
        {
            self.narrow_to(ranges);
            self.pass = Vec::new();
        }
    }

    /// Brings what is known into the form that the rows are looked up in.
    pub(super) fn seal(&mut self, dense: bool, many_codes: usize) {
        self.in_ranges();
        let has_many = self.pass.len() > many_codes;
        if has_many && self.only_filters() && self.within.is_none() {
            self.bits = as_bits(&self.pass);
            return;
        }
        if dense {
            self.put_together();
        }
        // A byte for each code is as near as a bit, and says all.
        let is_near = matches!(self.numbers, CodeNumbers::Bytes(_));
        let passing = || self.pass.iter().filter(|pass| **pass).count();
        if has_many && !is_near && passing() * FEW_OF <= self.pass.len() {
            self.bits = as_bits(&self.pass);
        }
    }

    /// One number for each code, where several things decide it.
    fn put_together(&mut self) {
        let codes = self.far.iter().map(|(codes, _)| codes.count()).max().unwrap_or(0).max(self.pass.len());
        if codes == 0 {
            return;
        }
        debug_assert!(self.pass.is_empty() || self.pass.len() == codes, "there is one answer for each code");
        let own = std::mem::take(&mut self.own) as u32;
        let far = std::mem::take(&mut self.far);
        let add_far = |from: usize, some: &mut [u32]| {
            for (codes, stride) in &far {
                let stride = *stride as u32;
                with_chain_codes!(&**codes, |codes| add_each(some, &codes[from..from + some.len()], stride));
            }
        };
        let number = |from: usize, some: &mut [u32]| {
            add_far(from, some);
            if own > 0 {
                some.iter_mut().zip(from as u32..).for_each(|(number, code)| *number = number.wrapping_add(own * code));
            }
            if let Some(pass) = self.pass.get(from..from + some.len()) {
                let drop = |pass: &bool| if *pass { 0 } else { DROPPED };
                some.iter_mut().zip(pass).for_each(|(number, pass)| *number |= drop(pass));
            }
            if let Some(within) = &self.within {
                let drop = |code: u64| if within.contains(code) { 0 } else { DROPPED };
                some.iter_mut().zip(from as u64..).for_each(|(number, code)| *number |= drop(code));
            }
            some.iter().map(|number| if number & DROPPED == 0 { *number } else { 0 }).max().unwrap_or(0)
        };
        let mut all = vec![0u32; codes];
        let most = map_chunks(&mut all, WORTH_A_THREAD, number).into_iter().max();
        let is_tiny = codes > NEAR_CODES && most.is_some_and(|most| most < u32::from(TINY_DROPPED));
        let byte = |number: &u32| if number & DROPPED == 0 { *number as u8 } else { TINY_DROPPED };
        self.numbers = match is_tiny {
            true => CodeNumbers::Bytes(map_many(&all, byte)),
            false => CodeNumbers::Words(all),
        };
    }

    /// Whether codes add something to the numbers of groups.
    pub(super) fn adds(&self) -> bool {
        self.adds
    }

    /// Has numbers replaced by others, which may be [`DROPPED`]; false where they are not known for each code.
    pub(super) fn renumber(&mut self, to: &[u32]) -> bool {
        let CodeNumbers::Words(all) = &mut self.numbers else { return false };
        let renumber = |number: &mut u32| {
            if *number & DROPPED == 0 {
                *number = to.get(*number as usize).copied().unwrap_or(DROPPED);
            }
        };
        map_chunks(all, WORTH_A_THREAD, |_, some| some.iter_mut().for_each(renumber));
        true
    }

    /// What the codes of a batch add to the numbers of groups.
    pub(super) fn numbers(&self, batch: &Batch<'_>, out: &mut [u32]) {
        match &self.numbers {
            CodeNumbers::None => self.own_numbers(batch, out, self.own as u32),
            CodeNumbers::Bytes(all) => {
                let all = all.as_slice();
                batch.map(self.anchor, out, |code| of_byte(all[code as usize]));
            }
            CodeNumbers::Words(all) if !self.bits.is_empty() => {
                let (all, bits) = (all.as_slice(), self.bits.as_slice());
                batch.map(self.anchor, out, |code| if bit(bits, code) { all[code as usize] } else { DROPPED });
            }
            CodeNumbers::Words(all) => {
                let all = all.as_slice();
                batch.map(self.anchor, out, |code| all[code as usize]);
            }
        }
    }

    /// Whether few of many codes pass, and those add something: it is told by bits which rows pass, and looked up for these alone what
    /// they add. To do both at once is to guess at each row which way it goes, and wrong for many.
    pub(super) fn sieves(&self) -> bool {
        self.adds && !self.bits.is_empty() && self.within.is_none() && self.pass.len() <= DROPPED as usize
    }

    /// The codes of a batch that pass, with [`DROPPED`] added to all others.
    pub(super) fn sieve(&self, batch: &Batch<'_>, out: &mut [u32]) {
        let bits = self.bits.as_slice();
        let sieved = |code: u64| code as u32 | u32::from(!bit(bits, code)) << DROPPED.trailing_zeros();
        batch.map_narrow(self.anchor, out, |code| sieved(u64::from(code)), sieved);
    }

    /// What codes that pass add to the numbers of groups, in their place.
    pub(super) fn look_up<'c>(&self, codes: impl Iterator<Item = &'c mut u32>) {
        match &self.numbers {
            CodeNumbers::None => codes.for_each(|code| *code = code.wrapping_mul(self.own as u32)),
            CodeNumbers::Bytes(all) => codes.for_each(|code| *code = of_byte(all[*code as usize])),
            CodeNumbers::Words(all) => codes.for_each(|code| *code = all[*code as usize]),
        }
    }

    /// Of many codes 0 for those that pass, and [`DROPPED`] for all others.
    fn passing(&self, batch: &Batch<'_>, out: &mut [u32]) {
        let bits = self.bits.as_slice();
        batch.map(self.anchor, out, |code| if bit(bits, code) { 0 } else { DROPPED });
    }

    /// The same of any codes.
    pub(super) fn drops(&self, batch: &Batch<'_>, out: &mut [u32]) {
        match self.pass.as_slice() {
            _ if !self.bits.is_empty() && self.within.is_none() => self.passing(batch, out),
            [] => self.own_numbers(batch, out, 0),
            _ => batch.map(self.anchor, out, |code| if self.passes(code) { 0 } else { DROPPED }),
        }
    }

    /// The numbers where nothing is looked up: each code so many times.
    fn own_numbers(&self, batch: &Batch<'_>, out: &mut [u32], own: u32) {
        match &self.within {
            None if !self.bits.is_empty() => self.passing(batch, out),
            None => batch.map_narrow(
                self.anchor,
                out,
                |code| code.wrapping_mul(own),
                |code| (code as u32).wrapping_mul(own),
            ),
            Some(within) => match within.single() {
                Some((first, more)) => {
                    let drop = move |code: u64| if code.wrapping_sub(first) <= more { 0 } else { DROPPED };
                    // Beyond 32 bits there is no code that is compared as one of them.
                    let (near, reach) =
                        (u32::try_from(first).unwrap_or(u32::MAX), u32::try_from(more).unwrap_or(u32::MAX));
                    let is_near = u32::try_from(first).is_ok();
                    let narrow = move |code: u32| {
                        let passes = is_near & (code >= near) & (code.wrapping_sub(near) <= reach);
                        if passes { code.wrapping_mul(own) } else { DROPPED }
                    };
                    batch.map_narrow(self.anchor, out, narrow, |code| (code as u32).wrapping_mul(own) | drop(code));
                }
                None => {
                    let drop = |code: u64| if within.contains(code) { 0 } else { DROPPED };
                    batch.map(self.anchor, out, |code| (code as u32).wrapping_mul(own) | drop(code));
                }
            },
        }
    }

    /// The same for some entries, where these are few.
    pub(super) fn few_numbers(&self, batch: &Batch<'_>, positions: &[u32]) -> Vec<u32> {
        let own = self.own as u32;
        let number = |code: u64| {
            let drop = self.within.as_ref().is_some_and(|within| !within.contains(code))
                || !self.bits.is_empty() && !bit(&self.bits, code);
            let add = self.numbers.of(code).wrapping_add((code as u32).wrapping_mul(own));
            if drop { add | DROPPED } else { add }
        };
        batch.wide_codes(self.anchor, positions).into_iter().map(number).collect()
    }

    /// Whether a code lets its rows through.
    pub(super) fn passes(&self, code: u64) -> bool {
        // Bits stay in the nearer caches.
        let of_code = match self.bits.as_slice() {
            [] => self.pass.get(code as usize).copied().unwrap_or(true),
            bits => bit(bits, code),
        };
        of_code && self.within.as_ref().is_none_or(|within| within.contains(code))
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

    /// The column of its table that it drops rows by.
    pub(super) fn filtered_column(&self, table: TableId) -> Option<ColumnId> {
        match self.anchor {
            Anchor::Column(index) if self.filters() => Some(ColumnId { table, index }),
            _ => None,
        }
    }

    /// Whether it is known that no row passes of those that lie between some codes. `null` is null's code.
    pub(super) fn passes_over(&self, span: CodeSpan, null: u64) -> bool {
        let CodeSpan { low, high, has_null } = span;
        if has_null && self.passes(null) {
            return false;
        }
        let is_short = high.saturating_sub(low) < MOST_LOOKED_AT;
        let some = || self.pass.get(low as usize..=high as usize).is_none_or(|pass| pass.contains(&true));
        low > high || self.within.as_ref().is_some_and(|within| !within.meets(low, high)) || is_short && !some()
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

/// Adds a multiple of each code to the number that stands beside it.
fn add_each<C: Copy + Into<u64>>(numbers: &mut [u32], codes: &[C], stride: u32) {
    let add =
        |(number, code): (&mut u32, &C)| *number = number.wrapping_add(((*code).into() as u32).wrapping_mul(stride));
    numbers.iter_mut().zip(codes).for_each(add);
}
