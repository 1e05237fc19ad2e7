//! What two models say otherwise: which parts are new, gone, or not what they were.

use serde::Serialize;
use serde_json::Value as Json;

use super::graph::Graph;
use crate::Model;
use cubrel_model::file::{ColumnSection, ModelFile, TableSection};
use cubrel_model::parts::{Part, PartKind};

/// What became of a part.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum What {
    /// Only the second model has it.
    Added,
    /// Only the first model has it.
    Removed,
    /// Both have it, and say something else of it.
    Changed,
}

/// A part that two models do not have alike.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Change {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: PartKind,
    /// What became of it.
    pub what: What,
    /// By key, what the first model says and what the second one does.
    pub said: Vec<ChangedKey>,
}

/// A key of the file that two models say otherwise.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct ChangedKey {
    /// Such as `formula`.
    pub key: String,
    /// What the first model says; null for nothing.
    pub before: Json,
    /// What the second one says.
    pub after: Json,
}

impl Model {
    /// What another model says otherwise than this one: tables, columns that the file names or only one has, measures,
    /// hierarchies, lenses, relationships, saved queries, roles, shortlists, expectations.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::Model;
    ///
    /// let one = Model::builder().definitions("[measure.a]\nformula = '1'").build()?;
    /// let two = Model::builder().definitions("[measure.a]\nformula = '2'\n[measure.b]\nformula = 'a'").build()?;
    /// let changes = one.changes(&two);
    /// assert_eq!(changes[0].said[0].after, "2");
    /// assert_eq!((changes[1].name.as_str(), changes.len()), ("b", 2));
    /// # Ok(())
    /// # }
    /// ```
    pub fn changes(&self, other: &Model) -> Vec<Change> {
        let (a, b) = (NamedParts::of(self), NamedParts::of(other));
        let mut changes = Vec::new();
        for (name, kind, said) in &a.parts {
            match b.find(name, *kind) {
                None => changes.push(Change { name: name.clone(), kind: *kind, what: What::Removed, said: Vec::new() }),
                Some(after) if after != said => {
                    let (name, kind) = (name.clone(), *kind);
                    changes.push(Change { name, kind, what: What::Changed, said: keys(said, after) });
                }
                Some(_) => {}
            }
        }
        let new = b.parts.iter().filter(|(name, kind, _)| a.find(name, *kind).is_none());
        changes.extend(new.map(|(name, kind, _)| Change {
            name: name.clone(),
            kind: *kind,
            what: What::Added,
            said: Vec::new(),
        }));
        changes
    }
}

/// The parts of a model with what its file says of them; parts of lists are known by what they are about.
struct NamedParts {
    parts: Vec<(String, PartKind, Json)>,
}

impl NamedParts {
    fn of(model: &Model) -> NamedParts {
        let graph = Graph::new(model);
        let file = &model.document().file;
        // What is said of a part may name what who asks may not see.
        let is_whole = model.seen_as().is_none();
        let of_part = |part| if is_whole { said(file, part) } else { Json::Null };
        NamedParts { parts: graph.parts.iter().map(|part| (graph.show(part), part.kind(), of_part(part))).collect() }
    }

    fn find(&self, name: &str, kind: PartKind) -> Option<&Json> {
        self.parts.iter().find(|(n, k, _)| n == name && *k == kind).map(|(.., said)| said)
    }
}

/// What the file says of a part; of a table, without what it says of its columns and hierarchies.
fn said(file: &ModelFile, part: &Part) -> Json {
    let json = match part {
        Part::Table(name) => file.table.get(name).map(|section| {
            serde_json::to_value(TableSection {
                column: Default::default(),
                hierarchy: Default::default(),
                ..section.clone()
            })
        }),
        Part::Column(table, name) => {
            let said = file.table.get(table).and_then(|s| s.column.get(name)).cloned();
            Some(serde_json::to_value(said.unwrap_or_else(ColumnSection::default)))
        }
        Part::Hierarchy(table, name) => {
            file.table.get(table).and_then(|s| s.hierarchy.get(name)).map(serde_json::to_value)
        }
        Part::Measure(name) => file.measure.get(name).map(serde_json::to_value),
        Part::Lens(name) => file.lens.get(name).map(serde_json::to_value),
        Part::Relationship(i) => file.relationship.get(*i).map(serde_json::to_value),
        Part::Query(name) => file.query.get(name).map(serde_json::to_value),
        Part::Role(name) => file.role.get(name).map(serde_json::to_value),
        Part::Shortlist(name) => file.shortlist.get(name).map(serde_json::to_value),
        Part::Expectation(i) => file.expect.get(*i).map(serde_json::to_value),
    };
    json.and_then(Result::ok).unwrap_or_default()
}

/// The keys that differ.
fn keys(before: &Json, after: &Json) -> Vec<ChangedKey> {
    let (Json::Object(a), Json::Object(b)) = (before, after) else { return Vec::new() };
    let mut names: Vec<&String> = a.keys().collect();
    names.extend(b.keys().filter(|key| !a.contains_key(*key)));
    let value = |map: &serde_json::Map<String, Json>, key: &String| map.get(key).cloned().unwrap_or_default();
    let differing = names.into_iter().filter(|key| value(a, key) != value(b, key));
    differing.map(|key| ChangedKey { key: key.clone(), before: value(a, key), after: value(b, key) }).collect()
}
