//! Where the values of a row come from: everything that hangs off one key of the table is computed once for each
//! code of that key, whatever the number of rows.
//!
//! An *anchor* is a column of the table that is read (or a reference to another table's row). A filter on a
//! dimension table, a group-by column of it, an expression of its columns: each is an array over the anchor's codes.

use std::ops::Range;
use std::sync::Arc;

use super::remembered::Remembered;
use super::{Options, RunError};
use cubrel_formula::schema::{ColumnId, RelationshipId, Schema, TableId};
use cubrel_plan::FilterTest;
use cubrel_store::{
    ChainCodes, ChainEnd, ChainSource, CodedColumn, Lookup, LookupRows, NO_ROW, Segment, SegmentBounds, Store,
};
use cubrel_value::threads::{map_many, map_owned};

/// Arrays over codes are made while there are at most this many codes,
pub(super) const SMALL_DOMAIN: u64 = 1 << 16;
/// or at most this many codes for each row.
const CODES_PER_ROW: u64 = 2;
/// What a row's values hang off.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Anchor {
    /// The codes of one of the table's columns.
    Column(u32),
    /// The row that a relationship points at, where that is kept by row.
    Reference(RelationshipId),
    /// The row itself.
    Row,
}

/// A table of the store with the schema around it.
#[derive(Clone, Copy)]
pub struct Tables<'a> {
    /// What there is.
    pub schema: &'a Schema,
    /// The data.
    pub store: &'a Store,
    /// The limits under which it is looked at.
    limits: Option<&'a Options>,
    /// What other reads have found out.
    remembered: Option<&'a Remembered>,
}

impl<'a> Tables<'a> {
    /// Looked at without limits.
    pub fn new(schema: &'a Schema, store: &'a Store) -> Tables<'a> {
        Tables { schema, store, limits: None, remembered: None }
    }

    /// Looked at under the limits of a run.
    #[must_use]
    pub fn limited(self, options: &'a Options) -> Tables<'a> {
        Tables { limits: Some(options), ..self }
    }

    /// Looked at by several reads, each of which can use what the others have found out.
    #[must_use]
    pub(super) fn remembering(self, remembered: &'a Remembered) -> Tables<'a> {
        Tables { remembered: Some(remembered), ..self }
    }

    /// What a filter at the end of a path lets through, by code at its start, worked out unless that is known.
    pub(super) fn far_filter(
        &self,
        test: &FilterTest,
        path: &[RelationshipId],
        work_out: impl FnOnce() -> Result<Vec<bool>, RunError>,
    ) -> Result<Arc<Vec<bool>>, RunError> {
        match self.remembered {
            Some(remembered) => remembered.filter(test, path, work_out),
            None => work_out().map(Arc::new),
        }
    }

    /// Whether there is time to go on.
    pub(super) fn check(&self) -> Result<(), RunError> {
        self.limits.map_or(Ok(()), Options::check)
    }

    /// How many rows a table has.
    pub fn rows(&self, table: TableId) -> usize {
        self.store.tables[table.0 as usize].rows
    }

    /// Where the segments of a table begin; `None` when it has no columns.
    pub fn segment_bounds(&self, table: TableId) -> Option<&'a SegmentBounds> {
        self.store.tables[table.0 as usize].columns.first().map(|c| c.segment_bounds())
    }

    /// A column's data.
    pub fn column(&self, column: ColumnId) -> &'a Arc<CodedColumn> {
        self.store.tables[column.table.0 as usize].columns[column.index as usize].verified()
    }

    /// A relationship's data.
    pub fn lookup(&self, relationship: RelationshipId) -> &'a Lookup {
        self.store.lookups[relationship.0 as usize].verified()
    }

    /// The rows of a table in steps that end where its segments do.
    pub fn batches(&self, table: TableId, most: usize) -> Vec<Range<usize>> {
        let rows = self.rows(table);
        // A table without columns has no segments.
        self.segment_bounds(table).cloned().unwrap_or_else(|| SegmentBounds::even(rows, rows)).batches(most).collect()
    }

    /// The anchor from which a path starts.
    pub fn anchor_of_path(&self, relationship: RelationshipId) -> Anchor {
        match &self.lookup(relationship).target {
            LookupRows::ByCode(_) => Anchor::Column(self.schema.relationship(relationship).many_columns[0]),
            LookupRows::ByRow(_) => Anchor::Reference(relationship),
        }
    }

    /// The anchor of a column that a table looks up.
    pub fn anchor(&self, column: ColumnId, path: &[RelationshipId]) -> Anchor {
        match path.first() {
            None => Anchor::Column(column.index),
            Some(relationship) => self.anchor_of_path(*relationship),
        }
    }

    /// How many codes an anchor has, null's included.
    pub fn codes_of(&self, table: TableId, anchor: Anchor) -> u64 {
        match anchor {
            Anchor::Column(index) => self.column(ColumnId { table, index }).domain() + 1,
            Anchor::Reference(relationship) => self.rows(self.schema.relationship(relationship).one) as u64 + 1,
            Anchor::Row => self.rows(table) as u64,
        }
    }

    /// Whether arrays over an anchor's codes are worth making.
    pub fn is_small(&self, table: TableId, anchor: Anchor) -> bool {
        anchor != Anchor::Row
            && self.codes_of(table, anchor) <= SMALL_DOMAIN.max(CODES_PER_ROW * self.rows(table) as u64)
    }

    /// The rows that some rows point at.
    fn follow(&self, relationship: RelationshipId, from: &[u32]) -> Vec<u32> {
        let def = self.schema.relationship(relationship);
        if from.len() > self.rows(def.many) / MANY {
            let targets = self.targets(relationship);
            return map_many(from, |row| targets.get(*row as usize).copied().unwrap_or(NO_ROW));
        }
        match &self.lookup(relationship).target {
            LookupRows::ByCode(rows) => {
                let key = self.column(ColumnId { table: def.many, index: def.many_columns[0] });
                key.codes_at(from).into_iter().map(|code| rows[code as usize]).collect()
            }
            LookupRows::ByRow(packed) => {
                let none = self.rows(def.one) as u64;
                let target = |row: &u32| match row {
                    &NO_ROW => NO_ROW,
                    row => match packed.get(*row as usize) {
                        target if target == none => NO_ROW,
                        target => target as u32,
                    },
                };
                from.iter().map(target).collect()
            }
        }
    }

    /// For every row of the many side the row that it points at: unpacked in the order in which they stand.
    fn targets(&self, relationship: RelationshipId) -> Vec<u32> {
        self.handed_on(relationship, |row| row, NO_ROW)
    }

    /// For every row of the many side what the row has that it points at, or `none`.
    fn handed_on<T: Copy + Default + Send + Sync>(
        &self,
        relationship: RelationshipId,
        of: impl Fn(u32) -> T + Copy + Send + Sync,
        none: T,
    ) -> Vec<T> {
        let def = self.schema.relationship(relationship);
        let mut all = vec![none; self.rows(def.many)];
        let of = |row: u32| if row == NO_ROW { none } else { of(row) };
        match &self.lookup(relationship).target {
            LookupRows::ByCode(rows) => {
                let by_code: Vec<T> = map_many(rows, |row| of(*row));
                let by_code = by_code.as_slice();
                let key = self.column(ColumnId { table: def.many, index: def.many_columns[0] });
                let mut left = all.as_mut_slice();
                let parts: Vec<(&Segment, &mut [T])> = key
                    .segments()
                    .iter()
                    .zip(key.segment_bounds().ranges())
                    .map(|(segment, range)| (segment, left.split_off_mut(..range.len()).unwrap_or_default()))
                    .collect();
                let hand_on = |(segment, out): (&Segment, &mut [T])| {
                    segment.map_rows(0, out, |code| by_code[code as usize]);
                };
                map_owned(parts, hand_on);
            }
            LookupRows::ByRow(packed) => {
                let count = self.rows(def.one) as u64;
                packed.map_rows(0, &mut all, |target| if target == count { none } else { of(target as u32) });
            }
        }
        all
    }

    /// For each code of the anchor at the start of a path, what the row at its end has, or `none`. Each relationship is
    /// followed once, from its end on, where tables are small: only the last step is as long as the anchor has codes.
    pub fn along<T: Copy + Default + Send + Sync>(&self, path: &[RelationshipId], at_end: &[T], none: T) -> Vec<T> {
        let Some((first, rest)) = path.split_first() else { return Vec::new() };
        let count = self.rows(self.schema.relationship(*first).one);
        let is_short = match &self.lookup(*first).target {
            LookupRows::ByCode(rows) => rows.len() * MANY < count,
            LookupRows::ByRow(_) => false,
        };
        if is_short {
            // Few of the rows in between are asked for.
            let of = |row: &u32| at_end.get(*row as usize).copied().unwrap_or(none);
            return map_many(&self.rows_by_code(path), of);
        }
        let mut values = at_end.to_vec();
        for relationship in rest.iter().rev() {
            let at = values.as_slice();
            values = self.handed_on(*relationship, |row| at[row as usize], none);
        }
        match &self.lookup(*first).target {
            LookupRows::ByCode(rows) => map_many(rows, |row| if *row == NO_ROW { none } else { values[*row as usize] }),
            LookupRows::ByRow(_) => {
                values.push(none);
                values
            }
        }
    }

    /// For each code of the anchor at the start of a path, the row at its end.
    pub fn rows_by_code(&self, path: &[RelationshipId]) -> Vec<u32> {
        let Some((first, rest)) = path.split_first() else {
            return Vec::new();
        };
        let mut rows: Vec<u32> = match &self.lookup(*first).target {
            LookupRows::ByCode(rows) => rows.to_vec(),
            LookupRows::ByRow(_) => {
                let count = self.rows(self.schema.relationship(*first).one) as u32;
                (0..count).chain([NO_ROW]).collect()
            }
        };
        for relationship in rest {
            rows = self.follow(*relationship, &rows);
        }
        rows
    }

    /// The rows that some rows point at over a path.
    pub fn follow_path(&self, path: &[RelationshipId], rows: Vec<u32>) -> Vec<u32> {
        path.iter().fold(rows, |rows, r| self.follow(*r, &rows))
    }

    /// The codes that a column at the end of a path has for some rows at its start.
    pub fn far_codes(&self, column: &CodedColumn, path: &[RelationshipId], rows: Vec<u32>) -> Vec<u64> {
        column.codes_at(&self.follow_path(path, rows))
    }

    /// For each code of the anchor at the start of a path of at least one step, the code of a column at its end.
    pub fn codes_by_code(&self, column: ColumnId, path: &[RelationshipId]) -> Arc<ChainCodes> {
        self.chain(ChainEnd::Column(column), path, || {
            let data = self.column(column);
            match u32::try_from(data.null_code()) {
                Ok(null) => {
                    let codes: Vec<u32> = data.codes().into_iter().map(|code| code as u32).collect();
                    ChainCodes::of(map_many(&self.along(path, &codes, null), |code| u64::from(*code)))
                }
                Err(_) => ChainCodes::of(self.along(path, &data.codes(), data.null_code())),
            }
        })
    }

    /// For each code of the anchor, the code of a column that is its own or at the end of a path.
    pub fn own_or_far_codes(&self, column: ColumnId, path: &[RelationshipId]) -> Vec<u64> {
        match path {
            [] => (0..=self.column(column).domain()).collect(),
            path => self.codes_by_code(column, path).to_vec(),
        }
    }

    /// For each code of the anchor at the start of a path of at least one step, the row of a table at its end, or as many as it has.
    pub fn far_rows_by_code(&self, table: TableId, path: &[RelationshipId]) -> Arc<ChainCodes> {
        self.chain(ChainEnd::Row(table), path, || {
            let none = self.rows(table) as u64;
            let row = |row: &u32| if *row == NO_ROW { none } else { u64::from(*row) };
            ChainCodes::of(map_many(&self.rows_by_code(path), row))
        })
    }

    fn chain(&self, end: ChainEnd, path: &[RelationshipId], work_out: impl FnOnce() -> ChainCodes) -> Arc<ChainCodes> {
        if self.limits.is_some_and(|options| !options.keep_chains) {
            return Arc::new(work_out());
        }
        let of = |id: &ColumnId| self.store.tables[id.table.0 as usize].columns[id.index as usize].clone();
        let column = match &end {
            ChainEnd::Column(id) => Some(of(id)),
            ChainEnd::Row(_) => None,
        };
        let lookups = path.iter().map(|r| self.store.lookups[r.0 as usize].clone()).collect();
        self.store.chains.get(end, path, ChainSource { column, lookups }, work_out)
    }
}

/// More than one of so many rows are looked at in the order in which they stand.
const MANY: usize = 4;
