//! What is computed of a row while it is loaded, from nothing but the row: columns, and whether it is wanted.

use std::sync::Arc;

use super::LoadError;
use super::failure::Failure;
use super::stored::{stored, to_raw};
use super::unpivot::Unpivot;
use cubrel_formula::check::{self, Settings};
use cubrel_formula::scalar::{self, EvalError, Leaves, ScalarKind};
use cubrel_formula::schema::{ColumnDef, Computed, Schema, TableDef, TableId};
use cubrel_formula::source::{Diagnostic, Problem, Source};
use cubrel_formula::typed::{Kind, TypedExpr};
use cubrel_formula::{ast, parser};
use cubrel_model::Document;
use cubrel_model::define::stored_type;
use cubrel_model::dependencies::ParsedFormula;
use cubrel_store::RawColumn;
use cubrel_value::{Type, Vector, VectorBuilder};

/// Rows that a formula is computed for at a time.
const BATCH: usize = 4096;

/// A column with its name and where it comes from.
pub(super) type ComputedColumnSource = (String, RawColumn, Computed);

/// A calculated column that needs nothing but its own row.
pub(super) struct OwnColumn<'a> {
    pub(super) name: &'a str,
    pub(super) formula: &'a ParsedFormula,
    pub(super) ty: Option<Type>,
}

/// Says what is wrong with the names of a source's columns.
pub(super) type NamesCheck<'a> = dyn Fn(&[&str]) -> Result<(), LoadError> + Sync + 'a;

/// What is done with the rows of a table on their way in.
pub(super) struct RowTransform<'a> {
    pub(super) table: &'a str,
    pub(super) columns: Vec<OwnColumn<'a>>,
    pub(super) filter: Option<RowFilter>,
    /// Columns that are left out once everything is computed.
    pub(super) left_out: Vec<&'a str>,
    /// The columns that relationships and keys need: they are looked up, not added up.
    pub(super) keys: Vec<String>,
    /// The columns by which rows are sorted, if somebody says so.
    pub(super) order: &'a [String],
    /// Columns whose values become rows.
    pub(super) unpivot: Option<&'a Unpivot>,
    /// Whether the columns of the source and those computed are the ones that the model names.
    pub(super) check: Box<NamesCheck<'a>>,
    pub(super) settings: &'a Settings,
}

/// The condition of a table's `where`.
pub(super) struct RowFilter {
    source: Arc<Source>,
    tree: ast::Expr,
}

impl RowFilter {
    pub(super) fn parse(document: &Document, table: &str, text: &str) -> Result<RowFilter, LoadError> {
        let source = document.formula(format!("where of table {table}"), &format!("table.{table}.where"), text);
        let (tree, mut problems) = parser::formula(&source);
        problems.extend(beyond_the_row(&source, table, &tree));
        if problems.is_empty() { Ok(RowFilter { source, tree }) } else { Err(LoadError::Problems(problems)) }
    }
}

/// What a load filter names besides its row: while a table is loaded nothing else is there.
fn beyond_the_row(source: &Arc<Source>, table: &str, tree: &ast::Expr) -> Vec<Diagnostic> {
    let mut problems = Vec::new();
    tree.walk(&mut |e| {
        let what = match &e.kind {
            ast::ExprKind::Aggregate(a) => format!("`{}` goes through several rows", a.name.text),
            ast::ExprKind::Given(..) => "`given` changes a filter context".to_string(),
            ast::ExprKind::Via(..) | ast::ExprKind::BothWays(..) => "relationships are not there yet".to_string(),
            ast::ExprKind::Parameter(name) => format!("`${name}` is given with a query"),
            ast::ExprKind::Column(of, _) if of.text != table => format!("`{}` is another table", of.text),
            _ => return,
        };
        let message = format!("{what}, and the `where` of a table tests each row of its source by itself");
        let help = "name columns of the table; filter by anything else in measures or roles";
        problems.push(Diagnostic::error(Problem::Model, source, e.span, message).help(help));
    });
    problems
}

/// Rows with everything computed.
pub(super) struct Finished {
    pub(super) columns: Vec<ComputedColumnSource>,
    /// Rows that the filter left out.
    pub(super) filtered: u64,
}

impl RowTransform<'_> {
    /// The columns of the source, with those that become rows as rows.
    fn unpivoted(&self, columns: Vec<(String, RawColumn)>) -> Result<Vec<(String, RawColumn)>, Failure> {
        let names = |columns: &[(String, RawColumn)]| columns.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>();
        let mut there = names(&columns);
        let Some(unpivot) = self.unpivot else {
            (self.check)(&there.iter().map(String::as_str).collect::<Vec<_>>())?;
            return Ok(columns);
        };
        let rows = unpivot.rows(columns).ok_or_else(|| {
            let message = format!("table `{}`: no column becomes rows", self.table);
            let help = format!("`unpivot` names none of {}", there.join(", "));
            LoadError::from(Diagnostic::general(Problem::Data, message).help(help))
        })?;
        // What becomes rows can be said something of, too.
        there.retain(|name| unpivot.takes(name));
        there.extend(names(&rows));
        (self.check)(&there.iter().map(String::as_str).collect::<Vec<_>>())?;
        Ok(rows)
    }

    /// Computes the columns of some rows, and leaves out rows and columns.
    pub(super) fn finish(&self, columns: Vec<(String, RawColumn)>) -> Result<Finished, Failure> {
        let columns = self.unpivoted(columns)?;
        let mut rows = SomeRows { table: self.table, columns: Vec::new() };
        rows.columns.extend(columns.into_iter().map(|(name, raw)| (name, raw, Computed::Source)));
        for OwnColumn { name, formula, ty } in &self.columns {
            let raw = rows.compute(name, formula, *ty, self.settings)?;
            rows.columns.push((name.to_string(), raw, Computed::Loading));
        }
        let mut filtered = 0;
        if let Some(filter) = &self.filter {
            let before = rows.count();
            rows.narrow(filter, self.settings)?;
            filtered = (before - rows.count()) as u64;
        }
        rows.columns.retain(|(name, ..)| !self.left_out.contains(&name.as_str()));
        Ok(Finished { columns: rows.columns, filtered })
    }
}

/// Some rows of a table.
struct SomeRows<'a> {
    table: &'a str,
    columns: Vec<ComputedColumnSource>,
}

impl SomeRows<'_> {
    fn count(&self) -> usize {
        self.columns.first().map_or(0, |(_, raw, _)| raw.len())
    }

    /// A schema of just this table.
    fn schema(&self) -> Schema {
        let columns = self.columns.iter().map(|(name, raw, computed)| ColumnDef {
            name: name.clone(),
            label: None,
            ty: raw.ty,
            hidden: false,
            format: None,
            display_order: None,
            computed: *computed,
            day_kind: false,
        });
        let table = TableDef { name: self.table.to_string(), columns: columns.collect(), ..TableDef::default() };
        Schema { tables: vec![table], ..Schema::default() }
    }

    fn compute(
        &self,
        column: &str,
        formula: &ParsedFormula,
        ty: Option<Type>,
        settings: &Settings,
    ) -> Result<RawColumn, Failure> {
        let (expr, problems) =
            check::column_formula(&self.schema(), settings, &formula.source, TableId(0), &formula.expr);
        let Some(expr) = expr else {
            return Err(LoadError::Problems(problems).into());
        };
        let expr = stored(expr, ty);
        let ty = ty.unwrap_or(stored_type(expr.ty));
        let vector = self.eval(&expr, &formula.source)?;
        to_raw(vector, ty, (&format!("{}.{column}", self.table), &|row| row), &formula.source)
            .map_err(|problem| LoadError::from(problem).into())
    }

    /// The values of an expression in every row.
    fn eval(&self, expr: &TypedExpr, source: &Arc<Source>) -> Result<Vector, Failure> {
        let scalar = scalar::from_expr(expr, source, &mut |e| match &e.kind {
            Kind::Current { column, .. } => Some(ScalarKind::Leaf(column.index as usize)),
            _ => None,
        });
        let mut builder = VectorBuilder::new(expr.ty, self.count());
        for start in (0..self.count()).step_by(BATCH) {
            let rows: Vec<u32> = (start..(start + BATCH).min(self.count())).map(|r| r as u32).collect();
            let leaves = RowLeaves { columns: &self.columns, rows: &rows };
            let batch = scalar.eval(&leaves, rows.len()).map_err(|e| Failure::Row(Box::new(e), start))?;
            builder.append(&batch, expr.ty);
        }
        Ok(builder.finish())
    }

    fn narrow(&mut self, filter: &RowFilter, settings: &Settings) -> Result<(), Failure> {
        let (expr, problems) = check::row_filter(&self.schema(), settings, &filter.source, TableId(0), &filter.tree);
        let Some(expr) = expr else {
            return Err(LoadError::Problems(problems).into());
        };
        let truths = self.eval(&expr, &filter.source)?.truths();
        let keep: Vec<u32> = (0..self.count() as u32).filter(|i| truths[*i as usize]).collect();
        for (_, raw, _) in &mut self.columns {
            *raw = raw.select(&keep);
        }
        Ok(())
    }
}

struct RowLeaves<'a> {
    columns: &'a [ComputedColumnSource],
    rows: &'a [u32],
}

impl Leaves for RowLeaves<'_> {
    type Error = EvalError;

    fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, EvalError> {
        let rows: Vec<u32> = slots.iter().map(|s| self.rows[*s as usize]).collect();
        Ok(self.columns[leaf].1.vector(&rows))
    }
}
