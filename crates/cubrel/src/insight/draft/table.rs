//! A table on its way into the draft.

use std::path::Path;

use super::names::{ColumnNaming, words};
use cubrel_load::loaded::{LoadedColumn, LoadedTable};
use cubrel_load::{bytes, sources};
use cubrel_model::file::TableSection;

/// What one table is to be drafted from.
pub(super) struct DraftSource {
    /// The table's name.
    pub(super) name: String,
    pub(super) source: String,
    /// The sheet, where it is one of several of a workbook.
    pub(super) sheet: Option<String>,
}

impl DraftSource {
    /// Bytes of its files.
    pub(super) fn bytes(&self, into: &Path) -> u64 {
        sources::bytes(into, &self.source)
    }
}

/// A table on its way into the draft.
pub(super) struct Table {
    pub(super) name: String,
    pub(super) section: TableSection,
    pub(super) loaded: LoadedTable,
    pub(super) notes: Vec<String>,
    pub(super) key: Option<String>,
    pub(super) naming: ColumnNaming,
}

impl Table {
    pub(super) fn column(&self, name: &str) -> Option<&LoadedColumn> {
        self.loaded.columns.iter().find(|c| c.name == name)
    }

    /// The extension of its files.
    pub(super) fn kind(&self) -> String {
        bytes::kind(Path::new(self.section.sources().first().map_or("", String::as_str)))
    }

    /// Whether its files say what types its columns have.
    pub(super) fn is_typed(&self) -> bool {
        bytes::TYPED.contains(&self.kind().as_str())
    }
}

/// A name that formulas can use without quotes: its words in small letters.
pub(super) fn table_name(text: &str) -> String {
    let plain = words(text).join("_");
    if plain.is_empty() || plain.starts_with(|c: char| c.is_ascii_digit()) { format!("t_{plain}") } else { plain }
}
