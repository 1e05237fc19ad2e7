//! Related tables in memory, and formulas that answer for whatever is filtered.
//!
//! A model is opened from a folder with a `model.toml` ([`Model::open`]) or made in code ([`Model::builder`]). It answers
//! queries ([`Model::query`]) with grids, and says why a number is what it is ([`Model::why`]), where its bytes
//! ([`Model::sizes`]) and its time ([`Model::profile`]) go, and whether a change keeps the numbers ([`Model::compare`],
//! [`Model::compare_formulas`]).
//!
//! What it does not do: change data, or write anything but its own store; it prints nothing.
//!
//! ```
//! # fn main() -> Result<(), cubrel::Error> {
//! use cubrel::{Measure, Model, QueryText, Relation, Type, Value};
//!
//! let routes = [(1, "North"), (2, "South")].map(|(id, region)| vec![Value::Int(id), Value::text(region)]);
//! let bookings = [(1, 10), (1, 20), (2, 5)].map(|(route, net)| vec![Value::Int(route), Value::Int(net)]);
//! let model = Model::builder()
//!     .rows("route", &[("id", Type::Int), ("region", Type::Text)], &routes)
//!     .rows("booking", &[("route_id", Type::Int), ("net", Type::Int)], &bookings)
//!     .define(Relation::new("booking.route_id", "route.id"))
//!     .define(Measure::new("net_revenue", "sum(booking.net)").label("Net revenue"))
//!     .build()?;
//! let query = QueryText::grid(["net_revenue"]).by("route.region").totals();
//! let grid = model.query(&query.to_string())?.run()?;
//! assert_eq!(grid.lines[0].values, [Value::text("North"), Value::Int(30)]);
//! # Ok(())
//! # }
//! ```
//!
//! Features, all on by default: `parquet`, `sqlite` and `postgres`, for sources of these kinds. `internals` is for this library's own
//! tests.

#![cfg_attr(test, allow(clippy::unwrap_used))]

// The layers above the others, open to this crate's own tests alone, as are those that are crates of their own.
#[cfg(not(feature = "internals"))]
mod care;
#[cfg(feature = "internals")]
#[doc(hidden)]
pub mod care;
#[cfg(not(feature = "internals"))]
mod handle;
#[cfg(feature = "internals")]
#[doc(hidden)]
pub mod handle;
#[cfg(not(feature = "internals"))]
mod insight;
#[cfg(feature = "internals")]
#[doc(hidden)]
pub mod insight;
#[cfg(feature = "internals")]
#[doc(hidden)]
pub mod internals;
#[cfg(feature = "internals")]
#[doc(hidden)]
pub use {
    cubrel_formula as formula, cubrel_load as load, cubrel_model as model, cubrel_plan as plan, cubrel_run as run,
    cubrel_store as store, cubrel_value as value,
};

// Models.
#[doc(inline)]
pub use cubrel_load::{ComputedColumn, Observer, Silent, TableReport};
pub use handle::catalog;
pub use handle::{
    Builder, Calendar, Column, Definition, Lens, Measure, Model, RefreshOptions, RefreshReport, Relation, Role,
    Unmatched, View,
};

// Queries and their results.
#[doc(inline)]
pub use cubrel_formula::query_text::{QueryItem, QueryLimit, QueryText, parameters};
#[doc(inline)]
pub use cubrel_run::{
    Grid, GridColumn, GridColumnKind, GridLayout, GridLine, GridReading, LaidOutColumn, LineKind, RunError,
};
#[doc(inline)]
pub use cubrel_value::cancel::Cancel;
#[doc(inline)]
pub use cubrel_value::format::Formats;
#[doc(inline)]
pub use cubrel_value::{Type, Value};
pub use handle::{Limits, Query, QueryOptions};

// What a model tells of itself.
pub use handle::sizes;
pub use insight::{advice, draft, formula_comparison, model_comparison, profile, what_if, why};

// What a model needs over the years.
pub use care::edit::{ChangedLine, EditOptions, ModelEdit, Refusal};
pub use care::{advise, changes, expectations, hints, unused, uses};
#[doc(inline)]
pub use cubrel_model::parts::PartKind;

// What is wrong.
#[doc(inline)]
pub use cubrel_formula::source::{Diagnostic, Problem, Severity, Span, suggest};
#[doc(inline)]
pub use cubrel_load::is_guarded;
pub use handle::{Error, ErrorKind};

// The language, for shells, editors and servers.
pub use care::writing::{ModelText, NamedPart, OutlineEntry};
#[doc(inline)]
pub use cubrel_formula::functions::{FunctionEntry, functions};
#[doc(inline)]
pub use cubrel_formula::words::{is_reserved as is_word, quote_name, quote_text};
#[doc(inline)]
pub use cubrel_load::infer::guessed;
#[doc(inline)]
pub use cubrel_model::model_schema;
#[doc(inline)]
pub use cubrel_value::units;
pub use insight::complete::{Completion, CompletionKind, call_at, complete, describe};
pub use insight::lexemes::{Lexeme, LexemeKind, lexemes};

/// The version of Arrow that record batches are of, and values from it.
pub mod arrow {
    pub use crate::handle::values;
    pub use {arrow_array as array, arrow_schema as schema};
}
