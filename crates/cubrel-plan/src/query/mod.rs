//! A query to a plan: axes, items, lines, totals, records (language reference, section 12).
//!
//! * `plans`: what comes of it
//! * `planner`, `checked`: names resolved, types known; `resolved`: what is handed on
//! * `lenses`: which readings a query shows, and what an item is in each
//! * `cell`: one cell by itself
//! * `layout`: scopes for cells, totals, judges and the rest beyond a limit

mod cell;
mod checked;
mod layout;
mod lenses;
mod planner;
mod plans;
mod resolved;

use std::sync::Arc;

pub use cell::{CellPlan, cell, coerced, equality};
pub use layout::base;
use planner::QueryPlanner;
pub use plans::{Axis, GridPart, GridPlan, Judge, Others, PlannedItem, QueryPlan, RecordsPlan};

use cubrel_formula::check::Settings;
use cubrel_formula::parser;
use cubrel_formula::schema::Schema;
use cubrel_formula::source::{Diagnostic, Source};

/// Plans a query.
///
/// # Errors
/// All problems of its text.
pub fn plan(schema: &Schema, settings: &Settings, source: &Arc<Source>) -> Result<QueryPlan, Vec<Diagnostic>> {
    let (query, problems) = parser::query(source);
    match query {
        Some(query) if problems.is_empty() => QueryPlanner::new(schema, settings, source).plan(&query),
        _ => Err(problems),
    }
}
