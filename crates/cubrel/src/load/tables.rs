//! One table after the other: read, computed columns that need only their own row, load filter, codes.

use crate::load::loaded::LoadedColumn;
use crate::load::loaded::LoadedTable;
use std::collections::{HashMap, HashSet};
use std::time::Instant;

use rayon::prelude::*;

use super::assembler::{self, EncodedTable, MemoryBudget, TableAssembler};
use super::csv::Request;
use super::database::PeriodOfRows;
use super::dialect::{DatePattern, Dialect, Shape};
use super::doubles;
use super::failure::Failure;
use super::fingerprint::fingerprint;
use super::partitions::{self, Group};
use super::read;
use super::report::HOW_TO_SAY_ENCODING;
use super::row_transform::{Filter, OwnColumn, RowTransform};
use super::sources::{self, FileStamp};
use super::{LoadError, Observer, TableReport};
use crate::cancel::Cancel;
use crate::formula::check::Settings;
use crate::formula::source::{Diagnostic, Problem};
use crate::model::calendar;
use crate::model::dependencies::{Formulas, ParsedFormula};
use crate::model::document::Document;
use crate::model::file::{ModelFile, TableSection};
use crate::model::paths::column_path;
use crate::store::{Column, RawColumn, Segment};
use crate::value::{Type, Value, date, exact, units};

/// Loads tables of a model.
#[derive(Clone, Copy)]
pub struct Loader<'a> {
    /// What the model says.
    pub document: &'a Document,
    /// Its formulas.
    pub formulas: &'a Formulas,
    /// Is told how it goes.
    pub observer: &'a dyn Observer,
    /// For `today()`.
    pub settings: &'a Settings,
    /// Bytes that the tables may take.
    pub memory: Option<u64>,
    /// Files that were written before this day count as unchanged.
    pub since: Option<i32>,
    /// Bytes of text that one thread works on at a time, where tests want small pieces.
    pub piece: Option<usize>,
    /// How many rows are coded together.
    pub segment_rows: usize,
    /// Ends loading from outside.
    pub cancel: &'a Cancel,
}

/// How often a source is read that is written while it is read.
const READINGS: usize = 3;

impl Loader<'_> {
    /// Loads a table that has a source. Of what was loaded before, partitions whose files have not changed are taken as
    /// they are.
    ///
    /// # Errors
    /// When the source cannot be read or what it holds does not fit what the model says of it.
    pub fn sourced(
        &self,
        name: &str,
        section: &TableSection,
        before: Option<&LoadedTable>,
    ) -> Result<LoadedTable, LoadError> {
        let start = Instant::now();
        let source = section.source.as_deref().unwrap_or_default();
        let folder = &self.document.folder;
        for _ in 0..READINGS {
            let seen = sources::identities(folder, source, None)?;
            let loaded = self.sourced_once(name, section, before);
            // What was written meanwhile may stand half in one version and half in another.
            if !sources::identities(folder, source, Some(&seen)).is_ok_and(|now| now == seen) {
                continue;
            }
            let mut table = loaded?;
            table.report.milliseconds = start.elapsed().as_millis() as u64;
            self.observer.done(&table.report);
            return Ok(table);
        }
        let message = format!("table `{name}`: the source was written {READINGS} times while it was read");
        Err(Diagnostic::general(Problem::Data, message).help("let nobody write it while it is read").into())
    }

    /// Loads a table from its source as it is while it is read.
    fn sourced_once(
        &self,
        name: &str,
        section: &TableSection,
        before: Option<&LoadedTable>,
    ) -> Result<LoadedTable, LoadError> {
        let source = section.source.as_deref().unwrap_or_default();
        let mut files = sources::files(&self.document.folder, source)?;
        let read_before: Vec<&FileStamp> = before.iter().flat_map(|b| &b.partitions).flat_map(|p| &p.files).collect();
        sources::recognise(&self.document.folder, source, &mut files, &read_before, self.since);
        let changed_types = before.map(|b| b.types());
        let before = before.filter(|b| b.fingerprint == fingerprint(name, section, self.formulas, self.settings));
        // Which of several rows is kept can change with any new one.
        let before = before.filter(|_| !section.distinct && section.latest_by.is_none());
        let mut groups = self.groups(name, section, &files, before)?;
        let unread = |groups: &[Group]| -> u64 { groups.iter().filter(|g| g.kept.is_none()).map(Group::bytes).sum() };
        self.observer.table(name, unread(&groups));
        let mut encoded = self.read(name, section, &groups, before)?;
        if !partitions::fit(&encoded, &groups, before) {
            // What is new has other columns or types than what was there, so that all of it has to be read.
            groups.iter_mut().for_each(|g| g.kept = None);
            self.observer.table(name, unread(&groups));
            encoded = self.read(name, section, &groups, None)?;
        }
        if !sources::is_server(source) {
            let files = groups.iter_mut().flat_map(|g| &mut g.files);
            sources::fingerprint(&self.document.folder, source, files);
        }
        let mut table = partitions::joined(name, groups, encoded, before, &keys_of(&self.document.file, name));
        table.report.changed_types = changed_types.map_or_else(Vec::new, |old| table.changed_types(&old));
        check_bad_rows(name, section, &table.report)?;
        doubles::leave_out(self.document, name, section, &mut table)?;
        self.check(name, section, &table)?;
        table.report.origin = "source".into();
        table.report.source_bytes = files.iter().map(|f| f.bytes).sum();
        Ok(table)
    }

    /// What of a source is read by itself.
    fn groups(
        &self,
        name: &str,
        section: &TableSection,
        files: &[FileStamp],
        before: Option<&LoadedTable>,
    ) -> Result<Vec<Group>, LoadError> {
        let source = section.source.as_deref().unwrap_or_default();
        let before = before.map_or(&[][..], |b| &b.partitions);
        let Some(partition) = &section.partition else {
            // A server does not tell whether anything has changed.
            return Ok(partitions::groups(files, if sources::is_server(source) { &[] } else { before }));
        };
        let wrong = |key: &str, message: String, help: &str| {
            let path = format!("table.{name}.partition{key}");
            LoadError::from(self.document.problem(Problem::Model, &path, message).help(help))
        };
        if !sources::is_database(source) {
            let help = "write one file for each part: of several files only changed ones are read again";
            return Err(wrong("", "`partition` is for databases".into(), help));
        }
        let by = date::Unit::parse(&partition.by).ok_or_else(|| {
            let help = "write `day`, `week`, `month`, `quarter` or `year`";
            wrong(".by", format!("`{}` is not a unit of the calendar", partition.by), help)
        })?;
        let periods = read::periods(&self.document.folder, source, source_name(section, &partition.column), by)?;
        Ok(partitions::periods(files, periods, before, self.since))
    }

    /// Reads the partitions that are not kept.
    fn read(
        &self,
        name: &str,
        section: &TableSection,
        groups: &[Group],
        before: Option<&LoadedTable>,
    ) -> Result<EncodedTable, LoadError> {
        let files: Vec<(usize, FileStamp)> = groups
            .iter()
            .enumerate()
            .filter(|(_, g)| g.kept.is_none())
            .flat_map(|(i, g)| g.files.iter().map(move |f| (i, f.clone())))
            .collect();
        if files.is_empty() {
            return Ok(EncodedTable::default());
        }
        let periods: Vec<Option<PeriodOfRows>> =
            groups.iter().filter(|g| g.kept.is_none()).flat_map(|g| g.files.iter().map(|_| g.period)).collect();
        let known = before
            .filter(|_| groups.iter().any(|g| g.kept.is_some()))
            .map(|b| b.columns.iter().map(|c| (c.name.clone(), c.data.ty())).collect::<HashMap<String, Type>>());
        let said = self.said_of_columns(name, section)?;
        let SaidOfColumns { renamed, positions, paths, types, shapes, missing: own_missing } = said;
        let dialect = self.dialect(name, section)?;
        // Columns that know their types know their nulls, too.
        let source = section.source.as_deref().unwrap_or_default();
        let default_missing = [String::new()];
        let request = Request {
            table: name,
            folder: &self.document.folder,
            files: &files,
            dialect: &dialect,
            workbook: section.workbook.as_ref(),
            shapes: &shapes,
            missing: section.missing.as_deref().unwrap_or(&default_missing),
            own_missing: &own_missing,
            trim: section.trim,
            renamed: &renamed,
            positions: &positions,
            paths: &paths,
            types: &types,
            known: &known.unwrap_or_default(),
            periods: &periods,
            period_column: section.partition.as_ref().map_or("", |p| source_name(section, &p.column)),
            piece: self.piece,
        };
        let own = self.own_row(name, section)?;
        let room = self.room(name);
        match read::read(&request, source, &|| TableAssembler::new(&own, &room), self.observer) {
            Ok(encoded) => Ok(encoded),
            Err(Failure::Load(e)) => Err(e),
            // Both are turned to problems where they are met.
            Err(Failure::Row(..) | Failure::TypeMismatch) => {
                let message = format!("table `{name}`: the source gives other values every time it is read");
                Err(Diagnostic::general(Problem::Data, message).help("let nobody write it while it is read").into())
            }
        }
    }

    /// What the model says of the columns of a source.
    fn said_of_columns(&self, name: &str, section: &TableSection) -> Result<SaidOfColumns, LoadError> {
        let mut all = SaidOfColumns::default();
        for (column, said) in section.column.iter().filter(|(_, c)| c.formula.is_none()) {
            let path = |key: &str| format!("table.{name}.column.{column}.{key}");
            if let Some(source) = &said.source_name {
                all.renamed.insert(source.clone(), column.clone());
            }
            if let Some(path) = &said.path {
                all.paths.insert(path.clone(), column.clone());
            }
            if said.path.is_some() && (said.source_name.is_some() || said.source_position.is_some()) {
                let message =
                    format!("`{column}` has a path in the source and something else that says which column it is");
                let problem = self.document.problem(Problem::Model, &path("path"), message);
                return Err(problem.help("one of them says it").into());
            }
            if let Some(place) = said.source_position {
                let wrong = |message: String, help: &str| {
                    LoadError::from(self.document.problem(Problem::Model, &path("source_position"), message).help(help))
                };
                if said.source_name.is_some() {
                    let message = format!("`{column}` has a place in the source and a name there");
                    return Err(wrong(message, "one of them says which column it is"));
                }
                if let Some(other) = all.positions.insert(place as usize, column.clone()) {
                    return Err(wrong(
                        format!("`{other}` is column {place}, too"),
                        "give each column a place of its own",
                    ));
                }
                if place == 0 {
                    return Err(wrong("there is no column 0".into(), "the first column is 1"));
                }
            }
            if let Some(text) = &said.ty {
                all.types.insert(column.clone(), self.declared_type(name, column, text)?);
            }
            if let Some(patterns) = &said.date_pattern {
                let parsed = patterns.list().iter().map(|pattern| DatePattern::parse(pattern));
                let parsed = parsed.collect::<Result<Vec<_>, String>>();
                let parsed = parsed.map_err(|e| self.document.problem(Problem::Model, &path("date_pattern"), e))?;
                all.shapes.insert(column.clone(), Shape::Dated(parsed));
            }
            if let Some(missing) = &said.missing {
                all.missing.insert(column.clone(), missing.clone());
            }
        }
        Ok(all)
    }

    fn room<'s>(&'s self, table: &'s str) -> MemoryBudget<'s> {
        MemoryBudget {
            table,
            bytes: self.memory,
            segment_rows: self.segment_rows,
            observer: self.observer,
            cancel: self.cancel,
        }
    }

    /// What is computed of each row of a table.
    fn own_row<'s>(&'s self, name: &'s str, section: &'s TableSection) -> Result<RowTransform<'s>, LoadError> {
        let column = |(column, formula): (&'s str, &'s ParsedFormula)| {
            let ty = section.column.get(column).and_then(|c| c.ty.as_deref());
            let ty = ty.map(|t| self.declared_type(name, column, t)).transpose()?;
            Ok(OwnColumn { name: column, formula, ty })
        };
        Ok(RowTransform {
            table: name,
            columns: self.formulas.while_loading(name).map(column).collect::<Result<_, LoadError>>()?,
            filter: section.filter.as_deref().map(|text| Filter::parse(self.document, name, text)).transpose()?,
            keys: keys_of(&self.document.file, name),
            order: &section.order,
            left_out: section.column.iter().filter(|(_, c)| c.keep == Some(false)).map(|(n, _)| n.as_str()).collect(),
            check: Box::new(|names| self.check_names(name, section, names)),
            settings: self.settings,
        })
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
        let point = if decimal_comma { "," } else { "." };
        let thousands = match said.thousands.as_deref() {
            None => None,
            Some(text) if text == point => {
                let help = "say what parts decimals, too: `decimal = \",\"`";
                return Err(wrong("thousands", format!("`{text}` parts decimals"), help));
            }
            Some(text @ ("," | "." | "'" | "’" | " " | "_" | "\u{a0}" | "\u{202f}")) => text.chars().next(),
            Some(other) => {
                let help = "write `,`, `.`, `'` or a space";
                return Err(wrong("thousands", format!("`{other}` does not part thousands"), help));
            }
        };
        let encoding = match said.encoding.as_deref() {
            None => encoding_rs::UTF_8,
            Some(label) => encoding_rs::Encoding::for_label(label.as_bytes()).ok_or_else(|| {
                wrong(
                    "encoding",
                    format!("`{label}` is not an encoding"),
                    "write one such as `windows-1252` or `utf-16le`",
                )
            })?,
        };
        let skip = said.skip.unwrap_or(0);
        Ok(Dialect { delimiter, quote, decimal_comma, thousands, encoding, skip })
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
        let mut table = self.given(name, section, calendar::generate(from, to, &rules)?)?;
        table.report.milliseconds = start.elapsed().as_millis() as u64;
        table.report.origin = "generated".into();
        self.observer.done(&table.report);
        Ok(table)
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
        let own = self.own_row(name, section)?;
        let encoded = assembler::of_columns(&own, &self.room(name), columns)?;
        let table =
            partitions::joined(name, vec![Group::default()], encoded, None, &keys_of(&self.document.file, name));
        self.check(name, section, &table)?;
        Ok(table)
    }

    /// Keys and display orders.
    fn check(&self, name: &str, section: &TableSection, table: &LoadedTable) -> Result<(), LoadError> {
        if let Some(key) = &section.key {
            check_key(name, key, &table.columns)?;
        }
        check_display_orders(name, section, &table.columns)
    }

    fn check_names(&self, name: &str, section: &TableSection, there: &[&str]) -> Result<(), LoadError> {
        let mut problems = Vec::new();
        let mut seen = HashSet::with_capacity(there.len());
        for twice in there.iter().filter(|column| !seen.insert(**column)) {
            let message = format!("table `{name}`: two columns of the source are called `{twice}`");
            let help = "give one of them another name where the source is written";
            problems.push(Diagnostic::general(Problem::Data, message).help(help));
        }
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
                let wanted = said.path.clone().or(said.source_name.clone()).unwrap_or(column.clone());
                let message = match said.source_position {
                    Some(place) => format!("the source of table `{name}` has no column {place}"),
                    None => format!("the source of table `{name}` has no column `{wanted}`"),
                };
                problems.push(
                    self.document
                        .problem(Problem::UnknownName, &path, message)
                        .help(crate::formula::source::suggestion(&wanted, there)),
                );
            }
        }
        for (i, column) in section.order.iter().enumerate() {
            let is_kept = section.column.get(column).is_none_or(|said| said.keep != Some(false));
            let is_made = self.formulas.while_loading(name).any(|(own, _)| own == column);
            if !(is_made || there.contains(&column.as_str())) || !is_kept {
                let path = format!("table.{name}.order.{i}");
                let message = format!("rows of `{name}` cannot be sorted by `{column}` while they are loaded");
                let help = "name columns of the source that are kept, or columns that are calculated while loading";
                problems.push(self.document.problem(Problem::UnknownName, &path, message).help(help));
            }
        }
        if problems.is_empty() { Ok(()) } else { Err(LoadError::Problems(problems)) }
    }
}

/// What a model says of the columns of a source, by their names in the model.
#[derive(Default)]
struct SaidOfColumns {
    /// From names in the source.
    renamed: HashMap<String, String>,
    /// From places in the source.
    positions: HashMap<usize, String>,
    /// From paths in it.
    paths: HashMap<String, String>,
    types: HashMap<String, Type>,
    shapes: HashMap<String, Shape>,
    missing: HashMap<String, Vec<String>>,
}

/// What a column is called in the source.
fn source_name<'s>(section: &'s TableSection, column: &'s str) -> &'s str {
    section.column.get(column).and_then(|c| c.source_name.as_deref()).unwrap_or(column)
}

/// More bad rows than the model allows refuse the table.
fn check_bad_rows(name: &str, section: &TableSection, report: &TableReport) -> Result<(), LoadError> {
    if report.bad_rows <= section.max_bad_rows.unwrap_or(0) {
        return Ok(());
    }
    let examples = report.bad_examples.join("\n  ");
    let rows = if report.bad_rows == 1 { "row" } else { "rows" };
    let message = format!("table `{name}`: {} {rows} cannot be read:\n  {examples}", report.bad_rows);
    if report.bad_examples.iter().any(|e| e.contains(super::NO_UTF8)) {
        return Err(Diagnostic::general(Problem::Data, message).help(HOW_TO_SAY_ENCODING).into());
    }
    let help =
        format!("mend the file, change the column's `type`, or allow them with `max_bad_rows = {}`", report.bad_rows);
    Err(Diagnostic::general(Problem::Data, message).help(help).into())
}

/// A key that is not unique refuses the table.
fn check_key(table: &str, key: &str, columns: &[LoadedColumn]) -> Result<(), LoadError> {
    let Some(column) = columns.iter().find(|c| c.name == key) else {
        return Ok(());
    };
    crate::store::lookup::check_unique(&[&column.data])
        .map_err(|duplicates| duplicate_keys(&format!("{table}.{key}"), &duplicates).into())
}

/// The problem of a key that is not unique.
pub fn duplicate_keys(key: &str, duplicates: &crate::store::lookup::DuplicateKeys) -> Diagnostic {
    let examples: Vec<String> = duplicates.examples.iter().map(|(k, n)| format!("`{k}` in {n} rows")).collect();
    let noun = if duplicates.surplus == 1 { "duplicate key" } else { "duplicate keys" };
    let message = format!("{key} is not unique, {} {noun}: {}", units::count(duplicates.surplus), examples.join(", "));
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

/// The smallest and largest value of a date column.
pub fn day_range(column: &Column) -> Option<(i32, i32)> {
    let null = column.null_code();
    let range = |segment: &Segment| {
        let codes = segment.all();
        codes.into_iter().filter(|c| *c != null).fold((u64::MAX, 0), |(l, h), c| (l.min(c), h.max(c)))
    };
    let wider = |(a, b): (u64, u64), (c, d): (u64, u64)| (a.min(c), b.max(d));
    let (low, high) = column.segments().par_iter().map(range).reduce(|| (u64::MAX, 0), wider);
    if low == u64::MAX {
        return None;
    }
    match (column.value_of(low), column.value_of(high)) {
        (Value::Date(a), Value::Date(b)) => Some((a, b)),
        _ => None,
    }
}

/// The columns of a table by which its rows are found and related, those of its copies included.
fn keys_of(file: &ModelFile, table: &str) -> Vec<String> {
    let copies = file.table.iter().filter(|(_, s)| s.same_as.as_deref() == Some(table)).map(|(name, _)| name.as_str());
    let names: Vec<&str> = copies.chain([table]).collect();
    let sides = file.relationship.iter().flat_map(|r| r.many.list().iter().chain(r.one.list()));
    let related = sides.filter_map(|path| column_path(path)).filter(|(t, _)| names.contains(&t.as_str()));
    let own = file.table.get(table).and_then(|section| section.key.clone());
    related.map(|(_, column)| column).chain(own).collect()
}
