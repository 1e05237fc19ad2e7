//! A model as callers hold it.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use super::error::Error;
use cubrel_formula::check::Settings;
use cubrel_formula::schema::Schema;
use cubrel_formula::source::{Diagnostic, Source};
use cubrel_load::TableReport;
use cubrel_model::Document;
use cubrel_model::define::Step;
use cubrel_model::roles::RoleDef;
use cubrel_store::Store;
use cubrel_store::checksum::Damage;

/// A model with its data: immutable, cheap to clone, safe to share between threads.
///
/// ```no_run
/// # fn main() -> Result<(), cubrel::Error> {
/// let model = cubrel::Model::open("ferries")?;
/// let grid = model.query("grid net_revenue by port.region totals")?.run()?;
/// for line in &grid.lines {
///     println!("{:?}", line.values);
/// }
/// # Ok(())
/// # }
/// ```
#[derive(Clone, Debug)]
pub struct Model {
    pub(super) inner: Arc<Inner>,
}

#[derive(Debug)]
pub(super) struct Inner {
    pub(super) document: Document,
    pub(super) schema: Schema,
    pub(super) store: Store,
    pub(super) settings: Settings,
    pub(super) reports: Vec<TableReport>,
    pub(super) warnings: Vec<Diagnostic>,
    /// What keeps measures from being used.
    pub(super) of_measures: Vec<Diagnostic>,
    pub(super) roles: Vec<RoleDef>,
    pub(super) damage: Arc<Damage>,
    pub(super) restricted: Restricted,
    /// Why the data is older than the sources.
    pub(super) outdated: Option<Error>,
    /// Why there is no store of it.
    pub(super) unkept: Option<Error>,
    /// The roles that it was restricted to.
    pub(super) seen_as: Option<Vec<String>>,
    /// What is worked out after loading.
    pub(super) after: Vec<Step>,
}

/// Restricted models by roles, user and day.
pub(super) type Restricted = Mutex<HashMap<(Vec<String>, Option<String>, i32), Model>>;

impl Model {
    /// Whether everything of the store that was used so far is what was written.
    ///
    /// # Errors
    /// [`Error::Damaged`] when it is not: nothing that was computed since the model was opened can be trusted then.
    pub fn check_store(&self) -> Result<(), Error> {
        self.inner.damage.found().map_or(Ok(()), |what| Err(Error::Damaged(what.to_string())))
    }

    /// What formulas can name.
    pub(crate) fn schema(&self) -> &Schema {
        &self.inner.schema
    }

    /// The data.
    pub(crate) fn store(&self) -> &Store {
        &self.inner.store
    }

    /// What `model.toml` says.
    pub(crate) fn document(&self) -> &Document {
        &self.inner.document
    }

    /// The roles that people can ask in.
    pub(crate) fn roles(&self) -> &[RoleDef] {
        &self.inner.roles
    }

    /// The roles as which it is seen, where it is what somebody sees of another model.
    pub fn seen_as(&self) -> Option<&[String]> {
        self.inner.seen_as.as_deref()
    }

    /// The day that `today()` is, as a day number.
    pub fn today(&self) -> i32 {
        self.inner.settings.today
    }

    /// How each table was loaded.
    pub fn reports(&self) -> &[TableReport] {
        &self.inner.reports
    }

    /// This model, marked as older than its sources.
    pub(super) fn with_outdated(mut self, why: Error) -> Model {
        // Nobody else has it yet.
        if let Some(inner) = Arc::get_mut(&mut self.inner) {
            inner.outdated = Some(why);
        }
        self
    }

    /// This model, marked as one of which there is no store.
    pub(super) fn with_unkept(mut self, why: Error) -> Model {
        // Nobody else has it yet.
        if let Some(inner) = Arc::get_mut(&mut self.inner) {
            inner.unkept = Some(why);
        }
        self
    }

    /// Why [`Model::open`] could not write the store: the model is in memory alone, and read again the next time.
    pub fn unkept(&self) -> Option<&Error> {
        self.inner.unkept.as_ref()
    }

    /// What keeps measures from being used. Queries that do not use them are answered.
    pub fn wrong_measures(&self) -> &[Diagnostic] {
        &self.inner.of_measures
    }

    /// Why [`Model::open`] has given the last good data, where the sources have newer that could not be taken over.
    pub fn outdated(&self) -> Option<&Error> {
        self.inner.outdated.as_ref()
    }

    /// What is legal and surprising in the model.
    pub fn warnings(&self) -> &[Diagnostic] {
        &self.inner.warnings
    }

    /// The text of a saved query with its place in the model's file.
    pub(crate) fn saved_query(&self, name: &str, text: &str) -> Arc<Source> {
        self.document().formula(format!("query {name}"), &format!("query.{name}.text"), text)
    }
}
