//! Stretches of a segment in which rows can pass. The others lie between codes of which a filter on an own column lets none through
//! (`store/spans.rs`), so that nothing of them is unpacked.

use std::ops::Range;

use super::anchors::AnchorPlan;
use super::prepare::Prepared;
use cubrel_store::spans::{CodeSpan, ROWS_OF_SPAN};

/// Some stretches in batches of at most so many rows.
pub(super) fn in_batches(stretches: &[Range<usize>], most: usize) -> impl Iterator<Item = Range<usize>> + '_ {
    stretches
        .iter()
        .flat_map(move |rows| rows.clone().step_by(most).map(move |start| start..rows.end.min(start + most)))
}

/// How many rows some stretches have.
pub(super) fn rows_of(stretches: &[Range<usize>]) -> u64 {
    stretches.iter().map(|rows| rows.len() as u64).sum()
}

impl Prepared<'_> {
    /// Of some rows of a segment those in which some can pass. They are the same however rows are parted.
    pub(super) fn stretches(&self, segment: usize, rows: Range<usize>) -> Vec<Range<usize>> {
        let Some(bounds) = self.tables.segment_bounds(self.table).filter(|_| self.spans && !rows.is_empty()) else {
            return vec![rows];
        };
        let told = |plan| Some((plan, self.spans_of(plan, segment)?));
        let told: Vec<(&AnchorPlan, (&[CodeSpan], u64))> = self.anchors.iter().filter_map(told).collect();
        if told.is_empty() {
            return vec![rows];
        }
        let start = bounds.range(segment).start;
        let mut stretches: Vec<Range<usize>> = Vec::new();
        for span in (rows.start - start) / ROWS_OF_SPAN..(rows.end - start).div_ceil(ROWS_OF_SPAN) {
            if told.iter().any(|(plan, (spans, null))| plan.passes_over(spans[span], *null)) {
                continue;
            }
            let first = start + span * ROWS_OF_SPAN;
            let these = first.max(rows.start)..(first + ROWS_OF_SPAN).min(rows.end);
            match stretches.last_mut() {
                Some(last) if last.end == these.start => last.end = these.end,
                _ => stretches.push(these),
            }
        }
        stretches
    }

    /// Between which codes the rows of a segment lie, and null's code, where that can tell something of what passes.
    fn spans_of(&self, plan: &AnchorPlan, segment: usize) -> Option<(&[CodeSpan], u64)> {
        let column = plan.filtered_column(self.table).map(|column| self.tables.column(column))?;
        let spans = column.spans(segment);
        (!spans.is_empty()).then(|| (spans, column.null_code()))
    }
}
