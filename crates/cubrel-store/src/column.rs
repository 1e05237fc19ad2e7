//! A column: codes in segments, and how codes become values.
//!
//! Codes keep the order of the values they stand for, so that sorting, ranges, smallest and largest work on codes. The
//! code after the last one stands for null; it sorts last, as null does in the language.

use std::ops::Range;
use std::sync::Arc;

use super::checksum::Checksum;
use super::codes::Segment;
use super::deferred::Deferred;
use super::dictionary::TextDictionary;
use super::floats::{MOST_DIGITS, float_key, float_of, scaled, unscaled};
use super::numbers::Numbers;
use super::raw::{RawColumn, RawData};
use super::spans::{CodeSpan, Spans};
use super::totals::{SegmentTotal, Totals, Worth};
use cubrel_value::threads::{WORTH_A_THREAD, map_chunks, map_each, map_many, map_ranges};
use cubrel_value::{Data, Type, Value, Vector};

/// Rows are unpacked all together while so many times as many as are wanted lie between the first and the last.
const NEAR: usize = 8;
/// The same where a row is looked for among many runs.
const NEAR_OF_RUNS: usize = 256;

/// No row: the key finds nothing, or is null.
pub const NO_ROW: u32 = u32::MAX;

/// Rows of a segment, at most.
pub const SEGMENT_ROWS: usize = 1 << 20;

/// A coded column.
#[derive(Clone, Debug)]
pub struct CodedColumn {
    pub(super) ty: Type,
    pub(super) encoding: Encoding,
    /// Doubles that are decimals with so many digits are coded as whole numbers of their units; others by
    /// [`float_key`].
    pub(super) digits: Option<u8>,
    /// How many codes there are; this number itself is the code of null.
    pub(super) domain: u64,
    pub(super) nulls: u64,
    pub(super) distinct: u64,
    pub(super) cuts: SegmentBounds,
    pub(super) segments: Vec<Segment>,
    /// Whether it is what was written, where it comes from a file.
    pub(super) checksum: Option<Arc<Checksum<CodedColumn>>>,
    /// What it is, where this here knows no more than its type and segments.
    pub(super) deferred: Option<Arc<Deferred<CodedColumn>>>,
    /// What its segments come to.
    pub(super) totals: Totals,
    /// Between which codes its rows lie.
    pub(super) spans: Spans,
}

/// How codes become values.
#[derive(Clone, Debug, PartialEq)]
pub enum Encoding {
    /// `base + code × step`.
    Offset {
        /// The smallest value.
        base: i64,
        /// The greatest common divisor of the distances from it.
        step: u64,
    },
    /// Sorted distinct numbers.
    Numbers(Numbers),
    /// Sorted distinct texts.
    Texts(TextDictionary),
}

/// Doubles that follow from their codes: `base + code × step` units of so many decimal digits, or as a [`float_key`].
#[derive(Clone, Copy, Debug)]
pub struct FloatLine {
    /// Of the first code.
    pub base: i64,
    /// From one code to the next.
    pub step: u64,
    /// Digits of the units.
    pub digits: Option<u8>,
    /// The code of null.
    pub null: u64,
}

impl FloatLine {
    /// The double of a code; not a number for null.
    #[inline(always)]
    pub fn of(self, code: u64) -> f64 {
        let v = self.base.wrapping_add(code.wrapping_mul(self.step) as i64);
        let x = match self.digits {
            Some(digits) => unscaled(v, digits),
            None => float_of(v),
        };
        if code == self.null { f64::NAN } else { x }
    }
}

/// The code of a number among so many that stand at even distances.
fn offset_code((base, step): (i64, u64), domain: u64, v: i64) -> Option<u64> {
    let distance = u64::try_from(i128::from(v) - i128::from(base)).ok()?;
    (distance % step == 0 && distance / step < domain).then_some(distance / step)
}

impl Encoding {
    /// Calls `take` with the code, among so many, of each of some ascending numbers, or with none.
    pub(super) fn each_code_of(&self, domain: u64, ascending: &[i64], mut take: impl FnMut(Option<u64>)) {
        match self {
            Encoding::Offset { base, step } => {
                ascending.iter().for_each(|v| take(offset_code((*base, *step), domain, *v)));
            }
            Encoding::Numbers(numbers) => numbers.find_each(ascending, |code| take(code.map(|code| code as u64))),
            Encoding::Texts(_) => ascending.iter().for_each(|_| take(None)),
        }
    }

    /// Whether stored parts that have been read fit each other.
    fn is_sound(&self) -> bool {
        if let Encoding::Texts(dictionary) = self { dictionary.is_sound() } else { true }
    }
}

/// Where the segments of a table begin.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SegmentBounds {
    /// The first row of each segment, and the number of rows.
    starts: Arc<[usize]>,
}

impl SegmentBounds {
    /// Segments of so many rows, the last one with what is left.
    pub fn even(rows: usize, segment_rows: usize) -> SegmentBounds {
        let size = segment_rows.max(1);
        SegmentBounds { starts: (0..rows.div_ceil(size)).map(|i| i * size).chain([rows]).collect() }
    }

    /// Segments of given lengths.
    pub fn of(lengths: impl Iterator<Item = usize>) -> SegmentBounds {
        let mut starts = vec![0];
        for length in lengths.filter(|l| *l > 0) {
            starts.push(starts[starts.len() - 1] + length);
        }
        SegmentBounds { starts: starts.into() }
    }

    /// The segments of several, one after the other.
    pub fn joined<'c>(parts: impl Iterator<Item = &'c SegmentBounds>) -> SegmentBounds {
        SegmentBounds::of(parts.flat_map(SegmentBounds::ranges).map(|range| range.len()))
    }

    /// How many rows.
    pub fn rows(&self) -> usize {
        self.starts[self.starts.len() - 1]
    }

    /// How many segments.
    pub fn count(&self) -> usize {
        self.starts.len() - 1
    }

    /// The rows of a segment.
    pub fn range(&self, segment: usize) -> Range<usize> {
        self.starts[segment]..self.starts[segment + 1]
    }

    /// The rows of all segments.
    pub fn ranges(&self) -> impl Iterator<Item = Range<usize>> {
        self.starts.windows(2).map(|w| w[0]..w[1])
    }

    /// All rows in steps of at most so many, none of which reaches over the end of a segment.
    pub fn batches(&self, most: usize) -> impl Iterator<Item = Range<usize>> {
        self.ranges().flat_map(move |range| {
            range.clone().step_by(most.max(1)).map(move |start| start..range.end.min(start + most.max(1)))
        })
    }

    /// The segment of a row, and the row's place in it.
    ///
    /// # Panics
    /// When there are not so many rows.
    pub fn find(&self, row: usize) -> (usize, usize) {
        if self.starts.len() == 2 {
            return (0, row);
        }
        let segment = self.starts.partition_point(|start| *start <= row) - 1;
        (segment, row - self.starts[segment])
    }
}

/// How many codes, nulls and distinct values a stored column has.
#[derive(Clone, Copy, Debug)]
pub struct Counts {
    /// How many codes there are.
    pub domain: u64,
    /// How many rows are null.
    pub nulls: u64,
    /// How many different values occur.
    pub distinct: u64,
}

impl CodedColumn {
    /// A column without rows.
    pub fn empty(ty: Type) -> CodedColumn {
        let encoding = match ty {
            Type::Text => Encoding::Texts(TextDictionary::plain(&Default::default())),
            _ => Encoding::Offset { base: 0, step: 1 },
        };
        let cuts = SegmentBounds::even(0, 1);
        CodedColumn {
            ty,
            encoding,
            digits: None,
            domain: 0,
            nulls: 0,
            distinct: 0,
            cuts,
            segments: Vec::new(),
            checksum: None,
            deferred: None,
            totals: Totals::default(),
            spans: Spans::default(),
        }
    }

    /// Puts stored parts together; `None` if they do not fit each other.
    pub fn from_parts(
        ty: Type,
        encoding: Encoding,
        digits: Option<u8>,
        counts: Counts,
        segments: Vec<Segment>,
    ) -> Option<CodedColumn> {
        let Counts { domain, nulls, distinct } = counts;
        let fits = match &encoding {
            Encoding::Offset { step, .. } => *step > 0,
            Encoding::Numbers(v) => v.len() as u64 == domain,
            Encoding::Texts(d) => d.len() as u64 == domain,
        };
        let fits = fits && digits.is_none_or(|digits| digits <= MOST_DIGITS);
        let in_range = segments.iter().all(|s| s.max <= domain && s.base <= s.max && !s.is_empty());
        let cuts = SegmentBounds::of(segments.iter().map(Segment::len));
        let column = CodedColumn::empty(ty);
        (fits && in_range).then_some(CodedColumn {
            encoding,
            digits,
            domain,
            nulls,
            distinct,
            cuts,
            segments,
            ..column
        })
    }

    /// The same column, to be proven on first use.
    #[must_use]
    pub fn with_checksum(self, checksum: Arc<Checksum<CodedColumn>>) -> CodedColumn {
        CodedColumn { checksum: Some(checksum), ..self }
    }

    /// The same column, of which it is known what its segments come to; nothing where that does not fit its segments.
    #[must_use]
    pub fn with_totals(self, totals: Vec<SegmentTotal>) -> Option<CodedColumn> {
        let fit = |(total, segment): (&SegmentTotal, &Segment)| {
            let (least, most) = total.codes;
            total.count <= segment.len() as u64 && (total.count == 0 || least <= most && most < self.domain)
        };
        let fits = totals.len() == self.segments.len() && totals.iter().zip(&self.segments).all(fit);
        fits.then(|| CodedColumn { totals: Totals::known(totals), ..self })
    }

    /// The column where it is what was written, else one without values.
    pub fn verified(self: &Arc<CodedColumn>) -> &Arc<CodedColumn> {
        let made = self.made();
        let Some(checksum) = &made.checksum else { return made };
        checksum.instead(|| made.encoding.is_sound(), || made.without_values()).unwrap_or(made)
    }

    /// The column, made if it was not yet; whether it is what was written is not looked at.
    pub fn made(self: &Arc<CodedColumn>) -> &Arc<CodedColumn> {
        self.deferred.as_ref().map_or(self, |deferred| deferred.get())
    }

    /// A column that is made when it is used for the first time, with these segments.
    pub fn deferred(
        ty: Type,
        cuts: SegmentBounds,
        make: impl Fn() -> CodedColumn + Send + Sync + 'static,
    ) -> CodedColumn {
        CodedColumn { cuts, deferred: Some(Arc::new(Deferred::new(make))), ..CodedColumn::empty(ty) }
    }

    /// As many rows, all null.
    fn without_values(&self) -> CodedColumn {
        let segment = |rows: std::ops::Range<usize>| Segment::new(&vec![0; rows.len()]);
        let encoding = CodedColumn::empty(self.ty).encoding;
        let (nulls, segments) = (self.rows() as u64, self.cuts.ranges().map(segment).collect());
        CodedColumn { encoding, digits: None, domain: 0, nulls, distinct: 0, segments, checksum: None, ..self.clone() }
    }

    /// Where its segments begin.
    pub fn segment_bounds(&self) -> &SegmentBounds {
        &self.cuts
    }

    /// How many decimal digits its doubles have, where they are coded as decimals.
    pub fn digits(&self) -> Option<u8> {
        self.digits
    }

    /// The values of all rows, as they were before they were coded.
    pub fn raw(&self) -> RawColumn {
        let codes = self.codes();
        let data = match (&self.encoding, self.ty) {
            (Encoding::Texts(dictionary), _) => {
                let indices = codes.iter().map(|c| if *c < self.domain { *c as u32 } else { 0 }).collect();
                RawData::Texts { values: dictionary.list(), indices }
            }
            (_, Type::Float) => RawData::Floats(self.ints_of(&codes).into_iter().map(|v| self.float_of(v)).collect()),
            _ => RawData::Ints(self.ints_of(&codes)),
        };
        let valid = (self.nulls > 0).then(|| codes.iter().map(|c| *c < self.domain).collect());
        RawColumn { ty: self.ty, data, valid }
    }

    /// The type of the values.
    pub fn ty(&self) -> Type {
        self.ty
    }

    /// How many rows.
    pub fn rows(&self) -> usize {
        self.cuts.rows()
    }

    /// How codes become values.
    pub fn encoding(&self) -> &Encoding {
        &self.encoding
    }

    /// How many codes there are, without null's. Not every one of them need occur.
    pub fn domain(&self) -> u64 {
        self.domain
    }

    /// The code of null.
    pub fn null_code(&self) -> u64 {
        self.domain
    }

    /// How many rows are null.
    pub fn nulls(&self) -> u64 {
        self.nulls
    }

    /// How many different values occur, null not counted.
    pub fn distinct(&self) -> u64 {
        self.distinct
    }

    /// The codes.
    pub fn segments(&self) -> &[Segment] {
        &self.segments
    }

    /// The widest segment's bits.
    pub fn bits(&self) -> u8 {
        self.segments.iter().map(|s| s.codes.bits()).max().unwrap_or(0)
    }

    /// The code of a row.
    pub fn code(&self, row: usize) -> u64 {
        let (segment, within) = self.cuts.find(row);
        self.segments[segment].get(within)
    }

    /// The codes of some rows, null's for [`NO_ROW`]. Rows that lie near each other are unpacked together.
    pub fn codes_at(&self, rows: &[u32]) -> Vec<u64> {
        let found = || rows.iter().filter(|r| **r != NO_ROW).map(|r| *r as usize);
        let (Some(first), Some(last)) = (found().min(), found().max()) else {
            return vec![self.domain; rows.len()];
        };
        let near = if self.segments.iter().all(Segment::is_reached_at_once) { NEAR } else { NEAR_OF_RUNS };
        if last - first >= near.saturating_mul(rows.len()) {
            return self.codes_one_by_one(rows);
        }
        // Half as wide, they stay in the caches for twice as many rows.
        if self.domain < u64::from(u32::MAX) {
            let all = self.unpacked(first, last + 1, |code| code as u32);
            return self.each_of(rows, |row| u64::from(all[row - first]));
        }
        let all = self.unpacked(first, last + 1, |code| code);
        self.each_of(rows, |row| all[row - first])
    }

    /// The codes of some rows that lie far from each other.
    fn codes_one_by_one(&self, rows: &[u32]) -> Vec<u64> {
        let some = |rows: &[u32]| -> Vec<u64> {
            let (mut segment, mut range) = (0, 0..0);
            let of = |row: &u32| match *row as usize {
                _ if *row == NO_ROW => self.domain,
                row => {
                    // Rows that stand beside each other are often of one segment.
                    if !range.contains(&row) {
                        segment = self.cuts.find(row).0;
                        range = self.cuts.range(segment);
                    }
                    self.segments[segment].get(row - range.start)
                }
            };
            rows.iter().map(of).collect()
        };
        map_ranges(rows.len(), WORTH_A_THREAD / 2, |part| some(&rows[part])).concat()
    }

    /// What `code` gives for each of some rows, and null's code for no row.
    fn each_of(&self, rows: &[u32], code: impl Fn(usize) -> u64 + Sync) -> Vec<u64> {
        let of = |row: &u32| if *row == NO_ROW { self.domain } else { code(*row as usize) };
        map_many(rows, of)
    }

    /// What `map` gives for the codes of rows from one to another.
    fn unpacked<T: Copy + Default + Send>(
        &self,
        from: usize,
        to: usize,
        map: impl Fn(u64) -> T + Copy + Sync,
    ) -> Vec<T> {
        let mut all = vec![T::default(); to - from];
        map_chunks(&mut all, WORTH_A_THREAD, |start, out| self.map_rows(from + start, out, map));
        all
    }

    /// Writes the codes from row `start` on to `out`.
    ///
    /// # Panics
    /// When there are fewer rows than `out` has room for.
    pub fn unpack(&self, start: usize, out: &mut [u64]) {
        self.map_rows(start, out, |code| code);
    }

    fn map_rows<T: Copy + Default>(&self, start: usize, out: &mut [T], map: impl Fn(u64) -> T + Copy) {
        assert!(start + out.len() <= self.rows(), "rows {start} to {} of {}", start + out.len(), self.rows());
        let mut at = 0;
        while at < out.len() {
            let (segment, within) = self.cuts.find(start + at);
            let to = out.len().min(at + self.segments[segment].len() - within);
            self.segments[segment].map_rows(within, &mut out[at..to], map);
            at = to;
        }
    }

    /// All codes, in row order.
    pub fn codes(&self) -> Vec<u64> {
        self.unpacked(0, self.rows(), |code| code)
    }

    /// The whole number that a code stands for, as [`Vector`]s hold it (for doubles their units or [`float_key`]).
    pub fn int_of(&self, code: u64) -> i64 {
        match &self.encoding {
            Encoding::Offset { base, step } => base.wrapping_add(code.wrapping_mul(*step) as i64),
            Encoding::Numbers(values) => values.get(code as usize),
            Encoding::Texts(_) => code as i64,
        }
    }

    /// The whole numbers of some codes; 0 for null's.
    pub(super) fn ints_of(&self, codes: &[u64]) -> Vec<i64> {
        if let Encoding::Numbers(numbers) = &self.encoding
            && numbers.len() < 2 * codes.len()
        {
            let all = numbers.all();
            return codes.iter().map(|c| all.get(*c as usize).copied().unwrap_or(0)).collect();
        }
        codes.iter().map(|c| if *c < self.domain { self.int_of(*c) } else { 0 }).collect()
    }

    /// The numbers of all codes, where a list of them is kept.
    pub(super) fn listed(&self) -> Option<Vec<i64>> {
        if let Encoding::Numbers(numbers) = &self.encoding { Some(numbers.all()) } else { None }
    }

    /// The double of what [`CodedColumn::int_of`] gives.
    pub(super) fn float_of(&self, v: i64) -> f64 {
        match self.digits {
            Some(digits) => unscaled(v, digits),
            None => float_of(v),
        }
    }

    /// The value of a code.
    pub fn value_of(&self, code: u64) -> Value {
        if code >= self.domain {
            return Value::Null;
        }
        if let Encoding::Texts(dictionary) = &self.encoding {
            return Value::Text(dictionary.get(code as usize));
        }
        let v = self.int_of(code);
        match self.ty {
            Type::Float => Value::Float(self.float_of(v)),
            Type::Bool => Value::Bool(v != 0),
            Type::Date => Value::Date(v as i32),
            Type::Timestamp => Value::Timestamp(v),
            Type::Decimal { scale, .. } => Value::Decimal { unscaled: i128::from(v), scale },
            _ => Value::Int(v),
        }
    }

    /// The code of a value of this column's type, if the column can hold it.
    pub fn code_of(&self, value: &Value) -> Option<u64> {
        if value.is_null() {
            return Some(self.domain);
        }
        if let (Encoding::Texts(dictionary), Value::Text(text)) = (&self.encoding, value) {
            return dictionary.find(text).map(|i| i as u64);
        }
        let v = match (self.ty, value) {
            (Type::Float, v) => match self.digits {
                Some(digits) => scaled(v.as_f64()?, digits)?,
                None => float_key(v.as_f64()?),
            },
            (ty, v) => v.as_stored(ty)?,
        };
        match &self.encoding {
            Encoding::Offset { base, step } => offset_code((*base, *step), self.domain, v),
            Encoding::Numbers(values) => values.find(v).map(|i| i as u64),
            Encoding::Texts(_) => None,
        }
    }

    /// The values of some codes, as a batch.
    pub fn vector_of(&self, codes: &[u64]) -> Vector {
        let valid: Vec<bool> = codes.iter().map(|c| *c < self.domain).collect();
        let ints = || self.ints_of(codes);
        let data = match (&self.encoding, self.ty) {
            (Encoding::Texts(dictionary), _) => Data::Text(dictionary.texts(codes)),
            (_, Type::Float) => Data::F64(ints().into_iter().map(|v| self.float_of(v)).collect()),
            (_, Type::Bool) => Data::Bool(ints().into_iter().map(|v| v != 0).collect()),
            _ => Data::I64(ints()),
        };
        Vector::with_validity(data, valid)
    }

    /// Where all values are there and are the whole numbers `base + code × step` in 64 bits: base, step, and the largest.
    pub fn line(&self) -> Option<(i64, i64, i64)> {
        let whole = self.ty.is_exact() || matches!(self.ty, Type::Date | Type::Timestamp);
        let Encoding::Offset { base, step } = self.encoding else { return None };
        let step = i64::try_from(step).ok().filter(|_| whole && self.nulls == 0 && self.domain > 0)?;
        let last = i64::try_from(self.domain - 1).ok()?.checked_mul(step)?.checked_add(base)?;
        Some((base, step, last))
    }

    /// As [`CodedColumn::line`] for a column in which some are null.
    pub fn line_or_null(&self) -> Option<(i64, i64)> {
        let whole = self.ty.is_exact() || matches!(self.ty, Type::Date | Type::Timestamp);
        let Encoding::Offset { base, step } = self.encoding else { return None };
        let step = i64::try_from(step).ok().filter(|_| whole && self.nulls > 0 && self.domain > 0)?;
        i64::try_from(self.domain - 1).ok()?.checked_mul(step)?.checked_add(base)?;
        Some((base, step))
    }

    /// Doubles that follow from their codes without a list.
    pub fn float_line(&self) -> Option<FloatLine> {
        let Encoding::Offset { base, step } = self.encoding else { return None };
        (self.ty == Type::Float).then_some(FloatLine { base, step, digits: self.digits, null: self.domain })
    }

    /// What the rows of each segment come to together. The first time, all rows are gone through.
    pub fn totals(&self) -> &[SegmentTotal] {
        self.totals.get_or_find(|| map_each(self.segments(), |segment| self.total(segment)).into())
    }

    /// Between which codes each [`ROWS_OF_SPAN`](super::spans::ROWS_OF_SPAN) rows of a segment lie, in their order; nothing where they
    /// say little more than the segment does. The first time, its rows are gone through, or some of them.
    pub fn spans(&self, segment: usize) -> &[CodeSpan] {
        self.spans.of(&self.segments, segment, self.null_code())
    }

    fn total(&self, segment: &Segment) -> SegmentTotal {
        let null = self.null_code();
        match (&self.encoding, self.float_line()) {
            (_, Some(line)) => SegmentTotal::of(segment, null, Worth::<fn(u64) -> i64, _>::Float(|code| line.of(code))),
            (Encoding::Numbers(_), None) if self.ty == Type::Float => {
                let float = |code| self.float_of(self.int_of(code));
                SegmentTotal::of(segment, null, Worth::<fn(u64) -> i64, _>::Float(float))
            }
            (Encoding::Offset { base, step }, None) if self.ty.is_exact() => {
                let line = Worth::<fn(u64) -> i64, fn(u64) -> f64>::Line { base: *base, step: *step };
                SegmentTotal::of(segment, null, line)
            }
            (Encoding::Numbers(_), None) if self.ty.is_exact() => {
                SegmentTotal::of(segment, null, Worth::<_, fn(u64) -> f64>::Int(|code| self.int_of(code)))
            }
            _ => SegmentTotal::of(segment, null, Worth::<fn(u64) -> i64, fn(u64) -> f64>::Nothing),
        }
    }

    /// Bytes on the heap: codes, and the dictionary.
    pub fn heap_bytes(&self) -> (usize, usize) {
        let codes = self.segments.iter().map(|s| s.codes.heap_bytes()).sum::<usize>()
            // What is not known of segments yet will be.
            + self.segments.len() * (size_of::<Segment>() + size_of::<SegmentTotal>());
        let dictionary = match &self.encoding {
            Encoding::Offset { .. } => 0,
            Encoding::Numbers(values) => values.heap_bytes(),
            Encoding::Texts(dictionary) => dictionary.heap_bytes(),
        };
        (codes, dictionary)
    }
}

#[cfg(test)]
mod tests {
    use super::super::raw::{RawColumn, RawData};
    use super::*;

    fn ints(ty: Type, values: &[Option<i64>]) -> RawColumn {
        RawColumn {
            ty,
            data: RawData::Ints(values.iter().map(|v| v.unwrap_or(7)).collect()),
            valid: values.contains(&None).then(|| values.iter().map(Option::is_some).collect()),
        }
    }

    /// Every encoding gives back what was put in, whatever the size of the segments.
    fn check(raw: &RawColumn, expected: &[Value]) -> CodedColumn {
        let mut last = None;
        for segment_rows in [1, 3, 64, 1000] {
            let column = CodedColumn::encode(raw, segment_rows);
            let codes = column.codes();
            let values: Vec<Value> = codes.iter().map(|c| column.value_of(*c)).collect();
            assert_eq!(values, expected);
            for (row, value) in expected.iter().enumerate() {
                assert_eq!(column.code(row), codes[row]);
                assert_eq!(column.code_of(value), Some(codes[row]), "{value:?}");
            }
            let batch = column.vector_of(&codes);
            for (row, value) in expected.iter().enumerate() {
                assert_eq!(batch.get(row, raw.ty), *value);
            }
            let mut by_code: Vec<(u64, &Value)> = codes.iter().copied().zip(expected).collect();
            by_code.sort_by_key(|(c, _)| *c);
            assert!(by_code.windows(2).all(|w| w[0].1.total_cmp(w[1].1).is_le()), "codes keep the order");
            last = Some(column);
        }
        last.expect("ran")
    }

    #[test]
    fn numbers_come_back_from_every_coding() {
        let cases: [&[Option<i64>]; 7] = [
            &[],
            &[None, None],
            &[Some(5)],
            &[Some(100), Some(250), None, Some(-50)],
            &[Some(i64::MIN), Some(i64::MAX), Some(0)],
            &[Some(i64::MIN), None, Some(i64::MAX)],
            &[Some(1), Some(1_000_000_007), Some(1), Some(1_000_000_007), Some(1), Some(1), Some(1), Some(1), Some(1)],
        ];
        for case in cases {
            let expected: Vec<Value> = case.iter().map(|v| v.map_or(Value::Null, Value::Int)).collect();
            check(&ints(Type::Int, case), &expected);
        }
    }

    #[test]
    fn distances_with_a_common_divisor_take_few_bits() {
        let column = check(
            &ints(Type::Int, &[Some(1000), Some(4000), Some(2500)]),
            &[Value::Int(1000), Value::Int(4000), Value::Int(2500)],
        );
        assert_eq!((column.encoding(), column.bits()), (&Encoding::Offset { base: 1000, step: 1500 }, 2));
    }

    #[test]
    fn floats_and_texts_come_back() {
        let floats = [0.0, -1.5, 1e300, -1e-300, 3.25];
        let raw = RawColumn { ty: Type::Float, data: RawData::Floats(floats.to_vec()), valid: None };
        check(&raw, &floats.map(Value::Float));
        let texts = ["Skaw", "Ness", "", "Ärö", "Ness"];
        let vector = Vector::new(Data::Text(texts.iter().map(|t| Arc::from(*t)).collect()));
        let raw = RawColumn::from_vector(vector, Type::Text).expect("fits");
        let column = check(&raw, &texts.map(Value::text));
        assert_eq!((column.distinct(), column.domain()), (4, 4));
    }

    #[test]
    fn values_that_do_not_occur_have_no_code() {
        let column = CodedColumn::encode(&ints(Type::decimal(1), &[Some(10), Some(30)]), 10);
        assert_eq!(column.code_of(&Value::Int(1)), Some(0));
        assert_eq!(column.code_of(&Value::Decimal { unscaled: 15, scale: 1 }), None);
        assert_eq!(column.code_of(&Value::Decimal { unscaled: 101, scale: 2 }), None);
        assert_eq!(column.code_of(&Value::Null), Some(column.null_code()));
    }
}
