//! Segments that need not be gone through: no row is dropped, there is one group, and all that is asked for is known of all rows
//! together (`store/totals.rs`).

use super::super::accumulate::{Entries, Groups, Input};
use super::inputs::{CodeSource, Feed};
use super::parts::PartResult;
use super::prepare::Prepared;
use cubrel_formula::schema::ColumnId;
use cubrel_formula::typed::AggregateKind;
use cubrel_store::SegmentTotal;

impl Prepared<'_> {
    /// By segment whether it is known what its rows come to; empty where nothing of that kind is to be had.
    pub(super) fn known_segments(&self) -> Vec<bool> {
        let Some(bounds) = self.tables.segment_bounds(self.table).filter(|_| self.wants_totals()) else {
            return Vec::new();
        };
        let all_pass =
            |segment: usize| self.anchors.iter().all(|plan| plan.lets_all_through(self.tables, self.table, segment));
        let known: Vec<bool> = (0..bounds.count()).map(all_pass).collect();
        if known.contains(&true) { known } else { Vec::new() }
    }

    /// Whether a row is asked for nothing but what is known of many together.
    fn wants_totals(&self) -> bool {
        let plain = self.loose.is_empty() && self.bridges.is_empty() && self.row_filters.is_empty();
        let by_itself = self.narrowed.is_empty() && self.wanted && self.is_one_group();
        self.totals && plain && by_itself && (0..self.own).all(|place| self.is_known(place))
    }

    /// Whether an aggregate asks for nothing but what is known of all rows of a segment together.
    fn is_known(&self, place: usize) -> bool {
        use AggregateKind::{Avg, Count, Max, Min, Rows, Sum};
        let (spec, feed) = &self.aggregates[place];
        match (spec.kind, feed) {
            (Rows, _) | (Count, Feed::Rows) => true,
            (Count | Min | Max, Feed::Codes(CodeSource { far: None, .. })) | (Count, Feed::As(_)) | (Sum | Avg, _) => {
                self.of_columns[place].is_some()
            }
            _ => false,
        }
    }

    /// What the rows of these segments come to.
    pub(super) fn known_rows(&self, known: &[bool]) -> PartResult {
        let mut part = self.nothing_seen();
        let Some(bounds) = self.tables.segment_bounds(self.table) else { return part };
        let entries = Entries::from(Groups::One);
        for segment in (0..known.len()).filter(|segment| known[*segment]) {
            let rows = bounds.range(segment).len();
            part.seen[0].stats.rows_passed += rows as u64;
            part.seen[0].groups[0] = true;
            for ((column, to), (_, feed)) in self.of_columns.iter().zip(&mut part.accumulators).zip(&self.aggregates) {
                match column {
                    _ if matches!(feed, Feed::As(_)) => {}
                    None => to.add(entries, &Input::Rows(rows)),
                    Some(column) => to.add(entries, &Input::Total(self.total(*column, segment))),
                }
            }
        }
        part
    }

    fn total(&self, column: u32, segment: usize) -> &SegmentTotal {
        &self.tables.column(ColumnId { table: self.table, index: column }).totals()[segment]
    }
}
