//! Telling how loading goes, and how it went.

/// What is said of text that cannot be read as it is written.
pub const NO_UTF8: &str = "is not UTF-8 text";

/// What to do about it.
pub(super) const HOW_TO_SAY_ENCODING: &str = "say how it is written: `csv = { encoding = \"windows-1252\" }`";

/// Is told how far loading has come. Two tables can be on their way at the same time.
pub trait Observer: Sync {
    /// A table begins, with the bytes of its source.
    fn table(&self, _name: &str, _bytes: u64) {}
    /// More bytes of a table have been read.
    fn progress(&self, _name: &str, _bytes: u64) {}
    /// More rows of a table are there.
    fn rows(&self, _name: &str, _rows: u64) {}
    /// A table is done.
    fn done(&self, _report: &TableReport) {}
    /// Whether to stop: nothing is replaced then. It is asked again and again while rows are read.
    fn wants_to_stop(&self) -> bool {
        false
    }
}

/// Tells nobody.
#[derive(Debug)]
pub struct Silent;

impl Observer for Silent {}

/// How loading a table went.
#[derive(Clone, Debug, Default, serde::Serialize, serde::Deserialize)]
pub struct TableReport {
    /// The table.
    pub table: String,
    /// Rows that it has now.
    pub rows: u64,
    /// Rows that could not be read.
    pub bad_rows: u64,
    /// Some of them: where, and what is wrong.
    pub bad_examples: Vec<String>,
    /// Rows that the load filter left out.
    pub filtered_rows: u64,
    /// Bytes of the source.
    pub source_bytes: u64,
    /// Columns whose type was found to be another one than before.
    #[serde(default)]
    pub changed_types: Vec<String>,
    /// What was odd about the source and could be put up with: names that had to be given, columns that some files lack or that
    /// no column can hold.
    #[serde(default)]
    pub notes: Vec<String>,
    /// Parts that a refresh can read by themselves: groups of files, or periods of a database's table.
    #[serde(default)]
    pub parts: u64,
    /// Parts that were read.
    #[serde(default)]
    pub parts_read: u64,
    /// How long it took.
    pub milliseconds: u64,
    /// Columns that were computed now from other rows and tables.
    #[serde(default)]
    pub computed: Vec<ComputedColumn>,
    /// Where the rows come from: `source`, `generated`, `query`, or `shared` with another table.
    #[serde(default)]
    pub origin: String,
    /// Whether the source was read, and not the store.
    pub read: bool,
}

/// A calculated column, and what it took.
#[derive(Clone, Debug, Default, serde::Serialize, serde::Deserialize)]
pub struct ComputedColumn {
    /// The column.
    pub column: String,
    /// How long it took.
    pub milliseconds: f64,
}
