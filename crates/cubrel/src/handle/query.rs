//! Queries and their results.

use crate::GridColumn;
use std::collections::HashMap;
use std::sync::Arc;

use arrow_array::builder::{ListBuilder, StringBuilder};
use arrow_array::{Array, ArrayRef, ListArray, RecordBatch};
use arrow_schema::{Field, Schema as ArrowSchema};

use super::error::Error;
use super::model::Model;
use super::options::{Limits, QueryOptions, not_ended};
use crate::cancel::Cancel;
use crate::formula::check::Settings;
use crate::formula::source::{Diagnostic, Source};
use crate::plan::inputs::Inputs;
use crate::plan::query::{QueryPlan, plan};
use crate::plan::{optimize, validate};
use crate::run::Options;
use crate::run::grid::{self, Grid, GridLine, RunProfile};
use crate::value::{Type, Value, arrow};

/// A query that has been checked and planned; it can be run any number of times.
#[derive(Clone, Debug)]
pub struct Query {
    model: Model,
    /// As the formulas say it.
    plan: Arc<QueryPlan>,
    /// The same, cheaper.
    optimized: Arc<QueryPlan>,
    limits: Limits,
    cancel: Cancel,
}

impl Model {
    /// Plans a query.
    ///
    /// # Errors
    /// All problems of its text.
    pub fn query(&self, text: &str) -> Result<Query, Error> {
        self.query_with(text, &QueryOptions::default())
    }

    /// Plans a query with parameters. Problems of a text that is a saved query's are shown in the model's file, but to those
    /// who see a part of the model: what else is saved there is none of their business.
    ///
    /// # Errors
    /// All problems of its text.
    pub fn query_with(&self, text: &str, options: &QueryOptions) -> Result<Query, Error> {
        let is_whole = self.seen_as().is_none();
        let saved = self.document().file.query.iter().find(|(_, saved)| is_whole && saved.text == text);
        let source = saved.map_or_else(|| Source::new("query", text), |(name, _)| self.saved_query(name, text));
        Query::plan(self, &source, options)
    }

    /// Plans a query whose text stands somewhere.
    pub(crate) fn query_of(&self, source: &Arc<Source>, options: &QueryOptions) -> Result<Query, Error> {
        Query::plan(self, source, options)
    }

    /// What texts are checked with.
    pub(crate) fn settings_for(&self, options: &QueryOptions) -> Settings {
        let own = &self.inner.settings;
        Settings {
            parameters: options.parameters.clone(),
            today: options.today.unwrap_or(own.today),
            // Who a model was restricted for is who asks it.
            user: own.user.clone().or_else(|| options.user.clone()),
            ending: options.ending(),
            ..own.clone()
        }
    }
}

impl Query {
    /// The columns that its grid will have: row axes, column axes, items.
    pub fn columns(&self) -> Vec<GridColumn> {
        grid::columns_of(self.model.schema(), &self.plan)
    }

    pub(super) fn plan(model: &Model, source: &Arc<Source>, options: &QueryOptions) -> Result<Query, Error> {
        let settings = model.settings_for(options);
        let within = |planned: Result<QueryPlan, Error>| {
            // Whatever is said of a plan that was given up is not what is wrong with it.
            not_ended(&settings)?;
            let planned = planned?;
            validate::query(model.schema(), &planned).map_err(Error::Internal)?;
            Ok::<_, Error>(Arc::new(planned))
        };
        let plan = within(plan(model.schema(), &settings, source).map_err(Error::from))?;
        let optimized = within(Ok(optimize(model.schema(), &plan)))?;
        Ok(Query { model: model.clone(), plan, optimized, limits: options.limits, cancel: options.cancel.clone() })
    }

    /// What it is answered from.
    pub(super) fn inputs(&self) -> Inputs {
        Inputs::of_query(self.model.schema(), &self.plan)
    }

    /// The plan that it is run by.
    pub(crate) fn query_plan(&self) -> &QueryPlan {
        &self.optimized
    }

    /// What is legal in it and probably not what was meant.
    pub fn warnings(&self) -> &[Diagnostic] {
        self.plan.warnings()
    }

    /// The model that it asks, as who asks may see it.
    pub fn model(&self) -> &Model {
        &self.model
    }

    /// Runs it.
    ///
    /// # Errors
    /// When a formula cannot be computed for some row, or a limit is reached.
    pub fn run(&self) -> Result<Grid, Error> {
        Ok(self.run_with(&self.limits.options(&self.cancel))?.0)
    }

    /// Runs it in a given way, and tells what that cost.
    ///
    /// # Errors
    /// When a formula cannot be computed for some row, or a limit is reached.
    pub(crate) fn run_with(&self, options: &Options) -> Result<(Grid, RunProfile), Error> {
        let plan = if options.optimize { &self.optimized } else { &self.plan };
        let done = grid::run(self.model.schema(), self.model.store(), plan, options);
        self.model.check_store()?;
        let done = done?;
        // An answer that comes too late is none.
        options.check()?;
        Ok(done)
    }
}

impl Grid {
    /// The lines as an Arrow IPC stream.
    ///
    /// # Errors
    /// When a whole number does not fit 64 bits.
    pub fn to_arrow_stream(&self) -> Result<Vec<u8>, Error> {
        let batch = self.to_record_batch()?;
        let form = |e: arrow_schema::ArrowError| Error::Form(e.to_string());
        let mut writer = arrow_ipc::writer::StreamWriter::try_new(Vec::new(), &batch.schema()).map_err(form)?;
        writer.write(&batch).map_err(form)?;
        writer.into_inner().map_err(form)
    }

    /// The lines as a Parquet file, compressed with Zstandard.
    ///
    /// # Errors
    /// When a whole number does not fit 64 bits.
    #[cfg(feature = "parquet")]
    pub fn to_parquet(&self) -> Result<Vec<u8>, Error> {
        let batch = self.to_record_batch()?;
        let form = |e: parquet::errors::ParquetError| Error::Form(e.to_string());
        let properties = parquet::file::properties::WriterProperties::builder()
            .set_compression(parquet::basic::Compression::ZSTD(parquet::basic::ZstdLevel::default()))
            .build();
        let mut writer =
            parquet::arrow::ArrowWriter::try_new(Vec::new(), batch.schema(), Some(properties)).map_err(form)?;
        writer.write(&batch).map_err(form)?;
        writer.into_inner().map_err(form)
    }

    /// The lines as an Arrow record batch: a column for each of the grid's, with its label and its format in the field's
    /// metadata; and, where totals or the rest of a limit were asked for, a column `total` or `others` that lists for each
    /// line the axes that are totalled or stand for the rest. An axis without a value that is in neither list is `(none)`.
    ///
    /// Whole numbers of which one does not fit 64 bits are decimals without digits after the point.
    ///
    /// # Errors
    /// When a value is not of its column's type.
    pub fn to_record_batch(&self) -> Result<RecordBatch, Error> {
        let (mut fields, mut arrays): (Vec<Field>, Vec<ArrayRef>) = (Vec::new(), Vec::new());
        for (i, column) in self.columns.iter().enumerate() {
            let values: Vec<&Value> = self.lines.iter().map(|l| &l.values[i]).collect();
            let is_wide = column.ty == Type::Int && values.iter().any(|v| matches!(v, Value::Decimal { .. }));
            let ty = if is_wide { Type::decimal(0) } else { column.ty };
            let said = [("label", &column.label), ("format", &column.format)];
            let metadata: HashMap<String, String> =
                said.into_iter().filter_map(|(key, text)| Some((key.to_string(), text.clone()?))).collect();
            fields.push(Field::new(&column.name, arrow::data_type(ty), true).with_metadata(metadata));
            arrays.push(arrow::array(ty, &values).map_err(|e| Error::Form(format!("{}: {e}", column.name)))?);
        }
        let totals = self.totals.then(|| ("total", self.marked(|l| &l.totalled)));
        let others = self.others.then(|| ("others", self.marked(|l| &l.others)));
        for (name, list) in totals.into_iter().chain(others) {
            // A heading can be any word.
            let mut name = name.to_string();
            while fields.iter().any(|f| *f.name() == name) {
                name.push('_');
            }
            fields.push(Field::new(name, list.data_type().clone(), true));
            arrays.push(Arc::new(list));
        }
        let options = arrow_array::RecordBatchOptions::new().with_row_count(Some(self.lines.len()));
        RecordBatch::try_new_with_options(Arc::new(ArrowSchema::new(fields)), arrays, &options)
            .map_err(|e| Error::Form(e.to_string()))
    }

    /// For each line the names of some of its axes.
    fn marked(&self, axes: impl Fn(&GridLine) -> &[usize]) -> ListArray {
        let mut list = ListBuilder::new(StringBuilder::new());
        for line in &self.lines {
            axes(line).iter().for_each(|axis| list.values().append_value(&self.columns[*axis].name));
            list.append(true);
        }
        list.finish()
    }
}
