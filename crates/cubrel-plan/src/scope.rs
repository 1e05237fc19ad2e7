//! The filter context of many cells at once, and what edits do to it (language reference, section 6).

use std::sync::Arc;

use super::ids::DimId;
use super::rows::{ParameterId, Predicate};
use cubrel_formula::schema::{ColumnId, Detours, RelationshipId, Schema, TableId};
use cubrel_formula::typed::{EditTarget, TypedEdit};

/// What differs from cell to cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Key {
    /// The value of a column.
    Column(ColumnId),
    /// A row, by identity.
    Row(TableId),
    /// A value that formulas refer to; it filters nothing by itself.
    Value(ParameterId),
}

/// Who put a filter there.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum FilterOrigin {
    /// The grid's rows.
    RowAxis,
    /// The grid's columns.
    ColumnAxis,
    /// The query's `where`.
    Where,
    /// An edit in a formula.
    Edit,
    /// The current row of a calculated column or of a `per` over a table.
    BoundRow,
    /// A combination of a `per` over columns.
    Per,
    /// A value of a `let`.
    Let,
}

/// One dimension of a scope.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Dim {
    /// What it is.
    pub key: Key,
    /// Who put it there.
    pub origin: FilterOrigin,
    /// Whether it still filters; a dropped one may stay for its value.
    pub filters: bool,
}

/// A filter that all cells of a scope share.
#[derive(Clone, Debug)]
pub struct Filter {
    /// What it tests.
    pub test: FilterTest,
    /// Who put it there.
    pub origin: FilterOrigin,
}

/// What a filter tests.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum FilterTest {
    /// A predicate.
    Predicate(Arc<Predicate>),
    /// What a predicate leaves of some of its columns, the others being dropped.
    Projected(Arc<Predicate>, Vec<ColumnId>),
    /// The combinations that some lines of a grid have, or what is left of them in some of the columns.
    Lines {
        /// The columns of the combinations.
        columns: Vec<ColumnId>,
        /// Those that still count.
        kept: Vec<ColumnId>,
        /// The value that holds the combinations.
        slot: ParameterId,
    },
}

impl Filter {
    /// What of it reaches a table from which the given tables can be looked up.
    pub fn reaching(&self, reached: impl Fn(TableId) -> bool) -> Option<Filter> {
        match &self.test {
            FilterTest::Predicate(p) | FilterTest::Projected(p, _) => reached(p.table).then(|| self.clone()),
            FilterTest::Lines { .. } => self.without(|c| !reached(c.table)),
        }
    }

    /// The values from outside that it takes.
    pub fn outer(&self) -> &[ParameterId] {
        match &self.test {
            FilterTest::Predicate(p) | FilterTest::Projected(p, _) => &p.outer,
            FilterTest::Lines { slot, .. } => std::slice::from_ref(slot),
        }
    }

    /// Where it lets through some days and says no more: the value that holds them.
    pub fn days(&self) -> Option<ParameterId> {
        match &self.test {
            FilterTest::Predicate(p) => p.days,
            FilterTest::Projected(..) | FilterTest::Lines { .. } => None,
        }
    }

    /// The columns that it still restricts.
    pub fn columns(&self) -> &[ColumnId] {
        match &self.test {
            FilterTest::Predicate(p) => &p.columns,
            FilterTest::Projected(_, kept) | FilterTest::Lines { kept, .. } => kept,
        }
    }

    /// What is left when the columns that `dropped` names are dropped: all of it, a projection, or nothing.
    fn without(&self, dropped: impl Fn(ColumnId) -> bool) -> Option<Filter> {
        let kept: Vec<ColumnId> = self.columns().iter().copied().filter(|c| !dropped(*c)).collect();
        if kept.len() == self.columns().len() {
            return Some(self.clone());
        }
        if kept.is_empty() {
            return None;
        }
        let test = match &self.test {
            FilterTest::Predicate(p) | FilterTest::Projected(p, _) => FilterTest::Projected(p.clone(), kept),
            FilterTest::Lines { columns, slot, .. } => {
                FilterTest::Lines { columns: columns.clone(), kept, slot: *slot }
            }
        };
        Some(Filter { test, origin: self.origin })
    }
}

/// The filter context of many cells.
#[derive(Clone, Debug, Default)]
pub struct Scope {
    /// What differs between cells.
    pub dims: Vec<Dim>,
    /// What they share.
    pub filters: Vec<Filter>,
    /// Spare relationships in place of default paths, innermost last.
    pub detours: Detours,
    /// Relationships that filter both ways besides those of which the model says so.
    pub both_ways: Vec<RelationshipId>,
    /// The columns of the grid line that all this is for, filtering or not.
    pub axes: Vec<ColumnId>,
}

impl Scope {
    /// Drops filters, and says nothing of dimensions whose value is still needed: those only stop filtering.
    pub fn drop_filters(&mut self, edit: &TypedEdit) {
        match edit {
            TypedEdit::WithoutAll => self.keep_only(|_| false, |_| false),
            TypedEdit::WithoutAxes => {
                for dim in &mut self.dims {
                    dim.filters &= !is_axis(dim.origin);
                }
                self.filters.retain(|f| !is_axis(f.origin));
            }
            TypedEdit::WithoutRow => {
                let bound = |d: &&mut Dim| d.filters && matches!(d.key, Key::Row(_));
                if let Some(dim) = self.dims.iter_mut().rev().find(bound) {
                    dim.filters = false;
                }
            }
            TypedEdit::Without(targets) => self.keep_only(|c| !names_column(targets, c), |t| !names_table(targets, t)),
            TypedEdit::WithoutAllBut(targets) => {
                self.keep_only(|c| names_column(targets, c), |t| names_table(targets, t))
            }
            TypedEdit::Narrow(narrow) if narrow.instead => {
                let named: Vec<EditTarget> = narrow.columns.iter().map(|c| EditTarget::Column(*c)).collect();
                self.drop_filters(&TypedEdit::Without(named));
            }
            TypedEdit::Narrow(_) | TypedEdit::Period(_) => {}
        }
    }

    /// Keeps filters on the columns, and bound rows of the tables, that the closures name.
    fn keep_only(&mut self, column: impl Fn(ColumnId) -> bool, row: impl Fn(TableId) -> bool) {
        for dim in &mut self.dims {
            dim.filters &= match dim.key {
                Key::Column(c) => column(c),
                Key::Row(t) => row(t),
                Key::Value(_) => true,
            };
        }
        self.filters = self.filters.iter().filter_map(|f| f.without(|c| !column(c))).collect();
    }

    /// Drops what period edits replace: everything on the calendar but its day_kind columns.
    pub(super) fn drop_days(&mut self, schema: &Schema, calendar: TableId) {
        self.keep_only(|c| c.table != calendar || schema.column(c).day_kind, |t| t != calendar);
    }

    /// Drops what does not count for the days that are visible: filters on day_kind columns.
    pub(super) fn drop_day_kinds(&mut self, schema: &Schema, calendar: TableId) {
        self.keep_only(|c| c.table != calendar || !schema.column(c).day_kind, |_| true);
    }

    /// Drops what axes and rows say of a column, for `rank`.
    pub(super) fn drop_for_rank(&mut self, column: ColumnId) {
        for dim in &mut self.dims {
            dim.filters &= dim.key != Key::Column(column) && dim.key != Key::Row(column.table);
        }
        let kept = |f: &Filter| if is_axis(f.origin) { f.without(|c| c == column) } else { Some(f.clone()) };
        self.filters = self.filters.iter().filter_map(kept).collect();
    }

    /// Whether a filter acts on a column, or binds a row of its table.
    pub fn narrows(&self, column: ColumnId) -> bool {
        let dim = |d: &Dim| d.filters && (d.key == Key::Column(column) || d.key == Key::Row(column.table));
        self.dims.iter().any(dim) || self.filters.iter().any(|f| f.columns().contains(&column))
    }

    /// The dimension whose value a column has in every cell, if a filtering one fixes it.
    pub fn dim_of_column(&self, column: ColumnId) -> Option<DimId> {
        self.dims.iter().rposition(|d| d.filters && d.key == Key::Column(column)).map(DimId::new)
    }

    /// One of its dimensions.
    pub fn dim(&self, id: DimId) -> &Dim {
        &self.dims[id.index()]
    }

    /// All its dimensions by their places.
    pub fn dim_ids(&self) -> impl Iterator<Item = DimId> + use<> {
        (0..self.dims.len()).map(DimId::new)
    }

    /// With one more dimension.
    pub fn push_dim(&mut self, dim: Dim) -> DimId {
        self.dims.push(dim);
        DimId::new(self.dims.len() - 1)
    }
}

fn is_axis(origin: FilterOrigin) -> bool {
    matches!(origin, FilterOrigin::RowAxis | FilterOrigin::ColumnAxis)
}

/// A column is named by itself or by its table.
fn names_column(targets: &[EditTarget], column: ColumnId) -> bool {
    targets.iter().any(|t| match t {
        EditTarget::Column(c) => *c == column,
        EditTarget::Table(t) => *t == column.table,
    })
}

fn names_table(targets: &[EditTarget], table: TableId) -> bool {
    targets.contains(&EditTarget::Table(table))
}

#[cfg(test)]
mod tests {
    use super::super::testing::{grid, model};

    #[test]
    fn edits_drop_what_they_name_and_leave_the_rest() {
        // The edit, then by how many columns the rows are grouped that it leaves, and how many filters stay.
        let cases = [
            ("without season.name", 1, 1),
            ("without route.id", 0, 1),
            ("without route.miles", 1, 0),
            ("without route", 0, 0),
            ("without (route.id, route.miles)", 0, 0),
            ("without booking", 1, 1),
            ("without all", 0, 0),
            ("without axes", 0, 1),
            ("without all but route.id", 1, 0),
            ("without all but route.miles", 0, 1),
            ("without all but route", 1, 1),
            ("route.id = 'r1'", 1, 2),
            ("without all, route.id = 'r1'", 0, 1),
            ("route.id = 'r1', without all", 0, 1),
        ];
        let model = model();
        for (edit, keys, filters) in cases {
            let text = format!("grid sum(booking.net) given ({edit}) by route.id where route.miles > 1");
            let plan = grid(&model, &text);
            let read = plan.reads.iter().find(|read| !read.aggregates.is_empty()).unwrap();
            assert_eq!((read.keys.len(), read.filters.len()), (keys, filters), "{edit}");
        }
    }
}
