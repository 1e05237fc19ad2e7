//! A table: read, computed columns that need only their own row, load filter, codes.

use crate::loaded::LoadedColumn;
use crate::loaded::LoadedTable;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;
use std::time::Instant;

use super::assembler::{self, EncodedTable, MemoryBudget, TableAssembler};
use super::csv::{FileToRead, Request};
use super::doubles;
use super::failure::Failure;
use super::fingerprint::fingerprint;
use super::partitions::{self, Group};
use super::read;
use super::report::HOW_TO_SAY_ENCODING;
use super::row_transform::{OwnColumn, RowFilter, RowTransform};
use super::settings::{ReadSettings, declared_type, source_name};
use super::sources::{self, FileStamp};
use super::{LoadError, Observer, TableReport};
use cubrel_formula::check::Settings;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_model::calendar;
use cubrel_model::dependencies::{Formulas, ParsedFormula};
use cubrel_model::document::Document;
use cubrel_model::file::{ModelFile, TableSection};
use cubrel_model::paths::column_path;
use cubrel_store::encode::NumberUse;
use cubrel_store::{CodedColumn, RawColumn, Segment};
use cubrel_value::cancel::Cancel;
use cubrel_value::threads::{AtWork, map_each, map_owned};
use cubrel_value::{Type, Value, date, units};

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
    /// Whether only the first piece of delimited text is read, to see what it is.
    pub only_first: bool,
    /// Bytes of text that one thread works on at a time, where tests want small pieces.
    pub piece: Option<usize>,
    /// How many rows are coded together.
    pub segment_rows: usize,
    /// Ends loading from outside.
    pub cancel: &'a Cancel,
    /// Whether other tables are loaded meanwhile.
    pub at_work: Option<&'a AtWork>,
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
        let sources = section.sources();
        if sources.is_empty() {
            let problem = self.document.problem(
                Problem::Model,
                &format!("table.{name}.source"),
                "there is no source in this list".to_string(),
            );
            return Err(problem.help("name files, patterns of files, or tables of databases").into());
        }
        let folder = &self.document.folder;
        for _ in 0..READINGS {
            let seen = sources::identities(folder, sources, None)?;
            let loaded = self.sourced_once(name, section, before);
            // What was written meanwhile may stand half in one version and half in another.
            if !sources::identities(folder, sources, Some(&seen)).is_ok_and(|now| now == seen) {
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

    /// Loads a table from its sources as they are while they are read.
    fn sourced_once(
        &self,
        name: &str,
        section: &TableSection,
        before: Option<&LoadedTable>,
    ) -> Result<LoadedTable, LoadError> {
        let folder = &self.document.folder;
        let mut files: Vec<Vec<FileStamp>> = Vec::new();
        for (i, source) in section.sources().iter().enumerate() {
            let mut own = sources::files(folder, source)?;
            let partitions = before.iter().flat_map(|b| &b.partitions).filter(|p| p.source == i);
            let read_before: Vec<&FileStamp> = partitions.flat_map(|p| &p.files).collect();
            sources::recognise(folder, source, &mut own, &read_before, self.since);
            files.push(own);
        }
        let changed_types = before.map(|b| b.types());
        let before =
            before.filter(|b| b.fingerprint == fingerprint(self.document, name, section, self.formulas, self.settings));
        // Which of several rows is kept can change with any new one.
        let before = before.filter(|_| !section.distinct && section.latest_by.is_none());
        let mut groups = Vec::new();
        for (i, own) in files.iter().enumerate() {
            groups.extend(self.groups(name, section, (i, own), before)?);
        }
        let unread = |groups: &[Group]| -> u64 { groups.iter().filter(|g| g.kept.is_none()).map(Group::bytes).sum() };
        self.observer.table(name, unread(&groups));
        let mut encoded = self.read(name, section, &groups, before)?;
        if !partitions::fit(&encoded, &groups, before) {
            // What is new has other columns or types than what was there, so that all of it has to be read.
            groups.iter_mut().for_each(|g| g.kept = None);
            self.observer.table(name, unread(&groups));
            encoded = self.read(name, section, &groups, None)?;
        }
        let are_read = |source: &str| !self.only_first && !sources::is_server(source);
        for (i, source) in section.sources().iter().enumerate().filter(|(_, source)| are_read(source)) {
            let own = groups.iter_mut().filter(|g| g.source == i).flat_map(|g| &mut g.files);
            sources::fingerprint(folder, source, own);
        }
        let mut table = partitions::joined(name, groups, encoded, before, &keys_of(&self.document.file, name));
        table.report.changed_types = changed_types.map_or_else(Vec::new, |old| table.changed_types(&old));
        check_bad_rows(name, section, &table.report)?;
        doubles::leave_out(self.document, name, section, &mut table)?;
        self.check(name, section, &table)?;
        table.report.origin = "source".into();
        table.report.source_bytes = files.iter().flatten().map(|f| f.bytes).sum();
        Ok(table)
    }

    /// What of one of the sources is read by itself.
    fn groups(
        &self,
        name: &str,
        section: &TableSection,
        (place, files): (usize, &[FileStamp]),
        before: Option<&LoadedTable>,
    ) -> Result<Vec<Group>, LoadError> {
        let source = &section.sources()[place];
        let before = before.map_or(&[][..], |b| &b.partitions);
        let Some(partition) = &section.partition else {
            // A server does not tell whether anything has changed.
            let before = if sources::is_server(source) { &[] } else { before };
            return Ok(partitions::groups(place, files, before));
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
        Ok(partitions::periods((place, files), periods, before, self.since))
    }

    /// Reads the partitions that are not kept.
    fn read(
        &self,
        name: &str,
        section: &TableSection,
        groups: &[Group],
        before: Option<&LoadedTable>,
    ) -> Result<EncodedTable, LoadError> {
        let mut files: Vec<FileToRead<'_>> = Vec::new();
        for (partition, group) in groups.iter().enumerate().filter(|(_, g)| g.kept.is_none()) {
            let (source, period) = (section.sources()[group.source].as_str(), group.period);
            files.extend(group.files.iter().map(|stamp| FileToRead { partition, source, stamp, period }));
        }
        if files.is_empty() {
            return Ok(EncodedTable::default());
        }
        let known = before
            .filter(|_| groups.iter().any(|g| g.kept.is_some()))
            .map(|b| b.columns.iter().map(|c| (c.name.clone(), c.data.ty())).collect::<HashMap<String, Type>>());
        let settings = ReadSettings::of(self.document, name, section)?;
        let default_missing = [String::new()];
        let request = Request {
            table: name,
            folder: &self.document.folder,
            files: &files,
            dialect: settings.dialect,
            header: settings.header.as_ref(),
            workbook: section.workbook.as_ref(),
            rows_of: settings.rows_of.as_ref(),
            unpivot: settings.unpivot.as_ref(),
            shapes: &settings.shapes,
            missing: section.missing.as_deref().unwrap_or(&default_missing),
            own_missing: &settings.missing,
            trim: section.trim,
            renamed: &settings.renamed,
            positions: &settings.positions,
            paths: &settings.paths,
            types: &settings.types,
            known: &known.unwrap_or_default(),
            period_column: section.partition.as_ref().map_or("", |p| source_name(section, &p.column)),
            zone: settings.zone.as_ref(),
            only_first: self.only_first,
            piece: self.piece,
        };
        let own = RowTransform { unpivot: settings.unpivot.as_ref(), ..self.own_row(name, section)? };
        let room = self.room(name);
        match read::read(&request, &|| TableAssembler::new(&own, &room), self.observer) {
            Ok(encoded) => Ok(encoded),
            Err(Failure::Load(e)) => Err(e),
            // Both are turned to problems where they are met.
            Err(Failure::Row(..) | Failure::TypeMismatch) => {
                let message = format!("table `{name}`: the source gives other values every time it is read");
                Err(Diagnostic::general(Problem::Data, message).help("let nobody write it while it is read").into())
            }
        }
    }

    fn room<'s>(&'s self, table: &'s str) -> MemoryBudget<'s> {
        MemoryBudget {
            table,
            bytes: self.memory,
            segment_rows: self.segment_rows,
            observer: self.observer,
            cancel: self.cancel,
            at_work: self.at_work,
        }
    }

    /// What is computed of each row of a table.
    fn own_row<'s>(&'s self, name: &'s str, section: &'s TableSection) -> Result<RowTransform<'s>, LoadError> {
        let column = |(column, formula): (&'s str, &'s ParsedFormula)| {
            let ty = section.column.get(column).and_then(|c| c.ty.as_deref());
            let ty = ty.map(|t| declared_type(self.document, name, column, t)).transpose()?;
            Ok(OwnColumn { name: column, formula, ty })
        };
        Ok(RowTransform {
            table: name,
            columns: self.formulas.while_loading(name).map(column).collect::<Result<_, LoadError>>()?,
            filter: section.filter.as_deref().map(|text| RowFilter::parse(self.document, name, text)).transpose()?,
            keys: keys_of(&self.document.file, name),
            order: &section.order,
            left_out: section.column.iter().filter(|(_, c)| c.keep == Some(false)).map(|(n, _)| n.as_str()).collect(),
            unpivot: None,
            check: Box::new(|names| self.check_names(name, section, names)),
            settings: self.settings,
        })
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

    /// A table that was read before anybody knew its keys, with these coded as keys.
    pub fn with_keys(&self, table: LoadedTable) -> LoadedTable {
        let keys = keys_of(&self.document.file, &table.name);
        let coded = |c: LoadedColumn| match keys.contains(&c.name) {
            true => LoadedColumn { data: Arc::new(c.data.used_as(NumberUse::of(c.data.ty(), true))), ..c },
            false => c,
        };
        LoadedTable { columns: map_owned(table.columns, coded), ..table }
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
                        .help(cubrel_formula::source::suggestion(&wanted, there)),
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
    cubrel_store::check_unique(&[&column.data])
        .map_err(|duplicates| duplicate_keys(&format!("{table}.{key}"), &duplicates).into())
}

/// The problem of a key that is not unique.
pub fn duplicate_keys(key: &str, duplicates: &cubrel_store::DuplicateKeys) -> Diagnostic {
    let examples: Vec<String> =
        duplicates.examples.iter().map(|(k, n)| format!("`{k}` in {}", units::counted(*n, "row"))).collect();
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
pub fn day_range(column: &CodedColumn) -> Option<(i32, i32)> {
    let null = column.null_code();
    let range = |segment: &Segment| {
        let codes = segment.all();
        codes.into_iter().filter(|c| *c != null).fold((u64::MAX, 0), |(l, h), c| (l.min(c), h.max(c)))
    };
    let wider = |(a, b): (u64, u64), (c, d): (u64, u64)| (a.min(c), b.max(d));
    let (low, high) = map_each(column.segments(), range).into_iter().fold((u64::MAX, 0), wider);
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
