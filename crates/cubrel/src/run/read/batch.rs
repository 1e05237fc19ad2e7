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
        let columns = &tables.store.tables[table.0 as usize].columns;
        let segment_rows = columns.first().and_then(|c| c.segments().first()).map_or(1, |s| s.codes.len().max(1));
        let (segment, within) = (start / segment_rows, start % segment_rows);
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
        column.segments().get(self.segment).map_or(0, |s| u64::from(s.codes.bits()) * self.len as u64 / 8)
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
                segment.codes.unpack32(self.within, segment.base as u32, &mut codes);
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
        let target = |i: &u32| self.tables.follow_path(&loose.path, self.start as u32 + i);
        let (code_of, none): (Box<dyn Fn(u32) -> u64>, u64) = match loose.key {
            Key::Column(column) => {
                let data = self.tables.column(column);
                (Box::new(|row| data.code(row as usize)), data.null_code())
            }
            Key::Row(table) => (Box::new(u64::from), self.tables.rows(table) as u64),
            Key::Value(_) => (Box::new(|_| 0), 0),
        };
        positions
            .iter()
            .map(|i| match target(i) {
                NO_ROW => none,
                row => code_of(row),
            })
            .collect()
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
        segment.codes.unpack(self.within, segment.base, &mut codes);
        if self.is_whole(positions) {
            return codes;
        }
        positions.iter().map(|i| codes[*i as usize]).collect()
    }

    fn rows(&self, positions: &[u32]) -> Vec<u32> {
        positions.iter().map(|i| self.start as u32 + i).collect()
    }
}
