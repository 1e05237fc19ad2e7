//! Roles: which rows people see, and what is not answered (language reference, section 11).

use std::collections::HashSet;
use std::sync::Arc;

use super::dependencies::{FormulaNode, Formulas};
use super::document::Document;
use super::paths::column_path;
use cubrel_formula::ast;
use cubrel_formula::check::{self, Settings};
use cubrel_formula::parser;
use cubrel_formula::schema::{ColumnId, Computed, MeasureId, Schema, TableId};
use cubrel_formula::source::{Diagnostic, Problem, Source, Span};
use cubrel_formula::typed::Narrow;

/// A role of the model.
#[derive(Clone, Debug)]
pub struct RoleDef {
    /// Its name.
    pub name: String,
    /// For some tables the rows that may be seen.
    pub rows: Vec<Rule>,
    /// What is not answered.
    pub denied: Denied,
    /// Who has it.
    pub people: Vec<String>,
}

/// What a role does not answer.
#[derive(Clone, Debug, Default)]
pub struct Denied {
    /// Columns, those computed from denied ones included.
    pub columns: HashSet<ColumnId>,
    /// Measures, in the same way.
    pub measures: HashSet<MeasureId>,
    /// Readings of lenses, by the lens's place and their name.
    pub readings: HashSet<(usize, String)>,
    /// Tables.
    pub tables: HashSet<TableId>,
}

impl Denied {
    /// Everything.
    pub fn all(schema: &Schema) -> Denied {
        let tables = (0..schema.tables.len() as u32).map(TableId);
        let columns = tables.clone().flat_map(|table| {
            (0..schema.table(table).columns.len() as u32).map(move |index| ColumnId { table, index })
        });
        let readings = schema.lenses.iter().enumerate().flat_map(|(i, l)| l.readings.iter().map(move |r| (i, r)));
        Denied {
            columns: columns.collect(),
            measures: (0..schema.measures.len() as u32).map(MeasureId).collect(),
            readings: readings.map(|(i, r)| (i, r.name.clone())).collect(),
            tables: tables.collect(),
        }
    }
}

/// Which rows of a table a role sees.
#[derive(Clone, Debug)]
pub struct Rule {
    /// The table.
    pub table: TableId,
    /// The rule, as written.
    pub source: Arc<Source>,
    /// The rule, read.
    pub expr: ast::Expr,
    /// Whether it comes from the first role of a table that has several.
    pub inherited: bool,
}

/// All roles of a model, with everything that is wrong or surprising.
pub fn roles(
    document: &Document,
    schema: &Schema,
    formulas: &Formulas,
    settings: &Settings,
) -> (Vec<RoleDef>, Vec<Diagnostic>) {
    let mut reader = RuleReader { document, schema, settings, problems: Vec::new() };
    let names: Vec<&String> = document.file.role.keys().collect();
    let roles: Vec<RoleDef> = names.into_iter().map(|name| reader.role(name, formulas)).collect();
    let restricting: Vec<&RoleDef> = roles.iter().filter(|r| !r.rows.is_empty()).collect();
    if !restricting.is_empty() {
        reader.totals_past_roles(formulas, &restricting);
        reader.tables_past_roles();
    }
    (roles, reader.problems)
}

struct RuleReader<'a> {
    document: &'a Document,
    schema: &'a Schema,
    settings: &'a Settings,
    problems: Vec<Diagnostic>,
}

impl RuleReader<'_> {
    fn role(&mut self, name: &str, formulas: &Formulas) -> RoleDef {
        let section = &self.document.file.role[name];
        let mut rows = Vec::new();
        for (table, text) in &section.rows {
            let path = format!("role.{name}.rows.{table}");
            match self.schema.find_table(table) {
                Some(id) => rows.extend(self.rule(name, id, text)),
                None => {
                    let tables: Vec<&str> = self.schema.tables.iter().map(|t| t.name.as_str()).collect();
                    let help = cubrel_formula::source::suggestion(table, &tables);
                    let problem =
                        self.document.problem(Problem::UnknownName, &path, format!("there is no table `{table}`"));
                    self.problems.push(problem.help(help));
                }
            }
        }
        rows.extend(self.inherited(&rows));
        let denied = self.denied(name, &section.deny, formulas);
        self.open_beneath(name, &section.deny, &denied, formulas);
        RoleDef { name: name.to_string(), rows, denied, people: section.people.clone() }
    }

    fn rule(&mut self, role: &str, table: TableId, text: &str) -> Option<Rule> {
        let of = &self.schema.table(table).name;
        let source =
            self.document.formula(format!("role {role}, rows of {of}"), &format!("role.{role}.rows.{of}"), text);
        let (expr, mut problems) = parser::formula(&source);
        if problems.is_empty() {
            problems = check::role_rule(self.schema, self.settings, &source, table, &expr).1;
        }
        let failed = !problems.is_empty();
        self.problems.extend(problems);
        (!failed).then_some(Rule { table, source, expr, inherited: false })
    }

    /// A copy of a table has the rule of the first, unless it has one of its own.
    fn inherited(&self, rows: &[Rule]) -> Vec<Rule> {
        let copies = self.document.file.table.iter().filter_map(|(name, section)| {
            let (copy, first) = (self.schema.find_table(name)?, self.schema.find_table(section.same_as.as_ref()?)?);
            (!rows.iter().any(|r| r.table == copy)).then_some((copy, first))
        });
        copies
            .filter_map(|(copy, first)| {
                let rule = rows.iter().find(|r| r.table == first)?;
                Some(Rule { table: copy, inherited: true, ..rule.clone() })
            })
            .collect()
    }

    /// Columns and measures that are denied, and everything computed from them.
    fn denied(&mut self, role: &str, names: &[String], formulas: &Formulas) -> Denied {
        let mut denied: HashSet<FormulaNode> = HashSet::new();
        for (i, name) in names.iter().enumerate() {
            let column = column_path(name).and_then(|(t, c)| {
                let table = self.schema.find_table(&t)?;
                self.schema.find_column(table, &c).map(|_| FormulaNode::Column(t, c))
            });
            let measure = self.schema.find_measure(name).map(|_| FormulaNode::Measure(name.clone()));
            match column.or(measure) {
                Some(node) => {
                    denied.insert(node);
                }
                None => {
                    let path = format!("role.{role}.deny.{i}");
                    let message = format!("`{name}` is neither a column nor a measure");
                    let help = "write columns as `table.column`, measures by their name";
                    self.problems.push(self.document.problem(Problem::UnknownName, &path, message).help(help));
                }
            }
        }
        self.spread(&mut denied, formulas);
        let mut result = Denied { readings: self.denied_readings(&denied), ..Denied::default() };
        for node in denied {
            match node {
                FormulaNode::Column(table, column) => {
                    let id = self.schema.find_table(&table).and_then(|t| self.schema.find_column(t, &column));
                    result.columns.extend(id);
                }
                FormulaNode::Measure(name) => result.measures.extend(self.schema.find_measure(&name)),
                FormulaNode::Table(name) => {
                    if let Some(table) = self.schema.find_table(&name) {
                        let count = self.schema.table(table).columns.len() as u32;
                        result.columns.extend((0..count).map(|index| ColumnId { table, index }));
                    }
                }
            }
        }
        result
    }

    /// What names something denied is denied, too; so are the columns of copies.
    fn spread(&self, denied: &mut HashSet<FormulaNode>, formulas: &Formulas) {
        loop {
            let before = denied.len();
            for node in &formulas.order {
                if formulas.mentions(node).iter().any(|n| denied.contains(n)) {
                    denied.insert(node.clone());
                }
            }
            for (copy, section) in &self.document.file.table {
                let Some(first) = &section.same_as else { continue };
                let columns: Vec<String> = denied
                    .iter()
                    .filter_map(|n| match n {
                        FormulaNode::Column(table, column) if table == first => Some(column.clone()),
                        _ => None,
                    })
                    .collect();
                denied.extend(columns.into_iter().map(|c| FormulaNode::Column(copy.clone(), c)));
            }
            if denied.len() == before {
                return;
            }
        }
    }

    /// Readings of lenses that name something denied.
    fn denied_readings(&self, denied: &HashSet<FormulaNode>) -> HashSet<(usize, String)> {
        let readings = self.schema.lenses.iter().enumerate().flat_map(|(i, l)| l.readings.iter().map(move |r| (i, r)));
        let names_denied = |expr: &ast::Expr| named_in(expr).iter().any(|node| denied.contains(node));
        readings.filter(|(_, r)| names_denied(&r.expr)).map(|(i, r)| (i, r.name.clone())).collect()
    }

    /// A denied measure whose columns all stay open can be written again by who asks.
    fn open_beneath(&mut self, role: &str, names: &[String], denied: &Denied, formulas: &Formulas) {
        for (i, name) in names.iter().enumerate() {
            let columns = self.columns_beneath(name, formulas, &mut HashSet::new());
            if self.schema.find_measure(name).is_none() || columns.is_empty() {
                continue;
            }
            if !columns.iter().any(|c| denied.columns.contains(c)) {
                let names: Vec<String> = columns.iter().map(|c| self.schema.column_name(*c)).collect();
                let message = format!(
                    "role `{role}` denies `{name}`, and what it is computed from stays open: {}",
                    names.join(", ")
                );
                let help = "who asks can write the formula again: deny one of these columns";
                let path = format!("role.{role}.deny.{i}");
                let problem = self.document.problem(Problem::Surprise, &path, message).help(help);
                self.problems.push(problem.warning());
            }
        }
    }

    /// The columns that a measure is computed from.
    fn columns_beneath(&self, measure: &str, formulas: &Formulas, seen: &mut HashSet<String>) -> Vec<ColumnId> {
        let mut found = Vec::new();
        let Some(parsed) = formulas.parsed.get(&FormulaNode::Measure(measure.to_string())) else { return found };
        if !seen.insert(measure.to_string()) {
            return found;
        }
        for node in named_in(&parsed.expr) {
            match node {
                FormulaNode::Column(table, column) => {
                    let id = self.schema.find_table(&table).and_then(|t| self.schema.find_column(t, &column));
                    found.extend(id.filter(|id| !found.contains(id)));
                }
                FormulaNode::Measure(name) => found.extend(self.columns_beneath(&name, formulas, seen)),
                FormulaNode::Table(_) => {}
            }
        }
        found
    }

    /// Tables that a query works out are worked out anew for each role, unless the model says that they are not.
    fn tables_past_roles(&mut self) {
        for (name, _) in self.document.file.table.iter().filter(|(_, s)| s.query.is_some() && s.all_rows) {
            let message = format!("table `{name}` is worked out over all rows, also those that a role hides");
            let problem = self.document.problem(Problem::Surprise, &format!("table.{name}.all_rows"), message);
            let help = "leave `all_rows` out, and it is worked out for each role from the rows that the role sees";
            self.problems.push(problem.help(help).warning());
        }
    }

    /// Calculated columns are computed over all rows, before anybody asks, and so is what is taken from them; roles that deny
    /// the one are none the wiser of the other.
    fn totals_past_roles(&mut self, formulas: &Formulas, roles: &[&RoleDef]) {
        let sections = &self.document.file.table;
        let mut totals: HashSet<ColumnId> = self.columns_over_all_rows();
        // What a formula names comes before it.
        for node in &formulas.order {
            let FormulaNode::Column(table, column) = node else { continue };
            let Some(own) = self.schema.find_table(table) else { continue };
            let Some(id) = self.schema.find_column(own, column) else { continue };
            let parsed = &formulas.parsed[node];
            if self.schema.column(id).computed != Computed::After {
                continue;
            }
            let Some((span, from)) = self.total_in(own, &parsed.expr, &totals) else { continue };
            totals.insert(id);
            let copies = sections.iter().filter(|(_, s)| s.same_as.as_ref() == Some(table));
            let copies = copies.filter_map(|(copy, _)| self.schema.find_column(self.schema.find_table(copy)?, column));
            totals.extend(copies);
            if roles.iter().all(|r| r.denied.columns.contains(&id)) {
                continue;
            }
            let name = self.schema.column_name(id);
            let message = match from {
                None => format!("{name} is calculated over all rows, also those that a role hides"),
                Some(from) => {
                    let from = self.schema.column_name(from);
                    format!("{name} takes {from}, which is calculated over all rows, also those that a role hides")
                }
            };
            let help = "a role that must not see such totals needs the column in its `deny`";
            let problem = Diagnostic::error(Problem::Surprise, &parsed.source, span, message);
            self.problems.push(problem.help(help).warning());
        }
    }

    /// The columns of tables that are worked out over all rows.
    fn columns_over_all_rows(&self) -> HashSet<ColumnId> {
        let sections = &self.document.file.table;
        let is_of_all = |name: &String| sections.get(name).is_some_and(|s| s.query.is_some() && s.all_rows);
        let tables = sections.iter().filter(|(name, s)| is_of_all(name) || s.same_as.as_ref().is_some_and(is_of_all));
        let tables = tables.filter_map(|(name, _)| self.schema.find_table(name));
        let columns = |table: TableId| {
            (0..self.schema.table(table).columns.len() as u32).map(move |index| ColumnId { table, index })
        };
        tables.flat_map(columns).collect()
    }

    /// Where a formula of a table's column looks beyond its row: an aggregate, a measure, or a column that does so itself.
    fn total_in(&self, own: TableId, expr: &ast::Expr, totals: &HashSet<ColumnId>) -> Option<(Span, Option<ColumnId>)> {
        let mut found = None;
        expr.walk(&mut |e| {
            let column = match &e.kind {
                ast::ExprKind::Aggregate(_) => None,
                ast::ExprKind::Name(name) => match self.schema.find_column(own, &name.text) {
                    Some(column) => Some(column),
                    None if self.schema.find_measure(&name.text).is_some() => None,
                    None => return,
                },
                ast::ExprKind::Column(table, column) => {
                    match self.schema.find_table(&table.text).and_then(|t| self.schema.find_column(t, &column.text)) {
                        Some(column) => Some(column),
                        None => return,
                    }
                }
                _ => return,
            };
            if found.is_none() && column.is_none_or(|c| totals.contains(&c)) {
                found = Some((e.span, column));
            }
        });
        found
    }
}

/// The columns and measures that a formula outside of a table names.
fn named_in(expr: &ast::Expr) -> Vec<FormulaNode> {
    let mut found = Vec::new();
    expr.walk(&mut |e| match &e.kind {
        ast::ExprKind::Name(name) => found.push(FormulaNode::Measure(name.text.clone())),
        ast::ExprKind::Column(table, column) => {
            found.push(FormulaNode::Column(table.text.clone(), column.text.clone()))
        }
        _ => {}
    });
    expr.walk_targets(&mut |target| {
        if let ast::Target::Column(table, column) = target {
            found.push(FormulaNode::Column(table.text.clone(), column.text.clone()));
        }
    });
    found
}

/// The rule of a role as filters, for who asks now.
///
/// # Errors
/// When it is wrong, which a checked model's is not.
pub fn rule_filters(
    schema: &Schema,
    settings: &Settings,
    rule: &Rule,
    table: TableId,
) -> Result<Vec<Narrow>, Vec<Diagnostic>> {
    let (narrows, problems) = check::role_rule(schema, settings, &rule.source, table, &rule.expr);
    if problems.is_empty() { Ok(narrows) } else { Err(problems) }
}
