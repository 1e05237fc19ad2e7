//! Which part of a model uses which: by what texts name, and by the relationships that plans follow.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::sync::Arc;

use crate::{Diagnostic, Error, Model, Problem};
use cubrel_formula::schema::RelationshipId;
use cubrel_formula::source::{Source, Span, closest, did_you_mean};
use cubrel_model::mentions::{Mention, Names, mentions};
use cubrel_model::parts::{Part, PartKind};
use cubrel_model::paths::column_path;

/// All uses of a model.
pub(crate) struct Graph<'m> {
    pub(crate) model: &'m Model,
    pub(crate) mentions: Vec<Mention>,
    /// Every part, in the order of the file.
    pub(crate) parts: Vec<Part>,
}

impl<'m> Graph<'m> {
    /// Those of a model.
    pub(crate) fn new(model: &'m Model) -> Graph<'m> {
        let names = Names::new(model.document(), model.schema(), model.seen_as().is_some());
        let mut mentions = mentions(model.document(), &names);
        let parts = parts(model);
        let known: HashSet<&Part> = parts.iter().collect();
        mentions.retain(|m| known.contains(&m.by) && known.contains(&m.of));
        let mut graph = Graph { model, mentions, parts };
        graph.add_followed();
        graph
    }

    /// Relationships that are followed without being named. What a formula follows by way of another one is that one's.
    fn add_followed(&mut self) {
        let all: BTreeMap<Part, BTreeSet<RelationshipId>> =
            self.model.followed().into_iter().map(|f| (f.by, f.relationships)).collect();
        let mut added = Vec::new();
        for (by, relationships) in all.iter().filter(|(by, _)| self.parts.contains(by)) {
            let own: Vec<&Mention> = self.mentions.iter().filter(|m| m.by == *by).collect();
            let inner: BTreeSet<RelationshipId> = own
                .iter()
                .filter_map(|m| match &m.of {
                    // A column was computed before; what its formula follows is done.
                    Part::Measure(_) | Part::Query(_) => all.get(&m.of),
                    _ => None,
                })
                .flatten()
                .copied()
                .collect();
            for id in relationships.difference(&inner) {
                let of = Part::Relationship(id.0 as usize);
                let is_named = own.iter().any(|m| m.of == of);
                if let Some((source, span)) = self.text_of(by).filter(|_| !is_named && self.parts.contains(&of)) {
                    added.push(Mention { by: by.clone(), of, source, span, spots: Vec::new(), carries: true });
                }
            }
        }
        self.mentions.extend(added);
    }

    /// The text of a part that has one.
    fn text_of(&self, part: &Part) -> Option<(Arc<Source>, Span)> {
        let document = self.model.document();
        let (path, text) = match part {
            Part::Measure(name) => {
                (format!("measure.{name}.formula"), document.file.measure.get(name)?.formula.clone())
            }
            Part::Query(name) => (format!("query.{name}.text"), document.file.query.get(name)?.text.clone()),
            Part::Table(name) => (format!("table.{name}.query"), document.file.table.get(name)?.query.clone()?),
            Part::Column(table, name) => {
                let said = document.file.table.get(table)?.column.get(name)?;
                (format!("table.{table}.column.{name}.formula"), said.formula.clone()?)
            }
            Part::Role(name) => {
                let (table, rule) = document.file.role.get(name)?.rows.first()?;
                (format!("role.{name}.rows.{table}"), rule.clone())
            }
            Part::Expectation(i) => {
                let section = document.file.expect.get(*i)?;
                let same = section.same.as_ref().and_then(|same| same.first()).cloned();
                match section.query.clone() {
                    Some(query) => (format!("expect.{i}.query"), query),
                    None => (format!("expect.{i}.same.0"), same?),
                }
            }
            _ => return None,
        };
        let source = document.formula(part.show(&document.file), &path, &text);
        let span = Span::new(0, source.text.len());
        Some((source, span))
    }

    /// What uses a part directly. What uses a column of a table uses the table, but for the table itself.
    pub(crate) fn users<'g>(&'g self, part: &'g Part) -> impl Iterator<Item = &'g Mention> {
        self.mentions.iter().filter(move |m| is_of(m, part))
    }

    /// What people call a part.
    pub(crate) fn show(&self, part: &Part) -> String {
        part.show(&self.model.document().file)
    }

    /// The part of a name: as formulas write it, or with its kind in front, as the file has it.
    ///
    /// # Errors
    /// When nothing has the name, or several have it.
    pub(crate) fn find(&self, name: &str) -> Result<Part, Error> {
        let wanted = name.trim().replace("->", "→");
        let wanted = wanted.split_whitespace().collect::<Vec<_>>().join(" ");
        let arrows = wanted.split('→').map(str::trim).collect::<Vec<_>>().join(" → ");
        let plain =
            |part: &&Part| self.is_called(part, if part.kind() == PartKind::Relationship { &arrows } else { &wanted });
        let found: Vec<&Part> = self.parts.iter().filter(plain).collect();
        let found = match found.as_slice() {
            [] => self.parts.iter().filter(|part| self.long_name(part) == wanted).collect(),
            _ => found,
        };
        match found.as_slice() {
            [one] => Ok((*one).clone()),
            [] => Err(self.unknown(&wanted)),
            several => {
                let names: Vec<String> = several.iter().map(|part| format!("`{}`", self.long_name(part))).collect();
                let message = format!("`{wanted}` is the name of several: {}", names.join(", "));
                let problem = Diagnostic::general(Problem::Ambiguous, message);
                Err(Error::Problems(vec![problem.help("write the one that is meant with its kind in front")]))
            }
        }
    }

    fn is_called(&self, part: &Part, name: &str) -> bool {
        let raw = match part {
            Part::Column(table, column) => Some(format!("{table}.{column}")),
            Part::Hierarchy(table, hierarchy) if name.contains('.') => Some(format!("{table}.{hierarchy}")),
            Part::Table(own) | Part::Measure(own) | Part::Hierarchy(_, own) | Part::Lens(own) => Some(own.clone()),
            _ => None,
        };
        let path = || match (part, column_path(name)) {
            (Part::Column(table, column), Some((t, c))) => *table == t && *column == c,
            _ => false,
        };
        raw.as_deref() == Some(name) || self.show(part) == name || path()
    }

    fn long_name(&self, part: &Part) -> String {
        format!("{}.{}", part.kind().name(), self.show(part))
    }

    fn unknown(&self, name: &str) -> Error {
        let names: Vec<String> = self.parts.iter().map(|part| self.show(part)).collect();
        let problem = Diagnostic::general(Problem::UnknownName, format!("nothing of this model is called `{name}`"));
        let help = match closest(name, names.iter().map(String::as_str)) {
            Some(near) => did_you_mean(near),
            None => "name a table, `table.column`, a measure, a hierarchy, a lens, a saved query, or a relationship \
                     as `a.b → c.d`"
                .into(),
        };
        Error::Problems(vec![problem.help(help)])
    }
}

/// Whether a mention is a use of a part.
fn is_of(mention: &Mention, part: &Part) -> bool {
    match part {
        Part::Table(table) => {
            mention.of.table() == Some(table) && (mention.by.table() != Some(table) || mention.by == mention.of)
        }
        _ => mention.of == *part,
    }
}

/// Every part that who asks may see, in the order of the file.
fn parts(model: &Model) -> Vec<Part> {
    let (schema, file) = (model.schema(), &model.document().file);
    let is_whole = model.seen_as().is_none();
    let mut all = Vec::new();
    for table in schema.tables.iter().filter(|t| !t.name.is_empty()) {
        all.push(Part::Table(table.name.clone()));
        let there = table.columns.iter().map(|c| &c.name).filter(|name| !name.is_empty());
        all.extend(there.map(|column| Part::column(&table.name, column)));
        let Some(section) = file.table.get(&table.name) else { continue };
        let dropped = section.column.iter().filter(|(_, said)| said.keep == Some(false));
        all.extend(dropped.map(|(column, _)| Part::column(&table.name, column)));
        let seen = |name: &&String| table.hierarchies.iter().any(|(h, _)| h == *name);
        all.extend(section.hierarchy.keys().filter(seen).map(|h| Part::Hierarchy(table.name.clone(), h.clone())));
    }
    let names = Names::new(model.document(), schema, !is_whole);
    all.extend((0..file.relationship.len()).filter(|i| names.has_relationship(*i)).map(Part::Relationship));
    all.extend(schema.measures.iter().filter(|m| !m.name.is_empty()).map(|m| Part::Measure(m.name.clone())));
    // A lens of which no reading can be seen is not there.
    let lenses = schema.lenses.iter().filter(|l| !l.readings.is_empty());
    all.extend(lenses.map(|l| Part::Lens(l.name.clone())));
    let is_seen = |text: &str| is_whole || model.query(text).is_ok();
    all.extend(file.query.iter().filter(|(_, q)| is_seen(&q.text)).map(|(name, _)| Part::Query(name.clone())));
    if is_whole {
        all.extend(file.role.keys().cloned().map(Part::Role));
        all.extend(file.shortlist.keys().cloned().map(Part::Shortlist));
        all.extend((0..file.expect.len()).map(Part::Expectation));
    }
    all
}

/// Whether a part is there to be used; the others are where use begins.
pub(crate) fn is_usable(part: &Part) -> bool {
    matches!(
        part.kind(),
        PartKind::Table
            | PartKind::Column
            | PartKind::Measure
            | PartKind::Hierarchy
            | PartKind::Lens
            | PartKind::Relationship
    )
}
