//! From typed formulas to reads and what assembles their results.
//!
//! A formula is never evaluated cell by cell. All cells of a grid form one [`Scope`]: its *dimensions* say which
//! filters differ from cell to cell (an axis column, a bound row), its *filters* are the ones that all cells share. An
//! aggregate over a table becomes a [`Read`]: the table's rows under the shared filters, grouped by those dimensions that
//! reach it. What stands around aggregates becomes an [`Assembly`]: operators over the results of reads, all cells at
//! once. `given` changes the scope (a dropped column is one dimension fewer, and the result is spread over the cells
//! again); `per` adds dimensions and folds them away.
//!
//! * `tree`, `rows`, `scope`: what a plan is made of; `ids`: places in it
//! * `lower`: formulas to plans; [`query`]: queries; `optimizer`: passes; [`validate`]: what holds of every plan
//!
//! Plans are plain data. They know the schema and nothing of the store. Other layers use what stands in this file, and in
//! [`query`] and [`validate`].

#![cfg_attr(test, allow(clippy::unwrap_used))]

mod bridges;
mod identity;
mod ids;
mod inputs;
mod lower;
mod optimizer;
mod print;
pub mod query;
mod rows;
mod scope;
mod tree;
mod uses;
pub mod validate;
mod walk;

pub use ids::{AggregateId, DimId, KeyId, ListedBy, ReadId};
pub use inputs::Inputs;
pub use lower::{Environment, Planner};
pub use optimizer::{optimize, optimize_assembly};
#[cfg(any(test, feature = "internals"))]
pub use print::read_text;
pub use print::{Printer, relationship_name};
pub use rows::{ParameterId, Predicate, RowExpr, RowLeaf};
pub use scope::{Dim, Filter, FilterOrigin, FilterTest, Key, Scope};
pub use tree::{
    Assembly, Bound, Bridge, ByValue, Domain, DomainGroup, Fold, Leaf, OverDays, PeriodLeaf, RankLeaf, Read,
    ReadAggregate, ReadRef, RollUp, SetLeaf,
};
pub use walk::outer_values;

#[cfg(test)]
mod testing;
