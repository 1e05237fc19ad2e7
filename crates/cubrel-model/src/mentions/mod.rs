//! What the parts of a model name: every place of the file in which one part stands in another one.
//!
//! * [`names`]: what a name means
//! * [`formulas`]: what formulas and queries name

pub mod formulas;
pub mod names;

use std::sync::Arc;

pub use formulas::{NameForm, Named, Spot};
pub use names::Names;

use super::document::Document;
use super::file::{ExpectSection, RoleSection, TableSection};
use super::parts::Part;
use super::paths::{column_path, path_parts};
use super::toml_places::{KeyPlace, TomlPlaces};
use cubrel_formula::parser;
use cubrel_formula::source::{Source, Span};

/// One part names another one.
#[derive(Clone, Debug)]
pub struct Mention {
    /// The part that names.
    pub by: Part,
    /// The part that is named.
    pub of: Part,
    /// The text in which it does.
    pub source: Arc<Source>,
    /// Where in it.
    pub span: Span,
    /// The names that have to change with what they stand for.
    pub spots: Vec<Spot>,
    /// Whether what uses the part that names thereby uses the named one. A key is looked at when a table is loaded, and
    /// then no more.
    pub carries: bool,
}

/// Every mention of a model, in the order of its file.
pub fn mentions(document: &Document, names: &Names<'_>) -> Vec<Mention> {
    let keys = TomlPlaces::of(&document.source.text).keys;
    let mut reader = MentionReader { document, names, keys, found: Vec::new() };
    let file = &document.file;
    file.table.iter().for_each(|(name, section)| reader.table(name, section));
    for (i, section) in file.relationship.iter().enumerate() {
        if names.is_restricted && !names.has_relationship(i) {
            continue;
        }
        for (side, key) in [(&section.many, "many"), (&section.one, "one")] {
            let path = format!("relationship.{i}.{key}");
            reader.paths(&Part::Relationship(i), "relationship", &path, side.list());
        }
    }
    for (name, section) in &file.measure {
        let by = Part::Measure(name.clone());
        reader.formula(&by, &format!("measure {name}"), &format!("measure.{name}.formula"), &section.formula, None);
    }
    for (name, section) in &file.lens {
        let by = Part::Lens(name.clone());
        for (i, other) in section.wraps.iter().enumerate() {
            reader.bare(&by, &format!("lens {name}"), &format!("lens.{name}.wraps.{i}"), other, names.lens(other));
        }
        for (reading, said) in &section.reading {
            let path = format!("lens.{name}.reading.{reading}.formula");
            reader.formula(&by, &format!("lens {name}, reading {reading}"), &path, &said.formula, None);
        }
    }
    file.role.iter().for_each(|(name, section)| reader.role(name, section));
    for (name, section) in &file.shortlist {
        let by = Part::Shortlist(name.clone());
        for (i, item) in section.list.iter().enumerate() {
            reader.listed(&by, &format!("shortlist {name}"), &format!("shortlist.{name}.list.{i}"), item);
        }
    }
    for (name, section) in &file.query {
        let by = Part::Query(name.clone());
        reader.query(&by, &format!("query {name}"), &format!("query.{name}.text"), &section.text);
    }
    file.expect.iter().enumerate().for_each(|(i, section)| reader.expectation(i, section));
    reader.found
}

struct MentionReader<'m> {
    document: &'m Document,
    names: &'m Names<'m>,
    keys: Vec<KeyPlace>,
    found: Vec<Mention>,
}

impl MentionReader<'_> {
    fn add(&mut self, by: &Part, source: &Arc<Source>, named: Named) {
        let Named { part: of, span, spots } = named;
        self.found.push(Mention { by: by.clone(), of, source: source.clone(), span, spots, carries: true });
    }

    fn all(&mut self, by: &Part, source: &Arc<Source>, named: Vec<Named>) {
        named.into_iter().for_each(|named| self.add(by, source, named));
    }

    fn formula(&mut self, by: &Part, what: &str, path: &str, text: &str, own: Option<&str>) {
        let source = self.document.formula(what, path, text);
        let (expr, _) = parser::formula(&source);
        self.all(by, &source, formulas::of_formula(self.names, own, &expr));
    }

    fn query(&mut self, by: &Part, what: &str, path: &str, text: &str) {
        let source = self.document.formula(what, path, text);
        if let (Some(query), _) = parser::query(&source) {
            self.all(by, &source, formulas::of_query(self.names, &query));
        }
    }

    /// A name that is a whole text.
    fn bare(&mut self, by: &Part, what: &str, path: &str, text: &str, part: Option<Part>) {
        let Some(part) = part else { return };
        let source = self.document.formula(what, path, text);
        let span = Span::new(0, text.len());
        let spot = Spot { part: part.clone(), span, form: NameForm::Bare };
        self.add(by, &source, Named { part, span, spots: vec![spot] });
    }

    /// A column of a known table.
    fn own_column(&mut self, by: &Part, table: &str, path: &str, text: &str, carries: bool) {
        let before = self.found.len();
        self.bare(by, &format!("table {table}"), path, text, self.names.column(table, text));
        self.found[before..].iter_mut().for_each(|m| m.carries = carries);
    }

    /// Columns written `table.column`, one text each.
    fn paths(&mut self, by: &Part, what: &str, path: &str, list: &[String]) {
        let is_list = self.document.says(&format!("{path}.0"));
        for (i, text) in list.iter().enumerate() {
            let path = if is_list { format!("{path}.{i}") } else { path.to_string() };
            self.path(by, what, &path, text);
        }
    }

    /// A column written `table.column`; whether it is one.
    fn path(&mut self, by: &Part, what: &str, path: &str, text: &str) -> bool {
        let column =
            column_path(text).and_then(|(table, column)| Some((table.clone(), self.names.column(&table, &column)?)));
        let (Some((table, part)), Some([of_table, of_column])) = (column, path_parts(text)) else { return false };
        let source = self.document.formula(what, path, text);
        let table = Spot { part: Part::Table(table), span: of_table, form: NameForm::PathTable };
        let column = Spot { part: part.clone(), span: of_column, form: NameForm::PathColumn };
        let span = of_table.to(of_column);
        self.add(by, &source, Named { part, span, spots: vec![table, column] });
        true
    }

    /// A column, or anything else by its name.
    fn listed(&mut self, by: &Part, what: &str, path: &str, text: &str) {
        if self.path(by, what, path, text) {
            return;
        }
        let part = self.names.listed(text);
        self.bare(by, what, path, text, part);
    }

    fn table(&mut self, name: &str, section: &TableSection) {
        let by = Part::Table(name.to_string());
        let path = |key: &str| format!("table.{name}.{key}");
        if let Some(first) = &section.same_as {
            let part = self.names.table(first);
            self.bare(&by, &format!("table {name}"), &path("same_as"), first, part);
            self.shared(name, first);
        }
        if let Some(text) = &section.query {
            self.query(&by, &format!("query of table {name}"), &path("query"), text);
        }
        for (key, column) in [("key", &section.key), ("calendar", &section.calendar)] {
            if let Some(column) = column {
                self.own_column(&by, name, &path(key), column, false);
            }
        }
        if let Some(partition) = &section.partition {
            self.own_column(&by, name, &path("partition.column"), &partition.column, false);
        }
        if let Some(column) = &section.latest_by {
            self.own_column(&by, name, &path("latest_by"), column, false);
        }
        for (i, column) in section.order.iter().enumerate() {
            self.own_column(&by, name, &path(&format!("order.{i}")), column, false);
        }
        if let Some(filter) = &section.filter {
            self.formula(&by, &format!("which rows of {name} to load"), &path("where"), filter, Some(name));
        }
        for (column, said) in &section.column {
            let by = Part::column(name, column);
            let path = |key: &str| format!("table.{name}.column.{column}.{key}");
            if let Some(text) = &said.formula {
                self.formula(&by, &format!("column {name}.{column}"), &path("formula"), text, Some(name));
            }
            if let Some(order) = &said.display_order {
                self.own_column(&by, name, &path("display_order"), order, true);
            }
        }
        self.made_orders(name, section);
        for (hierarchy, levels) in &section.hierarchy {
            let by = Part::Hierarchy(name.to_string(), hierarchy.clone());
            for (i, level) in levels.levels.iter().enumerate() {
                self.own_column(&by, name, &path(&format!("hierarchy.{hierarchy}.levels.{i}")), level, true);
            }
        }
    }

    /// What a copy shares is the first table's: it says so where it names that.
    fn shared(&mut self, copy: &str, first: &str) {
        let path = format!("table.{copy}.same_as");
        let source = self.document.formula(format!("table {copy}"), &path, first);
        let span = Span::new(0, first.len());
        let schema = self.names.schema;
        let Some(id) = schema.find_table(copy) else { return };
        for column in schema.table(id).columns.iter().filter(|c| !c.name.is_empty()) {
            let own = self.document.file.table.get(copy).and_then(|s| s.column.get(&column.name));
            let has_own = own.is_some_and(|said| said.formula.is_some());
            if let Some(of) = self.names.column(first, &column.name).filter(|_| !has_own) {
                self.add(&Part::column(copy, &column.name), &source, Named { part: of, span, spots: Vec::new() });
            }
        }
    }

    /// Orders that the file does not say: those of the columns that a calendar is made with.
    fn made_orders(&mut self, name: &str, section: &TableSection) {
        let schema = self.names.schema;
        let (Some(id), Some(date)) = (schema.find_table(name), &section.calendar) else { return };
        let source = self.document.formula(format!("table {name}"), &format!("table.{name}.calendar"), date);
        let columns = &schema.table(id).columns;
        for column in columns.iter().filter(|c| !c.name.is_empty()) {
            let said = section.column.get(&column.name).is_some_and(|c| c.display_order.is_some());
            let order =
                column.display_order.and_then(|i| columns.get(i as usize)).filter(|c| !said && !c.name.is_empty());
            if let Some(order) = order {
                let (part, span) = (Part::column(name, &order.name), Span::new(0, date.len()));
                self.add(&Part::column(name, &column.name), &source, Named { part, span, spots: Vec::new() });
            }
        }
    }

    fn role(&mut self, name: &str, section: &RoleSection) {
        let by = Part::Role(name.to_string());
        for (table, rule) in &section.rows {
            let path = format!("role.{name}.rows.{table}");
            if let (Some(part), Some(span)) = (self.names.table(table), self.key(&["role", name, "rows", table])) {
                let source = self.document.source.clone();
                let spot = Spot { part: part.clone(), span, form: NameForm::Key };
                self.add(&by, &source, Named { part, span, spots: vec![spot] });
            }
            self.formula(&by, &format!("role {name}, rows of {table}"), &path, rule, Some(table));
        }
        for (i, denied) in section.deny.iter().enumerate() {
            self.listed(&by, &format!("role {name}"), &format!("role.{name}.deny.{i}"), denied);
        }
    }

    /// Where a key stands.
    fn key(&self, path: &[&str]) -> Option<Span> {
        self.keys.iter().find(|key| key.path == path).map(|key| key.span)
    }

    fn expectation(&mut self, i: usize, section: &ExpectSection) {
        let by = Part::Expectation(i);
        let (what, path) = (section.title(i), |key: &str| format!("expect.{i}.{key}"));
        if let Some(text) = &section.query {
            match self.document.file.query.contains_key(text) {
                true => self.bare(&by, &what, &path("query"), text, Some(Part::Query(text.clone()))),
                false => self.query(&by, &what, &path("query"), text),
            }
        }
        for (k, formula) in section.same.iter().flatten().enumerate() {
            self.formula(&by, &what, &path(&format!("same.{k}")), formula, None);
        }
        for (k, target) in section.by.iter().enumerate() {
            self.axis(&by, &what, &path(&format!("by.{k}")), target);
        }
        if let Some(filter) = &section.filter {
            self.formula(&by, &what, &path("where"), filter, None);
        }
        for (key, columns) in [("unique", &section.unique), ("no_orphans", &section.no_orphans)] {
            if let Some(columns) = columns {
                self.paths(&by, &what, &path(key), columns.list());
            }
        }
        if let Some(column) = &section.fresh {
            self.path(&by, &what, &path("fresh"), column);
        }
    }

    /// An axis as a query writes it.
    fn axis(&mut self, by: &Part, what: &str, path: &str, text: &str) {
        let source = self.document.formula(what, path, text);
        if let (Some(target), _) = parser::target(&source) {
            self.all(by, &source, formulas::of_axis(self.names, &target));
        }
    }
}
