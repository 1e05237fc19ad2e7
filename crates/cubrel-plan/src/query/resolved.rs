//! Queries whose names are resolved and whose parts have types.

use super::plans::{Axis, PlannedItem};
use cubrel_formula::schema::TableId;
use cubrel_formula::source::Diagnostic;
use cubrel_formula::typed::{Narrow, TypedExpr};

/// A reading for each lens of a query, by its place in the lens.
pub(super) type Chosen = Vec<(usize, u64)>;

/// The items in each combination of readings.
pub(super) type ItemsByReading = Vec<(Chosen, Vec<TypedExpr>)>;

/// A grid whose names are resolved.
pub(super) struct CheckedGrid {
    pub(super) rows: Vec<Axis>,
    pub(super) columns: Vec<Axis>,
    pub(super) items: Vec<PlannedItem>,
    /// The items in each combination of readings that shows.
    pub(super) shown: Vec<(Chosen, Vec<TypedExpr>)>,
    pub(super) filters: Vec<Narrow>,
    pub(super) having: Option<TypedExpr>,
    pub(super) order: Vec<(TypedExpr, bool)>,
    pub(super) limit: Option<(usize, Vec<usize>)>,
    pub(super) others: bool,
    pub(super) warnings: Vec<Diagnostic>,
}

/// `records` whose names are resolved.
pub(super) struct CheckedRecords {
    pub(super) table: TableId,
    pub(super) items: Vec<(PlannedItem, TypedExpr)>,
    pub(super) filters: Vec<Narrow>,
    pub(super) order: Vec<(TypedExpr, bool)>,
    pub(super) limit: Option<usize>,
}
