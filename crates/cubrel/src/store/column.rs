//! A column: codes in segments, and how codes become values.
//!
//! Codes keep the order of the values they stand for, so that sorting, ranges, smallest and largest work on codes. The
//! code after the last one stands for null; it sorts last, as null does in the language.

use std::sync::Arc;

use rayon::prelude::*;

use super::bits::{PackedInts, bits_for};
use super::dictionary::TextDictionary;
use super::raw::{RawColumn, RawData};
use crate::value::{Data, Type, Value, Vector};

/// Rows of a segment.
pub const SEGMENT_ROWS: usize = 1 << 20;
/// A range of numbers up to this is counted with one bit each when distinct values are looked for.
const COUNTED_RANGE: u64 = 1 << 28;

/// A coded column.
#[derive(Clone, Debug)]
pub struct Column {
    ty: Type,
    rows: usize,
    coding: Coding,
    /// How many codes there are; this number itself is the code of null.
    domain: u64,
    nulls: u64,
    distinct: u64,
    segments: Vec<Segment>,
}

/// How codes become values.
#[derive(Clone, Debug, PartialEq)]
pub enum Coding {
    /// `base + code × step`; doubles by [`float_key`].
    Offset {
        /// The smallest value.
        base: i64,
        /// The greatest common divisor of the distances from it.
        step: u64,
    },
    /// Sorted distinct numbers.
    Numbers(Box<[i64]>),
    /// Sorted distinct texts.
    Texts(TextDictionary),
}

/// The codes of some consecutive rows.
#[derive(Clone, Debug)]
pub struct Segment {
    /// Smallest code, which is taken off the packed ones.
    pub base: u64,
    /// Largest code, null's included.
    pub max: u64,
    /// The codes less `base`.
    pub codes: PackedInts,
}

/// Why a column could not be coded.
#[derive(Debug, thiserror::Error)]
pub enum EncodeError {
    /// The distinct texts take more than 4 GiB.
    #[error("the distinct texts of one column take more than 4 GiB")]
    DictionaryTooLarge,
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

impl Column {
    /// Codes the values of a column in segments of `segment_rows`.
    pub fn encode(raw: &RawColumn, segment_rows: usize) -> Result<Column, EncodeError> {
        let rows = raw.len();
        let nulls = raw.valid.as_ref().map_or(0, |v| v.iter().filter(|v| !**v).count()) as u64;
        let parts = match &raw.data {
            RawData::Ints(values) => encode_ints(values, raw, segment_rows),
            RawData::Floats(values) => {
                let keys: Vec<i64> = values.iter().map(|v| float_key(*v)).collect();
                encode_ints(&keys, raw, segment_rows)
            }
            RawData::Texts { values, indices } => encode_texts(values, indices, raw, segment_rows)?,
        };
        let (coding, domain, distinct, segments) = parts;
        Ok(Column { ty: raw.ty, rows, coding, domain, nulls, distinct, segments })
    }

    /// Puts stored parts together; `None` if they do not fit each other.
    pub fn from_parts(
        ty: Type,
        coding: Coding,
        domain: u64,
        counts: (u64, u64),
        segments: Vec<Segment>,
    ) -> Option<Column> {
        let rows = segments.iter().map(|s| s.codes.len()).sum();
        let fits = match &coding {
            Coding::Offset { step, .. } => *step > 0,
            Coding::Numbers(v) => v.len() as u64 == domain,
            Coding::Texts(d) => d.len() as u64 == domain,
        };
        let even = segments.split_last().is_none_or(|(last, rest)| {
            rest.iter().all(|s| s.codes.len() == rest[0].codes.len())
                && (rest.is_empty() || last.codes.len() <= rest[0].codes.len())
        });
        let in_range = even && segments.iter().all(|s| s.max <= domain && s.base <= s.max);
        (fits && in_range).then_some(Column { ty, rows, coding, domain, nulls: counts.0, distinct: counts.1, segments })
    }

    /// The type of the values.
    pub fn ty(&self) -> Type {
        self.ty
    }

    /// How many rows.
    pub fn rows(&self) -> usize {
        self.rows
    }

    /// How codes become values.
    pub fn coding(&self) -> &Coding {
        &self.coding
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
        let size = self.segments.first().map_or(1, |s| s.codes.len().max(1));
        let segment = &self.segments[row / size];
        segment.base + segment.codes.get(row % size)
    }

    /// All codes, in row order.
    pub fn codes(&self) -> Vec<u64> {
        let mut out = vec![0; self.rows];
        let mut at = 0;
        for segment in &self.segments {
            let n = segment.codes.len();
            segment.codes.unpack(0, segment.base, &mut out[at..at + n]);
            at += n;
        }
        out
    }

    /// The whole number that a code stands for, as [`Vector`]s hold it (for doubles their [`float_key`]).
    pub fn int_of(&self, code: u64) -> i64 {
        match &self.coding {
            Coding::Offset { base, step } => base.wrapping_add(code.wrapping_mul(*step) as i64),
            Coding::Numbers(values) => values[code as usize],
            Coding::Texts(_) => code as i64,
        }
    }

    /// The value of a code.
    pub fn value_of(&self, code: u64) -> Value {
        if code >= self.domain {
            return Value::Null;
        }
        if let Coding::Texts(dictionary) = &self.coding {
            return Value::text(dictionary.get(code as usize));
        }
        let v = self.int_of(code);
        match self.ty {
            Type::Float => Value::Float(float_of(v)),
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
        if let (Coding::Texts(dictionary), Value::Text(text)) = (&self.coding, value) {
            return dictionary.find(text).map(|i| i as u64);
        }
        let v = match (self.ty, value) {
            (Type::Float, v) => float_key(v.as_f64()?),
            (Type::Bool, Value::Bool(b)) => i64::from(*b),
            (Type::Date, Value::Date(d)) => i64::from(*d),
            (Type::Timestamp, Value::Timestamp(t)) => *t,
            (ty, v) if ty.is_exact() => {
                let unscaled = v.as_exact(ty.scale())?;
                let rescaled = Value::Decimal { unscaled, scale: ty.scale() };
                if rescaled != *v {
                    return None;
                }
                i64::try_from(unscaled).ok()?
            }
            _ => return None,
        };
        match &self.coding {
            Coding::Offset { base, step } => {
                let distance = u64::try_from(i128::from(v) - i128::from(*base)).ok()?;
                (distance % step == 0 && distance / step < self.domain).then_some(distance / step)
            }
            Coding::Numbers(values) => values.binary_search(&v).ok().map(|i| i as u64),
            Coding::Texts(_) => None,
        }
    }

    /// The values of some codes, as a batch.
    pub fn vector_of(&self, codes: &[u64]) -> Vector {
        let valid: Vec<bool> = codes.iter().map(|c| *c < self.domain).collect();
        let ints =
            || -> Vec<i64> { codes.iter().map(|c| if *c < self.domain { self.int_of(*c) } else { 0 }).collect() };
        let data = match (&self.coding, self.ty) {
            (Coding::Texts(dictionary), _) => {
                let empty: Arc<str> = Arc::from("");
                let text = |c: &u64| {
                    if *c < self.domain { Arc::from(dictionary.get(*c as usize)) } else { empty.clone() }
                };
                Data::Text(codes.iter().map(text).collect())
            }
            (_, Type::Float) => Data::F64(ints().into_iter().map(float_of).collect()),
            (_, Type::Bool) => Data::Bool(ints().into_iter().map(|v| v != 0).collect()),
            _ => Data::I64(ints()),
        };
        Vector::with_validity(data, valid)
    }

    /// As [`Column::vector_of`], for codes of this column's own rows.
    pub fn own_vector(&self, codes: &[u64]) -> Vector {
        match (&self.coding, self.ty) {
            (Coding::Offset { base, step }, ty) if self.nulls == 0 && !matches!(ty, Type::Float | Type::Bool) => {
                let (base, step) = (*base, *step as i64);
                Vector::new(Data::I64(
                    codes.iter().map(|c| base.wrapping_add((*c as i64).wrapping_mul(step))).collect(),
                ))
            }
            _ => self.vector_of(codes),
        }
    }

    /// Bytes on the heap: codes, and the dictionary.
    pub fn heap_bytes(&self) -> (usize, usize) {
        let codes = self.segments.iter().map(|s| s.codes.heap_bytes()).sum::<usize>()
            + self.segments.len() * size_of::<Segment>();
        let dictionary = match &self.coding {
            Coding::Offset { .. } => 0,
            Coding::Numbers(values) => values.len() * 8,
            Coding::Texts(dictionary) => dictionary.heap_bytes(),
        };
        (codes, dictionary)
    }
}

type Parts = (Coding, u64, u64, Vec<Segment>);

fn segments(codes: impl Iterator<Item = u64>, rows: usize, segment_rows: usize) -> Vec<Segment> {
    let mut codes = codes;
    let mut list = Vec::with_capacity(rows.div_ceil(segment_rows));
    let mut buffer = Vec::with_capacity(segment_rows.min(rows));
    let mut left = rows;
    while left > 0 {
        let n = left.min(segment_rows);
        buffer.clear();
        buffer.extend(codes.by_ref().take(n));
        let (base, max) = buffer.iter().fold((u64::MAX, 0), |(low, high), c| (low.min(*c), high.max(*c)));
        let packed = PackedInts::pack(buffer.iter().map(|c| c - base), bits_for(max - base));
        list.push(Segment { base, max, codes: packed });
        left -= n;
    }
    list
}

fn encode_ints(values: &[i64], raw: &RawColumn, segment_rows: usize) -> Parts {
    let valid = || values.iter().enumerate().filter(|(i, _)| raw.is_valid(*i)).map(|(_, v)| *v);
    let (min, max) = valid().fold((i64::MAX, i64::MIN), |(low, high), v| (low.min(v), high.max(v)));
    if min > max {
        let coding = Coding::Offset { base: 0, step: 1 };
        return (coding, 0, 0, segments(values.iter().map(|_| 0), values.len(), segment_rows));
    }
    let step = common_step(valid().map(|v| v.wrapping_sub(min) as u64));
    let range = (i128::from(max) - i128::from(min)) as u64 / step;
    let (distinct, sorted) = distinct_numbers(valid(), min, step, range);
    let rows = values.len() as u64;
    let bits = |n: u64| u64::from(bits_for(n)) * rows / 8;
    // Null's code is one more than the largest, and 2^64 codes leave no room for it.
    let offset_bytes = if range == u64::MAX { u64::MAX } else { bits(range + u64::from(raw.valid.is_some())) };
    let numbers_bytes = bits(distinct) + distinct * 8;
    if numbers_bytes < offset_bytes {
        let sorted: Box<[i64]> = sorted.unwrap_or_else(|| sorted_numbers(valid())).into_boxed_slice();
        let null = sorted.len() as u64;
        let code = |(i, v): (usize, &i64)| {
            if raw.is_valid(i) { sorted.binary_search(v).map_or(null, |p| p as u64) } else { null }
        };
        let list = segments(values.iter().enumerate().map(code), values.len(), segment_rows);
        return (Coding::Numbers(sorted), null, distinct, list);
    }
    let null = range + 1;
    let code = |(i, v): (usize, &i64)| {
        if raw.is_valid(i) { v.wrapping_sub(min) as u64 / step } else { null }
    };
    let list = segments(values.iter().enumerate().map(code), values.len(), segment_rows);
    (Coding::Offset { base: min, step }, null, distinct, list)
}

/// The greatest common divisor of all distances; 1 for none.
fn common_step(distances: impl Iterator<Item = u64>) -> u64 {
    let mut step = 0u64;
    for distance in distances {
        let (mut a, mut b) = (step, distance);
        while b != 0 {
            (a, b) = (b, a % b);
        }
        step = a;
        if step == 1 {
            break;
        }
    }
    step.max(1)
}

fn sorted_numbers(values: impl Iterator<Item = i64>) -> Vec<i64> {
    let set: std::collections::HashSet<i64, foldhash::fast::RandomState> = values.collect();
    let mut sorted: Vec<i64> = set.into_iter().collect();
    sorted.sort_unstable();
    sorted
}

/// How many different numbers; and which, where finding that out was the way to count them.
fn distinct_numbers(values: impl Iterator<Item = i64>, min: i64, step: u64, range: u64) -> (u64, Option<Vec<i64>>) {
    if range < COUNTED_RANGE {
        let mut seen = vec![0u64; range as usize / 64 + 1];
        for v in values {
            let place = (v.wrapping_sub(min) as u64 / step) as usize;
            seen[place / 64] |= 1 << (place % 64);
        }
        return (seen.iter().map(|w| u64::from(w.count_ones())).sum(), None);
    }
    let sorted = sorted_numbers(values);
    (sorted.len() as u64, Some(sorted))
}

/// Sorts places of distinct texts by what stands there. Texts that differ late are what makes sorting slow, so what
/// all begin with is cut off, and the next eight bytes are compared as one number.
fn sort_texts(values: &[Arc<str>], order: &mut Vec<u32>) {
    let bytes = |i: &u32| values[*i as usize].as_bytes();
    let Some(first) = order.first() else { return };
    let common = order.iter().fold(bytes(first), |common, i| {
        let same = common.iter().zip(bytes(i)).take_while(|(a, b)| a == b).count();
        &common[..same]
    });
    let skip = common.len();
    let key = |i: u32| {
        let mut head = [0u8; 8];
        let rest = &bytes(&i)[skip..];
        let n = rest.len().min(8);
        head[..n].copy_from_slice(&rest[..n]);
        (u64::from_be_bytes(head), i)
    };
    let mut keyed: Vec<(u64, u32)> = order.par_iter().map(|i| key(*i)).collect();
    keyed.par_sort_unstable_by(|(a, i), (b, k)| a.cmp(b).then_with(|| bytes(i).cmp(bytes(k))));
    *order = keyed.into_iter().map(|(_, i)| i).collect();
}

fn encode_texts(
    values: &[Arc<str>],
    indices: &[u32],
    raw: &RawColumn,
    segment_rows: usize,
) -> Result<Parts, EncodeError> {
    let mut used = vec![false; values.len()];
    for (i, index) in indices.iter().enumerate() {
        if raw.is_valid(i) {
            used[*index as usize] = true;
        }
    }
    let mut order: Vec<u32> = (0..values.len() as u32).filter(|i| used[*i as usize]).collect();
    sort_texts(values, &mut order);
    let dictionary =
        TextDictionary::new(order.iter().map(|i| &*values[*i as usize])).ok_or(EncodeError::DictionaryTooLarge)?;
    let null = order.len() as u64;
    let mut code_of = vec![0u64; values.len()];
    for (code, index) in order.iter().enumerate() {
        code_of[*index as usize] = code as u64;
    }
    let code = |(i, index): (usize, &u32)| {
        if raw.is_valid(i) { code_of[*index as usize] } else { null }
    };
    let list = segments(indices.iter().enumerate().map(code), indices.len(), segment_rows);
    Ok((Coding::Texts(dictionary), null, null, list))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ints(ty: Type, values: &[Option<i64>]) -> RawColumn {
        RawColumn {
            ty,
            data: RawData::Ints(values.iter().map(|v| v.unwrap_or(7)).collect()),
            valid: values.contains(&None).then(|| values.iter().map(Option::is_some).collect()),
        }
    }

    /// Every coding gives back what was put in, whatever the size of the segments.
    fn check(raw: &RawColumn, expected: &[Value]) -> Column {
        let mut last = None;
        for segment_rows in [1, 3, 64, 1000] {
            let column = Column::encode(raw, segment_rows).expect("encodes");
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
        assert_eq!((column.coding(), column.bits()), (&Coding::Offset { base: 1000, step: 1500 }, 2));
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
        let column = Column::encode(&ints(Type::decimal(1), &[Some(10), Some(30)]), 10).expect("encodes");
        assert_eq!(column.code_of(&Value::Int(1)), Some(0));
        assert_eq!(column.code_of(&Value::Decimal { unscaled: 15, scale: 1 }), None);
        assert_eq!(column.code_of(&Value::Decimal { unscaled: 101, scale: 2 }), None);
        assert_eq!(column.code_of(&Value::Null), Some(column.null_code()));
    }
}
