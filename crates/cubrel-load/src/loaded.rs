//! What loading gives.

use crate::database::PeriodOfRows;
use std::collections::HashMap;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::report::TableReport;
use super::sources::FileStamp;
use cubrel_formula::schema::Computed;
use cubrel_store::CodedColumn;
use cubrel_value::Type;

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
    /// The files that it was read from, in groups.
    pub partitions: Vec<Partition>,
    /// Changes when the model says something else about how to load it.
    pub fingerprint: u64,
}

/// A loaded column.
#[derive(Clone, Debug)]
pub struct LoadedColumn {
    /// Its name.
    pub name: String,
    /// Its values.
    pub data: Arc<CodedColumn>,
    /// When they came to be.
    pub computed: Computed,
}

impl LoadedTable {
    /// A table that its query works out when all others are there.
    pub fn by_query(name: &str) -> LoadedTable {
        LoadedTable {
            name: name.to_string(),
            rows: 0,
            columns: Vec::new(),
            report: TableReport { table: name.to_string(), origin: "query".into(), ..TableReport::default() },
            partitions: Vec::new(),
            fingerprint: 0,
        }
    }

    /// Bytes that its columns take.
    pub fn bytes(&self) -> u64 {
        self.columns.iter().map(|c| c.data.heap_bytes()).map(|(codes, dictionary)| (codes + dictionary) as u64).sum()
    }

    /// The types of its columns.
    pub(super) fn types(&self) -> HashMap<String, Type> {
        self.columns.iter().map(|c| (c.name.clone(), c.data.ty())).collect()
    }

    /// Columns that have another type than before.
    pub(super) fn changed_types(&self, before: &HashMap<String, Type>) -> Vec<String> {
        let changed = self.columns.iter().filter_map(|c| {
            let (old, new) = (before.get(&c.name)?, c.data.ty());
            (*old != new).then(|| format!("{}.{} was {old} and is {new} now", self.name, c.name))
        });
        changed.collect()
    }

    /// A copy of it, by another name.
    pub fn copied(&self, name: &str) -> LoadedTable {
        let base = TableReport { origin: "shared".into(), read: false, ..self.report.clone() };
        let report = TableReport { table: name.to_string(), source_bytes: 0, ..base };
        LoadedTable { name: name.to_string(), partitions: Vec::new(), fingerprint: 0, report, ..self.clone() }
    }
}

/// Files that were loaded together, and what came of them.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Partition {
    /// Which of the table's sources they belong to.
    #[serde(default)]
    pub source: usize,
    /// The files.
    pub files: Vec<FileStamp>,
    /// Which rows of a database.
    #[serde(default)]
    pub period: Option<PeriodOfRows>,
    /// How many of the table's segments hold its rows.
    pub segments: usize,
    /// Rows that could not be read.
    pub bad_rows: u64,
    /// Some of them.
    pub bad_examples: Vec<String>,
    /// Rows that the load filter left out.
    pub filtered_rows: u64,
}
