//! A small model for the tests of this layer.

use super::query::{GridPlan, QueryPlan, plan};
pub use cubrel::internals::InModel;
use cubrel::{Builder, Model, Type, Value};
use cubrel_formula::check::Settings;
use cubrel_formula::source::Source;

/// Bookings of routes, and a table that is related to nothing.
pub fn builder() -> Builder {
    let row = |key: &str, n: i64| vec![Value::text(key), Value::Int(n)];
    Model::builder()
        .rows("booking", &[("route", Type::Text), ("net", Type::Int)], &[row("r1", 10), row("r2", 5)])
        .rows("route", &[("id", Type::Text), ("miles", Type::Int)], &[row("r1", 7), row("r2", 9)])
        .rows("season", &[("name", Type::Text), ("rate", Type::Int)], &[row("high", 2)])
        .relationship("booking.route", "route.id")
}

/// The model of [`builder`].
pub fn model() -> Model {
    builder().build().unwrap()
}

/// The plan of a grid, as it is lowered.
pub fn grid(model: &Model, text: &str) -> GridPlan {
    match plan(model.schema(), &Settings::default(), &Source::new("query", text)) {
        Ok(QueryPlan::Grid(grid)) => *grid,
        other => panic!("{text}: {other:?}"),
    }
}
