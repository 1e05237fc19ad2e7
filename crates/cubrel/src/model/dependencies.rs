//! Which formulas need which: the order to check and compute them in, and circles.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use super::document::Document;
use crate::formula::ast::{Expr, ExprKind, Target};
use crate::formula::parser;
use crate::formula::source::{Diagnostic, Problem, Source};

/// A formula of the model.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Node {
    /// A calculated column, by table and name.
    Column(String, String),
    /// A measure.
    Measure(String),
}

impl Node {
    fn show(&self) -> String {
        match self {
            Node::Column(table, column) => format!("{table}.{column}"),
            Node::Measure(name) => name.clone(),
        }
    }
}

/// A formula that has been read.
#[derive(Clone, Debug)]
pub struct ParsedFormula {
    /// Its text.
    pub source: Arc<Source>,
    /// Its tree.
    pub expr: Expr,
}

/// All formulas of a model, in an order in which each comes after those that it needs.
#[derive(Clone, Debug, Default)]
pub struct Formulas {
    /// The order; formulas in a circle are left out.
    pub order: Vec<Node>,
    /// The trees.
    pub parsed: HashMap<Node, ParsedFormula>,
    /// Calculated columns that need only their own row.
    pub own_row: HashSet<Node>,
    /// Texts that could not be read, and circles.
    pub problems: Vec<Diagnostic>,
}

/// Reads all formulas and finds their order.
pub fn formulas(document: &Document) -> Formulas {
    let mut all = Formulas::default();
    for (table, section) in &document.file.table {
        for (column, c) in &section.column {
            if let Some(text) = &c.formula {
                all.read(Node::Column(table.clone(), column.clone()), &format!("column {table}.{column}"), text);
            }
        }
    }
    for (name, measure) in &document.file.measure {
        all.read(Node::Measure(name.clone()), &format!("measure {name}"), &measure.formula);
    }
    let nodes: BTreeSet<Node> = all.parsed.keys().cloned().collect();
    let mut search =
        Search { needs: all.needs(), state: HashMap::new(), path: Vec::new(), order: Vec::new(), circles: Vec::new() };
    nodes.iter().for_each(|n| search.visit(n));
    let Search { order, circles, .. } = search;
    for circle in circles {
        all.problems.push(all.circle(&circle));
    }
    all.order = order;
    all.find_own_row(document);
    all
}

impl Formulas {
    fn read(&mut self, node: Node, name: &str, text: &str) {
        let source = Source::new(name, text);
        let (expr, problems) = parser::formula(&source);
        self.problems.extend(problems);
        self.parsed.insert(node, ParsedFormula { source, expr });
    }

    fn needs(&self) -> HashMap<Node, Vec<Node>> {
        self.parsed
            .iter()
            .map(|(node, formula)| {
                let mut needs = Vec::new();
                formula.expr.walk(&mut |e| needs.extend(self.named(node, e)));
                formula.expr.walk_targets(&mut |target| {
                    if let Target::Column(table, column) = target {
                        let column = Node::Column(table.text.clone(), column.text.clone());
                        needs.extend(Some(column).filter(|n| self.parsed.contains_key(n)));
                    }
                });
                needs.sort();
                needs.dedup();
                (node.clone(), needs)
            })
            .collect()
    }

    /// Everything that a formula names, columns of sources included.
    pub fn mentions(&self, node: &Node) -> Vec<Node> {
        let mut found = Vec::new();
        if let Some(formula) = self.parsed.get(node) {
            formula.expr.walk(&mut |e| found.extend(Self::may_mean(node, e)));
            formula.expr.walk_targets(&mut |target| {
                if let Target::Column(table, column) = target {
                    found.push(Node::Column(table.text.clone(), column.text.clone()));
                }
            });
        }
        found
    }

    /// The formulas that a name may mean.
    fn named(&self, from: &Node, e: &Expr) -> Vec<Node> {
        let mut found = Self::may_mean(from, e);
        found.retain(|n| self.parsed.contains_key(n));
        found
    }

    fn may_mean(from: &Node, e: &Expr) -> Vec<Node> {
        match (&e.kind, from) {
            (ExprKind::Name(name), Node::Column(table, _)) => {
                vec![Node::Column(table.clone(), name.text.clone()), Node::Measure(name.text.clone())]
            }
            (ExprKind::Name(name), Node::Measure(_)) => vec![Node::Measure(name.text.clone())],
            (ExprKind::Column(table, column), _) => {
                vec![Node::Column(table.text.clone(), column.text.clone())]
            }
            _ => Vec::new(),
        }
    }

    fn circle(&self, circle: &[Node]) -> Diagnostic {
        let names: Vec<String> = circle.iter().chain(circle.first()).map(Node::show).collect();
        let formula = &self.parsed[&circle[0]];
        let message = format!("these formulas need each other: {}", names.join(" → "));
        Diagnostic::error(Problem::Circle, &formula.source, formula.expr.span, message)
            .help("write one of them without the others")
    }

    /// Columns whose formula names nothing but columns of their own table that are there while loading.
    fn find_own_row(&mut self, document: &Document) {
        for node in self.order.clone() {
            let Node::Column(table, _) = &node else {
                continue;
            };
            let mut own = true;
            let bound = let_names(&self.parsed[&node].expr);
            self.parsed[&node].expr.walk(&mut |e| {
                own &= match &e.kind {
                    ExprKind::Aggregate(_) | ExprKind::Given(..) | ExprKind::Via(..) | ExprKind::BothWays(..) => false,
                    ExprKind::Column(t, c) => t.text == *table && self.is_there(table, &c.text),
                    ExprKind::Name(name) => {
                        bound.contains(&name.text)
                            || (!document.file.measure.contains_key(&name.text) && self.is_there(table, &name.text))
                    }
                    _ => true,
                };
            });
            if own {
                self.own_row.insert(node);
            }
        }
    }

    /// A column of the source, or a calculated one that is computed while loading.
    fn is_there(&self, table: &str, column: &str) -> bool {
        let node = Node::Column(table.to_string(), column.to_string());
        !self.parsed.contains_key(&node) || self.own_row.contains(&node)
    }

    /// The columns of a table that are computed while loading, in order.
    pub fn while_loading<'f>(&'f self, table: &'f str) -> impl Iterator<Item = (&'f str, &'f ParsedFormula)> {
        self.order.iter().filter_map(move |node| match node {
            Node::Column(t, column) if t == table && self.own_row.contains(node) => {
                Some((column.as_str(), &self.parsed[node]))
            }
            _ => None,
        })
    }
}

fn let_names(e: &Expr) -> HashSet<String> {
    let mut names = HashSet::new();
    e.walk(&mut |e| {
        if let ExprKind::Let(bindings, _) = &e.kind {
            names.extend(bindings.iter().map(|(n, _)| n.text.clone()));
        }
    });
    names
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    Open,
    Done,
}

/// Depth first, so that a formula comes after what it needs.
struct Search {
    needs: HashMap<Node, Vec<Node>>,
    state: HashMap<Node, State>,
    path: Vec<Node>,
    order: Vec<Node>,
    circles: Vec<Vec<Node>>,
}

impl Search {
    fn visit(&mut self, node: &Node) {
        match self.state.get(node) {
            Some(State::Done) => return,
            Some(State::Open) => {
                let start = self.path.iter().position(|n| n == node).unwrap_or(0);
                self.circles.push(self.path[start..].to_vec());
                return;
            }
            None => {}
        }
        self.state.insert(node.clone(), State::Open);
        self.path.push(node.clone());
        for need in self.needs.get(node).cloned().unwrap_or_default() {
            self.visit(&need);
        }
        self.path.pop();
        self.state.insert(node.clone(), State::Done);
        let in_circle = self.circles.iter().any(|c| c.contains(node));
        if !in_circle {
            self.order.push(node.clone());
        }
    }
}
