//! Why a cell has its value: its filters with their origin, the rows left in each table, the formula as a tree with the
//! value of each part in its own context, and the rows behind the number.
//!
//! * `answer`: what is told
//! * `context`: filters and rows left
//! * `tree`: the formula with its values
//! * `rows`: the rows behind a number
//! * `column`: the same for one row of a calculated column

mod answer;
mod column;
mod context;
mod explained;
mod rows;
mod tree;

pub use answer::{Why, WhyFilter, WhyKind, WhyOptions, WhyPart, WhyRows, WhyTable};
use explained::{Explained, code_of};

use crate::handle::not_ended;
use crate::{Error, Model};
use cubrel_formula::parser;
use cubrel_formula::schema::ColumnId;
use cubrel_formula::source::Source;
use cubrel_plan::query::cell;
use cubrel_plan::validate;
use cubrel_run::{Executor, OneCell, Tables};
use cubrel_value::Value;

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
        let mut why = self.explained(text, at, options)?;
        if let Some(roles) = self.seen_as() {
            why.notes.push(format!("asked as {}: there are only the rows that the role sees", roles.join(", ")));
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
        let plan = cell(self.schema(), &settings, &source, &at, options.item.as_deref());
        not_ended(&settings)?;
        let plan = plan?;
        validate::cell(self.schema(), &plan).map_err(Error::Internal)?;
        let tables = Tables::new(self.schema(), store);
        let run = options.query.run_options();
        let executor = Executor::new(tables, &plan.reads, &run);
        let at = plan.at.iter().map(|(column, value)| Ok((*column, code_of(tables, *column, value)?)));
        let cell = OneCell::of_columns(&executor, &plan.outer, at.collect::<Result<Vec<_>, Error>>()?)?;
        let explained = Explained { schema: self.schema(), tables, rows: options.rows };
        let tree = explained.assembly(&plan.assembly, &cell)?;
        let filters = explained.filters(&plan.assembly.scope, &cell);
        let notes: Vec<String> =
            plan.readings.iter().map(|(lens, reading)| format!("seen through {lens}: {reading}")).collect();
        let (left, rows) =
            (explained.tables_left(&plan.assembly, &cell)?, explained.rows_behind(&plan.assembly, &cell)?);
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
        let cubrel_formula::ast::ExprKind::Column(table, column) = &tree.kind else {
            return None;
        };
        let table_id = self.schema().find_table(&table.text).filter(|_| problems.is_empty())?;
        self.schema().find_column(table_id, &column.text)
    }
}
