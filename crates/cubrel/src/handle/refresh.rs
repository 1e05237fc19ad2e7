//! Sources to a model with its store on disk: all or nothing.

use std::collections::HashMap;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use serde::Serialize;

use super::assembled::{assemble, diagnose};
use super::error::Error;
use super::kept::{self, Kept};
use super::late::Known;
use super::model::Model;
use cubrel_formula::check::Settings;
use cubrel_formula::source::{Diagnostic, Problem, Severity};
use cubrel_load::fingerprint::{derived, fingerprint};
use cubrel_load::loaded::LoadedTable;
use cubrel_load::sources;
use cubrel_load::tables::{Loader, day_range};
use cubrel_load::{LoadError, Observer, Silent, TableReport};
use cubrel_model::Document;
use cubrel_model::dependencies::{Formulas, formulas};
use cubrel_model::file::{ColumnSection, TableSection};
use cubrel_model::paths::column_path;
use cubrel_store::SEGMENT_ROWS;
use cubrel_value::cancel::Cancel;
use cubrel_value::threads::{AtWork, map_two_at_once};
use cubrel_value::units;

/// How to refresh.
#[derive(Clone, Debug, Default)]
pub struct RefreshOptions {
    /// Read everything, changed or not.
    pub all: bool,
    /// Only these tables; all that have changed when empty.
    pub tables: Vec<String>,
    /// Files that were written before this day, a day number, are not read again.
    pub since: Option<i32>,
    /// The day that `today()` is, as a day number; by default the one on the clock.
    pub today: Option<i32>,
    /// Ends it from outside: nothing is replaced then.
    pub cancel: Cancel,
}

/// How a refresh went.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct RefreshReport {
    /// Table by table.
    pub tables: Vec<TableReport>,
    /// Relationships with rows that point at nothing.
    pub unmatched: Vec<Unmatched>,
    /// How long it took in all.
    #[serde(rename = "elapsed_ms", serialize_with = "milliseconds")]
    pub elapsed: Duration,
    /// Bytes of the model in memory.
    pub bytes: u64,
    /// The limit that the model sets.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub memory_limit: Option<u64>,
}

/// Rows that point at nothing.
#[derive(Clone, Debug, Serialize)]
#[non_exhaustive]
pub struct Unmatched {
    /// The column that points.
    pub many: String,
    /// The key that it points at.
    pub one: String,
    /// How many rows.
    pub rows: u64,
    /// Some keys that were not found; rows with a null key have none.
    pub examples: Vec<String>,
}

impl Model {
    /// Opens a model: a folder with a `model.toml`, or that file. Its store is used where it is newer than the sources,
    /// else the sources are read and the store is written. Where that fails and the model says what it said before, the
    /// store answers as it is, and [`Model::outdated`] says why.
    ///
    /// # Errors
    /// Everything that is wrong with the model or its data. A measure whose formula is wrong is no error: only what uses
    /// it is, and [`Model::wrong_measures`] lists them.
    pub fn open(path: impl AsRef<Path>) -> Result<Model, Error> {
        Model::open_with(path, &RefreshOptions::default(), &Silent).map(|(model, _)| model)
    }

    /// As [`Model::open`], with options and an observer; the report is there when sources were read.
    ///
    /// # Errors
    /// Everything that is wrong with the model or its data.
    pub fn open_with(
        path: impl AsRef<Path>,
        options: &RefreshOptions,
        observer: &dyn Observer,
    ) -> Result<(Model, Option<RefreshReport>), Error> {
        open(path.as_ref(), options, observer)
    }

    /// Reads what has changed in the sources and writes the store. Models that are already open are not disturbed, and
    /// when something is wrong the old store stays.
    ///
    /// # Errors
    /// Everything that is wrong with the model or its data.
    pub fn refresh(
        path: impl AsRef<Path>,
        options: &RefreshOptions,
        observer: &dyn Observer,
    ) -> Result<(Model, RefreshReport), Error> {
        refresh(path.as_ref(), options, observer)
    }
}

fn milliseconds<S: serde::Serializer>(time: &Duration, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_u64(time.as_millis() as u64)
}

/// The day on the clock, as a day number.
pub(super) fn clock_day() -> i32 {
    let seconds = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_secs());
    (seconds / 86_400) as i32
}

pub(super) fn settings(document: &Document, options: &RefreshOptions) -> Settings {
    Settings {
        today: options.today.unwrap_or_else(clock_day),
        locale: document.file.model.locale_with_currency(),
        ..Settings::default()
    }
}

fn read_document(path: &Path) -> Result<(Document, Formulas), Error> {
    let document = Document::read(path)?;
    let formulas = formulas(&document);
    if !formulas.problems.iter().any(|p| p.severity == Severity::Error) {
        return Ok((document, formulas));
    }
    // What else is wrong can be told if the tables are known from an earlier refresh.
    if let Some(kept) = Kept::read(&document).filter(|kept| kept.is_known(&document)) {
        return Err(Error::Problems(diagnose(&document, &formulas, &kept.tables(), &Settings::default())));
    }
    Err(Error::Problems(formulas.all_problems()))
}

/// Opens from the store where that is fresh, else refreshes.
fn open(
    path: &Path,
    options: &RefreshOptions,
    observer: &dyn Observer,
) -> Result<(Model, Option<RefreshReport>), Error> {
    let (document, formulas) = read_document(path)?;
    let kept = Kept::read(&document);
    if let Some(model) = current(&document, &formulas, kept.as_ref(), options)? {
        return Ok((model, None));
    }
    // Somebody else may be reading the sources: what they write is as good. While they did, anything may have changed.
    let lock = kept::lock(&document, true)?;
    let (document, formulas) = read_document(path)?;
    let kept = Kept::read(&document);
    if let Some(model) = current(&document, &formulas, kept.as_ref(), options)? {
        return Ok((model, None));
    }
    match refresh_with(
        document.clone(),
        &formulas,
        (kept, &[]),
        (options, lock.is_some(), Keeping::IfPossible),
        observer,
    ) {
        Ok((model, report)) => Ok((model, Some(report))),
        Err(Error::Cancelled) => Err(Error::Cancelled),
        Err(why) => Ok((last_good(&document, &formulas, settings(&document, options), why)?, None)),
    }
}

/// The model as its store has it, where that is what the model and its sources say today, and not damaged.
pub(super) fn current(
    document: &Document,
    formulas: &Formulas,
    kept: Option<&Kept>,
    options: &RefreshOptions,
) -> Result<Option<Model>, Error> {
    let settings = settings(document, options);
    let is_current = |kept: &&Kept| kept.says_the_same(document, formulas, &settings) && kept.has_read_all(document);
    let Some(kept) = kept.filter(is_current) else { return Ok(None) };
    let model = served(document, formulas, settings.clone(), kept, &options.cancel);
    if kept.stored.damage.found().is_some() { Ok(None) } else { model.map(Some) }
}

/// The model as its store has it.
fn served(
    document: &Document,
    formulas: &Formulas,
    settings: Settings,
    kept: &Kept,
    cancel: &Cancel,
) -> Result<Model, Error> {
    assemble(document.clone(), formulas, &kept.tables(), settings, kept.known(), cancel)
}

/// What the store has, where the sources could not be read: as long as the model says what it said when the store was
/// written, old data is better than none.
fn last_good(document: &Document, formulas: &Formulas, settings: Settings, why: Error) -> Result<Model, Error> {
    let usable = |kept: &Kept| kept.stored.verify().is_ok() && kept.says_the_same(document, formulas, &settings);
    let Some(kept) = Kept::read(document).filter(usable) else {
        return Err(why);
    };
    match served(document, formulas, settings, &kept, &Cancel::default()) {
        Ok(model) => Ok(model.with_outdated(why)),
        Err(_) => Err(why),
    }
}

/// Reads what has changed.
fn refresh(path: &Path, options: &RefreshOptions, observer: &dyn Observer) -> Result<(Model, RefreshReport), Error> {
    refresh_from(path, &[], options, observer)
}

/// The same, where tables have been read just before.
pub(crate) fn refresh_from(
    path: &Path,
    read: &[ReadTable],
    options: &RefreshOptions,
    observer: &dyn Observer,
) -> Result<(Model, RefreshReport), Error> {
    let (document, formulas) = read_document(path)?;
    let lock = kept::lock(&document, false)?;
    let old = Kept::read(&document);
    refresh_with(document, &formulas, (old, read), (options, lock.is_some(), Keeping::Always), observer)
}

/// A table that was read to see what it holds.
#[derive(Clone, Debug)]
pub(crate) struct ReadTable {
    pub(crate) table: LoadedTable,
    /// What was said of it when it was read, and its key, which was seen to be one.
    pub(crate) section: TableSection,
}

/// Where tables may be taken over from.
#[derive(Clone, Copy)]
pub(super) struct Before<'a> {
    pub(super) kept: Option<&'a Kept>,
    read: &'a [ReadTable],
}

impl<'a> Before<'a> {
    /// From a store alone.
    pub(super) fn of(kept: Option<&'a Kept>) -> Before<'a> {
        Before { kept, read: &[] }
    }

    /// A table as the store has it, unless everything is to be read.
    fn stored(&self, name: &str, options: &RefreshOptions) -> Option<LoadedTable> {
        self.kept.filter(|_| !options.all)?.table(name)
    }

    /// A table that has just been read as the model says now.
    fn just_read(&self, loader: &Loader<'_>, name: &str, section: &TableSection) -> Option<LoadedTable> {
        let ReadTable { table, section: said } = self.read.iter().find(|read| read.table.name == name)?;
        let fingerprint = fingerprint(loader.document, name, said, loader.formulas, loader.settings);
        let table = LoadedTable { fingerprint, ..table.clone() };
        let is_as_said = is_reusable(loader, section, &table, &RefreshOptions::default());
        is_as_said.then(|| loader.with_keys(table))
    }
}

/// Whether there has to be a store in the end.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Keeping {
    Always,
    IfPossible,
}

fn refresh_with(
    document: Document,
    formulas: &Formulas,
    (old, read): (Option<Kept>, &[ReadTable]),
    (options, alone, keeping): (&RefreshOptions, bool, Keeping),
    observer: &dyn Observer,
) -> Result<(Model, RefreshReport), Error> {
    let start = Instant::now();
    // Nothing is taken over from a damaged store, and nothing at all where everything is read.
    let old = old.filter(|kept| options.all || kept.stored.verify().is_ok());
    if let Some(unknown) = options.tables.iter().find(|t| !document.file.table.contains_key(*t)) {
        let names: Vec<&str> = document.file.table.keys().map(String::as_str).collect();
        let problem = Diagnostic::general(Problem::UnknownName, format!("there is no table `{unknown}`"));
        return Err(Error::Problems(vec![problem.help(cubrel_formula::source::suggestion(unknown, &names))]));
    }
    let settings = settings(&document, options);
    let limit = memory_limit(&document)?;
    let old_bytes: u64 = old.as_ref().map_or(0, Kept::bytes);
    let before = Before { kept: old.as_ref(), read };
    let Fresh { model, tables, derived } = loaded(document, formulas, settings, before, options, observer)?;
    let bytes = model.sizes().model.bytes;
    if let Some(limit) = limit
        && bytes + old_bytes > limit
    {
        let message = format!(
            "the new data takes {} beside {} of old data, more than the memory limit of {}",
            units::bytes(bytes),
            units::bytes(old_bytes),
            units::bytes(limit)
        );
        let problem = Diagnostic::general(Problem::Data, message);
        return Err(Error::Problems(vec![
            problem.help("raise `memory_limit` in [model], or load less; the old data is still there"),
        ]));
    }
    if options.cancel.is_cancelled() {
        return Err(Error::Cancelled);
    }
    let model = match (kept::write(&model, &tables, derived, alone), keeping) {
        (Ok(()), _) => model,
        // Whoever only asks is answered from what was read.
        (Err(why @ Error::Io { .. }), Keeping::IfPossible) => model.with_unkept(why),
        (Err(why), _) => return Err(why),
    };
    let report = RefreshReport {
        tables: model.reports().to_vec(),
        unmatched: unmatched(&model),
        elapsed: start.elapsed(),
        bytes,
        memory_limit: limit,
    };
    Ok((model, report))
}

/// A model with what its store is to be written from.
pub(super) struct Fresh {
    pub(super) model: Model,
    tables: Vec<LoadedTable>,
    derived: u64,
}

/// A model of what its sources have; of what is old, what has not changed.
pub(super) fn loaded(
    document: Document,
    formulas: &Formulas,
    settings: Settings,
    before: Before<'_>,
    options: &RefreshOptions,
    observer: &dyn Observer,
) -> Result<Fresh, Error> {
    let old_bytes: u64 = before.kept.map_or(0, Kept::bytes);
    let memory = memory_limit(&document)?.map(|limit| limit.saturating_sub(old_bytes));
    let loader = Loader {
        document: &document,
        formulas,
        observer,
        settings: &settings,
        memory,
        since: options.since,
        only_first: false,
        piece: None,
        segment_rows: SEGMENT_ROWS,
        cancel: &options.cancel,
        at_work: None,
    };
    let tables = load_all(&loader, before, options)?;
    let derived = derived(&document, formulas, &settings);
    let model = assemble(document, formulas, &tables, settings, Known::default(), &options.cancel)?;
    Ok(Fresh { model, tables, derived })
}

/// What the model allows a refresh.
pub(super) fn memory_limit(document: &Document) -> Result<Option<u64>, Error> {
    let Some(text) = &document.file.model.memory_limit else {
        return Ok(None);
    };
    match cubrel_value::units::parse_bytes(text) {
        Some(bytes) => Ok(Some(bytes)),
        None => {
            let problem =
                document.problem(Problem::Model, "model.memory_limit", format!("`{text}` is not an amount of memory"));
            Err(Error::Problems(vec![problem.help("write it as `2 GiB` or `500 MB`")]))
        }
    }
}

fn load_all(loader: &Loader<'_>, from: Before<'_>, options: &RefreshOptions) -> Result<Vec<LoadedTable>, Error> {
    let sections = &loader.document.file.table;
    let mut loaded = sourced(*loader, from, options)?;
    for (name, _) in sections.iter().filter(|(_, s)| s.query.is_some()) {
        loaded.insert(name, LoadedTable::by_query(name));
    }
    let given = |s: &TableSection| s.source.is_some() || s.same_as.is_some() || s.query.is_some();
    for (name, section) in sections.iter().filter(|(_, s)| !given(s)) {
        if section.calendar.is_none() {
            return Err(Error::Problems(vec![without_source(loader.document, name)]));
        }
        let days = days_of(loader.document, name, section, &loaded);
        loaded.insert(name, loader.generated(name, section, days)?);
    }
    for (name, section) in sections {
        let Some(first) = &section.same_as else { continue };
        copied_table(loader.document, name, first).map_err(|problem| Error::Problems(vec![*problem]))?;
        if let Some(copy) = loaded.get(first.as_str()).map(|table| table.copied(name)) {
            loaded.insert(name, copy);
        }
    }
    let finished = |(name, section): (&String, &TableSection)| {
        let fingerprint = fingerprint(loader.document, name, section, loader.formulas, loader.settings);
        loaded.remove(name.as_str()).map(|table| LoadedTable { fingerprint, ..table })
    };
    Ok(sections.iter().filter_map(finished).collect())
}

/// The tables that have sources: taken over where they are what they were, else read. What is wrong with the data of
/// several is told together.
fn sourced<'d>(
    mut loader: Loader<'d>,
    from: Before<'_>,
    options: &RefreshOptions,
) -> Result<HashMap<&'d str, LoadedTable>, Error> {
    let mut loaded = HashMap::new();
    let mut unread = Vec::new();
    for (name, section) in loader.document.file.table.iter().filter(|(_, s)| s.source.is_some()) {
        match taken_over(&loader, from, options, (name, section)) {
            Some(table) => drop(loaded.insert(name.as_str(), table)),
            None => unread.push((name.as_str(), section)),
        }
    }
    let mut problems = Vec::new();
    for (name, read) in read_all(&mut loader, from, options, unread) {
        match read {
            Ok(table) => drop(loaded.insert(name, table)),
            Err(LoadError::Problems(list)) => problems.extend(list),
            Err(other) => return Err(Error::from(other)),
        }
    }
    if problems.is_empty() { Ok(loaded) } else { Err(Error::Problems(problems)) }
}

/// What comes of a table.
type TableOutcome<'d> = (&'d str, Result<LoadedTable, LoadError>);

/// Reads tables, two at once. Where memory is limited each gets what those before it have left. After what is no problem of
/// the data nothing more is read.
fn read_all<'d>(
    loader: &mut Loader<'_>,
    from: Before<'_>,
    options: &RefreshOptions,
    unread: Vec<(&'d str, &'d TableSection)>,
) -> Vec<TableOutcome<'d>> {
    let is_over = AtomicBool::new(false);
    let read = |loader: &Loader<'_>, (name, section): (&'d str, &'d TableSection)| -> Option<TableOutcome<'d>> {
        if is_over.load(Ordering::Relaxed) {
            return None;
        }
        let before = from.stored(name, options).filter(|_| !options.tables.iter().any(|t| t == name));
        let read = loader.sourced(name, section, before.as_ref());
        let goes_on = matches!(read, Ok(_) | Err(LoadError::Problems(_)));
        is_over.fetch_or(!goes_on, Ordering::Relaxed);
        Some((name, read))
    };
    if loader.memory.is_none() {
        let folder = &loader.document.folder;
        let bytes = |(_, section): &(&str, &TableSection)| -> u64 {
            section.sources().iter().map(|source| sources::bytes(folder, source)).sum()
        };
        let read = |table, at_work: &AtWork| read(&Loader { at_work: Some(at_work), ..*loader }, table);
        return map_two_at_once(unread, |table| bytes(table) as usize, read).into_iter().flatten().collect();
    }
    let limited = unread.into_iter().map_while(|table| {
        let read = read(loader, table)?;
        if let (Some(memory), Ok(table)) = (&mut loader.memory, &read.1) {
            *memory = memory.saturating_sub(table.bytes());
        }
        Some(read)
    });
    limited.collect()
}

/// A table that was read just before, or is in the store and need not be read again.
fn taken_over(
    loader: &Loader<'_>,
    from: Before<'_>,
    options: &RefreshOptions,
    (name, section): (&String, &TableSection),
) -> Option<LoadedTable> {
    let stored = || from.stored(name, options).filter(|table| is_reusable(loader, section, table, options));
    from.just_read(loader, name, section).or_else(stored)
}

fn without_source(document: &Document, name: &str) -> Diagnostic {
    let message = format!("table `{name}` has no source");
    let problem = document.problem(Problem::Model, &format!("table.{name}"), message);
    problem.help("set `source`, `same_as`, or `calendar` with `generate`")
}

/// What is copied is a table, and no copy itself.
pub(super) fn copied_table(document: &Document, name: &str, first: &str) -> Result<(), Box<Diagnostic>> {
    let sections = &document.file.table;
    let path = format!("table.{name}.same_as");
    let problem = |message| document.problem(Problem::UnknownName, &path, message);
    match sections.get(first).map(|s| &s.same_as) {
        Some(None) => Ok(()),
        Some(Some(of)) if of == first || first == name => {
            Err(Box::new(problem(format!("`{first}` is a copy of itself")).help("name another table")))
        }
        Some(Some(of)) => {
            Err(Box::new(problem(format!("`{first}` is a copy itself")).help(format!("copy what it copies: `{of}`"))))
        }
        None => {
            let firsts = sections.iter().filter(|(_, s)| s.same_as.is_none());
            let names: Vec<&str> = firsts.map(|(n, _)| n.as_str()).collect();
            let help = cubrel_formula::source::suggestion(first, &names);
            Err(Box::new(problem(format!("there is no table `{first}` to copy")).help(help)))
        }
    }
}

/// Whether nothing about a table has changed, or it is not to be read.
fn is_reusable(loader: &Loader<'_>, section: &TableSection, table: &LoadedTable, options: &RefreshOptions) -> bool {
    let expected = fingerprint(loader.document, &table.name, section, loader.formulas, loader.settings);
    if options.tables.contains(&table.name) || table.fingerprint != expected {
        return false;
    }
    // What is said of a column for people only does not make the table another one, but the column has to be there.
    let is_there = |(name, said): (&String, &ColumnSection)| {
        said.formula.is_some() || said.keep == Some(false) || table.columns.iter().any(|c| c.name == *name)
    };
    if !section.column.iter().all(is_there) {
        return false;
    }
    if options.tables.is_empty() && section.sources().iter().any(|source| sources::is_server(source)) {
        return false;
    }
    !options.tables.is_empty() || kept::is_unchanged(loader.document, section, &table.partitions, options.since)
}

/// The first and last day of the columns that point at a calendar.
fn days_of(
    document: &Document,
    name: &str,
    section: &TableSection,
    loaded: &HashMap<&str, LoadedTable>,
) -> Option<(i32, i32)> {
    let key = format!("{name}.{}", section.calendar.as_deref().unwrap_or_default());
    let roles: Vec<String> = document
        .file
        .table
        .iter()
        .filter(|(_, s)| s.same_as.as_deref() == Some(name))
        .map(|(role, _)| format!("{role}.{}", section.calendar.as_deref().unwrap_or_default()))
        .collect();
    let pointing = document.file.relationship.iter().filter(|r| match r.one.list() {
        [one] => *one == key || roles.contains(one),
        _ => false,
    });
    let ranges = pointing.filter_map(|r| {
        let (table, column) = column_path(r.many.list().first()?)?;
        let column = loaded.get(table.as_str())?.columns.iter().find(|c| c.name == column)?;
        day_range(&column.data)
    });
    ranges.reduce(|(a, b), (c, d)| (a.min(c), b.max(d)))
}

fn unmatched(model: &Model) -> Vec<Unmatched> {
    let sizes = model.sizes();
    let lookups = &model.store().lookups;
    let all = sizes.relationships.into_iter().zip(lookups);
    all.filter(|(_, l)| l.unmatched_rows > 0)
        .map(|(r, l)| Unmatched { many: r.many, one: r.one, rows: l.unmatched_rows, examples: l.examples.clone() })
        .collect()
}
