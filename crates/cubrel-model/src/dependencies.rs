//! Which formulas need which: the order to check and compute them in, and cycles.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::Arc;

use super::document::Document;
use super::ordering::{Need, Ordered, ordered};
use cubrel_formula::ast::{Expr, ExprKind, QueryTree, Target};
use cubrel_formula::parser;
use cubrel_formula::source::{Diagnostic, Problem, Source, Span};

/// A formula of the model.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum FormulaNode {
    /// A calculated column, by table and name.
    Column(String, String),
    /// A measure.
    Measure(String),
    /// A table that a query works out.
    Table(String),
}

impl FormulaNode {
    fn show(&self) -> String {
        match self {
            FormulaNode::Column(table, column) => format!("{table}.{column}"),
            FormulaNode::Measure(name) | FormulaNode::Table(name) => name.clone(),
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

/// The query of a table that has been read.
#[derive(Clone, Debug)]
pub struct ParsedQuery {
    /// Its text.
    pub source: Arc<Source>,
    /// Its tree.
    pub query: QueryTree,
    /// The columns that it gives, in order: axes, then items.
    pub columns: Vec<String>,
}

/// All formulas of a model, in an order in which each comes after those that it needs.
#[derive(Clone, Debug, Default)]
pub struct Formulas {
    /// The order; formulas in a cycle are left out.
    pub order: Vec<FormulaNode>,
    /// The trees.
    pub parsed: HashMap<FormulaNode, ParsedFormula>,
    /// The queries whose results are tables.
    pub queries: HashMap<FormulaNode, ParsedQuery>,
    /// Tables that are copies of others, and what each is a copy of.
    pub copies: HashMap<String, String>,
    /// Calculated columns that need only their own row.
    pub own_row: HashSet<FormulaNode>,
    /// Texts that could not be read, and cycles.
    pub problems: Vec<Diagnostic>,
    /// The same of measures: these keep nobody from the rest of the model.
    pub of_measures: Vec<Diagnostic>,
    /// What keeps a measure from being used, for those that could not be read or stand in a cycle.
    pub wrong: HashMap<String, Arc<Diagnostic>>,
}

/// Reads all formulas and finds their order.
pub fn formulas(document: &Document) -> Formulas {
    let copies = document.file.table.iter().filter_map(|(name, s)| Some((name.clone(), s.same_as.clone()?)));
    let mut all = Formulas { copies: copies.collect(), ..Formulas::default() };
    for (table, section) in &document.file.table {
        for (column, c) in &section.column {
            if let Some(text) = &c.formula {
                let place = format!("table.{table}.column.{column}.formula");
                let source = document.formula(format!("column {table}.{column}"), &place, text);
                all.read(FormulaNode::Column(table.clone(), column.clone()), source);
            }
        }
    }
    for (name, measure) in &document.file.measure {
        let place = format!("measure.{name}.formula");
        let source = document.formula(format!("measure {name}"), &place, &measure.formula);
        all.read(FormulaNode::Measure(name.clone()), source);
    }
    for (name, section) in &document.file.table {
        if let Some(text) = &section.query {
            all.read_query(document, name, text);
        }
    }
    let nodes: BTreeSet<FormulaNode> = all.parsed.keys().chain(all.queries.keys()).cloned().collect();
    let nodes: Vec<FormulaNode> = nodes.into_iter().collect();
    let needs = all.needs(&nodes);
    let Ordered { order, cycles } = ordered(&needs);
    let mut in_cycle = vec![false; nodes.len()];
    for (first, way) in &cycles {
        way.iter().for_each(|need| in_cycle[need.of] = true);
        let members = std::iter::once(*first).chain(way.iter().map(|need| need.of)).take(way.len());
        all.is_circular(&members.map(|node| nodes[node].clone()).collect::<Vec<_>>());
    }
    let heights = heights(&needs, &order);
    all.are_too_high(&nodes, &heights);
    let stands = |node: &usize| !in_cycle[*node] && heights[*node] <= MAX_STACKED;
    all.order = order.into_iter().filter(stands).map(|node| nodes[node].clone()).collect();
    all.find_own_row(document);
    all
}

/// How many formulas stand on each other in each, itself included.
fn heights(needs: &[Vec<Need<()>>], order: &[usize]) -> Vec<usize> {
    let mut heights = vec![0; needs.len()];
    for node in order {
        heights[*node] = 1 + needs[*node].iter().map(|need| heights[need.of]).max().unwrap_or(0);
    }
    heights
}

fn measure_name(node: &FormulaNode) -> Option<&String> {
    match node {
        FormulaNode::Measure(name) => Some(name),
        _ => None,
    }
}

impl Formulas {
    /// Everything that is wrong.
    pub fn all_problems(&self) -> Vec<Diagnostic> {
        self.problems.iter().chain(&self.of_measures).cloned().collect()
    }

    fn measures_are_wrong(&mut self, names: &[&String], problems: Vec<Diagnostic>) {
        if let Some(first) = problems.first() {
            let first = Arc::new(first.clone());
            self.wrong.extend(names.iter().map(|name| ((*name).clone(), first.clone())));
        }
        self.of_measures.extend(problems);
    }

    fn read(&mut self, node: FormulaNode, source: Arc<Source>) {
        let (expr, problems) = parser::formula(&source);
        match measure_name(&node) {
            Some(name) => self.measures_are_wrong(&[name], problems),
            None => self.problems.extend(problems),
        }
        self.parsed.insert(node, ParsedFormula { source, expr });
    }

    fn read_query(&mut self, document: &Document, table: &str, text: &str) {
        let source = document.formula(format!("query of table {table}"), &format!("table.{table}.query"), text);
        let (query, problems) = parser::query(&source);
        let readable = problems.is_empty();
        self.problems.extend(problems);
        let Some(query) = query.filter(|_| readable) else { return };
        let mut refuse = |span: Span, message: &str, help: &str| {
            self.problems.push(Diagnostic::error(Problem::Model, &source, span, message).help(help));
        };
        let whole = Span::new(0, text.len());
        if query.records {
            refuse(
                whole,
                "the query of a table is a `grid`",
                "ask for a `grid` by the columns that the table shall have",
            );
        } else if query.totals || query.limit.as_ref().is_some_and(|l| l.others.is_some()) {
            refuse(whole, "a table has no lines for totals or the rest", "leave `totals` and `others` out");
        }
        match query_columns(document, &source, &query) {
            Ok(columns) => {
                self.queries.insert(FormulaNode::Table(table.to_string()), ParsedQuery { source, query, columns });
            }
            Err(problem) => self.problems.push(*problem),
        }
    }

    /// What a formula, or a query of a table, needs before it.
    fn needs_of(&self, node: &FormulaNode) -> Vec<FormulaNode> {
        let mut exprs: Vec<&Expr> = self.parsed.get(node).map(|f| &f.expr).into_iter().collect();
        let mut needs = Vec::new();
        let mut need_target = |target: &Target| {
            if let Target::Column(table, column) = target {
                needs.push(FormulaNode::Column(table.text.clone(), column.text.clone()));
                needs.push(FormulaNode::Table(table.text.clone()));
            }
        };
        if let Some(parsed) = self.queries.get(node) {
            parsed.query.each_expr(&mut |e| exprs.push(e));
            parsed.query.targets().for_each(&mut need_target);
        }
        exprs.iter().for_each(|e| e.walk_targets(&mut need_target));
        for e in exprs {
            e.walk(&mut |part| needs.extend(Self::may_mean(node, part)));
            e.walk_tables(&mut |name| needs.push(FormulaNode::Table(name.text.clone())));
        }
        if let FormulaNode::Column(table, _) = node {
            needs.push(FormulaNode::Table(table.clone()));
        }
        // A query that names its own table is a cycle; a column may share its name with others.
        let is_table = matches!(node, FormulaNode::Table(_));
        let mut needs: Vec<FormulaNode> = needs.into_iter().map(|n| self.made_as(n)).collect();
        needs.retain(|n| (n != node || is_table) && (self.parsed.contains_key(n) || self.queries.contains_key(n)));
        needs
    }

    /// What makes something: what a copy shares is made for the first table.
    fn made_as(&self, node: FormulaNode) -> FormulaNode {
        let is_made = self.parsed.contains_key(&node) || self.queries.contains_key(&node);
        match &node {
            FormulaNode::Column(table, column) if !is_made => match self.copies.get(table) {
                Some(first) => FormulaNode::Column(first.clone(), column.clone()),
                None => node,
            },
            FormulaNode::Table(table) if !is_made => {
                self.copies.get(table).map_or(node.clone(), |f| FormulaNode::Table(f.clone()))
            }
            _ => node,
        }
    }

    /// What each of some formulas needs, in order.
    fn needs(&self, nodes: &[FormulaNode]) -> Vec<Vec<Need<()>>> {
        let number: HashMap<&FormulaNode, usize> = nodes.iter().enumerate().map(|(i, node)| (node, i)).collect();
        let of = |node: &FormulaNode| {
            let own = Some(node.clone()).filter(|node| self.refers_to_itself(node));
            let needs: BTreeSet<FormulaNode> = self.needs_of(node).into_iter().chain(own).collect();
            needs.iter().filter_map(|need| Some(Need { of: *number.get(need)?, why: () })).collect()
        };
        nodes.iter().map(of).collect()
    }

    /// Tells of formulas that need each other.
    fn is_circular(&mut self, cycle: &[FormulaNode]) {
        let problem = self.cycle(cycle);
        match cycle.iter().map(measure_name).collect::<Option<Vec<&String>>>() {
            Some(names) => self.measures_are_wrong(&names, vec![problem]),
            None => self.problems.push(problem),
        }
    }

    /// Tells of formulas that stand on too many others, by the lowest of them.
    fn are_too_high(&mut self, nodes: &[FormulaNode], heights: &[usize]) {
        let with_height = || nodes.iter().zip(heights);
        let above: Vec<&String> =
            with_height().filter(|(_, h)| **h > MAX_STACKED).filter_map(|(node, _)| measure_name(node)).collect();
        for (lowest, _) in with_height().filter(|(_, h)| **h == MAX_STACKED + 1) {
            let problem = self.stands_on_too_many(lowest);
            match measure_name(lowest) {
                Some(_) => self.measures_are_wrong(&above, vec![problem]),
                None => self.problems.push(problem),
            }
        }
    }

    /// Everything that a formula names, columns of sources included.
    pub fn mentions(&self, node: &FormulaNode) -> Vec<FormulaNode> {
        let mut exprs: Vec<&Expr> = self.parsed.get(node).map(|f| &f.expr).into_iter().collect();
        let mut found = Vec::new();
        let mut find_target = |target: &Target| {
            if let Target::Column(table, column) = target {
                found.push(FormulaNode::Column(table.text.clone(), column.text.clone()));
            }
        };
        if let Some(parsed) = self.queries.get(node) {
            parsed.query.each_expr(&mut |e| exprs.push(e));
            parsed.query.targets().for_each(&mut find_target);
        }
        exprs.iter().for_each(|e| e.walk_targets(&mut find_target));
        exprs.iter().for_each(|e| e.walk(&mut |part| found.extend(Self::may_mean(node, part))));
        // What is on a table that a query works out comes from the query.
        let tables: Vec<FormulaNode> = found
            .iter()
            .filter_map(|n| match n {
                FormulaNode::Column(table, _) => {
                    Some(FormulaNode::Table(table.clone())).filter(|t| self.queries.contains_key(t))
                }
                _ => None,
            })
            .collect();
        found.extend(tables);
        found
    }

    fn refers_to_itself(&self, node: &FormulaNode) -> bool {
        let mut found = false;
        if let Some(formula) = self.parsed.get(node) {
            formula.expr.walk(&mut |e| found |= Self::may_mean(node, e).contains(node));
        }
        found
    }

    fn may_mean(from: &FormulaNode, e: &Expr) -> Vec<FormulaNode> {
        match (&e.kind, from) {
            (ExprKind::Name(name), FormulaNode::Column(table, _)) => {
                vec![FormulaNode::Column(table.clone(), name.text.clone()), FormulaNode::Measure(name.text.clone())]
            }
            (ExprKind::Name(name), FormulaNode::Measure(_) | FormulaNode::Table(_)) => {
                vec![FormulaNode::Measure(name.text.clone())]
            }
            (ExprKind::Column(table, column), _) => {
                vec![FormulaNode::Column(table.text.clone(), column.text.clone())]
            }
            _ => Vec::new(),
        }
    }

    fn stands_on_too_many(&self, node: &FormulaNode) -> Diagnostic {
        let message = format!("`{}` is more than {MAX_STACKED} formulas deep: each names the next", node.show());
        let problem = match self.parsed.get(node) {
            Some(formula) => Diagnostic::error(Problem::Model, &formula.source, formula.expr.span, message),
            None => Diagnostic::general(Problem::Model, message),
        };
        problem.help("write some of them out, so that fewer name each other in a row")
    }

    fn cycle(&self, cycle: &[FormulaNode]) -> Diagnostic {
        let names: Vec<String> = cycle.iter().chain(cycle.first()).map(FormulaNode::show).collect();
        let message = format!("these formulas need each other: {}", names.join(" → "));
        let problem = match (self.parsed.get(&cycle[0]), self.queries.get(&cycle[0])) {
            (Some(formula), _) => Diagnostic::error(Problem::Cycle, &formula.source, formula.expr.span, message),
            (None, Some(q)) => Diagnostic::error(Problem::Cycle, &q.source, Span::new(0, q.source.text.len()), message),
            (None, None) => Diagnostic::general(Problem::Cycle, message),
        };
        problem.help("write one of them without the others")
    }

    /// Columns whose formula names nothing but columns of their own table that are there while loading.
    fn find_own_row(&mut self, document: &Document) {
        for node in self.order.clone() {
            let FormulaNode::Column(table, _) = &node else {
                continue;
            };
            let mut own = !self.queries.contains_key(&FormulaNode::Table(table.clone()));
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
        let node = self.made_as(FormulaNode::Column(table.to_string(), column.to_string()));
        !self.parsed.contains_key(&node) || self.own_row.contains(&node)
    }

    /// The columns of a table that are computed while loading, in order.
    pub fn while_loading<'f>(&'f self, table: &'f str) -> impl Iterator<Item = (&'f str, &'f ParsedFormula)> {
        self.order.iter().filter_map(move |node| match node {
            FormulaNode::Column(t, column) if t == table && self.own_row.contains(node) => {
                Some((column.as_str(), &self.parsed[node]))
            }
            _ => None,
        })
    }
}

/// The names of the columns that a query gives: axes by their column, items by heading or measure; a name that stands
/// twice gets its table in front.
fn query_columns(document: &Document, source: &Arc<Source>, query: &QueryTree) -> Result<Vec<String>, Box<Diagnostic>> {
    let mut axes: Vec<(String, String)> = Vec::new();
    for target in query.by.iter().chain(&query.split) {
        axes.extend(axis_columns(document, target));
    }
    let mut names: Vec<String> = Vec::new();
    for (table, column) in &axes {
        let twice = axes.iter().filter(|(_, c)| c == column).count() > 1 && !table.is_empty();
        names.push(if twice { format!("{table}_{column}") } else { column.clone() });
    }
    for item in &query.items {
        match (&item.heading, &item.expr.kind) {
            (Some(heading), _) => names.push(heading.text.clone()),
            (None, ExprKind::Name(name)) => names.push(name.text.clone()),
            _ => {
                let problem =
                    Diagnostic::error(Problem::Model, source, item.span, "this column of the table has no name");
                return Err(Box::new(problem.help("name it: `… as net`")));
            }
        }
    }
    let twice = names.iter().enumerate().find(|(i, n)| names[..*i].contains(n)).map(|(_, n)| n.clone());
    match twice {
        None => Ok(names),
        Some(name) => {
            let message = format!("two columns of the table would be called `{name}`");
            let span = Span::new(0, source.text.len());
            Err(Box::new(
                Diagnostic::error(Problem::Duplicate, source, span, message).help("name one of them with `as`"),
            ))
        }
    }
}

/// The columns of an axis with their tables; a hierarchy has several, a lens one without a table.
fn axis_columns(document: &Document, target: &Target) -> Vec<(String, String)> {
    let levels = |table: Option<&str>, name: &str| {
        let tables = document.file.table.iter().filter(|(t, _)| table.is_none_or(|wanted| wanted == *t));
        let mut found = tables.filter_map(|(t, section)| Some((t, section.hierarchy.get(name)?)));
        found.next().map(|(t, h)| h.levels.iter().map(|l| (t.clone(), l.clone())).collect::<Vec<_>>())
    };
    match target {
        Target::Name(name) => levels(None, &name.text).unwrap_or_else(|| vec![(String::new(), name.text.clone())]),
        Target::Column(table, column) => {
            levels(Some(&table.text), &column.text).unwrap_or_else(|| vec![(table.text.clone(), column.text.clone())])
        }
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

/// How many formulas may stand on each other: what plans and runs them goes down as deep.
pub const MAX_STACKED: usize = 150;
