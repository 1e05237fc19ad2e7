//! Columns without some of their rows.

use std::ops::Range;
use std::sync::Arc;

use super::column::{CodedColumn, Encoding, SEGMENT_ROWS, SegmentBounds};
use super::encode::NumberUse;
use super::raw::RawColumn;
use cubrel_value::threads::map_each;

/// The rows of a table that are kept, the same for all of its columns.
#[derive(Debug)]
pub struct KeptRows {
    /// By segment of the table, the rows in it.
    rows: Vec<Vec<u32>>,
    /// Segments of which so little is left that they become one.
    groups: Vec<Range<usize>>,
    /// The segments that are left.
    cuts: SegmentBounds,
}

impl KeptRows {
    /// The rows of which `keep` is true.
    ///
    /// # Panics
    /// When `keep` is shorter than the segments.
    pub fn new(cuts: &SegmentBounds, keep: &[bool]) -> KeptRows {
        let ranges: Vec<Range<usize>> = cuts.ranges().collect();
        let in_segment = |range: &Range<usize>| {
            let kept = &keep[range.clone()];
            (0..kept.len() as u32).filter(|row| kept[*row as usize]).collect()
        };
        let rows: Vec<Vec<u32>> = map_each(&ranges, in_segment);
        let mut groups: Vec<Range<usize>> = Vec::new();
        let mut room = 0;
        for (i, rows) in rows.iter().enumerate().filter(|(_, rows)| !rows.is_empty()) {
            match groups.last_mut() {
                Some(last) if rows.len() <= room => {
                    last.end = i + 1;
                    room -= rows.len();
                }
                _ => {
                    groups.push(i..i + 1);
                    room = SEGMENT_ROWS.saturating_sub(rows.len());
                }
            }
        }
        let cuts = SegmentBounds::of(groups.iter().map(|group| rows[group.clone()].iter().map(Vec::len).sum()));
        KeptRows { rows, groups, cuts }
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.cuts.rows()
    }
}

impl CodedColumn {
    /// Only the rows that are kept, coded as if there had never been others: no dictionary, bound or count tells of them.
    ///
    /// # Panics
    /// When the rows are those of another table.
    #[must_use]
    pub fn with_rows(&self, kept: &KeptRows) -> CodedColumn {
        let whole = |i: usize| kept.rows[i].len() == self.segment_bounds().range(i).len();
        let segment = |group: &Range<usize>| {
            if group.len() == 1 && whole(group.start) {
                return self.only(group.clone());
            }
            let part = |i: usize| {
                let raw = self.raw_segment(i);
                if whole(i) { raw } else { raw.select(&kept.rows[i]) }
            };
            CodedColumn::of_parts(&group.clone().map(part).collect::<Vec<_>>(), None)
        };
        let parts: Vec<CodedColumn> = map_each(&kept.groups, segment);
        if parts.is_empty() { CodedColumn::empty(self.ty()) } else { CodedColumn::join(parts, NumberUse::as_in(self)) }
    }

    /// The same, made when it is used for the first time.
    #[must_use]
    pub fn with_rows_later(self: &Arc<CodedColumn>, kept: &Arc<KeptRows>) -> CodedColumn {
        let (whole, rows) = (self.clone(), kept.clone());
        CodedColumn::deferred(self.ty(), kept.cuts.clone(), move || whole.verified().with_rows(&rows))
    }

    /// The values of one segment.
    fn raw_segment(&self, i: usize) -> RawColumn {
        match self.encoding() {
            // Of a dictionary only what the segment needs.
            Encoding::Texts(_) => self.only(i..i + 1).raw(),
            _ => {
                let segments = vec![self.segments[i].clone()];
                CodedColumn {
                    cuts: SegmentBounds::of(std::iter::once(self.segment_bounds().range(i).len())),
                    segments,
                    ..self.clone()
                }
                .raw()
            }
        }
    }
}
