//! What a text defines, in its order.

use std::ops::Range;

use super::text::ModelText;
use cubrel_formula::source::Span;
use cubrel_model::parts::{Part, PartKind};

/// Something that a text defines.
#[derive(Clone, Debug, PartialEq)]
#[non_exhaustive]
pub struct OutlineEntry {
    /// Its name by itself.
    pub name: String,
    /// What it is.
    pub kind: PartKind,
    /// The table that it belongs to, where it is not one itself.
    pub table: Option<String>,
    /// All that is said of it in one place.
    pub span: Range<usize>,
    /// Its name there.
    pub name_span: Range<usize>,
}

impl ModelText {
    /// What the text defines, in its order.
    pub fn outline(&self) -> Vec<OutlineEntry> {
        let mut entries: Vec<OutlineEntry> = Vec::new();
        let mut known: Vec<Part> = Vec::new();
        for key in &self.places.keys {
            let Some(part) = part_of(&key.path).filter(|part| part.keys() == key.path && !known.contains(part)) else {
                continue;
            };
            entries.push(self.outlined(&part, key.span));
            known.push(part);
        }
        // What stands in a list has no key of its own.
        for header in &self.places.headers {
            if let Some(part @ (Part::Relationship(_) | Part::Expectation(_))) = part_of(&header.path) {
                entries.push(self.outlined(&part, header.span));
            }
        }
        entries.sort_by_key(|entry| entry.name_span.start);
        entries
    }

    fn outlined(&self, part: &Part, name: Span) -> OutlineEntry {
        let shown = match part {
            Part::Column(_, name) => name.clone(),
            Part::Relationship(i) | Part::Expectation(i) => {
                let shown = self.document.as_ref().map(|document| part.show(&document.file)).unwrap_or_default();
                if shown.is_empty() { format!("{} {}", part.kind().name(), i + 1) } else { shown }
            }
            _ => part.keys().last().cloned().unwrap_or_default(),
        };
        let table = part.table().filter(|_| part.kind() != PartKind::Table).map(str::to_string);
        OutlineEntry { name: shown, kind: part.kind(), table, span: self.said_at(part, name), name_span: name.range() }
    }

    /// A section from its header up to the next one, or an entry.
    fn said_at(&self, part: &Part, name: Span) -> Range<usize> {
        let headers = &self.places.headers;
        let own = headers.iter().position(|h| h.path == part.keys() && h.span.start <= name.start);
        if let Some(i) = own {
            let end = headers.get(i + 1).map_or(self.text().len(), |next| next.span.start as usize);
            let start = headers[i].span.start as usize;
            return start..start + self.text()[start..end].trim_end().len();
        }
        let entry = self.places.entries.iter().filter(|e| e.span.start <= name.start && name.end <= e.span.end);
        entry.map(|e| e.span.range()).min_by_key(Range::len).unwrap_or_else(|| name.range())
    }
}

/// The part of which keys say something: that they lead to, or whose table or rows they name.
pub(super) fn part_of(path: &[String]) -> Option<Part> {
    let name = |at: usize| path[at].clone();
    let keys: Vec<&str> = path.iter().map(String::as_str).collect();
    let part = match keys.as_slice() {
        ["table", _] => Part::Table(name(1)),
        ["table", _, "column", _] => Part::Column(name(1), name(3)),
        ["table", _, "hierarchy", _] => Part::Hierarchy(name(1), name(3)),
        ["measure", _] => Part::Measure(name(1)),
        ["lens", _] => Part::Lens(name(1)),
        ["query", _] => Part::Query(name(1)),
        ["role", _] => Part::Role(name(1)),
        ["role", _, "rows", _] => Part::Table(name(3)),
        ["shortlist", _] => Part::Shortlist(name(1)),
        ["relationship", i] => Part::Relationship(i.parse().ok()?),
        ["expect", i] => Part::Expectation(i.parse().ok()?),
        _ => return None,
    };
    Some(part)
}
