//! Values to codes: which coding takes the least, and the code of each row.

use std::collections::HashSet;

use rayon::prelude::*;

use super::bits::bits_for;
use super::codes::Segment;
use super::column::{Coding, Column, Cuts};
use super::dictionary::TextDictionary;
use super::dictionary::template::Template;
use super::divide::Divisor;
use super::numbers::Numbers;
use super::order::{SortColumns, arranged};
use super::rank::Ranks;
use super::raw::{RawColumn, RawData};
use super::texts::TextList;
use crate::value::Type;

/// A range of numbers up to this is counted with one bit each when distinct values are looked for.
const COUNTED_RANGE: u64 = 1 << 28;
/// Most decimal digits for which doubles are tried as decimals.
const MOST_DIGITS: u8 = 9;
/// Whole numbers up to this are doubles, too.
const EXACT_DOUBLES: f64 = 9_007_199_254_740_992.0;

/// A column's coding with the codes of all rows.
pub(super) struct Coded {
    pub(super) ty: Type,
    pub(super) coding: Coding,
    pub(super) digits: Option<u8>,
    pub(super) domain: u64,
    pub(super) nulls: u64,
    pub(super) distinct: u64,
    pub(super) codes: Vec<u64>,
}

impl Column {
    /// Codes the values of a column in segments of `segment_rows`, in their order.
    pub fn encode(raw: &RawColumn, segment_rows: usize) -> Column {
        Column::encode_in(raw, &Cuts::even(raw.len(), segment_rows))
    }

    /// Codes the values of a column in given segments, in their order.
    pub fn encode_in(raw: &RawColumn, cuts: &Cuts) -> Column {
        let coded = code(raw);
        let segments = cuts.ranges().map(|range| Segment::new(&coded.codes[range])).collect();
        assembled(coded, cuts.clone(), segments)
    }
}

/// Codes the columns of one segment, each given in parts, with its rows in the order in which they take the least.
pub fn encode_segment(columns: Vec<Vec<RawColumn>>, sort_by: &SortColumns) -> Vec<Column> {
    // Plain values are dropped as soon as there are codes.
    let mut coded: Vec<Coded> = columns.into_par_iter().filter_map(RawColumn::joined).map(|raw| code(&raw)).collect();
    let codes: Vec<Vec<u64>> = coded.iter_mut().map(|c| std::mem::take(&mut c.codes)).collect();
    let rows = codes.first().map_or(0, Vec::len);
    let segments = arranged(&codes, &vec![true; codes.len()], sort_by);
    let each = coded.into_iter().zip(segments).map(|(coded, segment)| {
        let segments = if rows == 0 { Vec::new() } else { vec![segment] };
        assembled(coded, Cuts::even(rows, rows), segments)
    });
    each.collect()
}

fn assembled(coded: Coded, cuts: Cuts, segments: Vec<Segment>) -> Column {
    let Coded { ty, coding, digits, domain, nulls, distinct, .. } = coded;
    Column { ty, coding, digits, domain, nulls, distinct, cuts, segments, proof: None }
}

pub(super) fn code(raw: &RawColumn) -> Coded {
    let nulls = raw.valid.as_ref().map_or(0, |v| v.iter().filter(|v| !**v).count()) as u64;
    let coded = match &raw.data {
        RawData::Ints(values) => ints(values, raw),
        RawData::Floats(values) => floats(values, raw),
        RawData::Texts { values, indices } => texts(values, indices, raw),
    };
    Coded { ty: raw.ty, nulls, ..coded }
}

fn ints(values: &[i64], raw: &RawColumn) -> Coded {
    let some: Vec<i64>;
    let valid: &[i64] = match &raw.valid {
        None => values,
        Some(valid) => {
            some = values.iter().zip(valid).filter(|(_, valid)| **valid).map(|(v, _)| *v).collect();
            &some
        }
    };
    let Some(range) = Range::of(valid.iter().copied()) else {
        let (coding, codes) = (Coding::Offset { base: 0, step: 1 }, vec![0; values.len()]);
        return Coded { ty: raw.ty, coding, digits: None, domain: 0, nulls: 0, distinct: 0, codes };
    };
    let has_nulls = raw.valid.is_some();
    if range.codes() >= COUNTED_RANGE && !has_nulls {
        // Finding out which numbers there are tells the place of each.
        let Ranks { sorted, places: codes } = Ranks::of(values);
        let distinct = sorted.len() as u64;
        if is_listed(range, distinct, values.len(), has_nulls) {
            let coding = Coding::Numbers(Numbers::new(sorted));
            return Coded { ty: raw.ty, coding, digits: None, domain: distinct, nulls: 0, distinct, codes };
        }
        return Coded { distinct, ..by_distance(range, values, raw.ty) };
    }
    let all = || valid.iter().copied();
    let (coding, domain, distinct) = choose(range, all, values.len(), has_nulls);
    let mut codes = match &coding {
        Coding::Numbers(numbers) => codes_among(&numbers.all(), values),
        _ => by_distance(range, values, raw.ty).codes,
    };
    if let Some(valid) = &raw.valid {
        codes.iter_mut().zip(valid).filter(|(_, valid)| !**valid).for_each(|(code, _)| *code = domain);
    }
    Coded { ty: raw.ty, coding, digits: None, domain, nulls: 0, distinct, codes }
}

/// Codes that are distances from the smallest value.
fn by_distance(range: Range, values: &[i64], ty: Type) -> Coded {
    let by = Divisor::new(range.step);
    let codes = values.iter().map(|v| by.quotient(v.wrapping_sub(range.min) as u64)).collect();
    let coding = Coding::Offset { base: range.min, step: range.step };
    Coded { ty, coding, digits: None, domain: range.codes() + 1, nulls: 0, distinct: 0, codes }
}

/// The places of values in a sorted list, by a table where the range is small; for other values any place.
fn codes_among(sorted: &[i64], values: &[i64]) -> Vec<u64> {
    let (Some(first), Some(last)) = (sorted.first(), sorted.last()) else {
        return vec![0; values.len()];
    };
    let range = last.wrapping_sub(*first) as u64;
    if range < 4 * values.len() as u64 + 65_536 {
        let mut places = vec![0u32; range as usize + 1];
        sorted.iter().enumerate().for_each(|(i, v)| places[v.wrapping_sub(*first) as usize] = i as u32);
        let place = |v: &i64| places.get(v.wrapping_sub(*first) as usize).copied().unwrap_or(0);
        return values.iter().map(|v| u64::from(place(v))).collect();
    }
    values.iter().map(|v| sorted.binary_search(v).unwrap_or(0) as u64).collect()
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

/// The coding of whole numbers that takes the least, how many codes it has, and how many of them occur.
pub(super) fn choose<I: Iterator<Item = i64>>(
    range: Range,
    values: impl Fn() -> I,
    rows: usize,
    has_nulls: bool,
) -> (Coding, u64, u64) {
    let Range { min, step, .. } = range;
    let codes = range.codes();
    let (distinct, sorted) = distinct_numbers(values(), min, step, codes);
    if is_listed(range, distinct, rows, has_nulls) {
        let sorted = sorted.unwrap_or_else(|| sorted_numbers(values()));
        return (Coding::Numbers(Numbers::new(sorted)), distinct, distinct);
    }
    (Coding::Offset { base: min, step }, codes + 1, distinct)
}

/// Whether a list of the different numbers and places in it take less than distances do.
fn is_listed(range: Range, distinct: u64, rows: usize, has_nulls: bool) -> bool {
    let codes = range.codes();
    let bits = |n: u64| u64::from(bits_for(n)) * rows as u64 / 8;
    // Null's code is one more than the largest, and 2^64 codes leave no room for it.
    let offset_bytes = if codes == u64::MAX { u64::MAX } else { bits(codes + u64::from(has_nulls)) };
    let listed = Numbers::bytes_for(distinct as usize, range.max.wrapping_sub(range.min) as u64) as u64;
    bits(distinct) + listed < offset_bytes
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
        for v in values {
            let place = by.quotient(v.wrapping_sub(min) as u64) as usize;
            seen[place / 64] |= 1 << (place % 64);
        }
        return (seen.iter().map(|w| u64::from(w.count_ones())).sum(), None);
    }
    let mut all: Vec<i64> = values.collect();
    all.sort_unstable();
    all.dedup();
    (all.len() as u64, Some(all))
}

/// A double as a whole number of the same order; zeros of both signs are one.
pub fn float_key(x: f64) -> i64 {
    let bits = (x + 0.0).to_bits() as i64;
    if bits < 0 { bits ^ i64::MAX } else { bits }
}

/// The double of a [`float_key`].
pub fn float_of(key: i64) -> f64 {
    f64::from_bits((if key < 0 { key ^ i64::MAX } else { key }) as u64)
}

/// A double as a whole number of units of so many decimal digits, if it is just that.
///
/// Source: A. Afroozeh, L. Kuffo, P. Boncz, "ALP: adaptive lossless floating-point compression" (SIGMOD 2023).
pub(super) fn scaled(x: f64, digits: u8) -> Option<i64> {
    let unit = 10f64.powi(i32::from(digits));
    let units = (x * unit).round();
    (units.abs() < EXACT_DOUBLES && units / unit == x).then_some(units as i64)
}

/// The double of so many units.
pub(super) fn unscaled(units: i64, digits: u8) -> f64 {
    units as f64 / 10f64.powi(i32::from(digits))
}

/// How many decimal digits all doubles have, if few.
fn decimal_digits(values: impl Iterator<Item = f64> + Clone) -> Option<u8> {
    let mut digits = 0;
    for x in values.clone() {
        while scaled(x, digits).is_none() {
            digits += 1;
            if digits > MOST_DIGITS {
                return None;
            }
        }
    }
    // Large numbers may have room for fewer digits than small ones need.
    let mut values = values;
    values.all(|x| scaled(x, digits).is_some()).then_some(digits)
}

fn floats(values: &[f64], raw: &RawColumn) -> Coded {
    let valid = values.iter().enumerate().filter(|(i, _)| raw.is_valid(*i)).map(|(_, v)| *v);
    let digits = decimal_digits(valid);
    let ints: Vec<i64> = match digits {
        Some(digits) => values.iter().map(|v| scaled(*v, digits).unwrap_or(0)).collect(),
        None => values.iter().map(|v| float_key(*v)).collect(),
    };
    Coded { digits, ..self::ints(&ints, raw) }
}

fn texts(values: &TextList, indices: &[u32], raw: &RawColumn) -> Coded {
    let used = match &raw.valid {
        None if values.len() == indices.len() => vec![true; values.len()],
        _ => {
            let mut used = vec![false; values.len()];
            let valid = indices.iter().enumerate().filter(|(i, _)| raw.is_valid(*i));
            valid.for_each(|(_, index)| used[*index as usize] = true);
            used
        }
    };
    let (dictionary, code_of) = sorted_texts(values, &used);
    let null = dictionary.len() as u64;
    // A column of nothing but nulls has no texts.
    let code = |index: &u32| code_of.get(*index as usize).map_or(null, |code| u64::from(*code));
    let mut codes: Vec<u64> = indices.iter().map(code).collect();
    if let Some(valid) = &raw.valid {
        codes.iter_mut().zip(valid).filter(|(_, valid)| !**valid).for_each(|(code, _)| *code = null);
    }
    let coding = Coding::Texts(dictionary);
    Coded { ty: raw.ty, coding, digits: None, domain: null, nulls: 0, distinct: null, codes }
}

/// The dictionary of the texts that are used, and by place in the list the code of each.
fn sorted_texts(values: &TextList, used: &[bool]) -> (TextDictionary, Vec<u32>) {
    let wanted = || (0..values.len()).filter(|i| used[*i]).map(|i| values.get_bytes(i));
    let places = || (0..values.len() as u32).into_par_iter().filter(|i| used[*i as usize]);
    let mut code_of = vec![0u32; values.len()];
    if let Some(template) = Template::of(wanted()).filter(|t| t.count().is_some()) {
        // Numbers are compared faster than texts.
        let rank = |place: u32| template.rank(values.get_bytes(place as usize)).unwrap_or(0);
        let mut ranked: Vec<(u64, u32)> = places().map(|place| (rank(place), place)).collect();
        ranked.par_sort_unstable();
        let (mut ranks, mut bytes) = (Vec::with_capacity(ranked.len()), 0);
        let mut firsts: Vec<u32> = Vec::with_capacity(ranked.len());
        for (rank, place) in ranked {
            if ranks.last() != Some(&rank) {
                ranks.push(rank);
                firsts.push(place);
                bytes += values.get_bytes(place as usize).len();
            }
            code_of[place as usize] = ranks.len() as u32 - 1;
        }
        let list = || firsts.iter().map(|place| values.get(*place as usize)).collect();
        return (TextDictionary::of_ranks(template, &ranks, bytes, list), code_of);
    }
    let bytes = |place: u32| values.get_bytes(place as usize);
    let head = |place: u32| {
        let mut head = [0u8; 8];
        let n = bytes(place).len().min(8);
        head[..n].copy_from_slice(&bytes(place)[..n]);
        u64::from_be_bytes(head)
    };
    let mut headed: Vec<(u64, u32)> = places().map(|place| (head(place), place)).collect();
    headed.par_sort_unstable_by(|(a, i), (b, k)| a.cmp(b).then_with(|| bytes(*i).cmp(bytes(*k))));
    let mut sorted = TextList::default();
    for (_, place) in headed {
        if sorted.is_empty() || sorted.get_bytes(sorted.len() - 1) != bytes(place) {
            sorted.push(values.get(place as usize));
        }
        code_of[place as usize] = sorted.len() as u32 - 1;
    }
    (TextDictionary::new(&sorted), code_of)
}
