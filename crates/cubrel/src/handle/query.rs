//! Queries.

use crate::GridColumn;
use std::sync::Arc;

use super::error::Error;
use super::model::Model;
use super::options::{Limits, QueryOptions, not_ended};
use cubrel_formula::check::Settings;
use cubrel_formula::source::{Diagnostic, Source};
use cubrel_plan::query::{QueryPlan, plan};
use cubrel_plan::{Inputs, optimize, validate};
use cubrel_run::{Grid, Options, RunProfile};
use cubrel_value::cancel::Cancel;

/// A query that has been checked and planned; it can be run any number of times.
#[derive(Clone, Debug)]
pub struct Query {
    model: Model,
    /// As the formulas say it.
    plan: Arc<QueryPlan>,
    /// The same, cheaper.
    optimized: Arc<QueryPlan>,
    limits: Limits,
    cancel: Cancel,
}

impl Model {
    /// Plans a query.
    ///
    /// # Errors
    /// All problems of its text.
    pub fn query(&self, text: &str) -> Result<Query, Error> {
        self.query_with(text, &QueryOptions::default())
    }

    /// Plans a query with parameters. Problems of a text that is a saved query's are shown in the model's file, but to those
    /// who see a part of the model: what else is saved there is none of their business.
    ///
    /// # Errors
    /// All problems of its text.
    pub fn query_with(&self, text: &str, options: &QueryOptions) -> Result<Query, Error> {
        let is_whole = self.seen_as().is_none();
        let saved = self.document().file.query.iter().find(|(_, saved)| is_whole && saved.text == text);
        let source = saved.map_or_else(|| Source::new("query", text), |(name, _)| self.saved_query(name, text));
        Query::plan(self, &source, options)
    }

    /// Plans a query whose text stands somewhere.
    pub(crate) fn query_of(&self, source: &Arc<Source>, options: &QueryOptions) -> Result<Query, Error> {
        Query::plan(self, source, options)
    }

    /// What texts are checked with.
    pub(crate) fn settings_for(&self, options: &QueryOptions) -> Settings {
        let own = &self.inner.settings;
        Settings {
            parameters: options.parameters.clone(),
            today: options.today.unwrap_or(own.today),
            // Who a model was restricted for is who asks it.
            user: own.user.clone().or_else(|| options.user.clone()),
            ending: options.ending(),
            ..own.clone()
        }
    }
}

impl Query {
    /// The columns that its grid will have: row axes, column axes, items.
    pub fn columns(&self) -> Vec<GridColumn> {
        cubrel_run::columns_of(self.model.schema(), &self.plan)
    }

    /// Whether its grid will mark totals, and others.
    pub(super) fn marks(&self) -> (bool, bool) {
        cubrel_run::marks_of(&self.plan)
    }

    pub(super) fn plan(model: &Model, source: &Arc<Source>, options: &QueryOptions) -> Result<Query, Error> {
        let settings = model.settings_for(options);
        let within = |planned: Result<QueryPlan, Error>| {
            // Whatever is said of a plan that was given up is not what is wrong with it.
            not_ended(&settings)?;
            let planned = planned?;
            validate::query(model.schema(), &planned).map_err(Error::Internal)?;
            Ok::<_, Error>(Arc::new(planned))
        };
        let plan = within(plan(model.schema(), &settings, source).map_err(Error::from))?;
        let optimized = within(Ok(optimize(model.schema(), &plan)))?;
        Ok(Query { model: model.clone(), plan, optimized, limits: options.limits, cancel: options.cancel.clone() })
    }

    /// What it is answered from.
    pub(super) fn inputs(&self) -> Inputs {
        Inputs::of_query(self.model.schema(), &self.plan)
    }

    /// The plan that it is run by.
    pub(crate) fn query_plan(&self) -> &QueryPlan {
        &self.optimized
    }

    /// What is legal in it and probably not what was meant.
    pub fn warnings(&self) -> &[Diagnostic] {
        self.plan.warnings()
    }

    /// The model that it asks, as who asks may see it.
    pub fn model(&self) -> &Model {
        &self.model
    }

    /// Runs it.
    ///
    /// # Errors
    /// When a formula cannot be computed for some row, or a limit is reached.
    pub fn run(&self) -> Result<Grid, Error> {
        Ok(self.run_with(&self.limits.options(&self.cancel))?.0)
    }

    /// Runs it in a given way, and tells what that cost.
    ///
    /// # Errors
    /// When a formula cannot be computed for some row, or a limit is reached.
    pub(crate) fn run_with(&self, options: &Options) -> Result<(Grid, RunProfile), Error> {
        let plan = if options.optimize { &self.optimized } else { &self.plan };
        let done = cubrel_run::run(self.model.schema(), self.model.store(), plan, options);
        self.model.check_store()?;
        let done = done?;
        // An answer that comes too late is none.
        options.check()?;
        Ok(done)
    }
}
