//! A model as another text of its file would make it: of the tables that are loaded, or of today's sources. Nothing is
//! written.

use std::path::Path;

use super::assembled::{assemble, outlined};
use super::error::Error;
use super::kept::Kept;
use super::late::Known;
use super::model::Model;
use super::refresh::{Before, RefreshOptions, clock_day, current, loaded, settings};
use cubrel_formula::check::Settings;
use cubrel_formula::schema::Computed;
use cubrel_formula::source::Severity;
use cubrel_load::Observer;
use cubrel_load::loaded::{LoadedColumn, LoadedTable};
use cubrel_model::Document;
use cubrel_model::dependencies::{Formulas, formulas};
use cubrel_model::file::TableSection;

/// What a table and its columns are called in another text.
pub(crate) trait NewNames {
    /// The new name of a table.
    fn table(&self, name: &str) -> String;
    /// The new name of a column.
    fn column(&self, table: &str, name: &str) -> String;
}

fn checked(document: &Document) -> Result<Formulas, Error> {
    let formulas = formulas(document);
    if formulas.problems.iter().any(|p| p.severity == Severity::Error) {
        return Err(Error::Problems(formulas.all_problems()));
    }
    Ok(formulas)
}

impl Model {
    /// The model that another text makes of what is loaded: names may be new, parts may be gone. What is calculated after
    /// loading is calculated again.
    ///
    /// # Errors
    /// Everything that is wrong with it.
    pub(crate) fn with_document(&self, document: Document, names: &dyn NewNames) -> Result<Model, Error> {
        let formulas = checked(&document)?;
        let (tables, settings) = (self.tables_for(&document, names), self.settings_of(&document));
        assemble(document, &formulas, &tables, settings, Known::default(), &crate::Cancel::default())
    }

    /// The model that another text makes of what is loaded, with nothing worked out.
    ///
    /// # Errors
    /// Everything that is wrong with it.
    pub(crate) fn outlined_with(&self, document: Document, names: &dyn NewNames) -> Result<Model, Error> {
        let formulas = checked(&document)?;
        let (tables, settings) = (self.tables_for(&document, names), self.settings_of(&document));
        outlined(document, &formulas, &tables, settings)
    }

    /// The model that a text makes of what the store in its folder has, with nothing worked out; nothing where there is no
    /// store.
    ///
    /// # Errors
    /// Everything that is wrong with it.
    pub(crate) fn outlined_from_store(document: &Document) -> Option<Result<Model, Error>> {
        let kept = Kept::read(document)?;
        let table = |(name, section): (&String, &TableSection)| match section.query {
            Some(_) => Some(LoadedTable::by_query(name)),
            None => kept.table(name),
        };
        let tables: Vec<LoadedTable> = document.file.table.iter().filter_map(table).collect();
        let settings = settings(document, &RefreshOptions { today: Some(clock_day()), ..RefreshOptions::default() });
        Some(checked(document).and_then(|formulas| outlined(document.clone(), &formulas, &tables, settings)))
    }

    /// What is loaded of the tables of another text.
    fn tables_for(&self, document: &Document, names: &dyn NewNames) -> Vec<LoadedTable> {
        let schema = self.schema();
        let mut tables: Vec<LoadedTable> = Vec::new();
        for (name, section) in &document.file.table {
            if section.query.is_some() {
                tables.push(LoadedTable::by_query(name));
                continue;
            }
            let found = schema.tables.iter().position(|t| names.table(&t.name) == *name);
            let Some(i) = found else { continue };
            let (table, data) = (&schema.tables[i], &self.store().tables[i]);
            let columns = table.columns.iter().zip(&data.columns).filter_map(|(column, data)| {
                let new = names.column(&table.name, &column.name);
                let said = section.column.get(&new);
                let is_gone = said.is_some_and(|c| c.keep == Some(false));
                let is_made = column.computed == Computed::Loading && said.is_none_or(|c| c.formula.is_none());
                // A copy has what is calculated while the first table is loaded.
                let is_made = is_made && section.same_as.is_none();
                let stays = column.computed != Computed::After && !is_gone && !is_made;
                stays.then(|| LoadedColumn { name: new, data: data.clone(), computed: column.computed })
            });
            let report = crate::TableReport { table: name.clone(), ..self.reports()[i].clone() };
            let (columns, partitions) = (columns.collect(), Vec::new());
            tables.push(LoadedTable {
                name: name.clone(),
                rows: data.rows,
                columns,
                report,
                partitions,
                fingerprint: 0,
            });
        }
        tables
    }

    fn settings_of(&self, document: &Document) -> Settings {
        Settings { locale: document.file.model.locale_with_currency(), ..self.inner.settings.clone() }
    }

    /// The model that a text would be if it stood in a folder, on what its sources have today. What its store has and the
    /// text does not load otherwise is not read again; a store that has just that is taken as it is.
    ///
    /// # Errors
    /// Everything that is wrong with the text or its data.
    ///
    /// ```no_run
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Model, RefreshOptions, Silent};
    ///
    /// let before = std::fs::read_to_string("ferries/model.toml.old").unwrap_or_default();
    /// let now = Model::open("ferries")?;
    /// let then = Model::open_text("ferries".as_ref(), "model.toml.old", &before, &RefreshOptions::default(), &Silent)?;
    /// assert!(then.compare(&now, &[], &Default::default(), 1)?.agree());
    /// # Ok(())
    /// # }
    /// ```
    pub fn open_text(
        folder: &Path,
        name: &str,
        text: &str,
        options: &RefreshOptions,
        observer: &dyn Observer,
    ) -> Result<Model, Error> {
        let document = Document::parse(name, text, folder.to_path_buf())?;
        let formulas = checked(&document)?;
        let kept = Kept::read(&document);
        let options = RefreshOptions { today: Some(options.today.unwrap_or_else(clock_day)), ..options.clone() };
        if let Some(model) = current(&document, &formulas, kept.as_ref(), &options)? {
            return Ok(model);
        }
        let old = kept.filter(|kept| kept.stored.verify().is_ok());
        let settings = settings(&document, &options);
        Ok(loaded(document, &formulas, settings, Before::of(old.as_ref()), &options, observer)?.model)
    }
}
