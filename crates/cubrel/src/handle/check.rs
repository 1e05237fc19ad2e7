//! Everything that is wrong with a model.

use super::error::Error;
use super::model::Model;
use super::options::QueryOptions;
use super::query::Query;
use crate::formula::source::{Diagnostic, Problem};

impl Model {
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
}
