//! A part gets another name, everywhere at once.

use std::collections::BTreeMap;
use std::path::Path;

use super::edit::{EditOptions, Editor, ModelEdit, Refusal, Renames};
use super::graph::Graph;
use super::toml_edits::{TomlEdits, key};
use crate::{Diagnostic, Error, Model, Observer, Problem};
use cubrel_formula::parser;
use cubrel_formula::schema::Computed;
use cubrel_formula::source::{Source, Span};
use cubrel_formula::words::is_reserved;
use cubrel_model::parts::{Part, PartKind};

impl Model {
    /// Gives a table, column, measure, hierarchy, lens, saved query, role or shortlist of the model in a folder another name,
    /// in `model.toml` and every formula, query, rule and path of columns in it. Comments, layout and quotes stay. A column of
    /// a file gets a `source_name`.
    ///
    /// Before anything is written, the new text is checked, every name in it has to mean what it meant, and every saved query
    /// and measure has to give what it gave. What stands against it is in `ModelEdit::refused`.
    ///
    /// # Errors
    /// When nothing has the old name, the new one cannot be a name, the model does not open, or the file cannot be written.
    ///
    /// ```no_run
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{EditOptions, Model, Silent};
    ///
    /// let edit = Model::rename("ferries", "booking.net", "net_fare", &EditOptions::default(), &Silent)?;
    /// for line in &edit.changed {
    ///     println!("{}: {:?} → {:?}", line.line, line.before, line.after);
    /// }
    /// assert!(edit.written);
    /// # Ok(())
    /// # }
    /// ```
    pub fn rename(
        path: impl AsRef<Path>,
        old: &str,
        new: &str,
        options: &EditOptions,
        observer: &dyn Observer,
    ) -> Result<ModelEdit, Error> {
        let editor = Editor::open(path.as_ref(), options, observer)?;
        let part = Graph::new(&editor.model).find(old)?;
        let (edit, renames) = editor.rewritten(&part, new)?;
        if !edit.refused.is_empty() {
            return Ok(edit);
        }
        let made = editor.tried(&edit.after, &renames);
        match editor.accepted(edit, made, &renames) {
            (edit, Some(after)) => editor.finish(edit, &after, &renames, options),
            (edit, None) => Ok(edit),
        }
    }
}

impl Editor {
    /// What calling a part otherwise makes of the text, where it breaks nothing. No numbers are held against each other, and
    /// nothing is written.
    pub(super) fn renamed(&self, part: &Part, new: &str) -> Result<ModelEdit, Error> {
        let (edit, renames) = self.rewritten(part, new)?;
        if !edit.refused.is_empty() {
            return Ok(edit);
        }
        let made = self.outlined(&edit.after, &renames);
        Ok(self.accepted(edit, made, &renames).0)
    }

    /// The text with a part called otherwise, and what else is called so.
    fn rewritten(&self, part: &Part, new: &str) -> Result<(ModelEdit, Renames), Error> {
        let graph = Graph::new(&self.model);
        let new = bare_name(&graph, part, new)?;
        let renaming = Renaming { graph: &graph, part: part.clone(), new };
        let what = format!("rename {} {} to {}", part.kind().name(), graph.show(part), renaming.new);
        let (against, renames) = (renaming.against(), renaming.renames());
        let text = if against.is_empty() { renaming.text(&self.text, &renames) } else { Err(against) };
        let edit = match text {
            Ok(text) => ModelEdit::of(what, &self.text, &text),
            Err(refused) => ModelEdit::refused(what, &self.text, refused),
        };
        Ok((edit, renames))
    }

    /// The change with what stands against the model that it makes; that model where nothing does.
    fn accepted(
        &self,
        edit: ModelEdit,
        made: Result<Model, Vec<Refusal>>,
        renames: &Renames,
    ) -> (ModelEdit, Option<Model>) {
        match made.map(|after| (self.meanings(&after, renames, &|_| false), after)) {
            Ok((refused, after)) if refused.is_empty() => (edit, Some(after)),
            Ok((refused, _)) | Err(refused) => (ModelEdit { refused, ..edit }, None),
        }
    }
}

/// The new name by itself: a column may be written with its table in front.
fn bare_name(graph: &Graph<'_>, part: &Part, new: &str) -> Result<String, Error> {
    let wrong = |message: String, help: &str| {
        Err(Error::Problems(vec![Diagnostic::general(Problem::Model, message).help(help.to_string())]))
    };
    let given = new.trim();
    let name = match part {
        Part::Column(table, _) | Part::Hierarchy(table, _) => match cubrel_model::paths::column_path(given) {
            Some((other, name)) if other == *table => name,
            Some((other, _)) if graph.parts.contains(&Part::Table(other.clone())) => {
                let message = format!("a column stays in its table: `{given}` is not one of `{table}`");
                return wrong(message, "write the new name alone, or with the same table in front");
            }
            _ => given.to_string(),
        },
        _ => given.to_string(),
    };
    if name.is_empty() || name.contains(char::is_control) {
        return wrong("a name has at least one character, and none that cannot be seen".into(), "write a word");
    }
    let kind = part.kind();
    let is_word = matches!(kind, PartKind::Query | PartKind::Role | PartKind::Shortlist);
    if is_reserved(&name) && !is_word {
        let message = format!("`{name}` is a word of the language");
        return wrong(message, "take another name: this one would have to be quoted wherever it stands");
    }
    Ok(name)
}

/// One part, and its new name.
struct Renaming<'g> {
    graph: &'g Graph<'g>,
    part: Part,
    new: String,
}

impl Renaming<'_> {
    fn refusal(&self, part: &Part, why: impl Into<String>) -> Refusal {
        Refusal { name: self.graph.show(part), line: None, why: why.into() }
    }

    /// What stands against it from the start.
    fn against(&self) -> Vec<Refusal> {
        let file = &self.graph.model.document().file;
        let refuse = |why: &str| vec![self.refusal(&self.part, why)];
        match &self.part {
            Part::Relationship(_) => return refuse("a relationship is called after its columns: rename those"),
            Part::Expectation(_) => return refuse("what an expectation is called stands in its `name`"),
            Part::Column(table, column) => {
                let section = file.table.get(table);
                let said = section.and_then(|s| s.column.get(column));
                let has_formula = said.is_some_and(|c| c.formula.is_some());
                if let Some(first) = section.and_then(|s| s.same_as.as_ref()).filter(|_| !has_formula) {
                    return refuse(&format!("it is shared with `{first}`: rename it there"));
                }
                if section.is_some_and(|s| s.query.is_some()) && !has_formula {
                    return refuse("its table's query gives it its name: write `… as name` there");
                }
                if section.is_some_and(|s| s.source.is_none()) && !has_formula {
                    return refuse("a calendar is made with this column: give it a `label` instead");
                }
            }
            _ => {}
        }
        let taken = self.taken();
        if let Some(other) = taken {
            return vec![self.refusal(&other, format!("this {} has the name already", other.kind().name()))];
        }
        self.named_by_queries()
    }

    /// What has the new name already.
    fn taken(&self) -> Option<Part> {
        let new = &self.new;
        let is_scoped = |part: &Part| {
            matches!(part.kind(), PartKind::Table | PartKind::Measure | PartKind::Hierarchy | PartKind::Lens)
        };
        let has_it = |part: &&Part| match part {
            Part::Table(name) | Part::Measure(name) | Part::Hierarchy(_, name) | Part::Lens(name) => {
                name == new && is_scoped(&self.part)
            }
            Part::Column(table, name) => {
                name == new && self.part.kind() == PartKind::Column && self.part.table() == Some(table)
            }
            Part::Query(name) | Part::Role(name) | Part::Shortlist(name) => {
                name == new && part.kind() == self.part.kind()
            }
            Part::Relationship(_) | Part::Expectation(_) => false,
        };
        self.graph.parts.iter().find(has_it).cloned()
    }

    /// Tables whose query gives a column the name of what it shows.
    fn named_by_queries(&self) -> Vec<Refusal> {
        let file = &self.graph.model.document().file;
        let mut refused = Vec::new();
        for (table, section) in &file.table {
            let Some(text) = &section.query else { continue };
            let (Some(query), _) = parser::query(&Source::new("query", text)) else { continue };
            let named = self.graph.mentions.iter().filter(|m| m.by == Part::Table(table.clone()) && m.of == self.part);
            let takes_name = |span: Span| {
                let item = query.items.iter().find(|i| i.expr.span == span);
                item.is_some_and(|i| i.heading.is_none())
                    || query.by.iter().chain(&query.split).any(|target| target.span() == span)
            };
            if named.map(|m| m.span).any(takes_name) {
                let column = format!("a column of table `{table}` is called after it");
                refused.push(
                    self.refusal(&Part::Table(table.clone()), column + ": name that with `as` in its query first"),
                );
            }
        }
        refused
    }

    /// The part, and those that share it.
    fn renames(&self) -> Renames {
        let mut parts = BTreeMap::from([(self.part.clone(), self.new.clone())]);
        if let Part::Column(table, column) = &self.part {
            let file = &self.graph.model.document().file;
            let copies = file.table.iter().filter(|(_, s)| s.same_as.as_ref() == Some(table));
            let own = |s: &cubrel_model::file::TableSection| s.column.get(column).is_some_and(|c| c.formula.is_some());
            parts.extend(
                copies.filter(|(_, s)| !own(s)).map(|(copy, _)| (Part::column(copy, column), self.new.clone())),
            );
        }
        Renames { parts, ..Renames::default() }
    }

    /// The new text.
    fn text(&self, text: &str, renames: &Renames) -> Result<String, Vec<Refusal>> {
        let mut edits = TomlEdits::new(text);
        let mut refused = self.unreadable();
        for mention in &self.graph.mentions {
            for spot in &mention.spots {
                let Some(new) = renames.parts.get(&spot.part) else { continue };
                let old = last_name(&spot.part);
                if !edits.rename(&mention.source, spot, old, new) {
                    refused.push(
                        self.refusal(&mention.by, "its text cannot be found in the file, so it cannot be changed"),
                    );
                }
            }
        }
        for (part, new) in &renames.parts {
            let path = part.keys();
            let keys: Vec<Span> = edits.places.keys.iter().filter(|k| k.path == path).map(|k| k.span).collect();
            for span in keys {
                let spot = cubrel_model::mentions::Spot {
                    part: part.clone(),
                    span,
                    form: cubrel_model::mentions::NameForm::Key,
                };
                edits.rename(&self.graph.model.document().source, &spot, last_name(part), new);
            }
        }
        if !refused.is_empty() {
            return Err(refused);
        }
        if let Part::Column(table, column) = &self.part {
            self.source_name(&mut edits, table, column).map_err(|refusal| vec![refusal])?;
        }
        Ok(edits.done())
    }

    /// Formulas that cannot be read and may name it.
    fn unreadable(&self) -> Vec<Refusal> {
        let old = last_name(&self.part);
        let measures = self.graph.model.schema().measures.iter();
        let unread = measures
            .filter(|m| m.wrong.is_some() && m.source.text.contains(old) && !parser::formula(&m.source).1.is_empty());
        unread
            .map(|m| {
                let why = "its formula cannot be read, so nobody can say whether it names this: mend it first";
                self.refusal(&Part::Measure(m.name.clone()), why)
            })
            .collect()
    }

    /// A column of a source keeps its name there.
    fn source_name(&self, edits: &mut TomlEdits<'_>, table: &str, column: &str) -> Result<(), Refusal> {
        let model = self.graph.model;
        let said = model.document().file.table.get(table).and_then(|s| s.column.get(column));
        if said.is_some_and(|c| c.formula.is_some()) {
            return Ok(());
        }
        let of_source = |id| matches!(model.schema().column(id).computed, Computed::Source);
        let id = model.schema().find_table(table).and_then(|t| model.schema().find_column(t, column));
        if id.is_some_and(|id| !of_source(id)) {
            return Ok(());
        }
        match said.and_then(|c| c.source_name.as_ref()) {
            Some(name) if *name == self.new => edits.remove_source_name(&self.part.keys()),
            Some(_) => {}
            None => {
                let line = format!("source_name = {}", toml::Value::String(column.to_string()));
                if !edits.add_to_column(table, &self.part.keys(), &self.new, &line) {
                    return Err(self.refusal(
                        &self.part,
                        "its table stands in one line, and there is no place to say its name in the source",
                    ));
                }
            }
        }
        Ok(())
    }
}

/// The name of a part that changes with it.
fn last_name(part: &Part) -> &str {
    match part {
        Part::Table(name)
        | Part::Column(_, name)
        | Part::Measure(name)
        | Part::Hierarchy(_, name)
        | Part::Lens(name)
        | Part::Query(name)
        | Part::Role(name)
        | Part::Shortlist(name) => name,
        Part::Relationship(_) | Part::Expectation(_) => "",
    }
}

impl TomlEdits<'_> {
    /// Adds a line to what is said of a column: to its section or entry, or in a section of its own behind its table's.
    pub(super) fn add_to_column(&mut self, table: &str, path: &[String], name: &str, line: &str) -> bool {
        let end = self.line_end();
        if let Some(header) = self.places.headers.iter().find(|h| h.path == path) {
            self.insert(header.span.end, format!("{end}{line}"));
            return true;
        }
        if let Some(entry) = self.places.entries.iter().find(|e| e.path == path).cloned() {
            // An inline table: `column.net = { … }`.
            self.insert(entry.value.start + 1, format!(" {line},"));
            return true;
        }
        let dotted =
            self.places.entries.iter().find(|e| e.path.len() == path.len() + 1 && e.path.starts_with(path)).cloned();
        if let Some(entry) = dotted {
            let before = self.places.keys.iter().find(|k| k.path == entry.path && entry.span.start <= k.span.start);
            let Some(last) = before.map(|k| k.span.start) else { return false };
            // The new name stands there by then: only what comes before it is taken over.
            let first = self
                .places
                .keys
                .iter()
                .find(|k| k.path == path && k.span.start >= entry.span.start && k.span.start < last);
            let Some(own) = first.map(|k| k.span.start) else { return false };
            let lead = self.text_between(entry.span.start, own);
            self.insert(entry.span.start, format!("{lead}{}.{line}{end}", key(name)));
            return true;
        }
        let of_table =
            |h: &cubrel_model::toml_places::TomlHeader| h.path.starts_with(&["table".to_string(), table.to_string()]);
        let Some(header) = self.places.headers.iter().rposition(of_table) else { return false };
        let at = self.end_of_section(header);
        let gap = if self.ends_line(at) { "" } else { end };
        let section = format!("{gap}{end}[table.{}.column.{}]{end}{line}{end}", key(table), key(name));
        self.insert(at as u32, section);
        true
    }

    /// Takes a column's `source_name` away, and the section where nothing else is in it.
    pub(super) fn remove_source_name(&mut self, path: &[String]) {
        let own = [path, &["source_name".to_string()]].concat();
        let Some(entry) = self.places.entries.iter().find(|e| e.path == own).cloned() else { return };
        let inside =
            self.places.entries.iter().filter(|e| e.path.starts_with(path) && e.path.len() > path.len()).count();
        let header = self.places.headers.iter().position(|h| h.path == path);
        match header.filter(|_| inside == 1) {
            Some(header) => self.remove_section(header),
            None if entry.is_inline => self.remove_inline(entry.span),
            None => self.remove_lines(entry.span),
        }
    }
}
