//! What names mean outside of a check: a lookup that needs no types, and knows columns that are dropped after loading, too.

use std::collections::HashSet;

use crate::Document;
use crate::parts::Part;
use cubrel_formula::schema::{ColumnId, Schema, TableId};

/// The names of a model.
pub struct Names<'m> {
    pub(super) schema: &'m Schema,
    /// Columns that a file names and the schema does not have: those that are dropped after loading.
    dropped: HashSet<(&'m str, &'m str)>,
    document: &'m Document,
    /// Whether who asks may see a part of the model only.
    pub(super) is_restricted: bool,
}

impl<'m> Names<'m> {
    /// Those of a model.
    pub fn new(document: &'m Document, schema: &'m Schema, is_restricted: bool) -> Names<'m> {
        let tables = document.file.table.iter();
        let columns = tables.flat_map(|(t, s)| s.column.iter().map(move |(c, said)| (t.as_str(), c.as_str(), said)));
        let dropped = columns.filter(|(.., said)| said.keep == Some(false)).map(|(t, c, _)| (t, c)).collect();
        Names { schema, dropped, document, is_restricted }
    }

    pub(super) fn table(&self, name: &str) -> Option<Part> {
        self.schema.find_table(name).map(|_| Part::Table(name.to_string()))
    }

    pub(super) fn column_id(&self, table: &str, name: &str) -> Option<ColumnId> {
        self.schema.find_table(table).and_then(|id| self.schema.find_column(id, name))
    }

    /// The column of this name, also one that is not in the schema any more.
    pub fn column(&self, table: &str, name: &str) -> Option<Part> {
        let is_there = self.column_id(table, name).is_some() || self.dropped.contains(&(table, name));
        is_there.then(|| Part::column(table, name))
    }

    pub(super) fn measure(&self, name: &str) -> Option<Part> {
        self.schema.find_measure(name).map(|_| Part::Measure(name.to_string()))
    }

    pub(super) fn lens(&self, name: &str) -> Option<Part> {
        self.schema.lenses.iter().any(|l| l.name == name).then(|| Part::Lens(name.to_string()))
    }

    /// A hierarchy, of one table or of any. What a copy has is the first table's.
    pub(super) fn hierarchy(&self, table: Option<&str>, name: &str) -> Option<Part> {
        let has = |t: &&str| {
            let id = self.schema.find_table(t);
            id.is_some_and(|id| self.schema.table(id).hierarchies.iter().any(|(h, _)| h == name))
        };
        let mut tables = self.document.file.table.keys().map(String::as_str);
        let table = tables.find(|t| table.is_none_or(|wanted| wanted == *t) && has(t))?;
        let first = self.document.file.table.get(table).and_then(|s| s.same_as.as_deref());
        let owner = first.filter(has_own(self.document, name)).unwrap_or(table);
        Some(Part::Hierarchy(owner.to_string(), name.to_string()))
    }

    /// Anything that stands in a list by its name alone.
    pub fn listed(&self, name: &str) -> Option<Part> {
        let found = self.measure(name).or_else(|| self.table(name));
        found.or_else(|| self.hierarchy(None, name)).or_else(|| self.lens(name))
    }

    /// The only calendar.
    pub(super) fn calendar(&self) -> Option<Part> {
        let mut all = (0..self.schema.tables.len() as u32).map(|t| self.schema.table(TableId(t)));
        let only = all.by_ref().find(|t| t.calendar.is_some() && !t.name.is_empty())?;
        let is_only = !all.any(|t| t.calendar.is_some());
        is_only.then(|| Part::Table(only.name.clone()))
    }

    /// Whether all of a relationship can be seen.
    pub fn has_relationship(&self, i: usize) -> bool {
        self.schema.relationships.get(i).is_some_and(|r| {
            let side = |table: TableId, columns: &[u32]| {
                columns.iter().all(|c| !self.schema.column(ColumnId { table, index: *c }).name.is_empty())
            };
            side(r.many, &r.many_columns) && side(r.one, &r.one_columns)
        })
    }

    /// The relationship that `via` and `both_ways` mean by columns of the many side.
    pub(super) fn relationship(&self, columns: &[(String, String)]) -> Option<Part> {
        let ids: Vec<ColumnId> = columns.iter().filter_map(|(t, c)| self.column_id(t, c)).collect();
        let all = self.schema.relationships_of(&ids);
        let exact: Vec<_> =
            all.iter().filter(|r| self.schema.relationship(**r).many_columns.len() == ids.len()).collect();
        let candidates = if exact.is_empty() { all.iter().collect() } else { exact };
        let spare = candidates.iter().find(|r| self.schema.relationship(***r).spare);
        let found = spare.or(candidates.first()).filter(|_| !ids.is_empty())?;
        Some(Part::Relationship(found.0 as usize))
    }
}

fn has_own<'d>(document: &'d Document, name: &'d str) -> impl Fn(&&str) -> bool + 'd {
    move |table| document.file.table.get(*table).is_some_and(|s| s.hierarchy.contains_key(name))
}
