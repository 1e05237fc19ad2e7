//! Consecutive rows of one segment, whose codes are unpacked when they are asked for.

use std::cell::{Cell, RefCell};
use std::sync::Arc;

use super::super::anchors::{Anchor, BatchCodes, Tables};
use super::prepare::LooseKey;
use crate::formula::schema::{ColumnId, TableId};
use crate::plan::Key;
use crate::store::{Column, NO_ROW, Target};

/// Consecutive rows of one segment, whose codes are unpacked when they are asked for.
pub(crate) struct Batch<'a> {
    tables: Tables<'a>,
    table: TableId,
    start: usize,
    len: usize,
    segment: usize,
    within: usize,
    /// Codes that were already unpacked.
    unpacked: RefCell<Vec<(Anchor, Arc<Vec<u32>>)>>,
    /// Whether positions can be repeated, so that their number says nothing.
    repeats: Cell<bool>,
}

impl<'a> Batch<'a> {
    pub(crate) fn new(tables: Tables<'a>, table: TableId, start: usize, len: usize) -> Batch<'a> {
        let (segment, within) = tables.cuts(table).map_or((0, start), |cuts| cuts.find(start));
        Batch { tables, table, start, len, segment, within, unpacked: Default::default(), repeats: Cell::new(false) }
    }

    /// The number of a row in its table.
    pub(super) fn row(&self, position: u32) -> u32 {
        self.start as u32 + position
    }

    /// From here on rows can stand in several groups.
    pub(super) fn repeat(&self) {
        self.repeats.set(true);
    }

    fn is_whole(&self, positions: &[u32]) -> bool {
        positions.len() == self.len && !self.repeats.get()
    }

    pub(super) fn packed_bytes(&self, column: u32) -> u64 {
        let column = self.tables.column(ColumnId { table: self.table, index: column });
        column.segments().get(self.segment).map_or(0, |s| (s.codes.heap_bytes() * self.len / s.len()) as u64)
    }

    pub(super) fn unpack(&self, anchor: Anchor) -> Arc<Vec<u32>> {
        if let Some((_, codes)) = self.unpacked.borrow().iter().find(|(a, _)| *a == anchor) {
            return codes.clone();
        }
        let mut codes = vec![0u32; self.len];
        match anchor {
            Anchor::Row => codes.iter_mut().enumerate().for_each(|(i, c)| *c = (self.start + i) as u32),
            Anchor::Reference(relationship) => {
                if let Target::ByRow(packed) = &self.tables.lookup(relationship).target {
                    packed.unpack32(self.start, 0, &mut codes);
                }
            }
            Anchor::Column(index) => {
                let column = self.tables.column(ColumnId { table: self.table, index });
                let segment = &column.segments()[self.segment];
                segment.unpack32(self.within, &mut codes);
            }
        }
        let codes = Arc::new(codes);
        self.unpacked.borrow_mut().push((anchor, codes.clone()));
        codes
    }

    /// The codes of a key that has too many for an array.
    pub(super) fn key_codes(&self, loose: &LooseKey, positions: &[u32]) -> Vec<u64> {
        if let (Key::Column(column), true) = (loose.key, loose.path.is_empty()) {
            return self.column(self.tables.column(column), column.index, positions);
        }
        let rows = self.tables.follow_path(&loose.path, self.rows(positions));
        match loose.key {
            Key::Column(column) => self.tables.column(column).codes_at(&rows),
            Key::Row(table) => {
                let none = self.tables.rows(table) as u64;
                rows.into_iter().map(|row| if row == NO_ROW { none } else { u64::from(row) }).collect()
            }
            Key::Value(_) => vec![0; rows.len()],
        }
    }
}

impl BatchCodes for Batch<'_> {
    fn anchor(&self, anchor: Anchor, positions: &[u32]) -> Arc<Vec<u32>> {
        let codes = self.unpack(anchor);
        if self.is_whole(positions) {
            return codes;
        }
        Arc::new(positions.iter().map(|i| codes[*i as usize]).collect())
    }

    fn column(&self, column: &Column, _: u32, positions: &[u32]) -> Vec<u64> {
        let segment = &column.segments()[self.segment];
        let mut codes = vec![0u64; self.len];
        segment.unpack(self.within, &mut codes);
        if self.is_whole(positions) {
            return codes;
        }
        positions.iter().map(|i| codes[*i as usize]).collect()
    }

    fn rows(&self, positions: &[u32]) -> Vec<u32> {
        positions.iter().map(|i| self.start as u32 + i).collect()
    }
}
