//! What this library's own tests, benches and fuzz targets look at. None of it is for anybody else: it changes at any time.

use crate::handle::{Error, Model, Query};
use cubrel_formula::schema::Schema;
use cubrel_model::Document;
use cubrel_model::roles::RoleDef;
use cubrel_plan::query::QueryPlan;
use cubrel_run::{Grid, Options, RunProfile};
use cubrel_store::Store;

/// The inside of a model.
pub trait InModel {
    /// What formulas can name.
    fn schema(&self) -> &Schema;
    /// The data.
    fn store(&self) -> &Store;
    /// What `model.toml` says.
    fn document(&self) -> &Document;
    /// The roles that people can ask in.
    fn roles(&self) -> &[RoleDef];
}

impl InModel for Model {
    fn schema(&self) -> &Schema {
        Model::schema(self)
    }

    fn store(&self) -> &Store {
        Model::store(self)
    }

    fn document(&self) -> &Document {
        Model::document(self)
    }

    fn roles(&self) -> &[RoleDef] {
        Model::roles(self)
    }
}

/// The inside of a query.
pub trait InQuery {
    /// The plan that it is run by.
    fn query_plan(&self) -> &QueryPlan;

    /// Runs it in a given way, and tells what that cost.
    ///
    /// # Errors
    /// As [`Query::run`].
    fn run_with(&self, options: &Options) -> Result<(Grid, RunProfile), Error>;
}

impl InQuery for Query {
    fn query_plan(&self) -> &QueryPlan {
        Query::query_plan(self)
    }

    fn run_with(&self, options: &Options) -> Result<(Grid, RunProfile), Error> {
        Query::run_with(self, options)
    }
}
