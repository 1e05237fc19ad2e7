//! Values to codes: which encoding takes the least, and the code of each row.

use crate::floats::decimal_digits;
use crate::floats::float_key;
use crate::floats::scaled;
use std::borrow::Cow;
use std::collections::HashSet;

use super::bits::bits_for;
use super::codes::Segment;
use super::column::{CodedColumn, Encoding, SegmentBounds};
use super::dictionary::Interim;
use super::dictionary::sorting::sorted_texts;
use super::divide::Divisor;
use super::forms::RowCodes;
use super::numbers::Numbers;
use super::order::{RowOrder, SortColumns, arranged};
use super::rank::{Ranks, number, ordered};
use super::raw::{RawColumn, RawData};
use super::texts::TextList;
use super::waiting::WaitingColumn;
use cubrel_value::Type;
use cubrel_value::threads::{map_costliest_first, map_each, map_owned, map_parts};

/// A range of numbers up to this is counted with one bit each when distinct values are looked for.
const COUNTED_RANGE: u64 = 1 << 28;
/// A column's encoding with the codes of all rows.
pub(super) struct Coded {
    pub(super) ty: Type,
    pub(super) encoding: Encoding,
    pub(super) digits: Option<u8>,
    pub(super) domain: u64,
    pub(super) nulls: u64,
    pub(super) distinct: u64,
    pub(super) codes: RowCodes,
}

impl CodedColumn {
    /// Codes the values of a column in segments of `segment_rows`, in their order.
    pub fn encode(raw: &RawColumn, segment_rows: usize) -> CodedColumn {
        CodedColumn::encode_in(raw, &SegmentBounds::even(raw.len(), segment_rows))
    }

    /// Codes the values of a column that are given in parts of one type, in one segment and in their order; each for one row,
    /// or for a run of rows of which it is told where they end.
    ///
    /// # Panics
    /// When there is no part.
    pub fn of_parts(parts: &[RawColumn], ends: Option<&[u32]>) -> CodedColumn {
        let mut coded = code(Cow::Borrowed(parts), NumberUse::of(parts[0].ty, true), Interim::Packed);
        if let Some(ends) = ends {
            coded.codes = coded.codes.repeated(ends);
            let null = coded.domain;
            coded.nulls =
                if coded.nulls == 0 { 0 } else { coded.codes.iter().filter(|code| *code == null).count() as u64 };
        }
        let segment = coded.codes.segment(coded.codes.extent());
        let rows = coded.codes.len();
        assembled(coded, SegmentBounds::of(std::iter::once(rows)), vec![segment])
    }

    /// Codes the values of a column in given segments, in their order.
    pub fn encode_in(raw: &RawColumn, cuts: &SegmentBounds) -> CodedColumn {
        let coded = code(Cow::Borrowed(std::slice::from_ref(raw)), NumberUse::of(raw.ty, true), Interim::Plain);
        let segments = cuts.ranges().map(|range| coded.codes.segment_of(range)).collect();
        assembled(coded, cuts.clone(), segments).finalized()
    }
}

/// Codes the columns of one segment, each given in parts, with its rows sorted by the columns at some places, or else in the
/// order in which they take the least. Texts are as `interim` says until segments are joined.
pub fn encode_segment(
    columns: Vec<(Vec<WaitingColumn>, NumberUse)>,
    by: Option<&[usize]>,
    sort_by: &SortColumns,
    interim: Interim,
) -> Vec<CodedColumn> {
    let columns: Vec<(Vec<WaitingColumn>, NumberUse)> =
        columns.into_iter().filter(|(parts, _)| !parts.is_empty()).collect();
    let count = vec![true; columns.len()];
    encode_rows(columns, by.map_or(RowOrder::Best { count: &count, sort_by }, RowOrder::By), interim)
}

/// Codes the columns of one segment, each given in one part or more, with its rows in some order.
fn encode_rows(
    columns: Vec<(Vec<WaitingColumn>, NumberUse)>,
    order: RowOrder<'_>,
    interim: Interim,
) -> Vec<CodedColumn> {
    // Values are plain only while codes are made of them.
    let plain = |parts: Vec<WaitingColumn>| parts.into_iter().map(WaitingColumn::into_raw).collect();
    let mut coded: Vec<Coded> = map_costliest_first(
        columns,
        |(parts, _)| parts.iter().map(WaitingColumn::weight).sum(),
        |(parts, used)| code(Cow::Owned(plain(parts)), used, interim),
    );
    let none = || RowCodes::constant(0, 0);
    let codes: Vec<RowCodes> = coded.iter_mut().map(|c| std::mem::replace(&mut c.codes, none())).collect();
    let rows = codes.first().map_or(0, RowCodes::len);
    let segments = arranged(&codes, order);
    let each = coded.into_iter().zip(segments).map(|(coded, segment)| {
        let segments = if rows == 0 { Vec::new() } else { vec![segment] };
        assembled(coded, SegmentBounds::even(rows, rows), segments)
    });
    each.collect()
}

/// Codes columns again as loading does: each segment by itself, the first of which tells how all are sorted, then joined.
pub fn recoded(columns: &[&CodedColumn], order: RowOrder<'_>) -> Vec<CodedColumn> {
    let count = columns.first().map_or(0, |c| c.segment_bounds().count());
    if count == 0 {
        return columns.iter().map(|c| (*c).clone()).collect();
    }
    let segment = |i: usize| {
        let raw = map_each(columns, |c| (vec![WaitingColumn::of(c.only(i..i + 1).raw())], NumberUse::as_in(c)));
        encode_rows(raw, order, Interim::Packed)
    };
    let first = segment(0);
    let more: Vec<Vec<CodedColumn>> = map_parts(count - 1, |i| segment(i + 1));
    let mut parts: Vec<Vec<CodedColumn>> = first.into_iter().map(|column| vec![column]).collect();
    for segment in more {
        parts.iter_mut().zip(segment).for_each(|(all, part)| all.push(part));
    }
    let joined =
        |(parts, column): (Vec<CodedColumn>, &&CodedColumn)| CodedColumn::join(parts, NumberUse::as_in(column));
    map_owned(parts.into_iter().zip(columns).collect(), joined)
}

fn assembled(coded: Coded, cuts: SegmentBounds, segments: Vec<Segment>) -> CodedColumn {
    let Coded { ty, encoding, digits, domain, nulls, distinct, .. } = coded;
    CodedColumn { encoding, digits, domain, nulls, distinct, cuts, segments, ..CodedColumn::empty(ty) }
}

/// Codes the rows of all parts, which have the same type; there is at least one.
fn code(parts: Cow<'_, [RawColumn]>, used: NumberUse, interim: Interim) -> Coded {
    let [first, more @ ..] = &*parts else { panic!("there is nothing to code") };
    let (ty, valid) = (first.ty, validity(&parts));
    let nulls = valid.as_ref().map_or(0, |v| v.iter().filter(|v| !**v).count()) as u64;
    let valid = valid.as_deref();
    let coded = match &first.data {
        RawData::Ints(_) => ints(&parts.iter().filter_map(RawColumn::ints).collect::<Vec<_>>(), valid, used),
        RawData::Floats(_) => floats(&parts.iter().filter_map(RawColumn::floats).collect::<Vec<_>>(), valid),
        RawData::Texts { values, indices } if more.is_empty() => texts(values, indices, valid, interim),
        RawData::Texts { .. } => {
            let (values, indices) = joined_texts(&parts);
            // They are there again.
            drop(parts);
            texts(&values, &indices, valid, interim)
        }
    };
    Coded { ty, nulls, ..coded }
}

/// Which rows of all parts are not null, where any is.
fn validity(parts: &[RawColumn]) -> Option<Vec<bool>> {
    parts.iter().any(|part| part.valid.is_some()).then(|| {
        let mut all = Vec::with_capacity(parts.iter().map(RawColumn::len).sum());
        for part in parts {
            match &part.valid {
                Some(valid) => all.extend_from_slice(valid),
                None => all.resize(all.len() + part.len(), true),
            }
        }
        all
    })
}

/// Codes numbers that are given in parts.
fn ints(parts: &[&[i64]], valid: Option<&[bool]>, used: NumberUse) -> Coded {
    let rows = parts.iter().map(|part| part.len()).sum();
    let some: Vec<i64>;
    let some_parts: [&[i64]; 1];
    let values: &[&[i64]] = match valid {
        None => parts,
        Some(valid) => {
            let all = parts.iter().copied().flatten();
            some = all.zip(valid).filter(|(_, valid)| **valid).map(|(v, _)| *v).collect();
            some_parts = [&some];
            &some_parts
        }
    };
    let all = || values.iter().copied().flatten().copied();
    let Some(range) = Range::of(all()) else {
        return Coded::of_numbers(Encoding::Offset { base: 0, step: 1 }, 0, 0, RowCodes::constant(rows, 0));
    };
    let has_nulls = valid.is_some();
    let packed = packed_rows(rows, rows - values.iter().map(|part| part.len()).sum::<usize>());
    if range.codes() >= COUNTED_RANGE && !has_nulls {
        // Finding out which numbers there are tells the place of each.
        let Ranks { numbers, places, .. } = Ranks::of(rows, all().map(ordered));
        let distinct = numbers.len() as u64;
        if !is_listed(range, distinct, rows, has_nulls, used) {
            return by_distance(range, range.codes().saturating_add(1), distinct, parts);
        }
        let encoding = Encoding::Numbers(Numbers::new(numbers.into_iter().map(number).collect()));
        return Coded::of_numbers(encoding, distinct, distinct, RowCodes::Narrow(places));
    }
    let (encoding, domain, distinct) = choose(range, all, packed, has_nulls, used);
    let mut coded = match encoding {
        Encoding::Numbers(numbers) => {
            let codes = codes_among(&numbers.all(), parts, domain);
            Coded::of_numbers(Encoding::Numbers(numbers), domain, distinct, codes)
        }
        _ => by_distance(range, domain, distinct, parts),
    };
    if let Some(valid) = valid {
        coded.codes.fill_invalid(valid, domain);
    }
    coded
}

impl Coded {
    fn of_numbers(encoding: Encoding, domain: u64, distinct: u64, codes: RowCodes) -> Coded {
        Coded { ty: Type::Int, encoding, digits: None, domain, nulls: 0, distinct, codes }
    }
}

/// Codes that are distances from the smallest value.
fn by_distance(range: Range, domain: u64, distinct: u64, parts: &[&[i64]]) -> Coded {
    let by = Divisor::new(range.step);
    let rows = parts.iter().map(|part| part.len()).sum();
    let mut codes = RowCodes::with_capacity(rows, domain);
    parts.iter().for_each(|part| codes.extend(part, |v: i64| by.quotient(v.wrapping_sub(range.min) as u64)));
    Coded::of_numbers(Encoding::Offset { base: range.min, step: range.step }, domain, distinct, codes)
}

/// The places of values in a sorted list, by a table where the range is small; for other values any place.
fn codes_among(sorted: &[i64], parts: &[&[i64]], domain: u64) -> RowCodes {
    let rows = parts.iter().map(|part| part.len()).sum();
    let mut codes = RowCodes::with_capacity(rows, domain);
    let (Some(first), Some(last)) = (sorted.first(), sorted.last()) else {
        return RowCodes::constant(rows, 0);
    };
    let range = last.wrapping_sub(*first) as u64;
    if range < 4 * rows as u64 + 65_536 {
        let mut places = vec![0u32; range as usize + 1];
        sorted.iter().enumerate().for_each(|(i, v)| places[v.wrapping_sub(*first) as usize] = i as u32);
        let place = |v: i64| places.get(v.wrapping_sub(*first) as usize).copied().unwrap_or(0);
        parts.iter().for_each(|part| codes.extend(part, |v: i64| u64::from(place(v))));
    } else {
        parts.iter().for_each(|part| codes.extend(part, |v: i64| sorted.binary_search(&v).unwrap_or(0) as u64));
    }
    codes
}

/// Smallest and largest of some numbers, and what divides all distances between them.
#[derive(Clone, Copy)]
pub(super) struct Range {
    pub(super) min: i64,
    pub(super) max: i64,
    pub(super) step: u64,
}

impl Range {
    pub(super) fn of(values: impl Iterator<Item = i64> + Clone) -> Option<Range> {
        let (min, max) = values.clone().fold((i64::MAX, i64::MIN), |(low, high), v| (low.min(v), high.max(v)));
        (min <= max).then(|| Range { min, max, step: common_step(values.map(|v| v.wrapping_sub(min) as u64)) })
    }

    /// The largest offset code.
    pub(super) fn codes(self) -> u64 {
        (i128::from(self.max) - i128::from(self.min)) as u64 / self.step
    }
}

/// The encoding of whole numbers that takes the least, how many codes it has, and how many of them occur.
pub(super) fn choose<I: Iterator<Item = i64>>(
    range: Range,
    values: impl Fn() -> I,
    rows: usize,
    has_nulls: bool,
    used: NumberUse,
) -> (Encoding, u64, u64) {
    let Range { min, step, .. } = range;
    let codes = range.codes();
    let (distinct, sorted) = distinct_numbers(values(), min, step, codes);
    if is_listed(range, distinct, rows, has_nulls, used) {
        let sorted = sorted.unwrap_or_else(|| sorted_numbers(values()));
        return (Encoding::Numbers(Numbers::new(sorted)), distinct, distinct);
    }
    (Encoding::Offset { base: min, step }, codes + 1, distinct)
}

/// What the numbers of a column are mostly used for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NumberUse {
    /// They are added up, so that each of them is looked at.
    Summed,
    /// They are compared and looked up, for which codes do.
    Compared,
}

impl NumberUse {
    /// What a column of a type is used for: whole numbers are added up unless they are keys.
    pub fn of(ty: Type, is_key: bool) -> NumberUse {
        match ty {
            Type::Decimal { .. } | Type::Float => NumberUse::Summed,
            Type::Int if !is_key => NumberUse::Summed,
            _ => NumberUse::Compared,
        }
    }

    /// What a column was used for when it was coded, as far as that can be seen.
    pub(super) fn as_in(column: &CodedColumn) -> NumberUse {
        NumberUse::of(column.ty, matches!(column.encoding, Encoding::Numbers(_)))
    }
}

/// So many numbers of 8 bytes stay in the caches nearest to a core while they are looked up at random.
const CACHED_NUMBERS: u64 = 1 << 15;
/// A longer list of numbers that are added up has to save one byte in so many: a look into it costs several times what
/// unpacking a distance does (`docs/storage.md` has what was measured).
const LONG_LIST_SAVES: u64 = 3;

/// How many rows have a code of their own: where most are null, null is told once for all of them.
pub(super) fn packed_rows(rows: usize, nulls: usize) -> usize {
    if nulls > rows / 2 { rows - nulls } else { rows }
}

/// Whether a list of the different numbers and places in it take less than distances do.
fn is_listed(range: Range, distinct: u64, rows: usize, has_nulls: bool, used: NumberUse) -> bool {
    let codes = range.codes();
    let bits = |n: u64| u64::from(bits_for(n)) * rows as u64 / 8;
    // Null's code is one more than the largest, and 2^64 codes leave no room for it.
    let offset_bytes = if codes == u64::MAX { u64::MAX } else { bits(codes + u64::from(has_nulls)) };
    let listed = Numbers::bytes_for(distinct as usize, range.max.wrapping_sub(range.min) as u64) as u64;
    let is_long = used == NumberUse::Summed && distinct > CACHED_NUMBERS;
    let allowed = if is_long { offset_bytes - offset_bytes / LONG_LIST_SAVES } else { offset_bytes };
    bits(distinct) + listed < allowed
}

/// The greatest common divisor of all distances; 1 for none.
fn common_step(distances: impl Iterator<Item = u64>) -> u64 {
    let mut by: Option<Divisor> = None;
    for distance in distances {
        if distance == 0 || by.is_some_and(|by| by.divides(distance)) {
            continue;
        }
        let step = by.map_or(distance, |by| divisor(by.get(), distance));
        if step == 1 {
            return 1;
        }
        by = Some(Divisor::new(step));
    }
    by.map_or(1, Divisor::get)
}

/// The greatest common divisor; that of 0 and a number is the number.
pub(super) fn divisor(a: u64, b: u64) -> u64 {
    let (mut a, mut b) = (a, b);
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

fn sorted_numbers(values: impl Iterator<Item = i64>) -> Vec<i64> {
    let set: HashSet<i64, foldhash::fast::RandomState> = values.collect();
    let mut sorted: Vec<i64> = set.into_iter().collect();
    sorted.sort_unstable();
    sorted
}

/// How many different numbers; and which, where finding that out was the way to count them.
fn distinct_numbers(values: impl Iterator<Item = i64>, min: i64, step: u64, codes: u64) -> (u64, Option<Vec<i64>>) {
    if codes < COUNTED_RANGE {
        let mut seen = vec![0u64; codes as usize / 64 + 1];
        let by = Divisor::new(step);
        values.for_each(|v| {
            let place = by.quotient(v.wrapping_sub(min) as u64) as usize;
            seen[place / 64] |= 1 << (place % 64);
        });
        return (seen.iter().map(|w| u64::from(w.count_ones())).sum(), None);
    }
    let mut all: Vec<i64> = values.collect();
    all.sort_unstable();
    all.dedup();
    (all.len() as u64, Some(all))
}

fn floats(parts: &[&[f64]], valid: Option<&[bool]>) -> Coded {
    let rows = parts.iter().copied().flatten().enumerate();
    let some = rows.filter(|(i, _)| valid.is_none_or(|valid| valid[*i])).map(|(_, v)| *v);
    let digits = decimal_digits(some);
    let ints: Vec<Vec<i64>> = match digits {
        Some(digits) => {
            parts.iter().map(|part| part.iter().map(|v| scaled(*v, digits).unwrap_or(0)).collect()).collect()
        }
        None => parts.iter().map(|part| part.iter().map(|v| float_key(*v)).collect()).collect(),
    };
    Coded { digits, ..self::ints(&ints.iter().map(Vec::as_slice).collect::<Vec<_>>(), valid, NumberUse::Summed) }
}

/// The texts of all parts in one list, and which one each row has.
fn joined_texts(parts: &[RawColumn]) -> (TextList, Vec<u32>) {
    let texts = || parts.iter().filter_map(RawColumn::texts);
    let mut all = TextList::with_capacity(
        texts().map(|(values, _)| values.len()).sum(),
        texts().map(|(values, _)| values.bytes()).sum(),
    );
    let mut indices = Vec::with_capacity(parts.iter().map(RawColumn::len).sum());
    for (values, places) in texts() {
        let shift = all.len() as u32;
        all.extend(values);
        indices.extend(places.iter().map(|i| shift + i));
    }
    (all, indices)
}

fn texts(values: &TextList, indices: &[u32], valid: Option<&[bool]>, interim: Interim) -> Coded {
    let mut used = vec![false; values.len()];
    match valid {
        // A column of nothing but nulls has no texts.
        _ if values.is_empty() => {}
        None => indices.iter().for_each(|index| used[*index as usize] = true),
        Some(valid) => {
            indices.iter().zip(valid).filter(|(_, v)| **v).for_each(|(index, _)| used[*index as usize] = true);
        }
    }
    let (dictionary, code_of) = sorted_texts(values, &used, interim);
    let null = dictionary.len() as u64;
    let mut codes = RowCodes::with_capacity(indices.len(), null);
    codes.extend(indices, |index: u32| code_of.get(index as usize).map_or(null, |code| u64::from(*code)));
    if let Some(valid) = valid {
        codes.fill_invalid(valid, null);
    }
    let encoding = Encoding::Texts(dictionary);
    Coded { ty: Type::Text, encoding, digits: None, domain: null, nulls: 0, distinct: null, codes }
}
