//! Consecutive rows of one segment, whose codes are unpacked when they are asked for.
//!
//! Where all columns that a read needs stand in runs, an entry of a batch is not a row but a run of rows that are alike
//! in all of them. Whoever works on entries need not know which of the two they are, but for how much each counts.

use std::cell::{Cell, RefCell};
use std::sync::Arc;

use super::super::coded_numbers::{Floats, Ints, SomeInts};
use super::super::compiled::BatchCodes;
use super::super::tables::{Anchor, Tables};
use super::keys::UnindexedKey;
use cubrel_formula::schema::{ColumnId, TableId};
use cubrel_plan::Key;
use cubrel_store::{CodedColumn, FloatLine, LookupRows, NO_ROW, Segment};

/// Rows of a batch: small enough for the caches, large enough to hide what a batch costs by itself.
pub(super) const BATCH: usize = 4096;
/// Rows of a batch in which rows that are alike are taken together.
pub(super) const RUN_BATCH: usize = 1 << 15;
/// One of so many rows, or fewer, are looked at one by one: reaching for one costs about as much as unpacking three.
pub(super) const FEW: usize = 4;

/// Consecutive rows of one segment, whose codes are unpacked when they are asked for.
pub(crate) struct Batch<'a> {
    tables: Tables<'a>,
    table: TableId,
    start: usize,
    len: usize,
    segment: usize,
    within: usize,
    /// Where entries end, counted from the first row; `None` where every row is an entry.
    ends: Option<Vec<u32>>,
    /// Then by column where its runs end, and their codes.
    runs: Vec<(u32, Vec<u32>, Vec<u64>)>,
    /// Codes that were already unpacked.
    unpacked: RefCell<Vec<(Anchor, Arc<Vec<u32>>)>>,
    /// Whether positions can be repeated, so that their number says nothing.
    repeats: Cell<bool>,
}

impl<'a> Batch<'a> {
    pub(crate) fn new(tables: Tables<'a>, table: TableId, start: usize, len: usize) -> Batch<'a> {
        let (segment, within) = tables.segment_bounds(table).map_or((0, start), |cuts| cuts.find(start));
        let unpacked = RefCell::default();
        Batch {
            tables,
            table,
            start,
            len,
            segment,
            within,
            ends: None,
            runs: Vec::new(),
            unpacked,
            repeats: Cell::new(false),
        }
    }

    /// The same rows, those that are alike in some columns taken together.
    pub(super) fn in_runs(mut self, columns: impl Iterator<Item = u32>) -> Batch<'a> {
        self.runs = columns
            .map(|index| {
                let (ends, codes) = self.segment(index).runs_within(self.within, self.len);
                (index, ends, codes)
            })
            .collect();
        let varying: Vec<&[u32]> =
            self.runs.iter().map(|(_, ends, _)| ends.as_slice()).filter(|ends| ends.len() > 1).collect();
        self.ends = Some(match varying.as_slice() {
            [] => vec![self.len as u32],
            [only] => only.to_vec(),
            several => merged(several, self.len),
        });
        self
    }

    /// How many entries there are.
    pub(super) fn entries(&self) -> usize {
        self.ends.as_ref().map_or(self.len, Vec::len)
    }

    pub(super) fn is_in_runs(&self) -> bool {
        self.ends.is_some()
    }

    /// The number of the rows' segment.
    pub(super) fn segment_number(&self) -> usize {
        self.segment
    }

    /// How many rows the segment has.
    pub(super) fn segment_rows(&self) -> usize {
        self.tables.segment_bounds(self.table).map_or(self.len, |cuts| cuts.range(self.segment).len())
    }

    /// For each row the entry that it belongs to.
    pub(super) fn entry_of_rows(&self) -> Vec<u32> {
        let Some(ends) = &self.ends else { return (0..self.len as u32).collect() };
        let mut entries = vec![0; self.len];
        let mut start = 0;
        for (entry, end) in ends.iter().enumerate() {
            entries[start..*end as usize].fill(entry as u32);
            start = *end as usize;
        }
        entries
    }

    /// Where entries end, if they are runs.
    pub(super) fn ends(&self) -> &[u32] {
        self.ends.as_deref().unwrap_or_default()
    }

    /// The rows of some entries, and behind which of these rows each entry ends.
    pub(super) fn rows_of(&self, entries: &[u32]) -> (Vec<u32>, Vec<u32>) {
        let ends = self.ends();
        let mut rows = Vec::with_capacity(self.len);
        let up_to = |entry: &u32| {
            let start = entry.checked_sub(1).map_or(0, |before| ends[before as usize]);
            rows.extend(start..ends[*entry as usize]);
            rows.len() as u32
        };
        let run_ends = entries.iter().map(up_to).collect();
        (rows, run_ends)
    }

    /// A batch of the same rows, those that are alike in some columns taken together.
    pub(super) fn again_in_runs(&self, columns: impl Iterator<Item = u32>) -> Batch<'a> {
        Batch::new(self.tables, self.table, self.start, self.len).in_runs(columns)
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

    /// What `map` gives for the code of an anchor in every entry.
    pub(crate) fn map<T: Copy + Default>(&self, anchor: Anchor, out: &mut [T], map: impl Fn(u64) -> T + Copy) {
        self.map_from(anchor, 0, out, map);
    }

    /// The same for entries from one on, which is the first where they are not rows.
    fn map_from<T: Copy + Default>(&self, anchor: Anchor, from: usize, out: &mut [T], map: impl Fn(u64) -> T + Copy) {
        let start = self.start + from;
        match (anchor, &self.ends) {
            (Anchor::Column(index), None) => self.segment(index).map_rows(self.within + from, out, map),
            (Anchor::Column(index), Some(ends)) => self.map_entries(index, ends, out, map),
            (Anchor::Row, _) => out.iter_mut().enumerate().for_each(|(i, slot)| *slot = map((start + i) as u64)),
            (Anchor::Reference(relationship), _) => {
                if let LookupRows::ByRow(packed) = &self.tables.lookup(relationship).target {
                    packed.map_rows(start, out, map);
                }
            }
        }
    }

    /// The same with `narrow` for codes of 32 bits, of which eight are looked at together where it allows; `wide` is the same for all.
    pub(super) fn map_narrow<T: Copy + Default>(
        &self,
        anchor: Anchor,
        out: &mut [T],
        narrow: impl Fn(u32) -> T + Copy,
        wide: impl Fn(u64) -> T + Copy,
    ) {
        match (anchor, &self.ends) {
            (Anchor::Column(index), None) => self.segment(index).map_narrow(self.within, out, narrow, wide),
            _ => self.map(anchor, out, wide),
        }
    }

    /// What `map` gives for the code of an anchor in some entries, where these are so few that they are looked at one by
    /// one: what has not passed costs nothing more.
    fn map_few<T: Copy>(&self, anchor: Anchor, positions: &[u32], map: impl Fn(u64) -> T) -> Option<Vec<T>> {
        if self.ends.is_some() || positions.len() * FEW >= self.len {
            return None;
        }
        match anchor {
            Anchor::Column(index) => self.segment(index).map_some(self.within, positions, map),
            Anchor::Row => Some(positions.iter().map(|i| map((self.start + *i as usize) as u64)).collect()),
            Anchor::Reference(relationship) => match &self.tables.lookup(relationship).target {
                LookupRows::ByRow(packed) => Some(packed.map_some(self.start, positions, map)),
                LookupRows::ByCode(_) => None,
            },
        }
    }

    /// Whole numbers by the code of an anchor in some entries, where these are few.
    pub(super) fn few_ints(&self, anchor: Anchor, ints: Ints<'_>, positions: &[u32]) -> Option<Vec<i64>> {
        self.map_few(anchor, positions, |code| ints.of(code))
    }

    /// Whole numbers by the code of an anchor in every entry.
    pub(super) fn ints_of(&self, anchor: Anchor, ints: Ints<'_>, out: &mut [i64]) {
        self.ints_from(anchor, ints, 0, out);
    }

    fn ints_from(&self, anchor: Anchor, ints: Ints<'_>, from: usize, out: &mut [i64]) {
        match ints {
            Ints::ByCode(values) => self.map_from(anchor, from, out, |code| values[code as usize]),
            // Vectors multiply 32 bits at once, and 64 in many steps.
            Ints::Line { base, step: 1, .. } => {
                self.map_from(anchor, from, out, |code| base.wrapping_add(code as i64));
            }
            Ints::Line { base, step, last } if is_narrow_line(base, step, last) => {
                let step = step as i32;
                self.map_from(anchor, from, out, |code| base.wrapping_add(i64::from(code as i32) * i64::from(step)));
            }
            Ints::Line { base, step, .. } => {
                self.map_from(anchor, from, out, |code| base.wrapping_add((code as i64).wrapping_mul(step)));
            }
            Ints::Steps(steps) => {
                let steps = *steps;
                self.map_from(anchor, from, out, move |code| steps.of(code));
            }
        }
    }

    /// Doubles by the code of an anchor in some entries, where these are few.
    pub(super) fn few_floats(&self, anchor: Anchor, floats: Floats<'_>, positions: &[u32]) -> Option<Vec<f64>> {
        match floats {
            Floats::ByCode(values) => self.map_few(anchor, positions, |code| values[code as usize]),
            Floats::Line(line) => self.map_few(anchor, positions, |code| line.of(code)),
        }
    }

    /// Doubles by the code of an anchor in every entry.
    pub(super) fn floats_of(&self, anchor: Anchor, floats: Floats<'_>, out: &mut [f64]) {
        self.floats_from(anchor, floats, 0, out);
    }

    /// Doubles by the code of an anchor in entries from one on, which is the first where they are not rows.
    pub(super) fn floats_from(&self, anchor: Anchor, floats: Floats<'_>, from: usize, out: &mut [f64]) {
        match floats {
            Floats::ByCode(values) => self.map_from(anchor, from, out, |code| values[code as usize]),
            // What the digits are is decided once, not for each value; and nothing is multiplied by 1.
            Floats::Line(line @ FloatLine { digits: Some(digits), .. }) => {
                self.map_from(anchor, from, out, |code| FloatLine { digits: Some(digits), ..line }.of(code));
            }
            Floats::Line(line @ FloatLine { step: 1, .. }) => {
                self.map_from(anchor, from, out, |code| FloatLine { digits: None, step: 1, ..line }.of(code));
            }
            Floats::Line(line) => {
                self.map_from(anchor, from, out, |code| FloatLine { digits: None, ..line }.of(code));
            }
        }
    }

    /// Whether some positions are all rows of the batch, one after the other.
    pub(super) fn is_all_rows(&self, positions: &[u32]) -> bool {
        self.ends.is_none() && self.is_whole(positions)
    }

    /// Whole numbers by the code of an anchor in every entry, 0 for null, and which of them are there.
    pub(super) fn some_ints_of(&self, anchor: Anchor, ints: SomeInts<'_>, out: &mut [i64], valid: &mut [bool]) {
        match ints {
            SomeInts::ByCode(values, there) => {
                self.map(anchor, out, |code| if there[code as usize] { values[code as usize] } else { 0 });
                self.map(anchor, valid, |code| there[code as usize]);
            }
            SomeInts::Line { null, .. } => {
                self.map(anchor, out, |code| ints.of(code).0);
                self.map(anchor, valid, |code| code != null);
            }
        }
    }

    /// The codes of an anchor in some entries, however large.
    pub(super) fn wide_codes(&self, anchor: Anchor, positions: &[u32]) -> Vec<u64> {
        if let Some(few) = self.map_few(anchor, positions, |code| code) {
            return few;
        }
        let mut codes = vec![0u64; self.entries()];
        self.map(anchor, &mut codes, |code| code);
        if self.is_whole(positions) {
            return codes;
        }
        positions.iter().map(|i| codes[*i as usize]).collect()
    }

    fn map_entries<T: Copy + Default>(&self, column: u32, ends: &[u32], out: &mut [T], map: impl Fn(u64) -> T) {
        let known = self.runs.iter().find(|(index, ..)| *index == column);
        let made;
        let (run_ends, codes) = match known {
            Some((_, ends, codes)) => (ends, codes),
            None => {
                made = self.segment(column).runs_within(self.within, self.len);
                (&made.0, &made.1)
            }
        };
        if run_ends.len() == ends.len() {
            return out.iter_mut().zip(codes).for_each(|(slot, code)| *slot = map(*code));
        }
        let mut at = 0;
        for (run_end, code) in run_ends.iter().zip(codes) {
            let value = map(*code);
            while at < ends.len() && ends[at] <= *run_end {
                out[at] = value;
                at += 1;
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
    pub(super) fn key_codes(&self, loose: &UnindexedKey, positions: &[u32]) -> Vec<u64> {
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

/// Whether the codes of a line and its step fit 32 bits with their signs.
fn is_narrow_line(base: i64, step: i64, last: i64) -> bool {
    let codes = i128::from(last) - i128::from(base);
    i32::try_from(step).is_ok_and(|step| step != 0 && i32::try_from(codes / i128::from(step)).is_ok())
}

/// Where any of several lists of ends has one. Each ends with `len`.
fn merged(lists: &[&[u32]], len: usize) -> Vec<u32> {
    let mut bits = vec![0u64; len.div_ceil(64)];
    for ends in lists {
        ends.iter().map(|end| *end as usize - 1).for_each(|row| bits[row / 64] |= 1 << (row % 64));
    }
    let mut ends = Vec::with_capacity(lists.iter().map(|list| list.len()).sum());
    for (word, mut left) in bits.into_iter().enumerate() {
        while left != 0 {
            ends.push(word as u32 * 64 + left.trailing_zeros() + 1);
            left &= left - 1;
        }
    }
    ends
}

impl BatchCodes for Batch<'_> {
    fn anchor(&self, anchor: Anchor, positions: &[u32]) -> Arc<Vec<u32>> {
        let is_unpacked = self.unpacked.borrow().iter().any(|(a, _)| *a == anchor);
        if !is_unpacked && let Some(few) = self.map_few(anchor, positions, |code| code as u32) {
            return Arc::new(few);
        }
        let codes = self.unpack(anchor);
        if self.is_whole(positions) {
            return codes;
        }
        Arc::new(positions.iter().map(|i| codes[*i as usize]).collect())
    }

    fn column(&self, _: &CodedColumn, index: u32, positions: &[u32]) -> Vec<u64> {
        self.wide_codes(Anchor::Column(index), positions)
    }

    fn some_ints(&self, anchor: Anchor, ints: SomeInts<'_>, positions: &[u32]) -> (Vec<i64>, Vec<bool>) {
        if let Some(few) = self.map_few(anchor, positions, |code| ints.of(code)) {
            return few.into_iter().unzip();
        }
        let (mut values, mut valid) = (vec![0; self.entries()], vec![false; self.entries()]);
        self.some_ints_of(anchor, ints, &mut values, &mut valid);
        if self.is_whole(positions) {
            return (values, valid);
        }
        positions.iter().map(|i| (values[*i as usize], valid[*i as usize])).unzip()
    }

    fn floats(&self, anchor: Anchor, floats: Floats<'_>, positions: &[u32]) -> Vec<f64> {
        if let Some(few) = self.few_floats(anchor, floats, positions) {
            return few;
        }
        let mut all = vec![0.0; self.entries()];
        self.floats_of(anchor, floats, &mut all);
        if self.is_whole(positions) {
            return all;
        }
        positions.iter().map(|i| all[*i as usize]).collect()
    }

    fn unpacks_in_parts(&self, positions: &[u32]) -> bool {
        self.is_all_rows(positions)
    }

    fn ints_in_part(&self, anchor: Anchor, ints: Ints<'_>, from: usize, out: &mut [i64]) {
        self.ints_from(anchor, ints, from, out);
    }

    fn ints(&self, anchor: Anchor, ints: Ints<'_>, positions: &[u32]) -> Vec<i64> {
        if let Some(few) = self.few_ints(anchor, ints, positions) {
            return few;
        }
        let mut all = vec![0; self.entries()];
        self.ints_of(anchor, ints, &mut all);
        if self.is_whole(positions) {
            return all;
        }
        positions.iter().map(|i| all[*i as usize]).collect()
    }

    fn rows(&self, positions: &[u32]) -> Vec<u32> {
        positions.iter().map(|i| self.start as u32 + i).collect()
    }
}
