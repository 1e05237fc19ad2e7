//! Consecutive rows of one segment, whose codes are unpacked when they are asked for.
//!
//! Where all columns that a read needs stand in runs, an entry of a batch is not a row but a run of rows that are alike
//! in all of them. Whoever works on entries need not know which of the two they are, but for how much each counts.

use std::cell::{Cell, RefCell};
use std::sync::Arc;

use super::super::anchors::{Anchor, BatchCodes, Tables};
use super::prepare::LooseKey;
use crate::formula::schema::{ColumnId, TableId};
use crate::plan::Key;
use crate::store::{Column, NO_ROW, Segment, Target};

/// Consecutive rows of one segment, whose codes are unpacked when they are asked for.
pub(crate) struct Batch<'a> {
    tables: Tables<'a>,
    table: TableId,
    start: usize,
    len: usize,
    segment: usize,
    within: usize,
    /// Where runs end, counted from the first row; `None` where every row is an entry.
    ends: Option<Vec<u32>>,
    /// Codes that were already unpacked.
    unpacked: RefCell<Vec<(Anchor, Arc<Vec<u32>>)>>,
    /// Whether positions can be repeated, so that their number says nothing.
    repeats: Cell<bool>,
}

impl<'a> Batch<'a> {
    pub(crate) fn new(tables: Tables<'a>, table: TableId, start: usize, len: usize) -> Batch<'a> {
        let (segment, within) = tables.cuts(table).map_or((0, start), |cuts| cuts.find(start));
        let unpacked = RefCell::default();
        Batch { tables, table, start, len, segment, within, ends: None, unpacked, repeats: Cell::new(false) }
    }

    /// The same rows, those that are alike in some columns taken together.
    pub(super) fn in_runs(mut self, columns: impl Iterator<Item = u32>) -> Batch<'a> {
        let mut bits = vec![0u64; self.len.div_ceil(64)];
        columns.for_each(|index| self.segment(index).mark_ends(self.within, self.len, &mut bits));
        let mut ends = Vec::new();
        for (word, mut left) in bits.into_iter().enumerate() {
            while left != 0 {
                ends.push(word as u32 * 64 + left.trailing_zeros() + 1);
                left &= left - 1;
            }
        }
        ends.push(self.len as u32);
        self.ends = Some(ends);
        self
    }

    /// How many entries there are.
    pub(super) fn entries(&self) -> usize {
        self.ends.as_ref().map_or(self.len, Vec::len)
    }

    /// How many rows each of some entries stands for; `None` when each is one row.
    pub(super) fn weights(&self, positions: &[u32]) -> Option<Vec<u32>> {
        let ends = self.ends.as_ref()?;
        let weight = |i: &u32| match *i as usize {
            0 => ends[0],
            i => ends[i] - ends[i - 1],
        };
        Some(positions.iter().map(weight).collect())
    }

    fn segment(&self, column: u32) -> &'a Segment {
        &self.tables.column(ColumnId { table: self.table, index: column }).segments()[self.segment]
    }

    /// The number of a row in its table.
    pub(super) fn row(&self, position: u32) -> u32 {
        self.start as u32 + position
    }

    /// From here on rows can stand in several groups.
    pub(super) fn repeat(&self) {
        self.repeats.set(true);
    }

    pub(super) fn is_whole(&self, positions: &[u32]) -> bool {
        positions.len() == self.entries() && !self.repeats.get()
    }

    pub(super) fn packed_bytes(&self, column: u32) -> u64 {
        let segment = self.segment(column);
        (segment.codes.heap_bytes() * self.len / segment.len()) as u64
    }

    /// What `map` gives for the code of an anchor in every entry.
    pub(super) fn map<T: Copy + Default>(&self, anchor: Anchor, out: &mut [T], map: impl Fn(u64) -> T + Copy) {
        match (anchor, &self.ends) {
            (Anchor::Column(index), None) => self.segment(index).map_rows(self.within, out, map),
            (Anchor::Column(index), Some(ends)) => self.segment(index).map_ends(self.within, ends, out, map),
            (Anchor::Row, _) => {
                out.iter_mut().enumerate().for_each(|(i, slot)| *slot = map((self.start + i) as u64));
            }
            (Anchor::Reference(relationship), _) => {
                if let Target::ByRow(packed) = &self.tables.lookup(relationship).target {
                    packed.map_rows(self.start, out, map);
                }
            }
        }
    }

    pub(super) fn unpack(&self, anchor: Anchor) -> Arc<Vec<u32>> {
        if let Some((_, codes)) = self.unpacked.borrow().iter().find(|(a, _)| *a == anchor) {
            return codes.clone();
        }
        let mut codes = vec![0u32; self.entries()];
        self.map(anchor, &mut codes, |code| code as u32);
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

    fn column(&self, _: &Column, index: u32, positions: &[u32]) -> Vec<u64> {
        let mut codes = vec![0u64; self.entries()];
        self.map(Anchor::Column(index), &mut codes, |code| code);
        if self.is_whole(positions) {
            return codes;
        }
        positions.iter().map(|i| codes[*i as usize]).collect()
    }

    fn rows(&self, positions: &[u32]) -> Vec<u32> {
        positions.iter().map(|i| self.start as u32 + i).collect()
    }
}
