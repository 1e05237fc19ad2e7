//! The texts that are open, and the models that they belong to.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use cubrel::sizes::{ColumnSize, Sizes};
use cubrel::{Cancel, Diagnostic, Model, ModelText};

use crate::loading::file_name;

/// A text that is open in the editor.
pub(crate) struct OpenText {
    pub(crate) text: String,
    pub(crate) version: i32,
    /// The file of its model: its own, or the one that a query is asked of. None for what has nothing to do with a model.
    pub(crate) model: Option<PathBuf>,
    /// Whether it is that file.
    pub(crate) is_model: bool,
}

/// A model that open texts belong to.
pub(crate) struct OpenModel {
    /// Its file's text: as it is in the editor, or on disk.
    pub(crate) text: String,
    pub(crate) read: ModelText,
    /// With the tables of the last text that could be loaded, and what they weigh.
    loaded: Option<(Model, Sizes)>,
    /// What kept a text from being loaded.
    failure: Option<(String, Vec<Diagnostic>)>,
    /// The switch of what is being loaded.
    pub(crate) loading: Option<Cancel>,
}

impl OpenModel {
    fn new(file: &Path, text: String) -> OpenModel {
        let read = read(file, &text, None, None);
        OpenModel { text, read, loaded: None, failure: None, loading: None }
    }

    /// Takes another text.
    pub(crate) fn rewrite(&mut self, file: &Path, text: String) {
        self.text = text;
        self.read_again(file);
    }

    fn read_again(&mut self, file: &Path) {
        let loaded = self.loaded.as_ref().map(|(model, _)| model);
        self.read = read(file, &self.text, loaded, Some(&self.read));
    }

    /// Takes what came of loading a text.
    pub(crate) fn take(&mut self, file: &Path, text: String, result: Result<(Model, Sizes), cubrel::Error>) {
        match result {
            Ok(loaded) => (self.loaded, self.failure, self.loading) = (Some(loaded), None, None),
            // Another one has begun.
            Err(cubrel::Error::Cancelled) => return,
            Err(error) => {
                self.loading = None;
                let problems = match error.problems() {
                    [] => vec![Diagnostic::general(cubrel::Problem::Data, error.to_string())],
                    problems => problems.to_vec(),
                };
                self.failure = Some((text, problems));
            }
        }
        self.read_again(file);
    }

    /// Everything that is wrong with its text; what kept it from being loaded, as long as the text is that one.
    pub(crate) fn problems(&self) -> Vec<Diagnostic> {
        let mut all = self.read.problems().to_vec();
        if let Some((_, failure)) = self.failure.as_ref().filter(|(text, _)| *text == self.text) {
            all.extend(failure.iter().filter(|p| !self.read.problems().iter().any(|known| known.is_same(p))).cloned());
        }
        all
    }

    /// What a column weighs, written `table.column`.
    pub(crate) fn size_of(&self, name: &str) -> Option<&ColumnSize> {
        let (_, sizes) = self.loaded.as_ref()?;
        let of = |table: &str, column: &ColumnSize| format!("{table}.{}", column.name) == name;
        sizes.tables.iter().find_map(|table| table.columns.iter().find(|column| of(&table.name, column)))
    }
}

fn read(file: &Path, text: &str, loaded: Option<&Model>, before: Option<&ModelText>) -> ModelText {
    ModelText::read(file.parent().unwrap_or(Path::new(".")), &file_name(file), text, loaded, before)
}

/// Everything that is open.
#[derive(Default)]
pub(crate) struct Workspace {
    /// The model that was named when the server was started.
    pub(crate) named: Option<PathBuf>,
    /// By URI.
    pub(crate) texts: HashMap<String, OpenText>,
    /// By file.
    pub(crate) models: HashMap<PathBuf, OpenModel>,
}

impl Workspace {
    /// The model file that a text belongs to, and whether it is that file.
    pub(crate) fn model_of(&self, file: &Path) -> (Option<PathBuf>, bool) {
        let is_model = file.file_name().is_some_and(|name| name == "model.toml") || self.named.as_deref() == Some(file);
        if is_model {
            return (Some(file.to_path_buf()), true);
        }
        // Settings of other programs.
        if file.extension().is_some_and(|extension| extension == "toml") {
            return (None, false);
        }
        let above = || file.ancestors().skip(1).map(|folder| folder.join("model.toml")).find(|file| file.is_file());
        (self.named.clone().or_else(above), false)
    }

    /// Opens the model of a file, as it is in the editor or on disk; whether it was not open before.
    pub(crate) fn open_model(&mut self, file: &Path, text: Option<String>) -> bool {
        let is_new = !self.models.contains_key(file);
        match (self.models.get_mut(file), text) {
            (Some(model), Some(text)) => model.rewrite(file, text),
            (Some(_), None) => {}
            (None, text) => {
                let text = text.unwrap_or_else(|| std::fs::read_to_string(file).unwrap_or_default());
                self.models.insert(file.to_path_buf(), OpenModel::new(file, text));
            }
        }
        is_new
    }

    /// The text of a URI with its model.
    pub(crate) fn at(&self, uri: &str) -> Option<(&OpenText, &OpenModel)> {
        let text = self.texts.get(uri)?;
        Some((text, self.models.get(text.model.as_ref()?)?))
    }
}
