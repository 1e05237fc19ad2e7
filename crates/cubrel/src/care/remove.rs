//! A part is taken out of a model, where nothing uses it.

use std::collections::HashSet;
use std::path::Path;

use super::edit::{EditOptions, Editor, ModelEdit, Refusal, Renames};
use super::graph::Graph;
use super::toml_edits::TomlEdits;
use super::unused::with_what_is_in_it;
use crate::{Error, Model, Observer};
use cubrel_formula::schema::Computed;
use cubrel_model::parts::{Part, PartKind};

impl Model {
    /// Takes something out of the `model.toml` of the model in a folder: a table, column, measure, hierarchy, lens,
    /// relationship, saved query, role, shortlist or expectation that nothing uses. A column of a file gets `keep = false`. With
    /// a table go the relationships at it that nobody follows.
    ///
    /// Before anything is written, the new text is checked, and every saved query and measure that stays has to give what it
    /// gave. What stands against it is in `ModelEdit::refused`.
    ///
    /// # Errors
    /// When nothing has the name, the model does not open, or the file cannot be written.
    ///
    /// ```no_run
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{EditOptions, Model, Silent};
    ///
    /// let edit = Model::remove("ferries", "last_year", &EditOptions { dry_run: true, ..Default::default() }, &Silent)?;
    /// for refusal in &edit.refused {
    ///     println!("{} needs it: {}", refusal.name, refusal.why);
    /// }
    /// # Ok(())
    /// # }
    /// ```
    pub fn remove(
        path: impl AsRef<Path>,
        name: &str,
        options: &EditOptions,
        observer: &dyn Observer,
    ) -> Result<ModelEdit, Error> {
        let editor = Editor::open(path.as_ref(), options, observer)?;
        let graph = Graph::new(&editor.model);
        let part = graph.find(name)?;
        let what = format!("remove {} {}", part.kind().name(), graph.show(&part));
        let removal = Removal::of(&graph, &part);
        let against = removal.against();
        if !against.is_empty() {
            return Ok(ModelEdit::refused(what, &editor.text, against));
        }
        let Some(text) = removal.text(&editor.text) else {
            let why = "its table stands in one line, and there is no place to say that it goes";
            let refusal = Refusal { name: graph.show(&part), line: None, why: why.into() };
            return Ok(ModelEdit::refused(what, &editor.text, vec![refusal]));
        };
        let edit = ModelEdit::of(what, &editor.text, &text);
        let renames = Renames { gone: removal.gone.iter().cloned().collect(), ..Renames::default() };
        let after = match editor.tried(&text, &renames) {
            Ok(after) => after,
            Err(refused) => return Ok(ModelEdit { refused, ..edit }),
        };
        let refused = editor.meanings(&after, &renames, &|part| removal.gone.contains(part));
        if !refused.is_empty() {
            return Ok(ModelEdit { refused, ..edit });
        }
        editor.finish(edit, &after, &renames, options)
    }
}

pub(super) struct Removal<'g> {
    graph: &'g Graph<'g>,
    part: Part,
    /// All that goes.
    gone: HashSet<Part>,
}

impl<'g> Removal<'g> {
    pub(super) fn of(graph: &'g Graph<'g>, part: &Part) -> Removal<'g> {
        let mut gone = with_what_is_in_it(graph, part);
        if part.kind() == PartKind::Table {
            // Nobody follows them, so nothing is lost with them.
            let idle =
                graph.parts.iter().filter(|p| p.kind() == PartKind::Relationship && graph.users(p).next().is_none());
            let at_it = |p: &&Part| graph.mentions.iter().any(|m| m.by == **p && gone.contains(&m.of));
            let idle: Vec<Part> = idle.filter(at_it).cloned().collect();
            gone.extend(idle);
        }
        if let Part::Column(table, column) = part {
            // Copies have no column of their own.
            let copies = graph.mentions.iter().filter(|m| m.of == *part && m.spots.is_empty());
            let shared = copies.filter(|m| matches!(&m.by, Part::Column(copy, c) if copy != table && c == column));
            gone.extend(shared.map(|m| m.by.clone()));
        }
        Removal { graph, part: part.clone(), gone }
    }

    /// What uses it.
    pub(super) fn against(&self) -> Vec<Refusal> {
        let users = self.gone.iter().flat_map(|part| self.graph.users(part));
        let mut against: Vec<Refusal> = users
            .filter(|m| !self.gone.contains(&m.by))
            .map(|m| {
                let (file, span) = m.source.place(m.span);
                let line = m.source.origin.is_some().then(|| file.line_column(span.start).0);
                let why = format!("this {} uses {} {}", m.by.kind().name(), m.of.kind().name(), self.graph.show(&m.of));
                Refusal { name: self.graph.show(&m.by), line, why }
            })
            .collect();
        against.sort_by(|a, b| (a.line, &a.name).cmp(&(b.line, &b.name)));
        against.dedup();
        if let Part::Column(table, _) = &self.part {
            let why = match self.graph.model.document().file.table.get(table) {
                Some(s) if s.same_as.is_some() && !self.has_formula() => {
                    Some("it is shared with another table: remove it there")
                }
                Some(s) if s.query.is_some() && !self.has_formula() => {
                    Some("its table's query gives it: take it out of that")
                }
                Some(s) if s.source.is_none() && !self.has_formula() => Some("a calendar is made with this column"),
                _ => None,
            };
            against.extend(why.map(|why| Refusal { name: self.graph.show(&self.part), line: None, why: why.into() }));
        }
        against
    }

    fn has_formula(&self) -> bool {
        let Part::Column(table, column) = &self.part else { return false };
        let section = self.graph.model.document().file.table.get(table);
        section.and_then(|s| s.column.get(column)).is_some_and(|c| c.formula.is_some())
    }

    /// Whether it comes from a source: it can be left out, and not unsaid.
    fn is_of_source(&self) -> bool {
        let Part::Column(table, column) = &self.part else { return false };
        let schema = self.graph.model.schema();
        let id = schema.find_table(table).and_then(|t| schema.find_column(t, column));
        !self.has_formula() && id.is_some_and(|id| schema.column(id).computed == Computed::Source)
    }

    /// The text without it, if it can be taken out.
    pub(super) fn text(&self, text: &str) -> Option<String> {
        let mut edits = TomlEdits::new(text);
        match &self.part {
            Part::Column(table, column) if self.is_of_source() => {
                if !edits.add_to_column(table, &self.part.keys(), column, "keep = false") {
                    return None;
                }
            }
            _ => edits.remove(&self.part.keys()),
        }
        let others = self.gone.iter().filter(|p| **p != self.part);
        others.filter(|p| p.table() != self.part.table() || p.table().is_none()).for_each(|p| edits.remove(&p.keys()));
        Some(edits.done())
    }
}
