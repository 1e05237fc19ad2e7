//! Models made in code.

use arrow_array::RecordBatch;
use arrow_schema::DataType;
use cubrel_formula::schema::Computed;
use cubrel_formula::source::suggestion;
use cubrel_load::loaded::LoadedColumn;

use super::assembled::assemble;
use super::error::Error;
use super::late::Known;
use super::model::Model;
use super::refresh::{clock_day, copied_table, memory_limit};
use cubrel_formula::check::Settings;
use cubrel_formula::source::{Diagnostic, Problem, Severity};
use cubrel_load::loaded::LoadedTable;
use cubrel_load::tables::Loader;
use cubrel_load::{Observer, Silent};
use cubrel_model::Document;
use cubrel_model::dependencies::formulas;
use cubrel_model::file::{
    ColumnSection, GenerateSection, HierarchySection, LensSection, MeasureSection, ModelFile, RelationshipSection,
    RoleSection, TableSection,
};
use cubrel_store::{RawColumn, SEGMENT_ROWS};
use cubrel_value::cancel::Cancel;
use cubrel_value::{Type, Value, VectorBuilder, arrow, exact, units};

/// Puts a model together from tables in memory.
///
/// ```
/// use std::sync::Arc;
/// use arrow_array::{ArrayRef, Int64Array, RecordBatch, StringArray};
///
/// # fn main() -> Result<(), Box<dyn std::error::Error>> {
/// let route = RecordBatch::try_from_iter([
///     ("id", Arc::new(Int64Array::from(vec![1, 2])) as ArrayRef),
///     ("region", Arc::new(StringArray::from(vec!["North", "South"])) as ArrayRef),
/// ])?;
/// let booking = RecordBatch::try_from_iter([
///     ("route_id", Arc::new(Int64Array::from(vec![1, 1, 2])) as ArrayRef),
///     ("net", Arc::new(Int64Array::from(vec![10, 20, 5])) as ArrayRef),
/// ])?;
/// let model = cubrel::Model::builder()
///     .table("route", &[route])
///     .table("booking", &[booking])
///     .relationship("booking.route_id", "route.id")
///     .measure("net_revenue", "sum(booking.net)")
///     .build()?;
/// let grid = model.query("grid net_revenue by route.region")?.run()?;
/// assert_eq!(grid.lines[0].values[1], cubrel::Value::Int(30));
/// # Ok(())
/// # }
/// ```
#[derive(Debug)]
pub struct Builder {
    document: Document,
    tables: Vec<(String, Vec<(String, RawColumn)>)>,
    problems: Vec<Diagnostic>,
    settings: Settings,
    segment_rows: usize,
    cancel: Cancel,
}

impl Default for Builder {
    fn default() -> Builder {
        let settings = Settings { today: clock_day(), ..Settings::default() };
        let document = Document::in_memory(ModelFile::default());
        let (tables, problems, cancel) = (Vec::new(), Vec::new(), Cancel::default());
        Builder { document, tables, problems, settings, segment_rows: SEGMENT_ROWS, cancel }
    }
}

/// Something that a [`Builder`] can be told: see [`Builder::define`].
pub trait Definition {
    /// Adds it to what the builder knows.
    fn add(self, builder: Builder) -> Builder;
}

impl Model {
    /// Begins a model that is made in code.
    pub fn builder() -> Builder {
        Builder::default()
    }

    /// This model with other rows in one of its tables; everything that is computed from them is computed again. Whoever
    /// holds the old one keeps it.
    ///
    /// # Errors
    /// When there is no such table, and everything that building it can fail with.
    pub fn with_table(&self, name: &str, batches: &[RecordBatch]) -> Result<Model, Error> {
        let document = &self.inner.document;
        let Some(section) = document.file.table.get(name) else {
            let names: Vec<&str> = document.file.table.keys().map(String::as_str).collect();
            let problem = Diagnostic::general(Problem::UnknownName, format!("there is no table `{name}`"));
            return Err(Error::Problems(vec![problem.help(suggestion(name, &names))]));
        };
        let wrong = |message: String| {
            Error::Problems(vec![Diagnostic::general(Problem::Data, format!("table `{name}`: {message}"))])
        };
        if section.same_as.is_some() || section.query.is_some() {
            return Err(wrong("its rows come from other tables".into()));
        }
        let columns = columns(batches).map_err(wrong)?;
        let (formulas, cancel) = (formulas(document), Cancel::default());
        let loader = Loader {
            document,
            formulas: &formulas,
            observer: &Silent,
            settings: &self.inner.settings,
            memory: memory_limit(document)?,
            since: None,
            only_first: false,
            piece: None,
            segment_rows: SEGMENT_ROWS,
            cancel: &cancel,
            at_work: None,
        };
        let new = loader.given(name, section, columns)?;
        let tables = document.file.table.iter().map(|(own, section)| match &section.same_as {
            _ if own == name => new.clone(),
            Some(first) if first == name => new.copied(own),
            _ if section.query.is_some() => LoadedTable::by_query(own),
            _ => self.kept_table(own),
        });
        let tables: Vec<LoadedTable> = tables.collect();
        assemble(document.clone(), &formulas, &tables, self.inner.settings.clone(), Known::default(), &cancel)
    }

    /// A table as it was loaded.
    fn kept_table(&self, name: &str) -> LoadedTable {
        let (schema, store) = (self.schema(), self.store());
        let Some(id) = schema.find_table(name) else { return LoadedTable::by_query(name) };
        let (def, data) = (schema.table(id), &store.tables[id.0 as usize]);
        let loaded = def.columns.iter().zip(&data.columns).filter(|(c, _)| c.computed != Computed::After);
        let columns =
            loaded.map(|(c, data)| LoadedColumn { name: c.name.clone(), data: data.clone(), computed: c.computed });
        let report = self.reports().iter().find(|report| report.table == name).cloned().unwrap_or_default();
        let (rows, columns) = (data.rows, columns.collect());
        LoadedTable { name: name.to_string(), rows, columns, report, partitions: Vec::new(), fingerprint: 0 }
    }
}

impl Builder {
    /// A table from record batches whose columns have the same names and types.
    #[must_use]
    pub fn table(mut self, name: &str, batches: &[RecordBatch]) -> Builder {
        match columns(batches) {
            Ok(columns) => self = self.raw_table(name, columns),
            Err(message) => self.problem(Problem::Data, format!("table `{name}`: {message}"), ""),
        }
        self
    }

    /// A table from named columns of values. Whole numbers can stand for decimals and doubles; whatever else does not fit
    /// its column is a problem that [`Builder::build`] tells with table, column and row.
    #[must_use]
    pub fn rows(mut self, name: &str, columns: &[(&str, Type)], rows: &[Vec<Value>]) -> Builder {
        if let Some(place) = rows.iter().position(|row| row.len() != columns.len()) {
            let (values, wanted) = (rows[place].len(), columns.len());
            let message = format!("table `{name}`: row {} has {values} values for {wanted} columns", place + 1);
            self.problem(Problem::Data, message, "give every row one value for each column, null where there is none");
            return self;
        }
        let mut taken = Vec::new();
        for (i, (column, ty)) in columns.iter().enumerate() {
            match fitted(*ty, rows.iter().map(|row| &row[i])) {
                Ok(raw) => taken.push((column.to_string(), raw)),
                Err(message) => {
                    self.problem(Problem::Data, format!("table `{name}`, column `{column}`: {message}"), "")
                }
            }
        }
        if taken.len() == columns.len() { self.raw_table(name, taken) } else { self }
    }

    /// What a `model.toml` would say: measures, lenses, roles, relationships, sections of tables. Tables that it names need
    /// rows from [`Builder::table`], unless they are generated calendars or copies. It can be called several times, before
    /// and after everything else; what is said twice is a problem.
    #[must_use]
    pub fn definitions(mut self, toml: &str) -> Builder {
        match Document::parse("definitions", toml, std::path::PathBuf::new()) {
            Ok(document) => self.problems.extend(self.document.merge(document)),
            Err(problems) => self.problems.extend(problems),
        }
        self
    }

    fn problem(&mut self, problem: Problem, message: impl Into<String>, help: &str) {
        let found = Diagnostic::general(problem, message);
        self.problems.push(if help.is_empty() { found } else { found.help(help) });
    }

    fn twice(&mut self, what: String) {
        self.problem(
            Problem::Duplicate,
            format!("{what} is given twice"),
            "give one of them another name, or leave it out",
        );
    }

    fn raw_table(mut self, name: &str, columns: Vec<(String, RawColumn)>) -> Builder {
        if self.tables.iter().any(|(other, _)| other == name) {
            self.twice(format!("table `{name}`"));
            return self;
        }
        for (i, (column, _)) in columns.iter().enumerate() {
            if columns[..i].iter().any(|(other, _)| other == column) {
                self.twice(format!("column `{column}` of table `{name}`"));
                return self;
            }
        }
        self.document.file.table.entry(name.to_string()).or_default();
        self.tables.push((name.to_string(), columns));
        self
    }

    /// Adds a definition: a [`Measure`](crate::Measure), a [`Column`](crate::Column), a [`Relation`](crate::Relation), a
    /// [`Role`](crate::Role), a [`Lens`](crate::Lens), a [`Calendar`](crate::Calendar).
    ///
    /// ```
    /// # fn main() -> Result<(), cubrel::Error> {
    /// use cubrel::{Measure, Model, Role, Type, Value};
    ///
    /// let rows = [("North", 10), ("South", 20)].map(|(region, net)| vec![Value::text(region), Value::Int(net)]);
    /// let model = Model::builder()
    ///     .rows("booking", &[("region", Type::Text), ("net", Type::Int)], &rows)
    ///     .define(Measure::new("net", "sum(booking.net)").label("Net").note("without tax"))
    ///     .define(Role::new("north").rows("booking", "region = 'North'"))
    ///     .build()?;
    /// let seen = model.as_user(&["north"], None)?;
    /// assert_eq!(seen.query("grid net")?.run()?.lines[0].values, [Value::Int(10)]);
    /// # Ok(())
    /// # }
    /// ```
    #[must_use]
    pub fn define(self, definition: impl Definition) -> Builder {
        definition.add(self)
    }

    pub(super) fn with_measure(mut self, name: String, section: MeasureSection) -> Builder {
        let what = format!("measure `{name}`");
        if self.document.file.measure.insert(name, section).is_some() {
            self.twice(what);
        }
        self
    }

    pub(super) fn with_column(mut self, table: &str, name: String, section: ColumnSection) -> Builder {
        let what = format!("column `{table}.{name}`");
        if self.section(table).column.insert(name, section).is_some() {
            self.twice(what);
        }
        self
    }

    pub(super) fn with_relation(mut self, section: RelationshipSection) -> Builder {
        self.document.file.relationship.push(section);
        self
    }

    pub(super) fn with_role(mut self, name: String, section: RoleSection) -> Builder {
        let what = format!("role `{name}`");
        if self.document.file.role.insert(name, section).is_some() {
            self.twice(what);
        }
        self
    }

    pub(super) fn with_lens(mut self, name: String, section: LensSection) -> Builder {
        let what = format!("lens `{name}`");
        if self.document.file.lens.insert(name, section).is_some() {
            self.twice(what);
        }
        self
    }

    pub(super) fn with_calendar(mut self, name: String, generate: GenerateSection) -> Builder {
        let section = self.section(&name);
        if section.generate.is_some() {
            self.twice(format!("calendar `{name}`"));
            return self;
        }
        section.calendar = Some("date".into());
        section.generate = Some(generate);
        self
    }

    fn section(&mut self, table: &str) -> &mut TableSection {
        self.document.file.table.entry(table.to_string()).or_default()
    }

    /// A generated calendar.
    #[must_use]
    pub fn calendar(self, name: &str, from: &str, to: &str) -> Builder {
        let generate = GenerateSection { from: Some(from.into()), to: Some(to.into()), ..GenerateSection::default() };
        self.with_calendar(name.to_string(), generate)
    }

    /// A calculated column.
    #[must_use]
    pub fn column(mut self, table: &str, name: &str, formula: &str) -> Builder {
        let column = self.section(table).column.entry(name.to_string()).or_default();
        if column.formula.is_some() {
            self.twice(format!("the formula of column `{table}.{name}`"));
            return self;
        }
        column.formula = Some(formula.into());
        self
    }

    /// The column that orders another.
    #[must_use]
    pub fn display_order(mut self, table: &str, column: &str, by: &str) -> Builder {
        self.section(table).column.entry(column.to_string()).or_default().display_order = Some(by.into());
        self
    }

    /// A relationship between two columns, written `table.column`; several are joined with `+`. Names that hold points
    /// stand in double quotes.
    #[must_use]
    pub fn relationship(self, many: &str, one: &str) -> Builder {
        self.related(many, one, false)
    }

    /// A relationship that is followed only where a formula names it.
    #[must_use]
    pub fn spare_relationship(self, many: &str, one: &str) -> Builder {
        self.related(many, one, true)
    }

    fn related(self, many: &str, one: &str, spare: bool) -> Builder {
        self.with_relation(RelationshipSection { spare, ..RelationshipSection::new(many, one) })
    }

    /// A measure.
    #[must_use]
    pub fn measure(self, name: &str, formula: &str) -> Builder {
        self.with_measure(name.into(), MeasureSection::new(formula.into()))
    }

    /// A hierarchy.
    #[must_use]
    pub fn hierarchy(mut self, table: &str, name: &str, levels: &[&str]) -> Builder {
        let levels = levels.iter().map(|l| l.to_string()).collect();
        if self.section(table).hierarchy.insert(name.into(), HierarchySection { levels }).is_some() {
            self.twice(format!("hierarchy `{name}` of table `{table}`"));
        }
        self
    }

    /// The day that `today()` is, as a day number; by default the one on the clock.
    #[must_use]
    pub fn today(mut self, day: i32) -> Builder {
        self.settings.today = day;
        self
    }

    /// How many rows of a table are coded together; by default about a million. Answers do not depend on it.
    #[must_use]
    pub fn segment_rows(mut self, rows: usize) -> Builder {
        self.segment_rows = rows.max(1);
        self
    }

    /// Ends building from outside.
    #[must_use]
    pub fn cancel(mut self, cancel: &Cancel) -> Builder {
        self.cancel = cancel.clone();
        self
    }

    /// Checks and computes everything.
    ///
    /// # Errors
    /// Everything that is wrong.
    pub fn build(self) -> Result<Model, Error> {
        self.build_with(&Silent)
    }

    /// As [`Builder::build`], with somebody who is told how it goes.
    ///
    /// # Errors
    /// Everything that is wrong.
    pub fn build_with(mut self, observer: &dyn Observer) -> Result<Model, Error> {
        self.check_sections();
        if !self.problems.is_empty() {
            return Err(Error::Problems(self.problems));
        }
        let Builder { document, tables: given, settings, segment_rows, cancel, .. } = self;
        let formulas = formulas(&document);
        if formulas.problems.iter().any(|p| p.severity == Severity::Error) {
            return Err(Error::Problems(formulas.all_problems()));
        }
        let limit = memory_limit(&document)?;
        let settings = Settings { locale: document.file.model.locale_with_currency(), ..settings };
        let loader = Loader {
            document: &document,
            formulas: &formulas,
            observer,
            settings: &settings,
            memory: limit,
            since: None,
            only_first: false,
            piece: None,
            segment_rows,
            cancel: &cancel,
            at_work: None,
        };
        let tables = loaded(&loader, given)?;
        let model = assemble(document.clone(), &formulas, &tables, settings, Known::default(), &cancel)?;
        if !model.wrong_measures().is_empty() {
            return Err(Error::Problems(model.wrong_measures().to_vec()));
        }
        let bytes = model.sizes().model.bytes;
        match limit.filter(|limit| bytes > *limit) {
            None => Ok(model),
            Some(limit) => {
                let (bytes, limit) = (units::bytes(bytes), units::bytes(limit));
                let message = format!("the model takes {bytes}, more than the memory limit of {limit}");
                Err(Error::Problems(vec![Diagnostic::general(Problem::Data, message)]))
            }
        }
    }

    /// Keys that say how a source is read do nothing for rows that are given.
    fn check_sections(&mut self) {
        let mut found = Vec::new();
        for (name, columns) in &self.tables {
            let Some(section) = self.document.file.table.get(name) else { continue };
            let mut refuse = |key: &str, message: String, help: &str| {
                let path = format!("table.{name}.{key}");
                found.push(self.document.problem(Problem::Model, &path, message).help(help));
            };
            let elsewhere = [
                ("source", section.source.is_some()),
                ("query", section.query.is_some()),
                ("generate", section.generate.is_some()),
                ("same_as", section.same_as.is_some()),
            ];
            for (key, _) in elsewhere.iter().filter(|(_, said)| *said) {
                refuse(key, format!("table `{name}` has rows and `{key}`"), "its rows come from one place");
            }
            let of_sources = [
                ("csv", section.csv.is_some()),
                ("workbook", section.workbook.is_some()),
                ("partition", section.partition.is_some()),
                ("missing", section.missing.is_some()),
                ("trim", section.trim),
                ("distinct", section.distinct),
                ("latest_by", section.latest_by.is_some()),
                ("max_bad_rows", section.max_bad_rows.is_some()),
            ];
            for (key, _) in of_sources.iter().filter(|(_, said)| *said) {
                let message = format!("`{key}` says how a source is read, and the rows of table `{name}` are given");
                refuse(key, message, "leave it out");
            }
            for (column, said) in &section.column {
                let Some((_, raw)) = columns.iter().find(|(c, _)| c == column) else { continue };
                let declared = said.ty.as_deref().filter(|text| Type::parse(text) != Some(raw.ty));
                let of_sources = [
                    ("source_name", said.source_name.is_some()),
                    ("source_position", said.source_position.is_some()),
                    ("path", said.path.is_some()),
                    ("date_pattern", said.date_pattern.is_some()),
                    ("missing", said.missing.is_some()),
                ];
                for (key, _) in of_sources.iter().filter(|(_, said)| *said) {
                    let message = format!("`{key}` says how a source is read, and `{name}.{column}` is given");
                    refuse(&format!("column.{column}.{key}"), message, "leave it out");
                }
                if let Some(declared) = declared {
                    let message = format!("`{name}.{column}` is given as {}, and `type` says {declared}", raw.ty);
                    refuse(&format!("column.{column}.type"), message, "give it in that type, or leave `type` out");
                }
            }
        }
        self.problems.extend(found);
    }
}

/// The tables, copies after what they are copies of.
fn loaded(loader: &Loader<'_>, mut given: Vec<(String, Vec<(String, RawColumn)>)>) -> Result<Vec<LoadedTable>, Error> {
    let mut tables: Vec<LoadedTable> = Vec::new();
    for (name, section) in &loader.document.file.table {
        if section.same_as.is_some() {
            continue;
        }
        if section.query.is_some() {
            tables.push(LoadedTable::by_query(name));
            continue;
        }
        let place = given.iter().position(|(n, _)| n == name);
        tables.push(match place {
            Some(place) => loader.given(name, section, given.swap_remove(place).1)?,
            None => build_calendar(loader, name, section)?,
        });
    }
    let sections = &loader.document.file.table;
    for (name, first) in sections.iter().filter_map(|(name, s)| Some((name, s.same_as.as_ref()?))) {
        copied_table(loader.document, name, first).map_err(|problem| Error::Problems(vec![*problem]))?;
        let copy = tables.iter().find(|t| t.name == *first).map(|first| first.copied(name));
        tables.extend(copy);
    }
    tables.sort_by_key(|t| sections.get_index_of(&t.name));
    Ok(tables)
}

/// A column of values that all fit its type.
fn fitted<'v>(ty: Type, values: impl Iterator<Item = &'v Value>) -> Result<RawColumn, String> {
    if !ty.can_be_stored() {
        return Err(format!("a column cannot be {ty}: decimals have up to {} digits", exact::STORED_DIGITS));
    }
    let mut builder = VectorBuilder::new(ty, values.size_hint().0);
    for (row, value) in values.enumerate() {
        builder.push(value.fitted(ty).map_err(|e| format!("row {}: {e}", row + 1))?);
    }
    RawColumn::from_vector(builder.finish(), ty).map_err(|(row, _)| format!("row {}: it does not fit 64 bits", row + 1))
}

fn build_calendar(loader: &Loader<'_>, name: &str, section: &TableSection) -> Result<LoadedTable, Error> {
    if section.generate.is_none() {
        let problem = Diagnostic::general(Problem::Model, format!("table `{name}` has no rows"));
        return Err(Error::Problems(vec![problem.help("give it record batches")]));
    }
    Ok(loader.generated(name, section, None)?)
}

/// The columns of record batches, one after the other.
fn columns(batches: &[RecordBatch]) -> Result<Vec<(String, RawColumn)>, String> {
    let Some(first) = batches.first() else {
        return Err("there is no record batch".into());
    };
    let shape = |batch: &RecordBatch| -> Vec<(String, DataType)> {
        let schema = batch.schema();
        schema.fields().iter().map(|f| (f.name().clone(), f.data_type().clone())).collect()
    };
    let wanted = shape(first);
    if let Some(other) = batches.iter().position(|batch| shape(batch) != wanted) {
        return Err(format!("record batch {} has other columns than the first", other + 1));
    }
    let mut columns = Vec::new();
    for (i, (name, _)) in wanted.into_iter().enumerate() {
        let mut values = Vec::new();
        let mut ty = Type::Null;
        for batch in batches {
            let (part_ty, part) =
                arrow::values(batch.column(i).as_ref()).map_err(|e| format!("column `{name}`: {e}"))?;
            ty = part_ty;
            values.extend(part);
        }
        let raw = fitted(ty, values.iter()).map_err(|e| format!("column `{name}`: {e}"))?;
        columns.push((name, raw));
    }
    Ok(columns)
}
