//! What callers hold: a [`Model`] and the queries on it. Ties the layers together.
//!
//! * `model`: the model itself; `sizes`: where its bytes are
//! * `query`, `options`: queries, and what they are asked with; `arrow`: their grids for other programs
//! * `builder`, `definitions`: models made in code; `refresh`: models from a folder; `kept`: what a refresh leaves behind
//! * `assembled`: tables to a model; `late`: what is worked out when all of them are there, `steps`: in which order,
//!   `calculated`: columns
//! * `revised`: what another text of the file makes of the same data
//! * `restricted`: what roles leave of a model
//! * `followed`: which relationships formulas and queries follow
//! * `error`: why something could not be done

mod arrow;
mod assembled;
mod builder;
mod calculated;
pub mod catalog;
mod definitions;
mod error;
mod followed;
mod kept;
mod late;
mod model;
mod options;
mod query;
mod refresh;
mod restricted;
mod revised;
pub mod sizes;
mod steps;

pub use arrow::values;
pub use builder::{Builder, Definition};
pub use definitions::{Calendar, Column, Lens, Measure, Relation, Role};
pub use error::{Error, ErrorKind};
pub use model::Model;
pub(crate) use options::not_ended;
pub use options::{Limits, QueryOptions};
pub use query::Query;
pub(crate) use refresh::{ReadTable, refresh_from};
pub use refresh::{RefreshOptions, RefreshReport, Unmatched};
pub use restricted::View;
pub(crate) use revised::NewNames;
