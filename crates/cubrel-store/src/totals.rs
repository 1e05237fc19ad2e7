//! What the rows of a segment come to together, so that whoever asks for all of them need not go through them again.

use std::sync::{Arc, OnceLock};

use super::codes::{Codes, Segment};

/// Rows that are unpacked together.
const ROWS: usize = 1 << 12;

/// The rows of one segment together.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SegmentTotal {
    /// How many are not null.
    pub count: u64,
    /// Of these the smallest and the largest code; where all are null, the first is the larger one.
    pub codes: (u64, u64),
    /// What they add up to, where they are numbers.
    pub sum: Option<TotalSum>,
}

/// A sum of numbers as they are stored.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum TotalSum {
    /// Of whole numbers, or of decimals in units of their last digit.
    Exact(i128),
    /// Of doubles.
    Float(f64),
}

/// The totals of a column's segments, found when they are asked for the first time. A copy knows none: it is made to become
/// another column.
#[derive(Debug, Default)]
pub(super) struct Totals(OnceLock<Arc<[SegmentTotal]>>);

impl Clone for Totals {
    fn clone(&self) -> Totals {
        Totals::default()
    }
}

impl Totals {
    /// Totals that are known.
    pub(super) fn known(totals: Vec<SegmentTotal>) -> Totals {
        Totals(OnceLock::from(Arc::from(totals)))
    }

    /// The totals; `find` gives them where they are not known yet.
    pub(super) fn get_or_find(&self, find: impl FnOnce() -> Arc<[SegmentTotal]>) -> &[SegmentTotal] {
        self.0.get_or_init(find)
    }
}

/// What a code is worth where codes are added up.
#[derive(Clone, Copy)]
pub(super) enum Worth<I: Fn(u64) -> i64, F: Fn(u64) -> f64> {
    /// It is not to be added up.
    Nothing,
    /// `base + code × step`
    Line { base: i64, step: u64 },
    /// A whole number.
    Int(I),
    /// A double.
    Float(F),
}

impl SegmentTotal {
    /// Goes through the rows of a segment; `null` is the code of null.
    pub(super) fn of(
        segment: &Segment,
        null: u64,
        worth: Worth<impl Fn(u64) -> i64, impl Fn(u64) -> f64>,
    ) -> SegmentTotal {
        let mut total = SegmentTotal { count: 0, codes: (u64::MAX, 0), sum: None };
        let (mut sum_of_codes, mut ints, mut floats) = (0u128, 0i128, 0.0);
        each_code(segment, |code, rows| {
            if code == null {
                return;
            }
            total.count += rows;
            total.codes = (total.codes.0.min(code), total.codes.1.max(code));
            match &worth {
                Worth::Line { .. } => sum_of_codes += u128::from(code) * u128::from(rows),
                Worth::Int(of) => ints += i128::from(of(code)) * i128::from(rows),
                Worth::Float(of) => floats += of(code) * rows as f64,
                Worth::Nothing => {}
            }
        });
        total.sum = match worth {
            Worth::Nothing => None,
            Worth::Int(_) => Some(TotalSum::Exact(ints)),
            Worth::Float(_) => Some(TotalSum::Float(floats)),
            // A segment has 2^20 rows at the most, and no value has more than 64 bits.
            Worth::Line { base, step } => {
                let from_base = sum_of_codes as i128 * i128::from(step);
                Some(TotalSum::Exact(i128::from(base) * i128::from(total.count) + from_base))
            }
        };
        total
    }
}

/// Calls `visit` with codes in their order, and how many rows have each.
fn each_code(segment: &Segment, mut visit: impl FnMut(u64, u64)) {
    if matches!(segment.codes, Codes::Runs { .. }) || segment.base == segment.max {
        let (ends, codes) = segment.runs_within(0, segment.len());
        let mut start = 0;
        for (end, code) in ends.into_iter().zip(codes) {
            visit(code, u64::from(end - start));
            start = end;
        }
        return;
    }
    let mut codes = [0u64; ROWS];
    for start in (0..segment.len()).step_by(ROWS) {
        let some = &mut codes[..ROWS.min(segment.len() - start)];
        segment.unpack(start, some);
        some.iter().for_each(|code| visit(*code, 1));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{CodedColumn, RawColumn, RawData};
    use cubrel_value::{Type, Value};

    /// Columns of numbers in each form of codes, with some nulls, none, and nothing else; some with a list of their values.
    fn columns() -> Vec<CodedColumn> {
        let noise = |i: i64| (i.wrapping_mul(0x9E37_79B9_7F4A_7C15_u64 as i64) >> 40) - 1000;
        let values: [fn(i64, i64) -> i64; 5] = [
            |_, noise| noise % 5 * 100_003 * (noise % 3),
            |_, noise| noise * 3,
            |i, _| i / 70,
            |i, noise| if i % 61 == 0 { noise } else { 4 },
            |i, _| i - 300,
        ];
        let mut columns = Vec::new();
        for value in values {
            for nulls in [0, 3, 1] {
                let valid: Vec<bool> = (0..3000).map(|i| nulls == 0 || i % nulls != 0).collect();
                let ints: Vec<i64> = (0..3000).map(|i| value(i, noise(i))).collect();
                let floats = ints.iter().map(|v| *v as f64 / 4.0).collect();
                for data in [(Type::Int, RawData::Ints(ints)), (Type::Float, RawData::Floats(floats))] {
                    let raw = RawColumn { ty: data.0, data: data.1, valid: (nulls > 0).then(|| valid.clone()) };
                    columns.push(CodedColumn::encode(&raw, 700));
                }
            }
        }
        columns
    }

    #[test]
    fn totals_are_what_the_rows_say_one_by_one() {
        for column in columns() {
            assert_eq!(column.totals().len(), column.segment_bounds().count());
            for (range, total) in column.segment_bounds().ranges().zip(column.totals()) {
                let codes: Vec<u64> = range.map(|row| column.code(row)).filter(|c| *c != column.null_code()).collect();
                let values: Vec<Value> = codes.iter().map(|code| column.value_of(*code)).collect();
                assert_eq!(total.count, codes.len() as u64);
                let extent = (codes.iter().min().copied(), codes.iter().max().copied());
                let told = (total.count > 0).then_some(total.codes);
                assert_eq!((told.map(|c| c.0), told.map(|c| c.1)), extent);
                match total.sum {
                    Some(TotalSum::Exact(sum)) => {
                        assert_eq!(sum, values.iter().filter_map(|v| v.as_exact(0)).sum::<i128>());
                    }
                    // Quarters of small numbers are added up without any rounding.
                    Some(TotalSum::Float(sum)) => {
                        assert_eq!(sum, values.iter().filter_map(Value::as_f64).sum::<f64>());
                    }
                    None => panic!("numbers have a sum"),
                }
            }
        }
    }
}
