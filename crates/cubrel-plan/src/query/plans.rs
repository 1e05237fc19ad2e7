//! What planning a query gives.

use crate::rows::ParameterId;
use crate::scope::Filter;
use crate::tree::{Assembly, Bound, Domain, Read};
use cubrel_formula::schema::{ColumnId, RelationshipId, TableId};
use cubrel_formula::source::Diagnostic;
use cubrel_value::Type;

/// Everything that running a query needs.
#[derive(Clone, Debug)]
pub enum QueryPlan {
    /// A grid.
    Grid(Box<GridPlan>),
    /// Rows of a table.
    Records(Box<RecordsPlan>),
}

impl QueryPlan {
    /// What is legal in it and probably not meant.
    pub fn warnings(&self) -> &[Diagnostic] {
        match self {
            QueryPlan::Grid(grid) => &grid.warnings,
            QueryPlan::Records(_) => &[],
        }
    }

    pub(crate) fn reads_mut(&mut self) -> &mut Vec<Read> {
        match self {
            QueryPlan::Grid(grid) => &mut grid.reads,
            QueryPlan::Records(records) => &mut records.reads,
        }
    }

    /// All its reads.
    pub fn reads(&self) -> &[Read] {
        match self {
            QueryPlan::Grid(grid) => &grid.reads,
            QueryPlan::Records(records) => &records.reads,
        }
    }
}

/// What an axis of a grid goes through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Axis {
    /// The values of a column.
    Column(ColumnId),
    /// The readings of a lens, by its place in the schema.
    Lens(usize),
}

impl Axis {
    /// The column, if it is one.
    pub fn column(self) -> Option<ColumnId> {
        match self {
            Axis::Column(column) => Some(column),
            Axis::Lens(_) => None,
        }
    }
}

/// Everything that running a grid needs.
#[derive(Clone, Debug)]
pub struct GridPlan {
    /// All reads, shared by all parts.
    pub reads: Vec<Read>,
    /// Row axes, then column axes.
    pub axes: Vec<Axis>,
    /// How many of the axes are rows.
    pub row_axes: usize,
    /// What is shown.
    pub items: Vec<PlannedItem>,
    /// Values that the `where` takes from outside, evaluated once without axes.
    pub outer: Vec<(ParameterId, Bound)>,
    /// The cells, then the totals, if they are wanted; for each combination of readings.
    pub parts: Vec<GridPart>,
    /// Whether totals are wanted.
    pub totals: bool,
    /// What judges row lines, by how many row axes are left: all of them first.
    pub judges: Vec<Judge>,
    /// For each `order by`, whether it descends.
    pub descending: Vec<bool>,
    /// How many lines for each combination of these row axes.
    pub limit: Option<(usize, Vec<usize>)>,
    /// One more line for what the limit drops.
    pub others: Option<Others>,
    /// Whether combinations without anything in them show.
    pub with_empty: bool,
    /// Relationships that some item lets filter both ways.
    pub both_ways: Vec<RelationshipId>,
    /// What is legal and probably not meant.
    pub warnings: Vec<Diagnostic>,
}

/// One item.
#[derive(Clone, Debug)]
pub struct PlannedItem {
    /// The heading after `as`, the measure's name, or the text of the item.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// A pattern for its values.
    pub format: Option<String>,
    /// Its type.
    pub ty: Type,
}

/// The cells of one combination of axes: all of them, or some for totals.
#[derive(Clone, Debug)]
pub struct GridPart {
    /// Which axes are there, lenses apart: the keys of the domain.
    pub axes: Vec<usize>,
    /// The reading that each axis of a lens stands at.
    pub readings: Vec<(usize, u64)>,
    /// Their combinations that are tried.
    pub domain: Domain,
    /// For each group of the domain, what has to let null through for null to be tried.
    pub null_filters: Vec<Vec<Filter>>,
    /// The items.
    pub items: Vec<Assembly>,
}

/// `having` and `order by`, over the outermost row axes.
#[derive(Clone, Debug)]
pub struct Judge {
    /// How many row axes are there, lenses included.
    pub axes: usize,
    /// Those of them that are columns.
    pub columns: Vec<usize>,
    /// `having`
    pub having: Option<Assembly>,
    /// `order by`; nothing where it names an axis that is not there.
    pub order: Vec<Option<(Assembly, Type)>>,
}

/// `others`: the lines beyond a limit as one line, for each combination of the axes that the limit counts within.
#[derive(Clone, Debug)]
pub struct Others {
    /// The row axes that the limit counts within.
    pub within: Vec<usize>,
    /// The row axes whose values the line stands for.
    pub rest: Vec<usize>,
    /// Its cells, over the axes within, the set of combinations that it stands for, and column axes.
    pub parts: Vec<GridPart>,
}

/// Everything that `records` needs.
#[derive(Clone, Debug)]
pub struct RecordsPlan {
    /// All reads.
    pub reads: Vec<Read>,
    /// Tells which rows pass.
    pub rows: Read,
    /// The table whose rows they are.
    pub table: TableId,
    /// What is shown of each, over a scope with the row.
    pub items: Vec<(PlannedItem, Assembly)>,
    /// `order by`, with true for descending.
    pub order: Vec<(Assembly, Type, bool)>,
    /// How many rows.
    pub limit: Option<usize>,
    /// Values that the `where` takes from outside.
    pub outer: Vec<(ParameterId, Bound)>,
}
