//! Why a cell has its value: its filters with their origin, the rows left in each table, the formula as a tree with the
//! value of each part in its own context, and the rows behind the number.
//!
//! * `context`: filters and rows left
//! * `tree`: the formula with its values
//! * `rows`: the rows behind a number
//! * `column`: the same for one row of a calculated column

mod column;
mod context;
mod rows;
mod tree;

use std::sync::Arc;

use crate::formula::parser;
use crate::formula::schema::{ColumnId, Schema};
use crate::formula::source::{Diagnostic, Problem, Source, closest, did_you_mean};
use crate::plan::query::{CellPlan, cell};
use crate::plan::{Key, validate};
use crate::run::anchors::Tables;
use crate::run::assemble::Executor;
use crate::run::frame::{Frame, KeyColumn};
use crate::run::grid::base_frame;
use crate::value::{Type, Value};
use crate::{Error, Model, QueryOptions};

/// What is asked about a cell.
#[derive(Clone, Debug, Default)]
pub struct WhyOptions {
    /// Which item; the first when there is nothing.
    pub item: Option<String>,
    /// How many of the rows behind each aggregate to give.
    pub rows: usize,
    /// Parameters, the day, who asks.
    pub query: QueryOptions,
}

/// Why a cell has its value.
#[derive(Clone, Debug)]
pub struct Why {
    /// The item, or the column.
    pub name: String,
    /// What people read instead.
    pub label: Option<String>,
    /// A pattern for the value.
    pub format: Option<String>,
    /// The type of the value.
    pub ty: Type,
    /// The value.
    pub value: Value,
    /// What is worth knowing before the rest.
    pub notes: Vec<String>,
    /// The filters that act on the cell.
    pub filters: Vec<WhyFilter>,
    /// The rows that they leave, from the dimension tables to those that are aggregated.
    pub tables: Vec<WhyTable>,
    /// The formula.
    pub tree: WhyPart,
    /// The rows behind the aggregates.
    pub rows: Vec<WhyRows>,
}

/// One filter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WhyFilter {
    /// What it lets through.
    pub text: String,
    /// Who put it there.
    pub origin: &'static str,
}

/// The rows left in one table.
#[derive(Clone, Debug)]
pub struct WhyTable {
    /// The table.
    pub table: String,
    /// All its rows.
    pub rows: u64,
    /// Those that pass.
    pub left: u64,
    /// How it is reached from the table that is aggregated, by the columns that point.
    pub by: String,
}

/// One part of a formula.
#[derive(Clone, Debug)]
pub struct WhyPart {
    /// As it is written, or the name of a measure.
    pub text: String,
    /// What it is.
    pub kind: WhyKind,
    /// Its value in its context; nothing for what has none, such as a set.
    pub value: Option<Value>,
    /// The type of the value.
    pub ty: Type,
    /// Filters that an edit dropped.
    pub removed: Vec<WhyFilter>,
    /// Filters that an edit added.
    pub added: Vec<WhyFilter>,
    /// For an aggregate: the table whose rows it saw, how many, and of how many.
    pub read: Option<(String, u64, u64)>,
    /// What else is to be said.
    pub note: Option<String>,
    /// What it is made of.
    pub parts: Vec<WhyPart>,
}

/// What a part of a formula is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WhyKind {
    /// Operators and functions.
    Operator,
    /// A measure.
    Measure,
    /// An aggregate over rows.
    Aggregate,
    /// An aggregate over combinations.
    Per,
    /// One of the combinations.
    Combination,
    /// A part under an edited context.
    Given,
    /// A value that was bound before.
    Let,
    /// A value of the current row or combination.
    Current,
}

impl WhyKind {
    /// For scripts.
    pub fn name(self) -> &'static str {
        match self {
            WhyKind::Operator => "operator",
            WhyKind::Measure => "measure",
            WhyKind::Aggregate => "aggregate",
            WhyKind::Per => "per",
            WhyKind::Combination => "combination",
            WhyKind::Given => "given",
            WhyKind::Let => "let",
            WhyKind::Current => "current",
        }
    }
}

/// Some of the rows behind an aggregate.
#[derive(Clone, Debug)]
pub struct WhyRows {
    /// The aggregate, as it is written.
    pub of: String,
    /// The table.
    pub table: String,
    /// How many rows there are behind it.
    pub count: u64,
    /// The columns that are given.
    pub columns: Vec<String>,
    /// Their types.
    pub types: Vec<Type>,
    /// The first rows.
    pub rows: Vec<Vec<Value>>,
    /// What the plain aggregate over all these rows gives, row by row.
    pub again: Option<Value>,
}

/// Where a cell is explained: the data, and what was planned.
struct Explained<'a> {
    schema: &'a Schema,
    executor: &'a Executor<'a>,
    rows: usize,
}

impl Model {
    /// Explains one cell of a grid: the item at the given values of the axes, such as
    /// `route.name = 'Ness–Holm', calendar.year = 2025`; axes that are not named are totalled. Instead of a grid, a
    /// calculated column can be named, and `at` says which row.
    ///
    /// # Errors
    /// What is wrong with the query or the place, and what running it can fail with.
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// # use cubrel::{Model, Type, Value};
    /// let model = Model::builder()
    ///     .rows("booking", &[("route", Type::Text), ("net", Type::Int)], &[
    ///         vec![Value::text("Ness"), Value::Int(10)],
    ///         vec![Value::text("Holm"), Value::Int(5)],
    ///     ])
    ///     .measure("net", "sum(booking.net)")
    ///     .build()?;
    /// let why = model.why("grid net by booking.route", "booking.route = 'Ness'", &Default::default())?;
    /// assert_eq!(why.value, Value::Int(10));
    /// assert_eq!(why.filters[0].text, "booking.route = 'Ness'");
    /// # Ok(())
    /// # }
    /// ```
    pub fn why(&self, text: &str, at: &str, options: &WhyOptions) -> Result<Why, Error> {
        let why = self.explain(text, at, options);
        self.check_store()?;
        why
    }

    fn explain(&self, text: &str, at: &str, options: &WhyOptions) -> Result<Why, Error> {
        let seen = self.asked_by(&options.query)?;
        let mut why = seen.explained(text, at, options)?;
        if !options.query.roles.is_empty() {
            let roles = options.query.roles.join(", ");
            why.notes.push(format!("asked as {roles}: there are only the rows that the role sees"));
        }
        Ok(why)
    }

    fn explained(&self, text: &str, at: &str, options: &WhyOptions) -> Result<Why, Error> {
        let settings = self.settings_for(&options.query);
        let store = self.store();
        let at = Source::new("at", at);
        if let Some(column) = self.calculated_column(text) {
            return column::why(self, store, &settings, column, &at, options);
        }
        let source = Source::new("query", text);
        let plan = cell(self.schema(), &settings, &source, &at, options.item.as_deref())?;
        validate::cell(self.schema(), &plan).map_err(Error::Internal)?;
        let tables = Tables::new(self.schema(), store);
        let run = options.query.run_options();
        let executor = Executor::new(tables, &plan.reads, &run);
        let frame = cell_frame(&executor, &plan)?;
        let explained = Explained { schema: self.schema(), executor: &executor, rows: options.rows };
        let tree = explained.assembly(&plan.assembly, &frame)?;
        let filters = explained.filters(&plan.assembly.scope, &frame);
        let notes: Vec<String> =
            plan.readings.iter().map(|(lens, reading)| format!("seen through {lens}: {reading}")).collect();
        let (left, rows) =
            (explained.tables_left(&plan.assembly, &frame)?, explained.rows_behind(&plan.assembly, &frame)?);
        run.check()?;
        Ok(Why {
            name: plan.item.name.clone(),
            label: plan.item.label.clone(),
            format: plan.item.format.clone(),
            ty: plan.item.ty,
            value: tree.value.clone().unwrap_or(Value::Null),
            notes,
            filters,
            tables: left,
            rows,
            tree,
        })
    }

    /// The column that a text names, if it is a calculated one.
    fn calculated_column(&self, text: &str) -> Option<ColumnId> {
        let source = Source::new("column", text);
        let (tree, problems) = parser::formula(&source);
        let crate::formula::ast::ExprKind::Column(table, column) = &tree.kind else {
            return None;
        };
        let table_id = self.schema().find_table(&table.text).filter(|_| problems.is_empty())?;
        self.schema().find_column(table_id, &column.text)
    }
}

/// The one cell that a plan is about.
fn cell_frame(executor: &Executor<'_>, plan: &CellPlan) -> Result<Frame, Error> {
    let base = base_frame(executor, &plan.outer)?;
    let mut dims = Vec::new();
    for (column, value) in &plan.at {
        let code = code_of(executor.tables(), *column, value)?;
        dims.push(KeyColumn::of_codes(vec![code], Key::Column(*column)));
    }
    Ok(base.with(dims))
}

/// The code of a value, or what was probably meant.
fn code_of(tables: Tables<'_>, column: ColumnId, value: &Value) -> Result<u64, Error> {
    let data = tables.column(column);
    if value.is_null() {
        return Ok(data.null_code());
    }
    data.code_of(value).ok_or_else(|| {
        let name = tables.schema.column_name(column);
        let problem =
            Diagnostic::general(Problem::UnknownName, format!("{name} has no value {}", context::literal(value)));
        let known: Vec<Value> = (0..data.domain().min(10_000)).map(|c| data.value_of(c)).collect();
        let texts: Vec<&str> = known.iter().filter_map(Value::as_text).collect();
        let help = match value.as_text().and_then(|t| closest(t, texts.iter().copied())) {
            Some(near) => did_you_mean(format!("{name} = '{near}'")),
            None => format!("`grid rows({}) as n by {name}` lists its values", tables.schema.table(column.table).name),
        };
        Error::Problems(vec![problem.help(help)])
    })
}

/// The text of a span of a formula, on one line.
fn written(place: &crate::formula::scalar::Place) -> String {
    slice(&place.source, place.span)
}

fn slice(source: &Arc<Source>, span: crate::formula::source::Span) -> String {
    source.slice(span).split_whitespace().collect::<Vec<_>>().join(" ")
}
