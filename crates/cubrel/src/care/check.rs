//! Everything that is wrong with a model.

use super::{expectations, hints};
use crate::{Diagnostic, Error, Model, Problem, QueryOptions};
use cubrel_model::mentions::Names;
use cubrel_model::paths::column_path;

impl Model {
    /// Everything that is wrong with the model, its saved queries, shortlists and expectations, and what is legal and
    /// surprising.
    pub fn check(&self) -> Vec<Diagnostic> {
        let mut list: Vec<Diagnostic> = self.outdated().map_or_else(Vec::new, |why| match why {
            Error::Problems(problems) => problems.clone(),
            other => vec![Diagnostic::general(Problem::Data, other.to_string())],
        });
        list.extend(self.wrong_measures().iter().chain(self.warnings()).cloned());
        // Where the texts of a model stand, and what of them cannot be asked, is told to whoever sees all of it.
        if self.seen_as().is_some() {
            return list;
        }
        for (name, saved) in &self.document().file.query {
            let source = self.saved_query(name, &saved.text);
            match self.query_of(&source, &QueryOptions::default()) {
                Ok(query) => list.extend_from_slice(query.warnings()),
                Err(Error::Problems(problems)) => list.extend(problems),
                // Without a role nothing else can go wrong before a query is run.
                Err(other) => list.push(Diagnostic::general(Problem::Model, other.to_string())),
            }
        }
        list.extend(shortlists(self));
        list.extend(expectations::problems(self));
        list.extend(hints::unknown_names(self));
        // What is wrong with a measure is told once, whoever uses it.
        let mut told: Vec<Diagnostic> = Vec::new();
        for problem in list {
            if !told.iter().any(|p| p.is_same(&problem)) {
                told.push(problem);
            }
        }
        told
    }
}

/// What shortlists name and nothing has.
fn shortlists(model: &Model) -> Vec<Diagnostic> {
    let document = model.document();
    let names = Names::new(document, model.schema(), false);
    let mut problems = Vec::new();
    for (name, section) in &document.file.shortlist {
        for (i, item) in section.list.iter().enumerate() {
            let is_column = column_path(item).is_some_and(|(table, column)| names.column(&table, &column).is_some());
            if !is_column && names.listed(item).is_none() {
                let message = format!("nothing of this model is called `{item}`");
                let problem = document.problem(Problem::UnknownName, &format!("shortlist.{name}.list.{i}"), message);
                problems
                    .push(problem.help("a shortlist names tables, `table.column`, measures, hierarchies and lenses"));
            }
        }
    }
    problems
}
