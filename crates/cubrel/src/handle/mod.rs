//! What callers hold: a [`Model`] and the queries on it. Ties the layers together.

mod assembled;
mod builder;
mod calculated;
mod kept;
mod late;
mod query;
mod refresh;
mod restricted;
mod steps;

use std::path::Path;
use std::sync::Arc;

use crate::formula::check::Settings;
use crate::formula::schema::Schema;
use crate::formula::source::{Diagnostic, Problem, Source};
use crate::load::{LoadError, Observer, Silent, TableReport};
use crate::model::Document;
use crate::model::define::Step;
use crate::model::roles::RoleDef;
use crate::run::RunError;
use crate::store::Store;
use crate::store::proof::Damage;

pub use builder::Builder;
pub use query::{Limits, Query, QueryOptions};
pub use refresh::{RefreshOptions, RefreshReport, Unmatched};

/// Why something could not be done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The model, its data or a formula is wrong; every problem is listed.
    #[error("{}", .0.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"))]
    Problems(Vec<Diagnostic>),
    /// A file could not be read or written.
    #[error("{path}: {error}")]
    Io {
        /// Which one.
        path: String,
        /// Why.
        error: std::io::Error,
    },
    /// A query could not be run.
    #[error(transparent)]
    Run(RunError),
    /// It was ended from outside; see [`crate::Cancel`].
    #[error("it was cancelled")]
    Cancelled,
    /// A part of the store that was used is not what was written. A refresh reads the sources again.
    #[error("the store is damaged: {0}")]
    Damaged(String),
    /// A mistake of this library, found before it could become a wrong number.
    #[error("a fault of the library, and not of the model: {0}. Please report it, with the formulas that it was given")]
    Internal(String),
    /// A result cannot be given in the form asked for.
    #[error("{0}")]
    Form(String),
    /// Something is asked for by a name that nothing has.
    #[error("{0}")]
    Unknown(String),
}

impl Error {
    /// The problems, if that is what is wrong.
    pub fn problems(&self) -> &[Diagnostic] {
        match self {
            Error::Problems(list) => list,
            _ => &[],
        }
    }
}

/// What cannot be computed is a problem of a formula, with its place; the rest is about the run.
impl From<RunError> for Error {
    fn from(e: RunError) -> Error {
        match e {
            RunError::Eval(e) => {
                let problem = Diagnostic::error(Problem::Data, &e.place.source, e.place.span, e.text());
                Error::Problems(vec![problem])
            }
            RunError::Cancelled => Error::Cancelled,
            other => Error::Run(other),
        }
    }
}

impl From<LoadError> for Error {
    fn from(e: LoadError) -> Error {
        match e {
            LoadError::Problems(list) => Error::Problems(list),
            LoadError::Io { path, error } => Error::Io { path, error },
            LoadError::Cancelled => Error::Cancelled,
        }
    }
}

impl From<Vec<Diagnostic>> for Error {
    fn from(list: Vec<Diagnostic>) -> Error {
        Error::Problems(list)
    }
}

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
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    document: Document,
    schema: Schema,
    store: Store,
    settings: Settings,
    reports: Vec<TableReport>,
    warnings: Vec<Diagnostic>,
    /// What keeps measures from being used.
    of_measures: Vec<Diagnostic>,
    roles: Vec<RoleDef>,
    damage: Arc<Damage>,
    restricted: restricted::Cache,
    /// Why the data is older than the sources.
    outdated: Option<Error>,
    /// What is worked out after loading.
    after: Vec<Step>,
}

impl Model {
    /// Opens a model: a folder with a `model.toml`, or that file. Its store is used where it is newer than the sources,
    /// else the sources are read and the store is written. Where that fails and the model says what it said before, the
    /// store answers as it is, and [`Model::outdated`] says why.
    ///
    /// # Errors
    /// Everything that is wrong with the model or its data. A measure whose formula is wrong is no error: only what uses
    /// it is, and [`Model::wrong_measures`] lists them.
    pub fn open(path: impl AsRef<Path>) -> Result<Model, Error> {
        Model::open_with(path, &RefreshOptions::default(), &Silent).map(|(model, _)| model)
    }

    /// As [`Model::open`], with options and an observer; the report is there when sources were read.
    ///
    /// # Errors
    /// Everything that is wrong with the model or its data.
    pub fn open_with(
        path: impl AsRef<Path>,
        options: &RefreshOptions,
        observer: &dyn Observer,
    ) -> Result<(Model, Option<RefreshReport>), Error> {
        refresh::open(path.as_ref(), options, observer)
    }

    /// Reads what has changed in the sources and writes the store. Models that are already open are not disturbed, and
    /// when something is wrong the old store stays.
    ///
    /// # Errors
    /// Everything that is wrong with the model or its data.
    pub fn refresh(
        path: impl AsRef<Path>,
        options: &RefreshOptions,
        observer: &dyn Observer,
    ) -> Result<(Model, RefreshReport), Error> {
        refresh::refresh(path.as_ref(), options, observer)
    }

    /// Begins a model that is made in code.
    pub fn builder() -> Builder {
        Builder::default()
    }

    /// Plans a query.
    ///
    /// # Errors
    /// All problems of its text.
    pub fn query(&self, text: &str) -> Result<Query, Error> {
        self.query_with(text, &QueryOptions::default())
    }

    /// Plans a query with parameters. Problems of a text that is a saved query's are shown in the model's file.
    ///
    /// # Errors
    /// All problems of its text.
    pub fn query_with(&self, text: &str, options: &QueryOptions) -> Result<Query, Error> {
        let saved = self.document().file.query.iter().find(|(_, saved)| saved.text == text);
        let source = saved.map_or_else(|| Source::new("query", text), |(name, _)| self.saved_query(name, text));
        Query::plan(self, &source, options)
    }

    /// Whether everything of the store that was used so far is what was written.
    ///
    /// # Errors
    /// [`Error::Damaged`] when it is not: nothing that was computed since the model was opened can be trusted then.
    pub fn check_store(&self) -> Result<(), Error> {
        self.inner.damage.found().map_or(Ok(()), |what| Err(Error::Damaged(what.to_string())))
    }

    /// What formulas can name.
    pub fn schema(&self) -> &Schema {
        &self.inner.schema
    }

    /// The data.
    pub fn store(&self) -> &Store {
        &self.inner.store
    }

    /// What `model.toml` says.
    pub fn document(&self) -> &Document {
        &self.inner.document
    }

    /// The roles that people can ask in.
    pub fn roles(&self) -> &[RoleDef] {
        &self.inner.roles
    }

    /// How each table was loaded.
    pub fn reports(&self) -> &[TableReport] {
        &self.inner.reports
    }

    /// This model, marked as older than its sources.
    fn with_outdated(mut self, why: Error) -> Model {
        // Nobody else has it yet.
        if let Some(inner) = Arc::get_mut(&mut self.inner) {
            inner.outdated = Some(why);
        }
        self
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

    /// Everything that is wrong with the model and its saved queries, and what is legal and surprising.
    pub fn check(&self) -> Vec<Diagnostic> {
        let mut list: Vec<Diagnostic> = self.outdated().map_or_else(Vec::new, |why| match why {
            Error::Problems(problems) => problems.clone(),
            other => vec![Diagnostic::general(Problem::Data, other.to_string())],
        });
        list.extend(self.wrong_measures().iter().chain(self.warnings()).cloned());
        for (name, saved) in &self.document().file.query {
            let source = self.saved_query(name, &saved.text);
            match Query::plan(self, &source, &QueryOptions::default()) {
                Ok(query) => list.extend_from_slice(query.warnings()),
                // A measure that is wrong has been told.
                Err(Error::Problems(problems)) => {
                    let new = |p: &Diagnostic| !self.wrong_measures().iter().any(|q| q.is_same(p));
                    list.extend(problems.into_iter().filter(new));
                }
                // Without a role nothing else can go wrong before a query is run.
                Err(other) => list.push(Diagnostic::general(Problem::Model, other.to_string())),
            }
        }
        list
    }

    /// The text of a saved query with its place in the model's file.
    fn saved_query(&self, name: &str, text: &str) -> Arc<Source> {
        self.document().formula(format!("query {name}"), &format!("query.{name}.text"), text)
    }

    /// Where the bytes are.
    pub fn sizes(&self) -> crate::insight::sizes::Sizes {
        crate::insight::sizes::sizes(self)
    }
}
