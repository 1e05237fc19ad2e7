//! What nothing uses, what removing it saves, and what nothing uses any more once it is gone.

use std::collections::{BTreeSet, HashMap, HashSet};

use serde::Serialize;

use super::graph::{Graph, is_usable};
use crate::Model;
use cubrel_model::parts::{Part, PartKind};

/// What nothing uses.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Unused {
    /// Part by part, the heaviest first.
    pub unused: Vec<UnusedPart>,
    /// What removing all of it saves, in bytes, with what then becomes unused.
    pub bytes: u64,
}

/// Something that nothing uses.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct UnusedPart {
    /// Its name, as formulas write it.
    pub name: String,
    /// What it is.
    pub kind: PartKind,
    /// What removing it saves, in bytes.
    pub bytes: u64,
    /// What nothing uses any more once it is gone, to the end.
    pub then_unused: Vec<String>,
}

impl Model {
    /// The tables, columns, measures, hierarchies, lenses and relationships that nothing uses: no formula, no saved query,
    /// no role, shortlist or expectation, nor anything else of the model's file. The columns of a table that nothing uses
    /// are not listed with it.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Model, Type, Value};
    ///
    /// let model = Model::builder()
    ///     .rows("booking", &[("net", Type::Int), ("note", Type::Text)], &[vec![Value::Int(1), Value::text("late")]])
    ///     .definitions("[query.all]\ntext = 'grid sum(booking.net)'")
    ///     .build()?;
    /// let unused = model.unused();
    /// assert_eq!(unused.unused[0].name, "booking.note");
    /// assert_eq!(unused.bytes, unused.unused[0].bytes);
    /// # Ok(())
    /// # }
    /// ```
    pub fn unused(&self) -> Unused {
        of_graph(&Graph::new(self))
    }
}

pub(crate) fn of_graph(graph: &Graph<'_>) -> Unused {
    let weights = Weights::of(graph.model);
    let first = unused_without(graph, &HashSet::new());
    let mut unused: Vec<UnusedPart> = first
        .iter()
        .filter(|part| !is_in(part, &first))
        .map(|part| {
            let gone = with_what_is_in_it(graph, part);
            let then = closure(graph, gone.clone(), &first);
            let in_tables = then.iter().filter(|p| !is_in(p, &then) && !is_in(p, &[(*part).clone()]));
            UnusedPart {
                name: graph.show(part),
                kind: part.kind(),
                bytes: weights.of_parts(&gone),
                then_unused: in_tables.map(|p| graph.show(p)).collect(),
            }
        })
        .collect();
    // By weight, and else in the order of the file.
    unused.sort_by_key(|part| std::cmp::Reverse(part.bytes));
    let all: HashSet<Part> = first.iter().flat_map(|part| with_what_is_in_it(graph, part)).collect();
    let gone: HashSet<Part> = closure(graph, all.clone(), &first).into_iter().chain(all).collect();
    Unused { unused, bytes: weights.of_parts(&gone) }
}

/// What nothing uses, with its bytes; of a table that nothing uses, the table alone.
pub(super) fn parts(graph: &Graph<'_>) -> Vec<(Part, u64)> {
    let weights = Weights::of(graph.model);
    let first = unused_without(graph, &HashSet::new());
    let listed = first.iter().filter(|part| !is_in(part, &first));
    listed.map(|part| (part.clone(), weights.of_parts(&with_what_is_in_it(graph, part)))).collect()
}

/// Whether a column or hierarchy belongs to a table of a list.
fn is_in(part: &Part, list: &[Part]) -> bool {
    part.kind() != PartKind::Table && part.table().is_some_and(|t| list.contains(&Part::Table(t.to_string())))
}

/// A part, and for a table its columns and hierarchies.
pub(crate) fn with_what_is_in_it(graph: &Graph<'_>, part: &Part) -> HashSet<Part> {
    let inner = graph.parts.iter().filter(|p| matches!(part, Part::Table(table) if p.table() == Some(table)));
    inner.cloned().chain([part.clone()]).collect()
}

/// What nothing uses when some parts are gone. A relationship that nobody follows keeps nothing in use.
fn unused_without(graph: &Graph<'_>, gone: &HashSet<Part>) -> Vec<Part> {
    let is_used = |part: &Part, idle: &HashSet<&Part>| {
        graph.users(part).any(|m| !gone.contains(&m.by) && m.by != *part && !idle.contains(&m.by))
    };
    let none = HashSet::new();
    let candidates: Vec<&Part> = graph.parts.iter().filter(|p| is_usable(p) && !gone.contains(p)).collect();
    let is_relationship = |p: &&&Part| p.kind() == PartKind::Relationship;
    let idle: HashSet<&Part> =
        candidates.iter().filter(is_relationship).filter(|p| !is_used(p, &none)).copied().collect();
    candidates.into_iter().filter(|part| !is_used(part, &idle)).cloned().collect()
}

/// What becomes unused, to the end, once some parts are gone; what is unused anyway stays.
fn closure(graph: &Graph<'_>, mut gone: HashSet<Part>, anyway: &[Part]) -> Vec<Part> {
    let mut found: Vec<Part> = Vec::new();
    loop {
        let mut new = unused_without(graph, &gone);
        new.retain(|part| !anyway.contains(part));
        if new.is_empty() {
            return found;
        }
        for part in new {
            gone.extend(with_what_is_in_it(graph, &part));
            found.push(part);
        }
    }
}

/// What each part weighs.
struct Weights {
    columns: HashMap<(String, String), u64>,
    /// Copies share the columns of the first table: only what nobody shares is saved.
    copies: HashMap<String, BTreeSet<String>>,
    relationships: Vec<u64>,
}

impl Weights {
    fn of(model: &Model) -> Weights {
        let sizes = model.sizes();
        let of_tables = sizes.tables.iter().filter(|t| t.same_as.is_none());
        let columns = of_tables
            .flat_map(|t| t.columns.iter().map(|c| ((t.name.clone(), c.name.clone()), c.parts.codes + c.parts.values)));
        let mut copies: HashMap<String, BTreeSet<String>> = HashMap::new();
        for table in &sizes.tables {
            if let Some(first) = &table.same_as {
                copies.entry(first.clone()).or_default().insert(table.name.clone());
            }
        }
        let relationships = sizes.relationships.iter().map(|r| r.link_bytes).collect();
        Weights { columns: columns.collect(), copies, relationships }
    }

    fn of_parts(&self, gone: &HashSet<Part>) -> u64 {
        let of_part = |part: &Part| match part {
            Part::Relationship(i) => self.relationships.get(*i).copied().unwrap_or(0),
            Part::Column(table, name) => {
                let stays = |copy: &String| !gone.contains(&Part::column(copy, name));
                let is_shared = self.copies.get(table).is_some_and(|copies| copies.iter().any(stays));
                let own = self.columns.get(&(table.clone(), name.clone()));
                own.copied().filter(|_| !is_shared).unwrap_or(0)
            }
            _ => 0,
        };
        gone.iter().map(of_part).sum()
    }
}
