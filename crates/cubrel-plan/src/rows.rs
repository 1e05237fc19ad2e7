//! Expressions and predicates over the rows of a table.

use cubrel_formula::scalar::Scalar;
use cubrel_formula::schema::{ColumnId, RelationshipId, TableId};

/// A value from outside that a read or filter takes, by a number that is unique in a plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct ParameterId(pub u32);

/// An expression over the rows of a table and what they look up.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct RowExpr {
    /// The operators; its leaves are `leaves`.
    pub scalar: Scalar,
    /// What the leaves are.
    pub leaves: Vec<RowLeaf>,
}

/// What a row expression takes its values from.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum RowLeaf {
    /// A column, looked up over relationships.
    Column {
        /// Which column.
        column: ColumnId,
        /// How to get there; nothing for the table's own columns.
        path: Vec<RelationshipId>,
    },
    /// A value from outside.
    Parameter(ParameterId),
    /// Whether a value is in a set from outside.
    Member {
        /// The set.
        slot: ParameterId,
        /// The value.
        of: Box<RowExpr>,
    },
}

/// A predicate over a table's rows, ready to run.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Predicate {
    /// The table.
    pub table: TableId,
    /// The columns that it tests.
    pub columns: Vec<ColumnId>,
    /// The test.
    pub test: RowExpr,
    /// Values from outside that it takes.
    pub outer: Vec<ParameterId>,
    /// Where it says no more than that the date is among some days: those.
    pub days: Option<ParameterId>,
}

pub(super) fn intern_leaf(leaves: &mut Vec<RowLeaf>, leaf: RowLeaf) -> usize {
    leaves.iter().position(|l| *l == leaf).unwrap_or_else(|| {
        leaves.push(leaf);
        leaves.len() - 1
    })
}
