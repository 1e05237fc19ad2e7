//! A text that is being written, and what is wrong with it.

use std::path::Path;
use std::sync::Arc;

use crate::handle::NewNames;
use crate::handle::catalog::Catalog;
use crate::{Diagnostic, Error, Model, Problem, QueryOptions, Severity};
use cubrel_formula::source::Source;
use cubrel_load::sources::is_server;
use cubrel_model::Document;
use cubrel_model::dependencies::formulas;
use cubrel_model::mentions::Names;
use cubrel_model::toml_places::TomlPlaces;

/// The text of a model's file while somebody writes it, held against tables that were loaded before.
///
/// Places are byte offsets in the text.
///
/// ```
/// # fn main() -> Result<(), cubrel::Error> {
/// use cubrel::{Model, ModelText, Type, Value};
///
/// let loaded = Model::builder()
///     .rows("booking", &[("net", Type::Int)], &[vec![Value::Int(10)]])
///     .build()?;
/// let text = "[table.booking]\nsource = 'booking.csv'\n[measure.net_revenue]\nformula = 'sum(booking.nett)'\n";
/// let written = ModelText::read("ferries".as_ref(), "model.toml", text, Some(&loaded), None);
/// assert!(written.problems()[0].message.contains("nett"));
/// let at = text.find("ett)").unwrap();
/// assert_eq!(written.completions(at)[0].text, "net");
/// # Ok(())
/// # }
/// ```
#[derive(Debug)]
pub struct ModelText {
    pub(super) source: Arc<Source>,
    /// What it says, where it can be read.
    pub(super) document: Option<Document>,
    pub(super) places: TomlPlaces,
    /// The model that it makes, or that the last text before it made which made one.
    pub(super) model: Option<Model>,
    /// Whether that is this text's own.
    pub(super) is_own: bool,
    /// What the store has, where nothing else was loaded.
    stored: Option<Model>,
    pub(super) catalog: Catalog,
    problems: Vec<Diagnostic>,
}

/// What a model has that is called in a new text as in the old one.
struct SameNames;

impl NewNames for SameNames {
    fn table(&self, name: &str) -> String {
        name.to_string()
    }

    fn column(&self, _: &str, name: &str) -> String {
        name.to_string()
    }
}

impl ModelText {
    /// Reads a text that stands in a file of this name in a folder. `loaded` is the model of an earlier text, whose tables are
    /// taken as they are; without one, those of the store in the folder; where there is none, formulas are read and not
    /// checked. `before` is what was read of the text before it was changed: names are taken from there as long as this one
    /// makes no model.
    pub fn read(
        folder: &Path,
        name: &str,
        text: &str,
        loaded: Option<&Model>,
        before: Option<&ModelText>,
    ) -> ModelText {
        let (document, mut problems) = match Document::parse(name, text, folder.to_path_buf()) {
            Ok(document) => (Some(document), Vec::new()),
            Err(problems) => (None, problems),
        };
        let known = before.and_then(|before| before.stored.as_ref()).filter(|_| loaded.is_none());
        let known = known.filter(|known| document.as_ref().is_none_or(|document| has_tables(known, document)));
        let mut stored = known.cloned();
        let made = document.as_ref().and_then(|document| match loaded.or(known) {
            Some(known) => Some(known.outlined_with(document.clone(), &SameNames)),
            None => Model::outlined_from_store(document).inspect(|made| stored = made.as_ref().ok().cloned()),
        });
        let mut own = None;
        match (made, &document) {
            (Some(Ok(model)), _) => {
                problems = model.check();
                // Whoever has not finished is not told to tidy up.
                if problems.iter().all(|p| p.severity != Severity::Error) {
                    problems.extend(model.hints());
                }
                own = Some(model);
            }
            (Some(Err(error)), _) => problems = problems_of(error),
            (None, Some(document)) => problems = formulas(document).all_problems(),
            (None, None) => {}
        }
        let is_own = own.is_some();
        let model = own.or_else(|| before.and_then(|b| b.model.clone())).or_else(|| loaded.cloned());
        let catalog = model.as_ref().map(Model::catalog).unwrap_or_default();
        let source = Source::new(name, text);
        ModelText { places: TomlPlaces::of(text), source, document, model, is_own, stored, catalog, problems }
    }

    /// Everything that is wrong with it, what is legal and surprising, and what is untidy.
    pub fn problems(&self) -> &[Diagnostic] {
        &self.problems
    }

    /// The names that formulas and queries can use, those of its own measures among them.
    pub fn catalog(&self) -> &Catalog {
        &self.catalog
    }

    /// Whether the text reads tables from servers of databases.
    pub fn asks_servers(&self) -> bool {
        let tables = self.document.iter().flat_map(|document| document.file.table.values());
        tables.flat_map(|section| section.sources()).any(|source| is_server(source))
    }

    /// Everything that is wrong with a query of the model, and what is surprising.
    pub fn problems_of_query(&self, name: &str, text: &str) -> Vec<Diagnostic> {
        let Some(model) = &self.model else {
            return cubrel_formula::parser::query(&Source::new(name, text)).1;
        };
        match model.query_of(&Source::new(name, text), &QueryOptions::default()) {
            Ok(query) => query.warnings().to_vec(),
            Err(error) => problems_of(error),
        }
    }

    pub(super) fn text(&self) -> &str {
        &self.source.text
    }

    /// What names mean, as far as anything is known of it.
    pub(super) fn names(&self) -> Option<Names<'_>> {
        let model = self.model.as_ref()?;
        let document = self.document.as_ref().unwrap_or_else(|| model.document());
        Some(Names::new(document, model.schema(), false))
    }
}

/// Whether the tables of a text that are read from somewhere are among those of a model.
fn has_tables(model: &Model, document: &Document) -> bool {
    let mut read = document.file.table.iter().filter(|(_, section)| section.query.is_none());
    read.all(|(name, _)| model.schema().find_table(name).is_some())
}

fn problems_of(error: Error) -> Vec<Diagnostic> {
    match error {
        Error::Problems(problems) => problems,
        other => vec![Diagnostic::general(Problem::Model, other.to_string())],
    }
}
