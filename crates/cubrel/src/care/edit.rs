//! A change of a model's file: checked, proved, written.

use std::collections::BTreeMap;
use std::path::Path;

use serde::Serialize;
use similar::{ChangeTag, TextDiff};

use super::graph::Graph;
use super::history::{History, HistoryStep};
use super::proof;
use crate::handle::NewNames;
use crate::{Diagnostic, Error, Model, Problem, QueryOptions, RefreshOptions, Severity};
use cubrel_model::Document;
use cubrel_model::parts::Part;

/// How a model's file is changed.
#[derive(Clone, Debug, Default)]
pub struct EditOptions {
    /// Say what would change, and write nothing.
    pub dry_run: bool,
    /// How the model is opened, if it is to be.
    pub refresh: RefreshOptions,
}

/// What a change of a model's file came to.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ModelEdit {
    /// Line by line.
    pub changed: Vec<ChangedLine>,
    /// Whether it was written.
    pub written: bool,
    /// What would break, or mean something else; nothing is written then.
    pub refused: Vec<Refusal>,
    /// The change in words.
    #[serde(skip)]
    pub what: String,
    /// The text before the change.
    #[serde(skip)]
    pub before: String,
    /// The text after it.
    #[serde(skip)]
    pub after: String,
    /// How many saved queries and measures were asked before and after, with the same answers.
    #[serde(skip)]
    pub proved: usize,
}

/// A line that changes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct ChangedLine {
    /// Its number before the change, from 1; for a new line the number of the one that it stands before.
    pub line: usize,
    /// The line before; nothing for a new one.
    pub before: Option<String>,
    /// The line after; nothing for one that is gone.
    pub after: Option<String>,
}

/// Why a change cannot be made.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Refusal {
    /// What stands against it.
    pub name: String,
    /// The line of the file; nothing where it stands in none.
    pub line: Option<usize>,
    /// Why.
    pub why: String,
}

impl ModelEdit {
    pub(super) fn of(what: String, before: &str, after: &str) -> ModelEdit {
        ModelEdit {
            changed: changed_lines(before, after),
            written: false,
            refused: Vec::new(),
            what,
            before: before.to_string(),
            after: after.to_string(),
            proved: 0,
        }
    }

    pub(super) fn refused(what: String, before: &str, refused: Vec<Refusal>) -> ModelEdit {
        ModelEdit { refused, ..ModelEdit::of(what, before, before) }
    }

    /// The change as programs that patch files read it, with some lines around.
    pub fn diff(&self, name: &str) -> String {
        TextDiff::from_lines(&self.before, &self.after).unified_diff().header(name, name).to_string()
    }
}

fn changed_lines(before: &str, after: &str) -> Vec<ChangedLine> {
    let diff = TextDiff::from_lines(before, after);
    let mut changed: Vec<ChangedLine> = Vec::new();
    for op in diff.ops() {
        let text = |value: &str| value.trim_end_matches(['\r', '\n']).to_string();
        let (mut gone, mut new) = (Vec::new(), Vec::new());
        for change in diff.iter_changes(op) {
            match change.tag() {
                ChangeTag::Delete => gone.push(text(change.value())),
                ChangeTag::Insert => new.push(text(change.value())),
                ChangeTag::Equal => {}
            }
        }
        let first = op.old_range().start + 1;
        for i in 0..gone.len().max(new.len()) {
            let line = first + i.min(gone.len());
            changed.push(ChangedLine { line, before: gone.get(i).cloned(), after: new.get(i).cloned() });
        }
    }
    changed
}

/// What parts are called after a change; those that are gone keep their names.
#[derive(Debug, Default)]
pub(super) struct Renames {
    pub(super) parts: BTreeMap<Part, String>,
    /// Parts that are gone from lists, so that others have lower numbers.
    pub(super) gone: Vec<Part>,
}

impl Renames {
    fn name(&self, part: &Part, old: &str) -> String {
        self.parts.get(part).cloned().unwrap_or_else(|| old.to_string())
    }

    /// A part by its new names.
    pub(super) fn part(&self, part: &Part) -> Part {
        match part {
            Part::Table(t) => Part::Table(NewNames::table(self, t)),
            Part::Column(t, c) => Part::Column(NewNames::table(self, t), self.column(t, c)),
            Part::Hierarchy(t, h) => Part::Hierarchy(NewNames::table(self, t), self.name(part, h)),
            Part::Measure(name) => Part::Measure(self.name(part, name)),
            Part::Lens(name) => Part::Lens(self.name(part, name)),
            Part::Query(name) => Part::Query(self.name(part, name)),
            Part::Role(name) => Part::Role(self.name(part, name)),
            Part::Shortlist(name) => Part::Shortlist(self.name(part, name)),
            Part::Relationship(i) => Part::Relationship(i - self.gone_before(part)),
            Part::Expectation(i) => Part::Expectation(i - self.gone_before(part)),
        }
    }

    fn gone_before(&self, part: &Part) -> usize {
        self.gone.iter().filter(|gone| gone.kind() == part.kind() && *gone < part).count()
    }
}

impl NewNames for Renames {
    fn table(&self, name: &str) -> String {
        self.name(&Part::Table(name.to_string()), name)
    }

    fn column(&self, table: &str, name: &str) -> String {
        self.name(&Part::column(table, name), name)
    }
}

/// A model whose file is to be changed.
pub(super) struct Editor {
    pub(super) history: History,
    pub(super) model: Model,
    pub(super) text: String,
}

impl Editor {
    /// Opens a model to change it.
    pub(super) fn open(path: &Path, options: &EditOptions, observer: &dyn crate::Observer) -> Result<Editor, Error> {
        let history = History::of(path);
        let (model, _) = Model::open_with(path, &options.refresh, observer)?;
        let text = model.document().source.text.clone();
        let there = history.text().map_err(|e| Error::io(history.file().display().to_string(), e))?;
        if there != text {
            return Err(changed_meanwhile(&history));
        }
        Ok(Editor { history, model, text })
    }

    /// For a change that is to be looked at, and neither proved nor written.
    pub(super) fn over(model: Model) -> Editor {
        let (history, text) = (History::of(&model.document().folder), model.document().source.text.clone());
        Editor { history, model, text }
    }

    /// The model that a new text makes of the same data, where it is one.
    pub(super) fn tried(&self, after: &str, renames: &Renames) -> Result<Model, Vec<Refusal>> {
        self.made(after, |document| self.model.with_document(document, renames))
    }

    /// The same with nothing worked out.
    pub(super) fn outlined(&self, after: &str, renames: &Renames) -> Result<Model, Vec<Refusal>> {
        self.made(after, |document| self.model.outlined_with(document, renames))
    }

    fn made(&self, after: &str, make: impl Fn(Document) -> Result<Model, Error>) -> Result<Model, Vec<Refusal>> {
        let name = &self.model.document().source.name;
        let document = Document::parse(name, after, self.model.document().folder.clone()).map_err(|p| refusals(&p))?;
        let model = make(document).map_err(|e| match e {
            Error::Problems(problems) => refusals(&problems),
            other => vec![Refusal { name: String::new(), line: None, why: other.to_string() }],
        })?;
        let new: Vec<Diagnostic> = model
            .wrong_measures()
            .iter()
            .filter(|p| !self.model.wrong_measures().iter().any(|old| old.message == p.message))
            .cloned()
            .collect();
        if new.is_empty() { Ok(model) } else { Err(refusals(&new)) }
    }

    /// The model that a new text makes of today's sources.
    pub(super) fn reloaded(&self, after: &str, options: &EditOptions) -> Result<Model, Error> {
        let document = self.model.document();
        Model::open_text(&document.folder, &document.source.name, after, &options.refresh, &crate::Silent)
    }

    /// Where a name means something else in the new text than it did, or nothing.
    pub(super) fn meanings(&self, after: &Model, renames: &Renames, is_gone: &dyn Fn(&Part) -> bool) -> Vec<Refusal> {
        let (old, new) = (Graph::new(&self.model), Graph::new(after));
        let mut refused = Vec::new();
        let mut expected: Vec<(Part, Part)> = old
            .mentions
            .iter()
            .filter(|m| !is_gone(&m.by) && !is_gone(&m.of))
            .map(|m| (renames.part(&m.by), renames.part(&m.of)))
            .collect();
        for mention in &new.mentions {
            let pair = (mention.by.clone(), mention.of.clone());
            match expected.iter().position(|p| *p == pair) {
                Some(i) => drop(expected.swap_remove(i)),
                None => {
                    let (file, span) = mention.source.place(mention.span);
                    let (line, _) = file.line_column(span.start);
                    let why = format!("it would come to name {} {}", mention.of.kind().name(), new.show(&mention.of));
                    refused.push(Refusal { name: new.show(&mention.by), line: Some(line), why });
                }
            }
        }
        for (by, of) in expected {
            let why = format!("it would no longer name {} {}", of.kind().name(), new.show(&of));
            refused.push(Refusal { name: new.show(&by), line: None, why });
        }
        let lost = old.parts.iter().filter(|part| !is_gone(part)).map(|part| renames.part(part));
        for part in lost.filter(|part| !new.parts.contains(part)) {
            let why = format!("there would be no {} of that name any more", part.kind().name());
            refused.push(Refusal { name: new.show(&part), line: None, why });
        }
        refused
    }

    /// Asks both models everything that both have, and writes the new text where the answers are the same.
    pub(super) fn finish(
        &self,
        edit: ModelEdit,
        after: &Model,
        renames: &Renames,
        options: &EditOptions,
    ) -> Result<ModelEdit, Error> {
        let new_name = |name: &str, is_query: bool| {
            let part = if is_query { Part::Query(name.into()) } else { Part::Measure(name.into()) };
            renames.name(&part, name)
        };
        let asked = proof::asked(&self.model, new_name, after);
        let query = QueryOptions { cancel: options.refresh.cancel.clone(), ..QueryOptions::default() };
        if let Some(name) = proof::differing((&self.model, after), &asked, &query)? {
            let why = "its numbers would not be the same".to_string();
            let refused = vec![Refusal { name, line: None, why }];
            return Ok(ModelEdit { refused, ..edit });
        }
        let edit = ModelEdit { proved: asked.len(), ..edit };
        if options.dry_run {
            return Ok(edit);
        }
        self.write(edit)
    }

    fn write(&self, edit: ModelEdit) -> Result<ModelEdit, Error> {
        let failed = |e| Error::io(self.history.file().display().to_string(), e);
        // Somebody else may have changed it meanwhile.
        if self.history.text().map_err(failed)? != self.text {
            return Err(changed_meanwhile(&self.history));
        }
        let step = HistoryStep { what: edit.what.clone(), before: edit.before.clone(), after: edit.after.clone() };
        self.history.make(&step).map_err(failed)?;
        Ok(ModelEdit { written: true, ..edit })
    }
}

fn changed_meanwhile(history: &History) -> Error {
    let message = format!("{} was changed by somebody else meanwhile", history.file().display());
    Error::Problems(vec![Diagnostic::general(Problem::Model, message).help("nothing was written: try again")])
}

fn refusals(problems: &[Diagnostic]) -> Vec<Refusal> {
    let errors = problems.iter().filter(|p| p.severity == Severity::Error);
    let refusal = |p: &Diagnostic| Refusal {
        name: p.formula().unwrap_or_default().to_string(),
        line: p.place().map(|(_, line, _)| line),
        why: p.message.clone(),
    };
    errors.map(refusal).collect()
}

impl Model {
    /// Takes back the last change that [`Model::rename`] or [`Model::remove`] has written; once more, the one before it.
    ///
    /// # Errors
    /// When there is none, when the file was changed since, or when it cannot be written.
    pub fn undo(path: impl AsRef<Path>, options: &EditOptions) -> Result<ModelEdit, Error> {
        let history = History::of(path.as_ref());
        let failed = |e| Error::io(history.file().display().to_string(), e);
        let text = history.text().map_err(failed)?;
        let Some((number, step)) = history.last().map_err(failed)? else {
            let problem = Diagnostic::general(Problem::Model, "there is no change to take back");
            return Err(Error::Problems(vec![
                problem.help("only changes that this library has written are remembered"),
            ]));
        };
        let what = format!("take back: {}", step.what);
        if text != step.after {
            let differs = changed_lines(&step.after, &text);
            let refused = differs.into_iter().map(|line| {
                let why = match (&line.before, &line.after) {
                    (Some(before), Some(after)) => format!("it was changed since: `{before}` is `{after}` now"),
                    (None, Some(after)) => format!("it was written since: `{after}`"),
                    (before, _) => format!("it was removed since: `{}`", before.clone().unwrap_or_default()),
                };
                Refusal { name: step.what.clone(), line: Some(line.line), why }
            });
            return Ok(ModelEdit::refused(what, &text, refused.collect()));
        }
        let edit = ModelEdit::of(what, &text, &step.before);
        if options.dry_run {
            return Ok(edit);
        }
        history.take_back(number, &step).map_err(failed)?;
        Ok(ModelEdit { written: true, ..edit })
    }
}
