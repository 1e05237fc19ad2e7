//! One table after the other: read, computed columns that need only their own row, load filter, codes.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::Instant;

use rayon::prelude::*;
use serde::Serialize;

use super::csv::Request;
use super::dialect::{DatePattern, Dialect, Shape};
use super::read;
use super::sources::{self, FileStamp};
use super::staging::Loaded;
use super::{LoadError, Observer, TableReport};
use crate::formula::check::{self, Settings};
use crate::formula::parser;
use crate::formula::scalar::{self, EvalError, Leaves, ScalarKind};
use crate::formula::schema::{ColumnDef, Computed, Schema, TableDef, TableId};
use crate::formula::source::{Diagnostic, Problem, Source};
use crate::formula::typed::{Expr, Kind, Op};
use crate::model::calendar;
use crate::model::define::stored_type;
use crate::model::dependencies::{Formulas, ParsedFormula};
use crate::model::document::Document;
use crate::model::file::TableSection;
use crate::model::file::{CsvSection, GenerateSection};
use crate::store::{Column, RawColumn, RawData, SEGMENT_ROWS};
use crate::value::{Type, Value, Vector, date, exact};

/// Rows that a formula is computed for at a time.
const BATCH: usize = 4096;

/// A loaded table.
#[derive(Clone, Debug)]
pub struct LoadedTable {
    /// Its name.
    pub name: String,
    /// How many rows.
    pub rows: usize,
    /// Its columns: those of the source, then those computed while loading.
    pub columns: Vec<LoadedColumn>,
    /// How loading went.
    pub report: TableReport,
    /// The files that it was read from.
    pub files: Vec<FileStamp>,
    /// Changes when the model says something else about how to load it.
    pub fingerprint: u64,
}

/// A loaded column.
#[derive(Clone, Debug)]
pub struct LoadedColumn {
    /// Its name.
    pub name: String,
    /// Its values.
    pub data: Arc<Column>,
    /// When they came to be.
    pub computed: Computed,
}

/// What decides how a table is loaded: a change of anything else needs no loading.
#[derive(Serialize)]
struct Recipe<'a> {
    source: &'a Option<String>,
    csv: &'a Option<CsvSection>,
    key: &'a Option<String>,
    missing: &'a Option<Vec<String>>,
    filter: &'a Option<String>,
    bad_rows: Option<u64>,
    generate: &'a Option<GenerateSection>,
    calendar: &'a Option<String>,
    columns: Vec<ColumnRecipe<'a>>,
}

/// What of a column's section decides how it is loaded: source name, type, keep, formula.
type ColumnRecipe<'a> =
    (&'a String, &'a Option<String>, &'a Option<String>, Option<bool>, &'a Option<String>, &'a Option<String>);

/// A number that changes when the model says something else about how to load a table.
pub fn fingerprint(section: &TableSection) -> u64 {
    let recipe = Recipe {
        source: &section.source,
        csv: &section.csv,
        key: &section.key,
        missing: &section.missing,
        filter: &section.filter,
        bad_rows: section.bad_rows,
        generate: &section.generate,
        calendar: &section.calendar,
        columns: section
            .column
            .iter()
            .map(|(n, c)| (n, &c.source_name, &c.ty, c.keep, &c.formula, &c.date_pattern))
            .collect(),
    };
    let text = serde_json::to_string(&recipe).unwrap_or_default();
    xxhash_rust::xxh3::xxh3_64(text.as_bytes())
}

impl LoadedTable {
    /// A table that its query works out when all others are there.
    pub fn worked_out(name: &str, section: &TableSection) -> LoadedTable {
        LoadedTable {
            name: name.to_string(),
            rows: 0,
            columns: Vec::new(),
            report: TableReport { table: name.to_string(), ..TableReport::default() },
            files: Vec::new(),
            fingerprint: fingerprint(section),
        }
    }

    /// The same table in a second role.
    pub fn in_role(&self, name: &str, section: &TableSection) -> LoadedTable {
        let report = TableReport { table: name.to_string(), source_bytes: 0, read: false, ..self.report.clone() };
        LoadedTable {
            name: name.to_string(),
            files: Vec::new(),
            fingerprint: fingerprint(section),
            report,
            ..self.clone()
        }
    }
}

/// Loads tables of a model.
pub struct Loader<'a> {
    /// What the model says.
    pub document: &'a Document,
    /// Its formulas.
    pub formulas: &'a Formulas,
    /// Is told how it goes.
    pub observer: &'a dyn Observer,
    /// For `today()`.
    pub settings: &'a Settings,
}

impl Loader<'_> {
    /// Loads a table that has a source.
    ///
    /// # Errors
    /// When the source cannot be read or what it holds does not fit what the model says of it.
    pub fn sourced(&self, name: &str, section: &TableSection) -> Result<LoadedTable, LoadError> {
        let start = Instant::now();
        let source = section.source.as_deref().unwrap_or_default();
        let files = sources::files(&self.document.folder, source)?;
        let bytes = files.iter().map(|f| f.bytes).sum();
        self.observer.table(name, bytes);
        let mut report =
            TableReport { table: name.to_string(), source_bytes: bytes, read: true, ..TableReport::default() };
        let loaded = self.read(name, section, &files)?;
        loaded.report(&mut report);
        let limit = section.bad_rows.unwrap_or(0);
        if loaded.bad_rows > limit {
            let message = format!(
                "table `{name}`: {} rows cannot be read:\n  {}",
                loaded.bad_rows,
                loaded.bad_examples.join("\n  ")
            );
            let problem = Diagnostic::general(Problem::Data, message);
            return Err(problem
                .help(format!(
                    "mend the file, change the column's `type`, or allow them with `bad_rows = {}`",
                    loaded.bad_rows
                ))
                .into());
        }
        let table = self.finish(name, section, loaded.columns, &mut report)?;
        report.milliseconds = start.elapsed().as_millis() as u64;
        self.observer.done(&report);
        Ok(LoadedTable { report, files, ..table })
    }

    fn read(&self, name: &str, section: &TableSection, files: &[FileStamp]) -> Result<Loaded, LoadError> {
        let mut renamed = HashMap::new();
        let mut types = HashMap::new();
        for (column, said) in section.column.iter().filter(|(_, c)| c.formula.is_none()) {
            if let Some(source) = &said.source_name {
                renamed.insert(source.clone(), column.clone());
            }
            if let Some(text) = &said.ty {
                types.insert(column.clone(), self.declared_type(name, column, text)?);
            }
        }
        let mut shapes = HashMap::new();
        for (column, said) in section.column.iter().filter(|(_, c)| c.formula.is_none()) {
            if let Some(pattern) = &said.date_pattern {
                let path = format!("table.{name}.column.{column}.date_pattern");
                let pattern =
                    DatePattern::parse(pattern).map_err(|e| self.document.problem(Problem::Model, &path, e))?;
                shapes.insert(column.clone(), Shape::Dated(pattern));
            }
        }
        let dialect = self.dialect(name, section)?;
        // Columns that know their types know their nulls, too.
        let source = section.source.as_deref().unwrap_or_default();
        let default_missing = [String::new()];
        let request = Request {
            table: name,
            folder: &self.document.folder,
            files,
            dialect: &dialect,
            shapes: &shapes,
            missing: section.missing.as_deref().unwrap_or(&default_missing),
            renamed: &renamed,
            types: &types,
        };
        read::read(&request, source, self.observer)
    }

    /// How the model says that a table's text is laid out.
    fn dialect(&self, name: &str, section: &TableSection) -> Result<Dialect, LoadError> {
        let said = section.csv.clone().unwrap_or_default();
        let wrong = |key: &str, message: String, help: &str| {
            let path = format!("table.{name}.csv.{key}");
            LoadError::from(self.document.problem(Problem::Model, &path, message).help(help))
        };
        let one = |key: &str, text: Option<&str>| match text {
            None => Ok(None),
            Some("\\t") => Ok(Some(b'\t')),
            Some(text) if text.len() == 1 => Ok(text.bytes().next()),
            Some(text) => Err(wrong(key, format!("`{text}` is not one character"), "write one character, such as `;`")),
        };
        let delimiter = one("delimiter", said.delimiter.as_deref())?;
        let quote = one("quote", said.quote.as_deref())?.unwrap_or(b'"');
        let decimal_comma = match said.decimal.as_deref() {
            None | Some(".") => false,
            Some(",") => true,
            Some(other) => {
                return Err(wrong("decimal", format!("`{other}` does not part decimals"), "write `.` or `,`"));
            }
        };
        let encoding = match said.encoding.as_deref() {
            None => encoding_rs::UTF_8,
            Some(label) => encoding_rs::Encoding::for_label(label.as_bytes()).ok_or_else(|| {
                wrong("encoding", format!("`{label}` is no encoding"), "write one such as `windows-1252` or `utf-16le`")
            })?,
        };
        Ok(Dialect { delimiter, quote, decimal_comma, encoding })
    }

    fn declared_type(&self, table: &str, column: &str, text: &str) -> Result<Type, LoadError> {
        let path = format!("table.{table}.column.{column}.type");
        let ty = Type::parse(text).ok_or_else(|| {
            self.document
                .problem(Problem::Type, &path, format!("`{text}` is not a type"))
                .help("the types are int, decimal(p,s), float, text, bool, date, timestamp")
        })?;
        if let Type::Decimal { precision, .. } = ty
            && precision > exact::STORED_DIGITS
        {
            let message = format!("a column stores at most {} digits", exact::STORED_DIGITS);
            return Err(self.document.problem(Problem::Type, &path, message).into());
        }
        Ok(ty)
    }

    /// A calendar that nobody has written: by default from the first to the last year of the data.
    ///
    /// # Errors
    /// When its days cannot be told.
    pub fn generated(
        &self,
        name: &str,
        section: &TableSection,
        data_days: Option<(i32, i32)>,
    ) -> Result<LoadedTable, LoadError> {
        let start = Instant::now();
        self.observer.table(name, 0);
        let generate = section.generate.clone().unwrap_or_default();
        let day = |key: &str, text: &Option<String>, fallback: Option<i32>| -> Result<i32, LoadError> {
            let path = format!("table.{name}.generate.{key}");
            match text {
                Some(text) => date::parse_date(text.as_bytes()).ok_or_else(|| {
                    self.document
                        .problem(Problem::Model, &path, format!("`{text}` is not a date such as 2026-03-01"))
                        .into()
                }),
                None => fallback.ok_or_else(|| {
                    let path = format!("table.{name}");
                    let message = format!("nothing says which days calendar `{name}` has");
                    self.document
                        .problem(Problem::Model, &path, message)
                        .help("set `from` and `to` in `generate`, or point a date column at it")
                        .into()
                }),
            }
        };
        let rules = calendar::rules(self.document, name, section)?;
        let first = data_days.and_then(|(a, _)| rules.start(date::Unit::Year, a));
        let last = data_days.and_then(|(_, b)| rules.end(date::Unit::Year, b));
        let (from, to) = (day("from", &generate.from, first)?, day("to", &generate.to, last)?);
        let mut report = TableReport { table: name.to_string(), read: true, ..TableReport::default() };
        let table = self.finish(name, section, calendar::generate(from, to, &rules)?, &mut report)?;
        report.milliseconds = start.elapsed().as_millis() as u64;
        self.observer.done(&report);
        Ok(LoadedTable { report, ..table })
    }

    /// A table whose rows are given.
    ///
    /// # Errors
    /// When what it holds does not fit what the model says of it.
    pub fn given(
        &self,
        name: &str,
        section: &TableSection,
        columns: Vec<(String, RawColumn)>,
    ) -> Result<LoadedTable, LoadError> {
        let mut report = TableReport { table: name.to_string(), read: true, ..TableReport::default() };
        self.finish(name, section, columns, &mut report)
    }

    /// Computed columns, load filter, codes.
    fn finish(
        &self,
        name: &str,
        section: &TableSection,
        columns: Vec<(String, RawColumn)>,
        report: &mut TableReport,
    ) -> Result<LoadedTable, LoadError> {
        let mut staged = Staged { name, columns: Vec::new() };
        staged.columns.extend(columns.into_iter().map(|(n, c)| (n, c, Computed::Source)));
        self.check_names(name, section, &staged)?;
        for (column, formula) in self.formulas.while_loading(name) {
            let ty = section.column.get(column).and_then(|c| c.ty.as_deref());
            let ty = ty.map(|t| self.declared_type(name, column, t)).transpose()?;
            let raw = staged.compute(column, formula, ty, self.settings)?;
            staged.columns.push((column.to_string(), raw, Computed::Loading));
        }
        if let Some(filter) = &section.filter {
            let before = staged.rows();
            staged.filter(filter, self.settings)?;
            report.filtered_rows = (before - staged.rows()) as u64;
        }
        staged.columns.retain(|(n, ..)| section.column.get(n).and_then(|c| c.keep) != Some(false));
        let rows = staged.rows();
        report.rows = rows as u64;
        let coded = staged
            .columns
            .into_par_iter()
            .map(|(column, raw, computed)| {
                let data = Column::encode(&raw, SEGMENT_ROWS).map_err(|e| {
                    LoadError::from(Diagnostic::general(Problem::Data, format!("{name}.{column}: {e}")))
                })?;
                Ok(LoadedColumn { name: column, data: Arc::new(data), computed })
            })
            .collect::<Result<Vec<_>, LoadError>>()?;
        if let Some(key) = &section.key {
            check_key(name, key, &coded)?;
        }
        check_display_orders(name, section, &coded)?;
        let fingerprint = fingerprint(section);
        Ok(LoadedTable {
            name: name.to_string(),
            rows,
            columns: coded,
            report: report.clone(),
            files: Vec::new(),
            fingerprint,
        })
    }

    fn check_names(&self, name: &str, section: &TableSection, staged: &Staged<'_>) -> Result<(), LoadError> {
        let there: Vec<&str> = staged.columns.iter().map(|(n, ..)| n.as_str()).collect();
        let mut problems = Vec::new();
        for (column, said) in &section.column {
            let path = format!("table.{name}.column.{column}");
            let known = there.contains(&column.as_str());
            if said.formula.is_some() && known {
                let message = format!("`{column}` stands in the source and has a formula");
                problems.push(
                    self.document
                        .problem(Problem::Duplicate, &path, message)
                        .help("give the calculated column another name"),
                );
            } else if said.formula.is_none() && !known {
                let wanted = said.source_name.as_deref().unwrap_or(column);
                let message = format!("the source of table `{name}` has no column `{wanted}`");
                problems.push(
                    self.document
                        .problem(Problem::UnknownName, &path, message)
                        .help(crate::model::define::suggestion(wanted, &there)),
                );
            }
        }
        if problems.is_empty() { Ok(()) } else { Err(LoadError::Problems(problems)) }
    }
}

/// A key that is not unique refuses the table.
fn check_key(table: &str, key: &str, columns: &[LoadedColumn]) -> Result<(), LoadError> {
    let Some(column) = columns.iter().find(|c| c.name == key) else {
        return Ok(());
    };
    crate::store::lookup::index(&[&column.data])
        .map(|_| ())
        .map_err(|duplicates| duplicate_keys(&format!("{table}.{key}"), &duplicates).into())
}

/// The problem of a key that is not unique.
pub fn duplicate_keys(key: &str, duplicates: &crate::store::lookup::DuplicateKeys) -> Diagnostic {
    let examples: Vec<String> = duplicates.examples.iter().map(|(k, n)| format!("`{k}` in {n} rows")).collect();
    let message = format!("{key} is not unique: {} rows too many: {}", duplicates.surplus, examples.join(", "));
    Diagnostic::general(Problem::Data, message)
        .help("each key may stand in one row only: mend the source, or filter with `where`")
}

/// A column ordered by another must have one value of it for each value.
fn check_display_orders(table: &str, section: &TableSection, columns: &[LoadedColumn]) -> Result<(), LoadError> {
    for (name, said) in &section.column {
        let find = |n: &str| columns.iter().find(|c| c.name == n);
        let (Some(column), Some(order)) = (find(name), said.display_order.as_deref().and_then(find)) else {
            continue;
        };
        let mut orders: HashMap<u64, u64> = HashMap::new();
        for (code, rank) in column.data.codes().into_iter().zip(order.data.codes()) {
            if *orders.entry(code).or_insert(rank) != rank {
                let value = column.data.value_of(code);
                let (a, b) = (order.data.value_of(orders[&code]), order.data.value_of(rank));
                let message =
                    format!("{table}.{name} is ordered by {}, but `{value}` has both {a} and {b}", order.name);
                let help = "each value needs one place in the order: mend the source, or order by another column";
                return Err(Diagnostic::general(Problem::Data, message).help(help).into());
            }
        }
    }
    Ok(())
}

/// A table whose columns are not coded yet.
struct Staged<'a> {
    name: &'a str,
    columns: Vec<(String, RawColumn, Computed)>,
}

impl Staged<'_> {
    fn rows(&self) -> usize {
        self.columns.first().map_or(0, |(_, c, _)| c.len())
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
            cyclic: false,
        });
        let table = TableDef { name: self.name.to_string(), columns: columns.collect(), ..TableDef::default() };
        Schema { tables: vec![table], ..Schema::default() }
    }

    fn compute(
        &self,
        column: &str,
        formula: &ParsedFormula,
        ty: Option<Type>,
        settings: &Settings,
    ) -> Result<RawColumn, LoadError> {
        let (expr, problems) =
            check::column_formula(&self.schema(), settings, &formula.source, TableId(0), &formula.expr);
        let Some(expr) = expr else {
            return Err(LoadError::Problems(problems));
        };
        let expr = stored(expr, ty);
        let ty = ty.unwrap_or(stored_type(expr.ty));
        let vector = self.eval(&expr, &formula.source)?;
        to_raw(vector, ty, &format!("{}.{column}", self.name), &formula.source).map_err(LoadError::from)
    }

    /// The values of an expression in every row.
    fn eval(&self, expr: &Expr, source: &Arc<Source>) -> Result<Vector, LoadError> {
        let scalar = scalar::from_expr(expr, source, &mut |e| match &e.kind {
            Kind::Current { column, .. } => Some(ScalarKind::Leaf(column.index as usize)),
            _ => None,
        });
        let mut builder = crate::value::VectorBuilder::new(expr.ty, self.rows());
        for start in (0..self.rows()).step_by(BATCH) {
            let rows: Vec<u32> = (start..(start + BATCH).min(self.rows())).map(|r| r as u32).collect();
            let leaves = StagedLeaves { columns: &self.columns, rows: &rows };
            let batch = scalar.eval(&leaves, rows.len()).map_err(|e| eval_problem(&e, start, self.name))?;
            (0..batch.len()).for_each(|i| builder.push(batch.get(i, expr.ty)));
        }
        Ok(builder.finish())
    }

    fn filter(&mut self, text: &str, settings: &Settings) -> Result<(), LoadError> {
        let source = Source::new(format!("where of table {}", self.name), text);
        let (tree, problems) = parser::formula(&source);
        if !problems.is_empty() {
            return Err(LoadError::Problems(problems));
        }
        let (expr, problems) = check::row_filter(&self.schema(), settings, &source, TableId(0), &tree);
        let Some(expr) = expr else {
            return Err(LoadError::Problems(problems));
        };
        let truths = self.eval(&expr, &source)?.truths();
        let keep: Vec<u32> = (0..self.rows() as u32).filter(|i| truths[*i as usize]).collect();
        for (_, raw, _) in &mut self.columns {
            *raw = select(raw, &keep);
        }
        Ok(())
    }
}

fn select(raw: &RawColumn, rows: &[u32]) -> RawColumn {
    let at = |i: &u32| *i as usize;
    let data = match &raw.data {
        RawData::Ints(v) => RawData::Ints(rows.iter().map(|i| v[at(i)]).collect()),
        RawData::Floats(v) => RawData::Floats(rows.iter().map(|i| v[at(i)]).collect()),
        RawData::Texts { values, indices } => {
            RawData::Texts { values: values.clone(), indices: rows.iter().map(|i| indices[at(i)]).collect() }
        }
    };
    let valid = raw.valid.as_ref().map(|v| rows.iter().map(|i| v[at(i)]).collect());
    RawColumn { ty: raw.ty, data, valid }
}

/// An expression as the values of a column: of the declared type, if there is one.
pub fn stored(expr: Expr, ty: Option<Type>) -> Expr {
    let Some(ty) = ty.filter(|ty| *ty != expr.ty) else {
        return expr;
    };
    let (from, span) = (expr.ty, expr.span);
    Expr { kind: Kind::Call(Op::Cast { from, to: ty, lenient: false }, vec![expr]), ty, span }
}

/// Values as a column, or the first that does not fit 64 bits.
pub fn to_raw(vector: Vector, ty: Type, column: &str, source: &Arc<Source>) -> Result<RawColumn, Diagnostic> {
    let whole = crate::formula::source::Span::new(0, source.text.len());
    RawColumn::from_vector(vector, ty).map_err(|(row, v)| {
        let message = format!("{column} in row {}: {} does not fit a column", row + 1, exact::to_string(v, ty.scale()));
        Diagnostic::error(Problem::Data, source, whole, message).help("round it, or set `type = \"float\"`")
    })
}

/// A failed computation as a problem that names formula and row.
pub fn eval_problem(e: &EvalError, first_row: usize, table: &str) -> Diagnostic {
    let message = format!("row {} of {table}: {}", first_row + e.slot + 1, e.message);
    Diagnostic::error(Problem::Data, &e.place.source, e.place.span, message)
}

struct StagedLeaves<'a> {
    columns: &'a [(String, RawColumn, Computed)],
    rows: &'a [u32],
}

impl Leaves for StagedLeaves<'_> {
    type Error = EvalError;

    fn leaf(&self, leaf: usize, slots: &[u32]) -> Result<Vector, EvalError> {
        let rows: Vec<u32> = slots.iter().map(|s| self.rows[*s as usize]).collect();
        Ok(self.columns[leaf].1.vector(&rows))
    }
}

/// The smallest and largest value of a date column.
pub fn day_range(column: &Column) -> Option<(i32, i32)> {
    let codes = column.codes();
    let valid = codes.iter().filter(|c| **c != column.null_code());
    let (low, high) = valid.fold((u64::MAX, 0), |(l, h), c| (l.min(*c), h.max(*c)));
    if low == u64::MAX {
        return None;
    }
    match (column.value_of(low), column.value_of(high)) {
        (Value::Date(a), Value::Date(b)) => Some((a, b)),
        _ => None,
    }
}
