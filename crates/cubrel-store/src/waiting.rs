//! Values that wait to be coded, in about as few bits as they need.
//!
//! A segment has a million rows, and while one of them is coded the next is read: as plain values both would take many times what they
//! are coded to. What is packed here is unpacked column by column, just before it is coded.

use super::bits::{PackedInts, bits_for};
use super::raw::{RawColumn, RawData};
use super::texts::TextList;
use cubrel_value::Type;

/// The values of a column, in row order.
pub struct WaitingColumn {
    ty: Type,
    data: WaitingData,
    /// For each row whether it has a value, where any has none.
    valid: Option<PackedInts>,
}

enum WaitingData {
    /// Whole numbers, as distances from the smallest.
    Ints { least: i64, distances: PackedInts },
    /// Doubles have no room to spare.
    Floats(Vec<f64>),
    /// Texts one after the other, and which one each row has.
    Texts { bytes: Vec<u8>, lengths: PackedInts, indices: PackedInts },
}

impl WaitingColumn {
    /// Packs the values of a column.
    pub fn of(raw: RawColumn) -> WaitingColumn {
        let data = match raw.data {
            RawData::Ints(values) => distances(&values),
            RawData::Floats(values) => WaitingData::Floats(values),
            RawData::Texts { values, indices } => {
                let (bytes, lengths) = values.into_lengths();
                let lengths = packed(lengths.iter().map(|length| *length as u64));
                WaitingData::Texts { bytes, lengths, indices: packed(indices.iter().map(|index| u64::from(*index))) }
            }
        };
        let valid = raw.valid.map(|valid| PackedInts::pack(valid.into_iter().map(u64::from), 1));
        WaitingColumn { ty: raw.ty, data, valid }
    }

    /// The values as they were.
    pub fn into_raw(self) -> RawColumn {
        let data = match self.data {
            WaitingData::Ints { least, distances } => {
                RawData::Ints(unpacked(&distances, |distance| least.wrapping_add(distance as i64)))
            }
            WaitingData::Floats(values) => RawData::Floats(values),
            WaitingData::Texts { bytes, lengths, indices } => RawData::Texts {
                values: TextList::from_lengths(bytes, unpacked(&lengths, |length| length as usize)),
                indices: unpacked(&indices, |index| index as u32),
            },
        };
        RawColumn { ty: self.ty, data, valid: self.valid.map(|valid| unpacked(&valid, |bit| bit != 0)) }
    }

    /// Their type.
    pub fn ty(&self) -> Type {
        self.ty
    }

    /// How many rows.
    pub fn rows(&self) -> usize {
        match &self.data {
            WaitingData::Ints { distances, .. } => distances.len(),
            WaitingData::Floats(values) => values.len(),
            WaitingData::Texts { indices, .. } => indices.len(),
        }
    }

    /// What it costs to code, about, so that columns can be compared: texts have to be put in order.
    pub(super) fn weight(&self) -> usize {
        match &self.data {
            WaitingData::Ints { distances, .. } => distances.len(),
            WaitingData::Floats(values) => 2 * values.len(),
            WaitingData::Texts { bytes, indices, .. } => indices.len() + bytes.len(),
        }
    }
}

fn distances(values: &[i64]) -> WaitingData {
    let least = values.iter().copied().min().unwrap_or(0);
    WaitingData::Ints { least, distances: packed(values.iter().map(|v| v.wrapping_sub(least) as u64)) }
}

fn packed(values: impl ExactSizeIterator<Item = u64> + Clone) -> PackedInts {
    PackedInts::pack(values.clone(), bits_for(values.max().unwrap_or(0)))
}

fn unpacked<T: Copy + Default>(packed: &PackedInts, map: impl Fn(u64) -> T + Copy) -> Vec<T> {
    let mut values = vec![T::default(); packed.len()];
    packed.map_rows(0, &mut values, map);
    values
}

#[cfg(test)]
mod tests {
    use super::*;

    fn check(ty: Type, data: RawData) {
        let rows = match &data {
            RawData::Ints(values) => values.len(),
            RawData::Floats(values) => values.len(),
            RawData::Texts { indices, .. } => indices.len(),
        };
        for valid in [None, Some((0..rows).map(|i| i % 3 != 1).collect::<Vec<bool>>())] {
            let raw = RawColumn { ty, data: data.clone(), valid };
            let waiting = WaitingColumn::of(raw.clone());
            assert_eq!((waiting.ty(), waiting.rows()), (ty, rows));
            assert_eq!(format!("{:?}", waiting.into_raw()), format!("{raw:?}"));
        }
    }

    #[test]
    fn what_has_waited_is_what_it_was() {
        for rows in [0, 1, 63, 64, 1000] {
            for (base, step) in [(0, 0), (-5, 1), (i64::MIN, 0), (i64::MAX - 999, 1), (7, 1 << 40)] {
                check(Type::Int, RawData::Ints((0..rows).map(|i| base + i * step).collect()));
            }
            check(Type::Int, RawData::Ints((0..rows).map(|i| if i % 2 == 0 { i64::MIN } else { i64::MAX }).collect()));
            check(Type::Float, RawData::Floats((0..rows).map(|i| i as f64 / 3.0).collect()));
            let indices = || (0..rows as u32).map(|i| i % 5);
            let texts = ["", "Sunna", "Älfsund", "a\nb", ""];
            check(Type::Text, RawData::Texts { values: texts.into_iter().collect(), indices: indices().collect() });
        }
        // A column of nothing but nulls has no texts.
        check(Type::Text, RawData::Texts { values: TextList::default(), indices: vec![0; 70] });
    }
}
