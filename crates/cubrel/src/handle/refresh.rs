//! Sources to a model with its store on disk: all or nothing.

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};

use super::assembled::{Known, assemble, diagnose};
use super::{Error, Model};
use crate::cancel::Cancel;
use crate::formula::check::Settings;
use crate::formula::schema::Computed;
use crate::formula::source::{Diagnostic, Problem, Severity};
use crate::load::fingerprint::{derived, fingerprint};
use crate::load::partitions::Partition;
use crate::load::sources::{self, FileStamp};
use crate::load::tables::{LoadedColumn, LoadedTable, Loader, day_range};
use crate::load::{Observer, TableReport};
use crate::model::Document;
use crate::model::dependencies::{Formulas, formulas};
use crate::model::file::TableSection;
use crate::model::paths::column_path;
use crate::store::SEGMENT_ROWS;
use crate::store::disk::{self, Stored, StoredTable};
use crate::value::units;

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
#[derive(Clone, Debug)]
pub struct RefreshReport {
    /// Table by table.
    pub tables: Vec<TableReport>,
    /// Relationships with rows that point at nothing.
    pub unmatched: Vec<Unmatched>,
    /// How long it took in all.
    pub elapsed: Duration,
    /// Bytes of the model in memory.
    pub bytes: u64,
    /// The limit that the model sets.
    pub memory_limit: Option<u64>,
}

/// Rows that point at nothing.
#[derive(Clone, Debug)]
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

/// What is kept beside the data of a store.
#[derive(Serialize, Deserialize)]
struct Notes {
    tables: Vec<TableNotes>,
    /// Changes with formulas and relationships, and with the day.
    derived: u64,
}

#[derive(Serialize, Deserialize)]
struct TableNotes {
    report: TableReport,
    partitions: Vec<Partition>,
    fingerprint: u64,
    computed: Vec<String>,
}

/// The day on the clock, as a day number.
pub(super) fn clock_day() -> i32 {
    let seconds = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_secs());
    (seconds / 86_400) as i32
}

fn settings(document: &Document, options: &RefreshOptions) -> Settings {
    Settings {
        today: options.today.unwrap_or_else(clock_day),
        locale: document.file.model.locale_with_currency(),
        ..Settings::default()
    }
}

fn store_path(document: &Document) -> PathBuf {
    document.folder.join(".cubrel").join("store")
}

fn read_document(path: &Path) -> Result<(Document, Formulas), Error> {
    let document = Document::read(path)?;
    let formulas = formulas(&document);
    if !formulas.problems.iter().any(|p| p.severity == Severity::Error) {
        return Ok((document, formulas));
    }
    // What else is wrong can be told if the tables are known from an earlier refresh.
    if let Some((stored, notes)) = read_store(&document)
        && is_known(&document, &notes)
    {
        let tables = from_store(&stored, &notes);
        return Err(Error::Problems(diagnose(&document, &formulas, &tables, &Settings::default())));
    }
    Err(Error::Problems(formulas.all_problems()))
}

/// Opens from the store where that is fresh, else refreshes.
pub(super) fn open(
    path: &Path,
    options: &RefreshOptions,
    observer: &dyn Observer,
) -> Result<(Model, Option<RefreshReport>), Error> {
    let (document, formulas) = read_document(path)?;
    let settings = settings(&document, options);
    let mut old = read_store(&document);
    let is_current = |old: &Option<(Stored, Notes)>| {
        old.as_ref().is_some_and(|(_, notes)| {
            says_the_same(&document, &formulas, &settings, notes) && has_read_all(&document, notes)
        })
    };
    // Somebody else may be reading the sources: what they write is as good.
    let mut _lock = None;
    if !is_current(&old) {
        _lock = lock(&document, true)?;
        old = read_store(&document);
    }
    if is_current(&old)
        && let Some((stored, notes)) = &old
    {
        let model = served(&document, &formulas, settings.clone(), (stored, notes), &options.cancel);
        if stored.damage.found().is_none() {
            return Ok((model?, None));
        }
        _lock = lock(&document, true)?;
    }
    match refresh_with(document.clone(), &formulas, old, options, observer) {
        Ok((model, report)) => Ok((model, Some(report))),
        Err(Error::Cancelled) => Err(Error::Cancelled),
        Err(why) => Ok((last_good(&document, &formulas, settings, why)?, None)),
    }
}

/// The model as its store has it.
fn served(
    document: &Document,
    formulas: &Formulas,
    settings: Settings,
    (stored, notes): (&Stored, &Notes),
    cancel: &Cancel,
) -> Result<Model, Error> {
    let (tables, known) = (from_store(stored, notes), known_columns(stored, notes));
    assemble(document.clone(), formulas, &tables, settings, known, cancel)
}

/// What the store has, where the sources could not be read: as long as the model says what it said when the store was
/// written, old data is better than none.
fn last_good(document: &Document, formulas: &Formulas, settings: Settings, why: Error) -> Result<Model, Error> {
    let Some((stored, notes)) = read_store(document).filter(|(stored, _)| stored.verify().is_ok()) else {
        return Err(why);
    };
    if !says_the_same(document, formulas, &settings, &notes) {
        return Err(why);
    }
    match served(document, formulas, settings, (&stored, &notes), &Cancel::default()) {
        Ok(model) => Ok(model.with_outdated(why)),
        Err(_) => Err(why),
    }
}

/// Keeps a second writer away as long as the file is open: the lock is on the model file, so that nothing is left behind
/// when a process is killed. Waits for another writer, or refuses.
fn lock(document: &Document, wait: bool) -> Result<Option<std::fs::File>, Error> {
    // A model file that cannot be opened any more, and file systems without locks, keep nobody away.
    let Ok(file) = std::fs::File::open(&document.source.name) else {
        return Ok(None);
    };
    if wait {
        return Ok(file.lock().is_ok().then_some(file));
    }
    match file.try_lock() {
        Ok(()) => Ok(Some(file)),
        Err(std::fs::TryLockError::WouldBlock) => {
            let problem = Diagnostic::general(Problem::Data, "another refresh of this model is running");
            Err(Error::Problems(vec![problem.help("wait until it is done: two would write the same store")]))
        }
        Err(std::fs::TryLockError::Error(_)) => Ok(None),
    }
}

/// Reads what has changed.
pub(super) fn refresh(
    path: &Path,
    options: &RefreshOptions,
    observer: &dyn Observer,
) -> Result<(Model, RefreshReport), Error> {
    let (document, formulas) = read_document(path)?;
    let _lock = lock(&document, false)?;
    let old = read_store(&document);
    refresh_with(document, &formulas, old, options, observer)
}

fn read_store(document: &Document) -> Option<(Stored, Notes)> {
    let path = store_path(document);
    let stored = match disk::read(&path) {
        Ok(stored) => stored,
        Err(e) => {
            if path.exists() {
                tracing::warn!("{} is made again: {e}", path.display());
            }
            return None;
        }
    };
    let notes: Notes = serde_json::from_value(stored.notes.clone()).ok()?;
    (notes.tables.len() == stored.tables.len()).then_some((stored, notes))
}

/// Whether the store has the tables that the model names.
fn is_known(document: &Document, notes: &Notes) -> bool {
    document.file.table.keys().eq(notes.tables.iter().map(|t| &t.report.table))
}

/// Whether the model says of its tables, relationships and columns what it said when the store was written.
fn says_the_same(document: &Document, formulas: &Formulas, settings: &Settings, notes: &Notes) -> bool {
    let sections = &document.file.table;
    sections.len() == notes.tables.len()
        && sections.iter().zip(&notes.tables).all(|((name, section), notes)| {
            notes.report.table == *name && notes.fingerprint == fingerprint(name, section, formulas, settings)
        })
        && notes.derived == derived(document, formulas, settings)
}

/// Whether the sources have just what was read.
fn has_read_all(document: &Document, notes: &Notes) -> bool {
    let sources = document.file.table.values().zip(&notes.tables);
    sources
        .filter_map(|(section, notes)| Some((section.source.as_ref()?, notes)))
        .all(|(source, notes)| is_unchanged(document, source, &notes.partitions, None))
}

/// Whether a source has just the files that were read, with the same content.
fn is_unchanged(document: &Document, source: &str, partitions: &[Partition], since: Option<i32>) -> bool {
    let mut before: Vec<&FileStamp> = partitions.iter().flat_map(|p| &p.files).collect();
    // Parts of a database have one file.
    before.dedup();
    let Ok(mut files) = sources::files(&document.folder, source) else { return false };
    sources::recognise(&document.folder, &mut files, &before, since);
    files.iter().eq(before)
}

fn computed_name(computed: Computed) -> &'static str {
    match computed {
        Computed::Source => "source",
        Computed::Loading => "loading",
        Computed::After => "after",
    }
}

fn loaded_table(stored: &StoredTable, notes: &TableNotes) -> LoadedTable {
    let columns = stored.columns.iter().zip(&notes.computed).filter(|(_, c)| *c != "after");
    LoadedTable {
        name: stored.name.clone(),
        rows: stored.rows,
        columns: columns
            .map(|((name, data), computed)| LoadedColumn {
                name: name.clone(),
                data: data.clone(),
                computed: if computed == "loading" { Computed::Loading } else { Computed::Source },
            })
            .collect(),
        report: TableReport { read: false, parts_read: 0, ..notes.report.clone() },
        partitions: notes.partitions.clone(),
        fingerprint: notes.fingerprint,
    }
}

fn from_store(stored: &Stored, notes: &Notes) -> Vec<LoadedTable> {
    stored.tables.iter().zip(&notes.tables).map(|(t, n)| loaded_table(t, n)).collect()
}

fn known_columns(stored: &Stored, notes: &Notes) -> Known {
    let mut known = Known {
        columns: Vec::new(),
        lookups: stored.lookups.iter().cloned().map(Some).collect(),
        damage: stored.damage.clone(),
    };
    for (table, notes) in stored.tables.iter().zip(&notes.tables) {
        for ((name, data), computed) in table.columns.iter().zip(&notes.computed) {
            if computed == "after" {
                known.columns.push((table.name.clone(), name.clone(), data.clone()));
            }
        }
    }
    known
}

fn refresh_with(
    document: Document,
    formulas: &Formulas,
    old: Option<(Stored, Notes)>,
    options: &RefreshOptions,
    observer: &dyn Observer,
) -> Result<(Model, RefreshReport), Error> {
    let start = Instant::now();
    // Nothing is taken over from a damaged store, and nothing at all where everything is read.
    let old = old.filter(|(stored, _)| options.all || stored.verify().is_ok());
    if let Some(unknown) = options.tables.iter().find(|t| !document.file.table.contains_key(*t)) {
        let names: Vec<&str> = document.file.table.keys().map(String::as_str).collect();
        let problem = Diagnostic::general(Problem::UnknownName, format!("there is no table `{unknown}`"));
        return Err(Error::Problems(vec![problem.help(crate::model::define::suggestion(unknown, &names))]));
    }
    let limit = memory_limit(&document)?;
    let settings = settings(&document, options);
    let old_bytes: u64 = old.as_ref().map_or(0, |(stored, _)| stored_bytes(stored));
    let memory = limit.map(|limit| limit.saturating_sub(old_bytes));
    let since = options.since;
    let loader = Loader {
        document: &document,
        formulas,
        observer,
        settings: &settings,
        memory,
        since,
        piece: None,
        segment_rows: SEGMENT_ROWS,
        cancel: &options.cancel,
    };
    let tables = load_all(&loader, old.as_ref(), options)?;
    let derived = derived(&document, formulas, &settings);
    let model = assemble(document, formulas, &tables, settings, Known::default(), &options.cancel)?;
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
    let stored = to_store(&model, &tables, derived);
    let path = store_path(model.document());
    disk::write(&path, &stored).map_err(|error| Error::Io { path: path.display().to_string(), error })?;
    let report = RefreshReport {
        tables: model.reports().to_vec(),
        unmatched: unmatched(&model),
        elapsed: start.elapsed(),
        bytes,
        memory_limit: limit,
    };
    Ok((model, report))
}

fn stored_bytes(stored: &Stored) -> u64 {
    let columns = stored.tables.iter().filter(|t| t.shares.is_none()).flat_map(|t| &t.columns);
    columns.map(|(_, c)| c.heap_bytes()).map(|(codes, dictionary)| (codes + dictionary) as u64).sum()
}

/// What the model allows a refresh.
pub(super) fn memory_limit(document: &Document) -> Result<Option<u64>, Error> {
    let Some(text) = &document.file.model.memory_limit else {
        return Ok(None);
    };
    match crate::model::memory_bytes(text) {
        Some(bytes) => Ok(Some(bytes)),
        None => {
            let problem =
                document.problem(Problem::Model, "model.memory_limit", format!("`{text}` is not an amount of memory"));
            Err(Error::Problems(vec![problem.help("write it as `2 GiB` or `500 MB`")]))
        }
    }
}

fn load_all(
    loader: &Loader<'_>,
    old: Option<&(Stored, Notes)>,
    options: &RefreshOptions,
) -> Result<Vec<LoadedTable>, Error> {
    let mut loader = *loader;
    let sections = &loader.document.file.table;
    let mut loaded: HashMap<&str, LoadedTable> = HashMap::new();
    let mut problems = Vec::new();
    let mut take = |name, result: Result<LoadedTable, crate::load::LoadError>| match result {
        Ok(table) => {
            loaded.insert(name, table);
            Ok(())
        }
        Err(crate::load::LoadError::Problems(list)) => {
            problems.extend(list);
            Ok(())
        }
        Err(other) => Err(Error::from(other)),
    };
    for (name, section) in sections.iter().filter(|(_, s)| s.source.is_some()) {
        let before = (!options.all).then(|| known_table(name, old)).flatten();
        if let Some(table) = before.as_ref().filter(|t| is_reusable(&loader, section, t, options)) {
            take(name.as_str(), Ok(table.clone()))?;
            continue;
        }
        let before = before.filter(|_| !options.tables.contains(name));
        let result = loader.sourced(name, section, before.as_ref());
        if let (Ok(table), Some(memory)) = (&result, &mut loader.memory) {
            *memory = memory.saturating_sub(table.bytes());
        }
        take(name.as_str(), result)?;
    }
    if !problems.is_empty() {
        return Err(Error::Problems(problems));
    }
    for (name, _) in sections.iter().filter(|(_, s)| s.query.is_some()) {
        loaded.insert(name, LoadedTable::by_query(name));
    }
    let given = |s: &TableSection| s.source.is_some() || s.same_as.is_some() || s.query.is_some();
    for (name, section) in sections.iter().filter(|(_, s)| !given(s)) {
        if section.calendar.is_none() {
            let problem = loader.document.problem(
                Problem::Model,
                &format!("table.{name}"),
                format!("table `{name}` has no source"),
            );
            return Err(Error::Problems(vec![problem.help("set `source`, `same_as`, or `calendar` with `generate`")]));
        }
        let days = days_of(loader.document, name, section, &loaded);
        loaded.insert(name, loader.generated(name, section, days)?);
    }
    for (name, section) in sections {
        let Some(first) = &section.same_as else {
            continue;
        };
        let table = match (copied_table(loader.document, name, first), loaded.get(first.as_str())) {
            (Ok(()), Some(table)) => table,
            (Err(problem), _) => return Err(Error::Problems(vec![*problem])),
            (Ok(()), None) => continue,
        };
        let role = table.copied(name);
        loaded.insert(name, role);
    }
    let finished = |(name, section): (&String, &TableSection)| {
        let fingerprint = fingerprint(name, section, loader.formulas, loader.settings);
        loaded.remove(name.as_str()).map(|table| LoadedTable { fingerprint, ..table })
    };
    Ok(sections.iter().filter_map(finished).collect())
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
            let help = crate::model::define::suggestion(first, &names);
            Err(Box::new(problem(format!("there is no table `{first}` to copy")).help(help)))
        }
    }
}

/// The table as the store has it.
fn known_table(name: &str, old: Option<&(Stored, Notes)>) -> Option<LoadedTable> {
    let (stored, notes) = old?;
    let i = stored.tables.iter().position(|t| t.name == name)?;
    Some(loaded_table(&stored.tables[i], &notes.tables[i]))
}

/// Whether nothing about a table has changed, or it is not to be read.
fn is_reusable(loader: &Loader<'_>, section: &TableSection, table: &LoadedTable, options: &RefreshOptions) -> bool {
    let expected = fingerprint(&table.name, section, loader.formulas, loader.settings);
    if options.tables.contains(&table.name) || table.fingerprint != expected {
        return false;
    }
    let source = section.source.as_deref().unwrap_or_default();
    if options.tables.is_empty() && sources::is_server(source) {
        return false;
    }
    !options.tables.is_empty() || is_unchanged(loader.document, source, &table.partitions, options.since)
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

fn to_store(model: &Model, tables: &[LoadedTable], derived: u64) -> Stored {
    let schema = model.schema();
    let sections = &model.document().file.table;
    let mut stored = Stored { lookups: model.store().lookups.clone(), ..Stored::default() };
    let mut notes = Notes { tables: Vec::new(), derived };
    for ((table, data), loaded) in schema.tables.iter().zip(&model.store().tables).zip(tables) {
        let first = sections.get(&table.name).and_then(|s| s.same_as.as_ref());
        // A role that comes before its first table, or has columns of its own, is written whole.
        let shares = first
            .and_then(|f| stored.tables.iter().position(|t| t.name == *f))
            .filter(|i| same_columns(&stored.tables[*i], &data.columns));
        stored.tables.push(StoredTable {
            name: table.name.clone(),
            shares,
            rows: data.rows,
            columns: table.columns.iter().zip(&data.columns).map(|(c, d)| (c.name.clone(), d.clone())).collect(),
        });
        notes.tables.push(TableNotes {
            report: loaded.report.clone(),
            partitions: loaded.partitions.clone(),
            fingerprint: loaded.fingerprint,
            computed: table.columns.iter().map(|c| computed_name(c.computed).to_string()).collect(),
        });
    }
    stored.notes = serde_json::to_value(&notes).unwrap_or_default();
    stored
}

fn same_columns(first: &StoredTable, columns: &[Arc<crate::store::Column>]) -> bool {
    first.columns.len() == columns.len() && first.columns.iter().zip(columns).all(|((_, a), b)| Arc::ptr_eq(a, b))
}

fn unmatched(model: &Model) -> Vec<Unmatched> {
    let sizes = model.sizes();
    let lookups = &model.store().lookups;
    let all = sizes.relationships.into_iter().zip(lookups);
    all.filter(|(_, l)| l.unmatched_rows > 0)
        .map(|(r, l)| Unmatched { many: r.many, one: r.one, rows: l.unmatched_rows, examples: l.examples.clone() })
        .collect()
}
