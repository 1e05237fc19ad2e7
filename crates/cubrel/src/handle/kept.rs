//! What a refresh leaves behind, and how it is found again.

use std::path::PathBuf;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::error::Error;
use super::late::Known;
use super::model::Model;
use cubrel_formula::check::Settings;
use cubrel_formula::schema::Computed;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_load::TableReport;
use cubrel_load::fingerprint::{derived, fingerprint};
use cubrel_load::loaded::Partition;
use cubrel_load::loaded::{LoadedColumn, LoadedTable};
use cubrel_load::sources::{self, FileStamp};
use cubrel_model::Document;
use cubrel_model::dependencies::Formulas;
use cubrel_model::file::TableSection;
use cubrel_store::disk::{Stored, StoredTable, generations};

/// What is in a store.
pub(super) struct Kept {
    pub(super) stored: Stored,
    notes: Notes,
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

/// Where the store of a model is.
fn folder(document: &Document) -> PathBuf {
    document.folder.join(".cubrel")
}

/// Keeps a second writer away as long as the file is open. Waits for another writer, or refuses.
pub(super) fn lock(document: &Document, wait: bool) -> Result<Option<std::fs::File>, Error> {
    generations::lock(&folder(document), wait).map_err(|_| {
        let problem = Diagnostic::general(Problem::Data, "another refresh of this model is running");
        Error::Problems(vec![problem.help("wait until it is done: two would write the same store")])
    })
}

impl Kept {
    /// What the newest store has, if it can be used.
    pub(super) fn read(document: &Document) -> Option<Kept> {
        let folder = folder(document);
        let stored = match generations::read_newest(&folder) {
            Ok(stored) => stored?,
            Err(e) => {
                tracing::warn!("the store in {} is made again: {e}", folder.display());
                return None;
            }
        };
        let notes: Notes = serde_json::from_value(stored.notes.clone()).ok()?;
        (notes.tables.len() == stored.tables.len()).then_some(Kept { stored, notes })
    }

    /// Whether the store has the tables that the model names.
    pub(super) fn is_known(&self, document: &Document) -> bool {
        document.file.table.keys().eq(self.notes.tables.iter().map(|t| &t.report.table))
    }

    /// Whether the model says of its tables, relationships and columns what it said when the store was written.
    pub(super) fn says_the_same(&self, document: &Document, formulas: &Formulas, settings: &Settings) -> bool {
        let (sections, notes) = (&document.file.table, &self.notes);
        sections.len() == notes.tables.len()
            && sections.iter().zip(&notes.tables).all(|((name, section), notes)| {
                notes.report.table == *name
                    && notes.fingerprint == fingerprint(document, name, section, formulas, settings)
            })
            && notes.derived == derived(document, formulas, settings)
    }

    /// Whether the sources have just what was read.
    pub(super) fn has_read_all(&self, document: &Document) -> bool {
        let sources = document.file.table.values().zip(&self.notes.tables);
        sources
            .filter(|(section, _)| section.source.is_some())
            .all(|(section, notes)| is_unchanged(document, section, &notes.partitions, None))
    }

    /// The tables.
    pub(super) fn tables(&self) -> Vec<LoadedTable> {
        self.stored.tables.iter().zip(&self.notes.tables).map(|(t, n)| loaded_table(t, n)).collect()
    }

    /// The table of a name.
    pub(super) fn table(&self, name: &str) -> Option<LoadedTable> {
        let i = self.stored.tables.iter().position(|t| t.name == name)?;
        Some(loaded_table(&self.stored.tables[i], &self.notes.tables[i]))
    }

    /// What was worked out after loading.
    pub(super) fn known(&self) -> Known {
        let mut known = Known {
            columns: Vec::new(),
            lookups: self.stored.lookups.iter().cloned().map(Some).collect(),
            damage: self.stored.damage.clone(),
        };
        for (table, notes) in self.stored.tables.iter().zip(&self.notes.tables) {
            for ((name, data), computed) in table.columns.iter().zip(&notes.computed) {
                if computed == "after" {
                    known.columns.push((table.name.clone(), name.clone(), data.clone()));
                }
            }
        }
        known
    }

    /// Bytes of its columns in memory.
    pub(super) fn bytes(&self) -> u64 {
        let columns = self.stored.tables.iter().filter(|t| t.shares.is_none()).flat_map(|t| &t.columns);
        columns.map(|(_, c)| c.heap_bytes()).map(|(codes, dictionary)| (codes + dictionary) as u64).sum()
    }
}

/// Whether the sources of a table have just the files that were read, with the same content.
pub(super) fn is_unchanged(
    document: &Document,
    section: &TableSection,
    partitions: &[Partition],
    since: Option<i32>,
) -> bool {
    section.sources().iter().enumerate().all(|(i, source)| {
        let own = partitions.iter().filter(|p| p.source == i);
        let mut before: Vec<&FileStamp> = own.flat_map(|p| &p.files).collect();
        // Parts of a database have one file.
        before.dedup();
        let Ok(mut files) = sources::files(&document.folder, source) else { return false };
        sources::recognise(&document.folder, source, &mut files, &before, since);
        files.iter().eq(before)
    })
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

/// Writes the store of a model that was made of these tables. `alone` says that nobody else writes one.
///
/// # Errors
/// When it cannot be written; the one before is still there.
pub(super) fn write(model: &Model, tables: &[LoadedTable], derived: u64, alone: bool) -> Result<(), Error> {
    let folder = folder(model.document());
    let stored = to_store(model, tables, derived);
    let written = generations::write_next(&folder, &stored, alone);
    written.map_err(|error| Error::io(format!("the store in {}", folder.display()), error))
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

fn same_columns(first: &StoredTable, columns: &[Arc<cubrel_store::CodedColumn>]) -> bool {
    first.columns.len() == columns.len() && first.columns.iter().zip(columns).all(|((_, a), b)| Arc::ptr_eq(a, b))
}
