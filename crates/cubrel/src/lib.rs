//! Related tables in memory, and formulas that answer for whatever is filtered.
//!
//! A model is opened from a folder with a `model.toml` ([`Model::open`]) or made in code ([`Model::builder`]). It answers
//! queries ([`Model::query`]) with grids, and says where its bytes ([`Model::sizes`]) and its time
//! ([`insight::profile::timed`]) go.
//!
//! What it does not do: change data, or write anything but its own store; it prints nothing.
//!
//! The layers, each of which uses only those above it:
//!
//! * [`value`]: scalar types, exact numbers, dates, batches, Arrow
//! * [`formula`]: the language, from text to typed expressions, and batch evaluation
//! * [`store`]: coded columns, lookups, the store on disk
//! * [`model`]: what a model says, and everything that can be wrong with it
//! * [`load`]: sources to coded tables
//! * [`plan`]: queries to reads and what assembles their results
//! * [`run`]: reads over the store, assembly, grids
//! * [`insight`] and the handle that ties all together: [`Model`], [`Query`], [`Builder`]

#![cfg_attr(test, allow(clippy::unwrap_used))]

mod cancel;
pub mod formula;
mod handle;
pub mod insight;
pub mod load;
pub mod model;
pub mod plan;
pub mod run;
pub mod store;
pub mod value;

pub use cancel::Cancel;
pub use formula::source::{Diagnostic, Severity};
pub use handle::{
    Builder, Error, ErrorKind, Limits, Model, Query, QueryOptions, RefreshOptions, RefreshReport, Unmatched, View,
};
pub use handle::{catalog, sizes};
pub use run::grid::{Grid, GridColumn, GridColumnKind, GridLine, GridReading, LineKind};
pub use value::format::Formats;
pub use value::{Type, Value};
