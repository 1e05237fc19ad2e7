//! Values of a column before they are coded: what loading fills and what calculated columns give.

use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

use super::texts::TextList;
use cubrel_value::{Data, Type, Vector};

/// The values of one column, in row order.
#[derive(Clone, Debug)]
pub struct RawColumn {
    /// Their type.
    pub ty: Type,
    /// The values; what stands under a null is not looked at.
    pub data: RawData,
    /// Which are not null; `None` when all are valid.
    pub valid: Option<Vec<bool>>,
}

/// How the values are held.
#[derive(Clone, Debug)]
pub enum RawData {
    /// Exact numbers, dates, timestamps; truth values as 0 and 1.
    Ints(Vec<i64>),
    /// Doubles.
    Floats(Vec<f64>),
    /// Text: values in any order, and for each row which one.
    Texts {
        /// The values; one may stand there twice.
        values: TextList,
        /// For each row, its value's place.
        indices: Vec<u32>,
    },
}

impl RawColumn {
    /// Some of the rows, in the order given.
    ///
    /// # Panics
    /// When there is no such row.
    #[must_use]
    pub fn select(&self, rows: &[u32]) -> RawColumn {
        let at = |i: &u32| *i as usize;
        let data = match &self.data {
            RawData::Ints(v) => RawData::Ints(rows.iter().map(|i| v[at(i)]).collect()),
            RawData::Floats(v) => RawData::Floats(rows.iter().map(|i| v[at(i)]).collect()),
            RawData::Texts { values, indices } => {
                RawData::Texts { values: values.clone(), indices: rows.iter().map(|i| indices[at(i)]).collect() }
            }
        };
        let valid = self.valid.as_ref().map(|v| rows.iter().map(|i| v[at(i)]).collect());
        RawColumn { ty: self.ty, data, valid }
    }

    /// How many rows.
    pub fn len(&self) -> usize {
        match &self.data {
            RawData::Ints(v) => v.len(),
            RawData::Floats(v) => v.len(),
            RawData::Texts { indices, .. } => indices.len(),
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// Some of the rows.
    ///
    /// # Panics
    /// When there are not so many.
    #[must_use]
    pub fn part(&self, range: Range<usize>) -> RawColumn {
        let data = match &self.data {
            RawData::Ints(v) => RawData::Ints(v[range.clone()].to_vec()),
            RawData::Floats(v) => RawData::Floats(v[range.clone()].to_vec()),
            RawData::Texts { values, indices } => {
                RawData::Texts { values: values.clone(), indices: indices[range.clone()].to_vec() }
            }
        };
        RawColumn { ty: self.ty, data, valid: self.valid.as_ref().map(|v| v[range].to_vec()) }
    }

    /// The values, where they are whole numbers.
    pub(super) fn ints(&self) -> Option<&[i64]> {
        if let RawData::Ints(values) = &self.data { Some(values) } else { None }
    }

    /// The values, where they are doubles.
    pub(super) fn floats(&self) -> Option<&[f64]> {
        if let RawData::Floats(values) = &self.data { Some(values) } else { None }
    }

    /// The texts and which one each row has, where they are texts.
    pub(super) fn texts(&self) -> Option<(&TextList, &[u32])> {
        if let RawData::Texts { values, indices } = &self.data { Some((values, indices)) } else { None }
    }

    /// Whether the value at `i` is not null.
    #[cfg(any(test, feature = "internals"))]
    pub fn is_valid(&self, i: usize) -> bool {
        self.valid.as_ref().is_none_or(|v| v[i])
    }

    /// The rows at `positions`, as a batch.
    pub fn vector(&self, positions: &[u32]) -> Vector {
        let at = |i: &u32| *i as usize;
        let data = match (&self.data, self.ty) {
            (RawData::Ints(v), Type::Bool) => Data::Bool(positions.iter().map(|i| v[at(i)] != 0).collect()),
            (RawData::Ints(v), _) => Data::I64(positions.iter().map(|i| v[at(i)]).collect()),
            (RawData::Floats(v), _) => Data::F64(positions.iter().map(|i| v[at(i)]).collect()),
            (RawData::Texts { values, indices }, _) => {
                let mut shared: HashMap<u32, Arc<str>, foldhash::fast::RandomState> = HashMap::default();
                let text = |i: &u32| {
                    let index = indices[at(i)];
                    // A column of nothing but nulls has no texts.
                    let make =
                        || Arc::from(if (index as usize) < values.len() { values.get(index as usize) } else { "" });
                    shared.entry(index).or_insert_with(make).clone()
                };
                Data::Text(positions.iter().map(text).collect())
            }
        };
        let valid = self.valid.as_ref().map(|v| positions.iter().map(|i| v[at(i)]).collect());
        Vector { data, valid }
    }

    /// The values of a batch; `Err` with the row and its number when one does not fit 64 bits.
    pub fn from_vector(vector: Vector, ty: Type) -> Result<RawColumn, (usize, i128)> {
        let valid = vector.valid;
        let is_valid = |i: usize| valid.as_ref().is_none_or(|v: &Vec<bool>| v[i]);
        let data = match vector.data {
            Data::I64(v) => RawData::Ints(v),
            Data::I128(v) => {
                let mut values = Vec::with_capacity(v.len());
                for (i, v) in v.into_iter().enumerate() {
                    match i64::try_from(v) {
                        Ok(v) => values.push(v),
                        Err(_) if is_valid(i) => return Err((i, v)),
                        Err(_) => values.push(0),
                    }
                }
                RawData::Ints(values)
            }
            Data::F64(v) => RawData::Floats(v),
            Data::Bool(v) => RawData::Ints(v.into_iter().map(i64::from).collect()),
            Data::Text(v) => texts(&v),
        };
        Ok(RawColumn { ty, data, valid })
    }
}

/// Distinct texts in order of appearance, and which one each row has.
fn texts(rows: &[Arc<str>]) -> RawData {
    let mut places: HashMap<&str, u32, foldhash::fast::RandomState> = HashMap::default();
    let mut values = TextList::default();
    let indices = rows
        .iter()
        .map(|t| {
            *places.entry(t).or_insert_with(|| {
                values.push(t);
                values.len() as u32 - 1
            })
        })
        .collect();
    RawData::Texts { values, indices }
}
