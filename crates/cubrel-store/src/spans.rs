//! The smallest and the largest code of every few thousand rows, so that rows are passed over of which a filter lets none through.
//! They are worth something where rows stand in an order that goes with their values, as days do in a table that grows; where they do
//! not, a few of them tell that, and the rest is never looked for. (After the "small materialized aggregates" of G. Moerkotte, VLDB 1998.)

use std::sync::OnceLock;

use super::codes::Segment;

/// Rows of a span; the last one of a segment may have fewer.
pub const ROWS_OF_SPAN: usize = 1 << 12;

/// So many of a segment's spans are looked at first.
const LOOKED_AT: usize = 8;
/// They are to be, in the mean, at least so many times narrower than the segment.
const NARROWER: u128 = 4;

/// Between which codes some consecutive rows lie.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CodeSpan {
    /// The smallest code but null's; greater than the largest where all rows are null.
    pub low: u64,
    /// The largest code but null's.
    pub high: u64,
    /// Whether rows are null.
    pub has_null: bool,
}

impl CodeSpan {
    fn of(codes: &[u64], null: u64) -> CodeSpan {
        codes.iter().fold(CodeSpan { low: u64::MAX, high: 0, has_null: false }, |span, code| match *code == null {
            true => CodeSpan { has_null: true, ..span },
            false => CodeSpan { low: span.low.min(*code), high: span.high.max(*code), ..span },
        })
    }

    fn width(self) -> u128 {
        (u128::from(self.high) + 1).saturating_sub(u128::from(self.low))
    }
}

/// The spans of a column's segments, found when they are asked for the first time. A copy knows none: it is made to become another
/// column.
#[derive(Debug, Default)]
pub(super) struct Spans(OnceLock<Vec<OnceLock<Vec<CodeSpan>>>>);

impl Clone for Spans {
    fn clone(&self) -> Spans {
        Spans::default()
    }
}

impl Spans {
    /// The spans of one of some segments, in the order of its rows; none where they say little more than the segment does. `null` is the
    /// code of null.
    pub(super) fn of(&self, segments: &[Segment], segment: usize, null: u64) -> &[CodeSpan] {
        let all = self.0.get_or_init(|| segments.iter().map(|_| OnceLock::new()).collect());
        all[segment].get_or_init(|| found(&segments[segment], null))
    }
}

fn found(segment: &Segment, null: u64) -> Vec<CodeSpan> {
    let count = segment.len().div_ceil(ROWS_OF_SPAN);
    if count < 2 || segment.base == segment.max {
        return Vec::new();
    }
    let mut codes = [0u64; ROWS_OF_SPAN];
    let mut span = |number: usize| {
        let start = number * ROWS_OF_SPAN;
        let some = &mut codes[..ROWS_OF_SPAN.min(segment.len() - start)];
        segment.unpack(start, some);
        CodeSpan::of(some, null)
    };
    let looked_at: Vec<CodeSpan> = (0..count).step_by(count.div_ceil(LOOKED_AT)).map(&mut span).collect();
    // Null's code, which comes after all others, is not to make the segment seem wider.
    let (low, high) = looked_at.iter().fold((u64::MAX, 0), |(low, high), s| (low.min(s.low), high.max(s.high)));
    let together = CodeSpan { low, high, has_null: false }.width() * looked_at.len() as u128;
    if looked_at.iter().map(|span| span.width()).sum::<u128>() * NARROWER > together {
        return Vec::new();
    }
    (0..count).map(span).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{CodedColumn, RawColumn, RawData};
    use cubrel_value::Type;

    const ROWS: usize = 50 * ROWS_OF_SPAN + 77;

    fn column(value: impl Fn(usize) -> i64, nulls: usize, segment_rows: usize) -> CodedColumn {
        let data = RawData::Ints((0..ROWS).map(value).collect());
        let valid = (0..ROWS).map(|row| nulls == 0 || row % nulls != 0).collect();
        CodedColumn::encode(&RawColumn { ty: Type::Int, data, valid: Some(valid) }, segment_rows)
    }

    #[test]
    fn spans_are_what_their_rows_say_and_are_there_where_rows_are_in_order() {
        let noise = |row: usize| (row.wrapping_mul(0x9E37_79B9) >> 7) as i64 % 5000;
        let values: [(bool, &dyn Fn(usize) -> i64); 6] = [
            (true, &|row| row as i64),
            (true, &|row| noise(row) - 2 * row as i64),
            (true, &|row| row as i64 / 900),
            (true, &|row| row as i64 / 3000 * 1000 + i64::from(row % 30 == 0)),
            (false, &|row| noise(row) * 7),
            (false, &|_| 5),
        ];
        for (i, (is_ordered, value)) in values.into_iter().enumerate() {
            for (nulls, segment_rows) in
                [(0, ROWS), (50, ROWS), (2, ROWS), (1, ROWS), (0, 20 * ROWS_OF_SPAN + 5), (3, 900)]
            {
                let column = column(value, nulls, segment_rows);
                let mut seen = 0;
                for (number, range) in column.segment_bounds().ranges().enumerate() {
                    let codes: Vec<u64> = range.map(|row| column.code(row)).collect();
                    let expected = codes.chunks(ROWS_OF_SPAN).map(|some| {
                        let there = || some.iter().copied().filter(|code| *code != column.null_code());
                        let (low, high) = (there().min().unwrap_or(u64::MAX), there().max().unwrap_or(0));
                        CodeSpan { low, high, has_null: there().count() < some.len() }
                    });
                    let spans = column.spans(number);
                    assert!(spans.is_empty() || spans.iter().copied().eq(expected), "values {i}, nulls {nulls}");
                    seen += spans.len();
                }
                let is_told = is_ordered && nulls != 1 && segment_rows > ROWS_OF_SPAN;
                let count: usize =
                    column.segment_bounds().ranges().map(|range| range.len().div_ceil(ROWS_OF_SPAN)).sum();
                assert_eq!(
                    seen,
                    if is_told { count } else { 0 },
                    "values {i}, nulls {nulls}, segments of {segment_rows}"
                );
            }
        }
    }
}
