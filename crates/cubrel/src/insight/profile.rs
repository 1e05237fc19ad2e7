//! How long a query takes, and why: a tree by part of the formulas, with the reads that each part caused.

use std::collections::HashSet;
use std::time::{Duration, Instant};

use serde::Serialize;

use crate::{Error, Grid, Model, Query, QueryOptions};
use cubrel_formula::parser;
use cubrel_formula::schema::Schema;
use cubrel_formula::source::Source;
use cubrel_plan::query::QueryPlan;
use cubrel_plan::{Assembly, Bound, Domain, Filter, Leaf, ParameterId, Printer, Read, ReadId, outer_values};
use cubrel_run::RunProfile;

/// The times of a query, as `cubrel time` gives them.
#[derive(Clone, Debug, Serialize)]
pub struct Profile {
    /// From the text to the first result, in this process.
    pub cold: Cold,
    /// The runs after the first.
    pub warm: Warm,
    /// Where the time of one warm run went.
    pub tree: Vec<Node>,
    /// What could be done about it.
    pub advice: Vec<String>,
}

/// The first run.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct Cold {
    /// Planning included.
    pub ms: f64,
}

/// The other runs.
#[derive(Clone, Copy, Debug, Serialize)]
pub struct Warm {
    /// How many.
    pub runs: usize,
    /// The middle one.
    pub median_ms: f64,
    /// The fastest.
    pub min_ms: f64,
    /// The slowest.
    pub max_ms: f64,
}

impl Warm {
    /// Of times in ascending order, of which there is at least one.
    pub(super) fn of(times: &[Duration]) -> Warm {
        let at = |i: usize| times.get(i).map_or(0.0, |time| ms(*time));
        Warm { runs: times.len(), median_ms: at(times.len() / 2), min_ms: at(0), max_ms: at(times.len() - 1) }
    }
}

/// What a node of the tree is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum NodeKind {
    /// One item of the query.
    Item,
    /// A measure or a part of a formula.
    Formula,
    /// A pass over a table's codes.
    Read,
}

impl NodeKind {
    /// As JSON has it.
    pub fn name(self) -> &'static str {
        match self {
            NodeKind::Item => "item",
            NodeKind::Formula => "formula",
            NodeKind::Read => "read",
        }
    }
}

/// A part of the query with its time.
#[derive(Clone, Debug, Serialize)]
pub struct Node {
    /// What it is called.
    pub part: String,
    /// What it is.
    pub kind: NodeKind,
    /// The number of a read; a read that several parts share stands once, and the others only name it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub id: Option<usize>,
    /// Time in it and in nothing below it; nothing for a read that stands elsewhere.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub own_ms: Option<f64>,
    /// Time in it and below it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub total_ms: Option<f64>,
    /// For how many values from outside it was done once each, because no batch could do it; 1 where it was not.
    pub repeats: u64,
    /// What each of them is, such as `value of customer.spent`; nothing where it was done once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repeated_for: Option<String>,
    /// What is below it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Node>,
    /// What a read went through.
    #[serde(flatten, skip_serializing_if = "Option::is_none")]
    pub read: Option<ReadNode>,
}

/// What a read went through.
#[derive(Clone, Debug, Serialize)]
pub struct ReadNode {
    /// The table.
    pub table: String,
    /// What its rows were grouped by.
    pub group_by: Vec<String>,
    /// What they had to satisfy.
    pub filters: Vec<String>,
    /// What was computed of each group.
    pub aggregates: Vec<String>,
    /// Rows of the table.
    pub rows: u64,
    /// Rows looked at.
    pub rows_read: u64,
    /// Segments in which no row could pass.
    pub segments_skipped: u64,
    /// Bytes of packed codes.
    pub bytes_read: u64,
    /// Groups that have rows.
    pub groups: u64,
    /// Whether it went through no rows, but through the groups of another read.
    pub rolled_up: bool,
    /// The read in whose pass it was done: what that cost stands there.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub with: Option<usize>,
}

impl ReadNode {
    /// What was computed, or that only the groups were wanted.
    pub fn aggregates_text(&self) -> String {
        if self.aggregates.is_empty() { "groups".to_string() } else { self.aggregates.join(", ") }
    }
}

fn ms(d: Duration) -> f64 {
    // Microseconds are as fine as the clock is worth.
    (d.as_secs_f64() * 1e6).round() / 1e3
}

/// Runs a query once cold and `runs` times warm.
///
/// # Errors
/// When it cannot be planned or run.
pub fn profile(model: &Model, text: &str, query_options: &QueryOptions, runs: usize) -> Result<(Profile, Grid), Error> {
    let run = |query: &Query| query.run_with(&query_options.run_options());
    let start = Instant::now();
    let query = model.query_with(text, query_options)?;
    let (mut grid, first) = run(&query)?;
    let cold = start.elapsed();
    let mut done: Vec<(Duration, RunProfile)> = Vec::new();
    for _ in 0..runs.max(1) {
        let start = Instant::now();
        let (result, profile) = run(&query)?;
        done.push((start.elapsed(), profile));
        grid = result;
    }
    drop(first);
    done.sort_by_key(|(d, _)| *d);
    let warm = Warm::of(&done.iter().map(|(d, _)| *d).collect::<Vec<_>>());
    let tree = tree(model.schema(), &query, &done[done.len() / 2].1);
    let advice = advice(&tree);
    Ok((Profile { cold: Cold { ms: ms(cold) }, warm, tree, advice }, grid))
}

/// The query once for each of its items, with that item alone; and what the item is called.
///
/// # Errors
/// When the text is not a query.
pub fn items(text: &str) -> Result<Vec<(String, String)>, Error> {
    let source = Source::new("query", text);
    let (query, problems) = parser::query(&source);
    let query = query.filter(|_| problems.is_empty()).ok_or(Error::Problems(problems))?;
    let (Some(first), Some(last)) = (query.items.first(), query.items.last()) else {
        return Ok(Vec::new());
    };
    let (before, after) = (&text[..first.span.start as usize], &text[last.span.end as usize..]);
    Ok(query
        .items
        .iter()
        .map(|item| {
            let name =
                item.heading.as_ref().map_or_else(|| source.slice(item.expr.span).to_string(), |h| h.text.clone());
            (name, format!("{before}{}{after}", source.slice(item.span)))
        })
        .collect())
}

pub(super) fn tree(schema: &Schema, query: &Query, profile: &RunProfile) -> Vec<Node> {
    let query_plan = query.query_plan();
    let printer = Printer::with_names(
        schema,
        outer_values(query_plan).iter().map(|(slot, value)| (*slot, written(value))).collect(),
    );
    let mut growing = Growing { schema, printer, reads: query_plan.reads(), profile, shown: HashSet::new() };
    let plan = match query_plan {
        QueryPlan::Grid(plan) => plan,
        QueryPlan::Records(plan) => {
            let mut nodes: Vec<Node> =
                plan.items.iter().map(|(item, a)| growing.part(&item.name, NodeKind::Item, &[a])).collect();
            let order: Vec<&Assembly> = plan.order.iter().map(|(a, ..)| a).collect();
            if !order.is_empty() {
                nodes.push(growing.part("order by", NodeKind::Item, &order));
            }
            return nodes;
        }
    };
    let mut lines = growing.group("lines of the grid", NodeKind::Formula, |g| {
        plan.parts.iter().flat_map(|p| g.domain(&p.domain)).collect()
    });
    // The lines cost what their reads cost; the rest of a run is spread over the items.
    lines.total_ms = Some(lines.parts.iter().filter_map(|n| n.total_ms).sum());
    lines.own_ms = None;
    let mut nodes = Vec::new();
    for i in 0..plan.items.len() {
        let assemblies: Vec<&Assembly> = plan.parts.iter().map(|p| &p.items[i]).collect();
        nodes.push(growing.part(&plan.items[i].name, NodeKind::Item, &assemblies));
    }
    if let Some(others) = &plan.others {
        let assemblies: Vec<&Assembly> = others.parts.iter().flat_map(|p| &p.items).collect();
        nodes.push(growing.part("others", NodeKind::Item, &assemblies));
    }
    let judges: Vec<&Assembly> =
        plan.judges.iter().flat_map(|j| j.having.iter().chain(j.order.iter().flatten().map(|(a, _)| a))).collect();
    if !judges.is_empty() {
        nodes.push(growing.part("having and order by", NodeKind::Item, &judges));
    }
    if !lines.parts.is_empty() {
        nodes.push(lines);
    }
    nodes
}

struct Growing<'a> {
    schema: &'a Schema,
    printer: Printer<'a>,
    reads: &'a [Read],
    profile: &'a RunProfile,
    shown: HashSet<ReadId>,
}

impl Growing<'_> {
    fn group(&mut self, part: &str, kind: NodeKind, parts: impl FnOnce(&mut Self) -> Vec<Node>) -> Node {
        let parts = parts(self);
        let repeats = parts.iter().map(|p| p.repeats).max().unwrap_or(1);
        let part = part.to_string();
        Node { part, kind, id: None, own_ms: None, total_ms: None, repeats, repeated_for: None, parts, read: None }
    }

    /// The same part of a formula in several places: the cells and the totals.
    fn part(&mut self, label: &str, kind: NodeKind, assemblies: &[&Assembly]) -> Node {
        let total: Duration = assemblies.iter().map(|a| self.profile.time_in(a)).sum();
        let mut node = self.group(label, kind, |g| {
            let mut nodes: Vec<Node> = Vec::new();
            for assembly in assemblies {
                for leaf in &assembly.leaves {
                    let more = g.leaf(leaf);
                    nodes.extend(more);
                }
            }
            merged(nodes)
        });
        // An item that is a measure and nothing else is that measure.
        if let [only] = node.parts.as_mut_slice()
            && only.kind == NodeKind::Formula
            && only.part == label
        {
            node.parts = std::mem::take(&mut only.parts);
        }
        node.total_ms = Some(ms(total));
        let below: f64 = node.parts.iter().filter_map(|n| n.total_ms).sum();
        node.own_ms = Some(((ms(total) - below).max(0.0) * 1e3).round() / 1e3);
        node
    }

    fn leaf(&mut self, leaf: &Leaf) -> Vec<Node> {
        match leaf {
            Leaf::Read(read, _) => vec![self.read(read.read)],
            Leaf::Part(body) | Leaf::Project { body, .. } => self.inner(body),
            Leaf::Dim(_) | Leaf::Current { .. } => Vec::new(),
            Leaf::Bind { values, body } => {
                let mut nodes: Vec<Node> = values.iter().flat_map(|v| self.bound(v)).collect();
                nodes.extend(self.inner(body));
                nodes
            }
            Leaf::Member(of, _) => self.inner(of),
            Leaf::Period(period) => {
                let days = std::iter::once(&period.visible).chain(&period.with_rows);
                let mut nodes = self.inner(&period.body);
                nodes.extend(days.map(|r| self.read(r.read)).collect::<Vec<_>>());
                nodes
            }
            Leaf::OverDays(over) => {
                let done =
                    [over.by_day.read, over.by_set.read].into_iter().filter(|r| self.profile.reads[*r].times > 0);
                done.collect::<Vec<_>>().into_iter().map(|r| self.read(r)).collect()
            }
            Leaf::Fold(fold) => {
                let bodies = fold.args.iter().chain(&fold.filter).chain(fold.order.iter().map(|(a, _)| a));
                let mut nodes: Vec<Node> = bodies.flat_map(|a| self.inner(a)).collect();
                nodes.extend(self.domain(&fold.domain));
                nodes
            }
            Leaf::Rank(rank) => {
                let mut nodes = self.inner(&rank.mine);
                nodes.extend(self.inner(&rank.figure));
                nodes.extend(self.domain(&rank.domain));
                nodes
            }
        }
    }

    fn bound(&mut self, bound: &Bound) -> Vec<Node> {
        match bound {
            Bound::Value(value) => self.inner(value),
            Bound::Set(set) => {
                let mut nodes = self.inner(&set.figure);
                nodes.extend(self.domain(&set.domain));
                nodes
            }
        }
    }

    /// A named part is a node; what stands in an unnamed one belongs to the part around it.
    fn inner(&mut self, assembly: &Assembly) -> Vec<Node> {
        if assembly.label.is_empty() {
            return assembly.leaves.iter().flat_map(|l| self.leaf(l)).collect();
        }
        vec![self.part(&assembly.label, NodeKind::Formula, &[assembly])]
    }

    /// The reads that told which combinations there are. Where a formula's own read did that as well, it stands there.
    fn domain(&mut self, domain: &Domain) -> Vec<Node> {
        let reads =
            domain.groups.iter().flat_map(|g| std::iter::once(&g.read).chain(g.null_reads.iter().map(|(r, _)| r)));
        let done: Vec<ReadId> = reads.map(|r| r.read).filter(|r| self.profile.reads[*r].times > 0).collect();
        done.into_iter()
            .filter(|r| !self.shown.contains(r))
            .collect::<Vec<_>>()
            .into_iter()
            .map(|r| self.read(r))
            .collect()
    }

    /// The values for which a read was done once each.
    fn repeated_for(&self, read: &Read) -> String {
        let days: Vec<ParameterId> = read.filters.iter().filter_map(Filter::days).collect();
        let values: Vec<String> =
            read.outer.iter().filter(|s| !days.contains(s)).map(|s| self.printer.slot(*s)).collect();
        let mut all: Vec<String> = Vec::new();
        all.extend((!values.is_empty()).then(|| format!("value of {}", values.join(" and "))));
        all.extend((!days.is_empty()).then(|| DAYS.to_string()));
        all.join(" and ")
    }

    fn read(&mut self, id: ReadId) -> Node {
        let (read, profile) = (&self.reads[id], &self.profile.reads[id]);
        let mut part = self.printer.read(read);
        self.printer.detours(read, &mut part);
        if !self.shown.insert(id) {
            return Node {
                part,
                kind: NodeKind::Read,
                id: Some(id.index()),
                own_ms: None,
                total_ms: None,
                repeats: 1,
                repeated_for: None,
                parts: Vec::new(),
                read: None,
            };
        }
        let stats = &profile.stats;
        // A read without values from outside is done once, however many parts share it.
        let repeats = if read.outer.is_empty() { 1 } else { profile.times.max(1) };
        let details = ReadNode {
            table: self.schema.table(read.table).name.clone(),
            group_by: read.keys.iter().map(|k| self.printer.key(*k)).collect(),
            filters: read.filters.iter().map(|f| self.printer.filter(f)).collect(),
            aggregates: read.aggregates.iter().map(|a| self.printer.aggregate(a)).collect(),
            rows: stats.rows,
            rows_read: stats.rows_read,
            segments_skipped: stats.segments_skipped,
            bytes_read: stats.bytes_read,
            groups: stats.groups,
            rolled_up: profile.rolled_up > 0 && profile.rolled_up == profile.times,
            with: profile.with.map(|read| read.index()),
        };
        let elapsed = ms(profile.elapsed);
        Node {
            part,
            kind: NodeKind::Read,
            id: Some(id.index()),
            own_ms: Some(elapsed),
            total_ms: Some(elapsed),
            repeats,
            repeated_for: (repeats > 1).then(|| self.repeated_for(read)),
            parts: Vec::new(),
            read: Some(details),
        }
    }
}

/// Parts of one name as one, and each shared read named once.
fn merged(nodes: Vec<Node>) -> Vec<Node> {
    let mut result: Vec<Node> = Vec::new();
    for node in nodes {
        let same = |n: &&mut Node| n.kind == node.kind && n.part == node.part && n.id == node.id;
        match result.iter_mut().find(same) {
            None => result.push(node),
            Some(first) => {
                first.own_ms = add(first.own_ms, node.own_ms);
                first.total_ms = add(first.total_ms, node.total_ms);
                first.repeats = first.repeats.max(node.repeats);
                let parts = std::mem::take(&mut first.parts).into_iter().chain(node.parts).collect();
                first.parts = merged(parts);
            }
        }
    }
    result
}

fn add(a: Option<f64>, b: Option<f64>) -> Option<f64> {
    match (a, b) {
        (None, None) => None,
        (a, b) => Some(((a.unwrap_or(0.0) + b.unwrap_or(0.0)) * 1e3).round() / 1e3),
    }
}

/// What could be done about reads that are repeated.
fn advice(tree: &[Node]) -> Vec<String> {
    let mut advice = Vec::new();
    fn walk(node: &Node, under: &str, advice: &mut Vec<String>) {
        if let (Some(read), Some(values)) = (&node.read, &node.repeated_for) {
            let help = if values == DAYS {
                "sums, counts, averages and extremes over time need one read by day; others do not add up"
            } else {
                "compare with a column or a constant instead, or with fewer different values"
            };
            advice.push(format!(
                "`{under}`: {} is read {} times, once for each {values}; {help}",
                read.table, node.repeats
            ));
        }
        node.parts.iter().for_each(|n| walk(n, if node.kind == NodeKind::Read { under } else { &node.part }, advice));
    }
    tree.iter().for_each(|n| walk(n, &n.part, &mut advice));
    advice.dedup();
    advice
}

/// What a read under a period edit is repeated for.
const DAYS: &str = "set of days";

/// What a value from outside was computed from, as it is written.
fn written(value: &Bound) -> String {
    let place = match value {
        Bound::Value(value) => &value.scalar.place,
        Bound::Set(set) => &set.figure.scalar.place,
    };
    let text = place.source.slice(place.span).split_whitespace().collect::<Vec<_>>().join(" ");
    match value {
        Bound::Value(_) => text,
        Bound::Set(set) => format!("{}({}, {text})", if set.bottom { "bottom" } else { "top" }, set.count),
    }
}
