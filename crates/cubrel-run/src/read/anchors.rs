//! What one anchor decides of a row: whether it passes, and what it adds to the number of its group.

use std::sync::Arc;

use super::super::tables::{Anchor, Tables};
use super::batch::Batch;
use super::keys::DROPPED;
use super::ranges::CodeRanges;
use super::sieve::Sieve;
use cubrel_formula::schema::{ColumnId, TableId};
use cubrel_store::spans::CodeSpan;
use cubrel_store::{ChainCodes, with_chain_codes};
use cubrel_value::threads::{WORTH_A_THREAD, map_chunks};

/// What stands for [`DROPPED`] where numbers have a byte.
const TINY_DROPPED: u8 = u8::MAX;
/// Among so many codes it is looked for one that passes, to spare the rows that have them.
const MOST_LOOKED_AT: u64 = 1 << 14;
/// As many bytes stay in a cache that is nearer than the one that all processors share.
const NEAR: usize = 1 << 18;
/// Few codes pass where at most one in so many does.
const FEW_OF: usize = 4;

/// By code, what it adds to the number of a group that is a place in an array, and whether it passes.
enum CodeNumbers {
    /// Nothing is added.
    None,
    /// With [`DROPPED`] where a code does not pass.
    Words(Vec<u32>),
    /// The same in a byte each, where there are many codes and all numbers are that small: more of it stays in the nearer caches.
    Bytes(ByteNumbers),
    /// Of few codes that pass the place among these: how many pass before each word of the sieve.
    Ranks(Vec<u32>),
}

/// A byte for each code.
enum ByteNumbers {
    /// Put together for one read.
    Made(Vec<u8>),
    /// What stands at the ends of chains, as it is.
    Chain(Arc<ChainCodes>),
}

impl ByteNumbers {
    /// A chain of which nothing else is wanted.
    fn of_chain(codes: &Arc<ChainCodes>) -> Option<ByteNumbers> {
        matches!(**codes, ChainCodes::Bytes(_)).then(|| ByteNumbers::Chain(codes.clone()))
    }

    fn as_slice(&self) -> &[u8] {
        match self {
            ByteNumbers::Made(all) => all,
            ByteNumbers::Chain(codes) => match &**codes {
                ChainCodes::Bytes(all) => all,
                _ => &[],
            },
        }
    }
}

#[inline(always)]
fn of_byte(number: u8) -> u32 {
    if number == TINY_DROPPED { DROPPED } else { u32::from(number) }
}

/// What a code adds to the number of a group, in as many bytes as it takes.
trait CodeNumber: Copy + Default + Send {
    /// The lowest bytes of a number.
    fn of(number: u32) -> Self;
    /// The sum, as far as there is room for it.
    fn plus(self, more: Self) -> Self;
    /// In place of a number that does not pass.
    fn dropped(self) -> Self;
}

impl CodeNumber for u8 {
    fn of(number: u32) -> u8 {
        number as u8
    }

    fn plus(self, more: u8) -> u8 {
        self.wrapping_add(more)
    }

    fn dropped(self) -> u8 {
        TINY_DROPPED
    }
}

impl CodeNumber for u32 {
    fn of(number: u32) -> u32 {
        number
    }

    fn plus(self, more: u32) -> u32 {
        self.wrapping_add(more)
    }

    fn dropped(self) -> u32 {
        self | DROPPED
    }
}

/// What one anchor decides of a row.
pub(super) struct AnchorPlan {
    pub(super) anchor: Anchor,
    /// By code: whether the row passes; all do when empty.
    pass: Arc<Vec<bool>>,
    /// How many of these do.
    passing: usize,
    /// The codes of which rows pass, besides; all of them where there is none.
    pub(super) within: Option<CodeRanges>,
    /// Whether codes add something to the group's number.
    adds: bool,
    /// What a code adds to the group's number for each that it is: it is a key itself.
    own: u128,
    /// What stands at the ends of chains that begin with it, and what that adds for each that it is.
    far: Vec<(Arc<ChainCodes>, u128)>,
    /// No code adds more.
    most: u128,
    /// All of this together, where groups are places in an array.
    numbers: CodeNumbers,
    /// Which of many codes pass, in a bit each, where nothing else is asked of them or few do.
    sieve: Sieve,
}

impl AnchorPlan {
    pub(super) fn new(anchor: Anchor) -> AnchorPlan {
        AnchorPlan {
            anchor,
            pass: Arc::default(),
            passing: 0,
            within: None,
            adds: false,
            own: 0,
            far: Vec::new(),
            most: 0,
            numbers: CodeNumbers::None,
            sieve: Sieve::default(),
        }
    }

    /// Adds each code itself, of so many, to a key's part of the number.
    pub(super) fn add_own(&mut self, codes: u64, stride: u128) {
        self.adds = true;
        self.own += stride;
        self.most = self.most.saturating_add(stride.saturating_mul(u128::from(codes)));
    }

    /// Adds what each code finds at the end of a chain, where there are so many.
    pub(super) fn add(&mut self, codes: Arc<ChainCodes>, ends: u64, stride: u128) {
        self.adds = true;
        self.most = self.most.saturating_add(stride.saturating_mul(u128::from(ends.saturating_sub(1))));
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

    /// Lets through only codes that pass here, too.
    pub(super) fn narrow(&mut self, pass: impl Into<Arc<Vec<bool>>>) {
        let pass = pass.into();
        if self.pass.is_empty() {
            self.pass = pass;
        } else {
            Arc::make_mut(&mut self.pass).iter_mut().zip(&*pass).for_each(|(a, b)| *a &= b);
        }
        self.passing = self.pass.iter().filter(|pass| **pass).count();
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

    /// By what it comes before others: what lets the fewest through first, so that the rest is looked at for these alone. Of two
    /// that let about as many through, the one that is looked up in less.
    pub(super) fn rank(&self, tables: Tables<'_>, table: TableId) -> (bool, u32, usize) {
        let of_thousand = (self.share(tables, table) * 1000.0) as u32;
        match self.filters() {
            true => (false, u32::BITS - of_thousand.leading_zeros(), self.pass.len()),
            false => (true, 0, 0),
        }
    }

    /// The share of codes that it lets through.
    pub(super) fn share(&self, tables: Tables<'_>, table: TableId) -> f64 {
        let codes = tables.codes_of(table, self.anchor).max(1);
        let of_range = self.within.as_ref().map_or(1.0, |within| within.len() as f64 / codes as f64);
        let of_codes = if self.pass.is_empty() { 1.0 } else { self.passing as f64 / self.pass.len() as f64 };
        of_range.min(1.0) * of_codes
    }

    /// A filter as a range of codes, where it is one: to compare a code with its ends is less than to look it up.
    pub(super) fn in_ranges(&mut self) {
        if self.only_filters()
            && !self.pass.is_empty()
            && let Some(ranges) = CodeRanges::of_array(&self.pass, 1)
        {
            self.narrow_to(ranges);
            self.pass = Arc::default();
        }
    }

    /// Brings what is known into the form that the rows are looked up in: all rows, or few that others have left.
    pub(super) fn seal(&mut self, dense: bool, many_codes: usize, of_few: bool) {
        if matches!(self.numbers, CodeNumbers::Ranks(_)) {
            return;
        }
        // A sieve gives codes back beside the mark of those that are dropped: larger ones would be taken for it.
        let has_many = self.pass.len() > many_codes && self.pass.len() < DROPPED as usize;
        if has_many && self.only_filters() && self.within.is_none() {
            self.sieve = Sieve::of(&self.pass);
            return;
        }
        if dense {
            self.put_together(many_codes);
        }
        // A byte for each code, where these are not too many, is as near as a bit, and says all.
        let is_near = matches!(self.numbers, CodeNumbers::Bytes(_)) && self.pass.len() <= NEAR;
        if has_many && !is_near && !of_few && self.passing * FEW_OF <= self.pass.len() {
            self.sieve = Sieve::of(&self.pass);
        }
    }

    /// One number for each code, where several things decide it.
    fn put_together(&mut self, many_codes: usize) {
        let codes = self.far.iter().map(|(codes, _)| codes.count()).max().unwrap_or(0).max(self.pass.len());
        if codes == 0 {
            return;
        }
        debug_assert!(self.pass.is_empty() || self.pass.len() == codes, "there is one answer for each code");
        let is_tiny = codes > many_codes && self.most < u128::from(TINY_DROPPED);
        self.numbers = match is_tiny {
            true => CodeNumbers::Bytes(self.chain_alone().unwrap_or_else(|| ByteNumbers::Made(self.of_codes(codes)))),
            false => CodeNumbers::Words(self.of_codes(codes)),
        };
        self.own = 0;
        self.far.clear();
    }

    /// The numbers where they are what a chain finds.
    fn chain_alone(&self) -> Option<ByteNumbers> {
        match self.far.as_slice() {
            [(codes, 1)] if self.own == 0 && !self.filters() => ByteNumbers::of_chain(codes),
            _ => None,
        }
    }

    /// What each of so many codes adds.
    fn of_codes<N: CodeNumber>(&self, codes: usize) -> Vec<N> {
        let own = self.own as u32;
        let number = |from: usize, some: &mut [N]| {
            for (codes, stride) in &self.far {
                let stride = *stride as u32;
                with_chain_codes!(&**codes, |codes| add_each(some, &codes[from..from + some.len()], stride));
            }
            if own > 0 {
                let own_number = |(number, code): (&mut N, u32)| *number = number.plus(N::of(own.wrapping_mul(code)));
                some.iter_mut().zip(from as u32..).for_each(own_number);
            }
            let keep = |(number, passes): (&mut N, bool)| *number = if passes { *number } else { number.dropped() };
            if let Some(pass) = self.pass.get(from..from + some.len()) {
                some.iter_mut().zip(pass.iter().copied()).for_each(keep);
            }
            if let Some(within) = &self.within {
                some.iter_mut().zip((from as u64..).map(|code| within.contains(code))).for_each(keep);
            }
        };
        let mut all = vec![N::default(); codes];
        map_chunks(&mut all, WORTH_A_THREAD, number);
        all
    }

    /// Whether codes add something to the numbers of groups.
    pub(super) fn adds(&self) -> bool {
        self.adds
    }

    /// Numbers codes by their places among those that pass, where few of many do and no two of them add the same; the numbers that these would
    /// have added, in order. `None`, and nothing is changed, where they do not come in order.
    pub(super) fn rank_codes(&mut self, many_codes: usize) -> Option<Vec<u64>> {
        let is_many = self.pass.len() > many_codes && self.pass.len() < DROPPED as usize;
        let few = is_many && self.within.is_none() && self.passing * FEW_OF <= self.pass.len();
        let far = match (self.own, self.far.as_slice()) {
            (1, []) => None,
            (0, [(codes, 1)]) => Some(codes),
            _ => return None,
        };
        if !few || far.is_some_and(|codes| codes.count() < self.pass.len()) {
            return None;
        }
        let passing = (0u64..).zip(&self.pass[..]).filter(|(_, passes)| **passes).map(|(code, _)| code);
        let numbers: Vec<u64> = passing.map(|code| far.map_or(code, |codes| codes.get(code))).collect();
        if !numbers.is_sorted_by(|a, b| a < b) {
            return None;
        }
        self.sieve = Sieve::of(&self.pass);
        self.numbers = CodeNumbers::Ranks(self.sieve.ranks());
        self.own = 0;
        self.far.clear();
        Some(numbers)
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
            _ if self.sieves() => {
                self.sieved(batch, out);
                self.look_up(out.iter_mut().filter(|number| **number & DROPPED == 0));
            }
            CodeNumbers::Bytes(all) => {
                let all = all.as_slice();
                batch.map(self.anchor, out, |code| of_byte(all[code as usize]));
            }
            CodeNumbers::Words(all) => {
                let all = all.as_slice();
                batch.map(self.anchor, out, |code| all[code as usize]);
            }
            CodeNumbers::Ranks(ranks) => {
                let number = |code| if self.sieve.passes(code) { self.sieve.rank(ranks, code as u32) } else { DROPPED };
                batch.map(self.anchor, out, number);
            }
        }
    }

    /// Whether few of many codes pass, and those add something: it is told by bits which rows pass, and looked up for these alone what
    /// they add. To do both at once is to guess at each row which way it goes, and wrong for many.
    pub(super) fn sieves(&self) -> bool {
        self.adds && !self.sieve.is_empty() && self.within.is_none()
    }

    /// The codes of a batch, with [`DROPPED`] added to those that do not pass.
    pub(super) fn sieved(&self, batch: &Batch<'_>, out: &mut [u32]) {
        batch.map_narrow(self.anchor, out, |code| code, |code| code as u32);
        self.sieve.drop_others(out);
    }

    /// What codes that pass add to the numbers of groups, in their place.
    pub(super) fn look_up<'c>(&self, codes: impl Iterator<Item = &'c mut u32>) {
        match &self.numbers {
            CodeNumbers::None => codes.for_each(|code| *code = code.wrapping_mul(self.own as u32)),
            CodeNumbers::Bytes(all) => {
                let all = all.as_slice();
                codes.for_each(|code| *code = of_byte(all[*code as usize]));
            }
            CodeNumbers::Words(all) => codes.for_each(|code| *code = all[*code as usize]),
            CodeNumbers::Ranks(ranks) => codes.for_each(|code| *code = self.sieve.rank(ranks, *code)),
        }
    }

    /// Of many codes 0 for those that pass, and [`DROPPED`] for all others.
    fn passing(&self, batch: &Batch<'_>, out: &mut [u32]) {
        self.sieved(batch, out);
        out.iter_mut().for_each(|number| *number &= DROPPED);
    }

    /// The same of any codes.
    pub(super) fn drops(&self, batch: &Batch<'_>, out: &mut [u32]) {
        match self.pass.as_slice() {
            _ if !self.sieve.is_empty() && self.within.is_none() => self.passing(batch, out),
            [] => self.own_numbers(batch, out, 0),
            _ => batch.map(self.anchor, out, |code| if self.passes(code) { 0 } else { DROPPED }),
        }
    }

    /// The numbers where nothing is looked up: each code so many times.
    fn own_numbers(&self, batch: &Batch<'_>, out: &mut [u32], own: u32) {
        match &self.within {
            None if !self.sieve.is_empty() => self.passing(batch, out),
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
        let codes = batch.wide_codes(self.anchor, positions);
        let mut numbers: Vec<u32> = codes.iter().map(|code| *code as u32).collect();
        self.look_up(numbers.iter_mut());
        let drop = |(number, drops): (&mut u32, bool)| *number |= u32::from(drops) << DROPPED.trailing_zeros();
        if let Some(within) = &self.within {
            numbers.iter_mut().zip(codes.iter().map(|code| !within.contains(*code))).for_each(drop);
        }
        if !self.sieve.is_empty() {
            numbers.iter_mut().zip(codes.iter().map(|code| !self.sieve.passes(*code))).for_each(drop);
        }
        numbers
    }

    /// Whether a code lets its rows through.
    pub(super) fn passes(&self, code: u64) -> bool {
        // Bits stay in the nearer caches.
        let of_code = match self.sieve.is_empty() {
            true => self.pass.get(code as usize).copied().unwrap_or(true),
            false => self.sieve.passes(code),
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
fn add_each<N: CodeNumber, C: Copy + Into<u64>>(numbers: &mut [N], codes: &[C], stride: u32) {
    let add = |(number, code): (&mut N, &C)| {
        *number = number.plus(N::of(((*code).into() as u32).wrapping_mul(stride)));
    };
    numbers.iter_mut().zip(codes).for_each(add);
}
