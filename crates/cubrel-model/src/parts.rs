//! What a model is made of, by name: what can be used, renamed and removed, and what uses it.

use serde::Serialize;

use super::file::ModelFile;
use cubrel_formula::words::quote_name;

/// What kind of thing a `Part` is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
#[non_exhaustive]
pub enum PartKind {
    /// A table.
    Table,
    /// A column.
    Column,
    /// A measure.
    Measure,
    /// A hierarchy.
    Hierarchy,
    /// A lens.
    Lens,
    /// A relationship.
    Relationship,
    /// A saved query.
    Query,
    /// A role.
    Role,
    /// A shortlist.
    Shortlist,
    /// An expectation.
    Expectation,
}

impl PartKind {
    /// Its name, as messages have it.
    pub fn name(self) -> &'static str {
        match self {
            PartKind::Table => "table",
            PartKind::Column => "column",
            PartKind::Measure => "measure",
            PartKind::Hierarchy => "hierarchy",
            PartKind::Lens => "lens",
            PartKind::Relationship => "relationship",
            PartKind::Query => "query",
            PartKind::Role => "role",
            PartKind::Shortlist => "shortlist",
            PartKind::Expectation => "expectation",
        }
    }
}

/// A part of a model. What stands in a list of the file has its number there.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Part {
    /// A table.
    Table(String),
    /// A column: the table, the name.
    Column(String, String),
    /// A measure.
    Measure(String),
    /// A hierarchy: the table, the name.
    Hierarchy(String, String),
    /// A lens.
    Lens(String),
    /// A relationship.
    Relationship(usize),
    /// A saved query.
    Query(String),
    /// A role.
    Role(String),
    /// A shortlist.
    Shortlist(String),
    /// An expectation.
    Expectation(usize),
}

impl Part {
    /// A column by its names.
    pub fn column(table: &str, name: &str) -> Part {
        Part::Column(table.to_string(), name.to_string())
    }

    /// What kind it is.
    pub fn kind(&self) -> PartKind {
        match self {
            Part::Table(_) => PartKind::Table,
            Part::Column(..) => PartKind::Column,
            Part::Measure(_) => PartKind::Measure,
            Part::Hierarchy(..) => PartKind::Hierarchy,
            Part::Lens(_) => PartKind::Lens,
            Part::Relationship(_) => PartKind::Relationship,
            Part::Query(_) => PartKind::Query,
            Part::Role(_) => PartKind::Role,
            Part::Shortlist(_) => PartKind::Shortlist,
            Part::Expectation(_) => PartKind::Expectation,
        }
    }

    /// The table that it belongs to.
    pub fn table(&self) -> Option<&str> {
        match self {
            Part::Table(table) | Part::Column(table, _) | Part::Hierarchy(table, _) => Some(table),
            _ => None,
        }
    }

    /// Where the file defines it: the keys that lead there.
    pub fn keys(&self) -> Vec<String> {
        let path = |keys: &[&str]| keys.iter().map(|key| key.to_string()).collect();
        match self {
            Part::Table(name) => path(&["table", name]),
            Part::Column(table, name) => path(&["table", table, "column", name]),
            Part::Measure(name) => path(&["measure", name]),
            Part::Hierarchy(table, name) => path(&["table", table, "hierarchy", name]),
            Part::Lens(name) => path(&["lens", name]),
            Part::Relationship(i) => path(&["relationship", &i.to_string()]),
            Part::Query(name) => path(&["query", name]),
            Part::Role(name) => path(&["role", name]),
            Part::Shortlist(name) => path(&["shortlist", name]),
            Part::Expectation(i) => path(&["expect", &i.to_string()]),
        }
    }

    /// What people call it, as formulas write it.
    pub fn show(&self, file: &ModelFile) -> String {
        match self {
            Part::Column(table, name) => format!("{}.{}", quote_name(table), quote_name(name)),
            Part::Table(name) | Part::Measure(name) | Part::Hierarchy(_, name) | Part::Lens(name) => quote_name(name),
            Part::Query(name) | Part::Role(name) | Part::Shortlist(name) => name.clone(),
            Part::Relationship(i) => file.relationship.get(*i).map_or_else(String::new, |r| {
                let side =
                    |list: &[String]| if list.len() == 1 { list.concat() } else { format!("({})", list.join(", ")) };
                format!("{} → {}", side(r.many.list()), side(r.one.list()))
            }),
            Part::Expectation(i) => file.expect.get(*i).map_or_else(String::new, |e| e.title(*i)),
        }
    }
}
