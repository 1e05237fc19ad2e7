//! Where a part of a model is used: directly, and by way of others.

use std::collections::{HashSet, VecDeque};

use serde::Serialize;

use super::graph::Graph;
use crate::{Error, Model};
use cubrel_model::mentions::Mention;
use cubrel_model::parts::{Part, PartKind};

/// Where a part is used.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Uses {
    /// Its name, as formulas write it.
    pub name: String,
    /// What it is.
    pub kind: PartKind,
    /// What uses it: directly first, then by way of others, the nearest first.
    pub used_by: Vec<Use>,
}

/// One place in which a part is used.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[non_exhaustive]
pub struct Use {
    /// What uses it.
    pub name: String,
    /// What that is.
    pub kind: PartKind,
    /// Whether it names the part itself.
    pub direct: bool,
    /// The parts between the asked one and this one, the nearest to the asked one first.
    pub through: Vec<String>,
    /// The line of the text in which it names the part, or the last of those between.
    pub text: String,
    /// Which characters of the text do.
    #[serde(skip)]
    pub marked: std::ops::Range<usize>,
    /// The line of the model's file, from 1; nothing where the text stands in none.
    pub line: Option<usize>,
    /// The column, from 1.
    pub column: Option<usize>,
}

impl Model {
    /// Where something is used: a table, a column (written `table.column`), a measure, a hierarchy, a lens, a relationship
    /// (written `a.b → c.d`) or a saved query. A name that several have is written with its kind in front, as in
    /// `query.routes`.
    ///
    /// What texts name counts, and which relationships queries follow without naming them.
    ///
    /// # Errors
    /// When nothing has the name, or several have it.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Measure, Model, Type, Value};
    ///
    /// let model = Model::builder()
    ///     .rows("booking", &[("net", Type::Int)], &[vec![Value::Int(10)]])
    ///     .define(Measure::new("net_revenue", "sum(booking.net)"))
    ///     .define(Measure::new("doubled", "2 * net_revenue"))
    ///     .build()?;
    /// let uses = model.uses("booking.net")?;
    /// let told: Vec<(&str, bool)> = uses.used_by.iter().map(|u| (u.name.as_str(), u.direct)).collect();
    /// assert_eq!(told, [("net_revenue", true), ("doubled", false)]);
    /// assert_eq!(uses.used_by[1].through, ["net_revenue"]);
    /// # Ok(())
    /// # }
    /// ```
    pub fn uses(&self, name: &str) -> Result<Uses, Error> {
        let graph = Graph::new(self);
        let part = graph.find(name)?;
        Ok(of_part(&graph, &part))
    }
}

/// Where a part is used.
pub(crate) fn of_part(graph: &Graph<'_>, part: &Part) -> Uses {
    let mut used_by = Vec::new();
    let mut known: HashSet<Part> = HashSet::from([part.clone()]);
    let mut open: VecDeque<(Part, Vec<String>)> = VecDeque::from([(part.clone(), Vec::new())]);
    while let Some((at, through)) = open.pop_front() {
        let is_direct = at == *part;
        let mut new: Vec<Part> = Vec::new();
        for mention in graph.users(&at).filter(|m| m.by != *part) {
            // What names the part itself is told with each place, the others with one.
            let is_known = known.contains(&mention.by) && !(is_direct && new.contains(&mention.by));
            if !is_known {
                used_by.push(told(graph, mention, is_direct, &through));
            }
            if known.insert(mention.by.clone()) {
                new.push(mention.by.clone());
                if mention.carries {
                    let way = if is_direct { Vec::new() } else { through.clone() };
                    open.push_back((mention.by.clone(), [way, vec![graph.show(&mention.by)]].concat()));
                }
            }
        }
    }
    Uses { name: graph.show(part), kind: part.kind(), used_by }
}

fn told(graph: &Graph<'_>, mention: &Mention, direct: bool, through: &[String]) -> Use {
    let source = &mention.source;
    let start = source.text[..mention.span.start as usize].rfind('\n').map_or(0, |at| at + 1);
    let line = source.text[start..].lines().next().unwrap_or_default();
    let chars = |bytes: usize| source.text[start..bytes.min(start + line.len()).max(start)].chars().count();
    let marked = chars(mention.span.start as usize)..chars(mention.span.end as usize);
    let indent = line.len() - line.trim_start().len();
    let is_whole = graph.model.seen_as().is_none();
    let place = (is_whole && source.origin.is_some() || std::sync::Arc::ptr_eq(source, &graph.model.document().source))
        .then(|| {
            let (file, span) = source.place(mention.span);
            file.line_column(span.start)
        });
    Use {
        name: graph.show(&mention.by),
        kind: mention.by.kind(),
        direct,
        through: through.to_vec(),
        text: line.trim().to_string(),
        marked: marked.start.saturating_sub(indent)..marked.end.saturating_sub(indent),
        line: place.map(|(line, _)| line),
        column: place.map(|(_, column)| column),
    }
}
