//! `model.toml` as types (see `docs/model-file.md`); its JSON Schema is made from these.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::paths::separated;
use cubrel_value::Matching;

/// A whole `model.toml`.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ModelFile {
    /// What holds for the whole model.
    pub model: ModelSection,
    /// Tables by name.
    pub table: IndexMap<String, TableSection>,
    /// Relationships.
    pub relationship: Vec<RelationshipSection>,
    /// Measures by name.
    pub measure: IndexMap<String, MeasureSection>,
    /// Lenses by name.
    pub lens: IndexMap<String, LensSection>,
    /// Roles by name.
    pub role: IndexMap<String, RoleSection>,
    /// Shorter lists of things to look at, by name.
    pub shortlist: IndexMap<String, ShortlistSection>,
    /// Saved queries by name.
    pub query: IndexMap<String, QuerySection>,
    /// What must stay true.
    pub expect: Vec<ExpectSection>,
}

/// `[model]`
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ModelSection {
    /// What people call the model.
    pub name: Option<String>,
    /// A locale such as `en-GB`, for formats of numbers.
    pub locale: Option<String>,
    /// The currency that `¤` stands for, such as `GBP`; by default the one of the locale's region.
    pub currency: Option<String>,
    /// What a refresh may use, such as `2 GiB`.
    pub memory_limit: Option<String>,
    /// What is said of it and meant: the names of hints that are not to be given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub allow: Vec<String>,
}

impl ModelSection {
    /// The locale with the currency as its `cu` keyword, as `to_text` takes it.
    pub fn locale_with_currency(&self) -> String {
        match (&self.locale, &self.currency) {
            (Some(locale), Some(currency)) => format!("{locale}-u-cu-{}", currency.to_lowercase()),
            (Some(locale), None) => locale.clone(),
            // What is written where no locale is named is written as in English.
            (None, Some(currency)) => format!("en-u-cu-{}", currency.to_lowercase()),
            (None, None) => String::new(),
        }
    }
}

/// `[table.NAME]`
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct TableSection {
    /// A file or a pattern for several, relative to the model's folder; of several sources the rows stand one after the other.
    pub source: Option<OneOrMany>,
    /// A query that works the table out, in place of a source: its axis columns and items.
    pub query: Option<String>,
    /// Whether roles see the query's result over all rows, and not over those that they see.
    pub all_rows: bool,
    /// How the source's text is laid out.
    pub csv: Option<CsvSection>,
    /// Which cells of a workbook are read.
    pub workbook: Option<WorkbookSection>,
    /// A list in nested data whose entries are the rows, such as `order.items`.
    pub rows_of: Option<String>,
    /// What of the rows around goes with the entries of a list; by default the key of the table that has those rows.
    pub carry: Option<Vec<String>>,
    /// Columns side by side that become rows.
    pub unpivot: Option<UnpivotSection>,
    /// Parts of a database's table that are read by themselves.
    pub partition: Option<PartitionSection>,
    /// The column whose values are unique.
    pub key: Option<String>,
    /// Fields that stand for null; an empty one by default.
    pub missing: Option<Vec<String>>,
    /// Whether blanks around fields are no part of them.
    pub trim: bool,
    /// The place whose clocks show the times that say how far they are from UTC, such as `Europe/Paris`; by default UTC.
    pub time_zone: Option<String>,
    /// Which rows to load.
    #[serde(rename = "where")]
    pub filter: Option<String>,
    /// Whether of rows that are the same in all columns only the first is kept.
    pub distinct: bool,
    /// Of rows with one key, the one is kept that has the latest value of this column.
    pub latest_by: Option<String>,
    /// The columns by which rows are sorted while they are loaded, the first to be compared first; by default those by which
    /// they take the least.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub order: Vec<String>,
    /// How many bad rows are put up with.
    pub max_bad_rows: Option<u64>,
    /// What people read instead of the name.
    pub label: Option<String>,
    /// What the table holds.
    pub note: Option<String>,
    /// Not listed for people.
    pub hidden: bool,
    /// Columns by name.
    pub column: IndexMap<String, ColumnSection>,
    /// Hierarchies by name.
    pub hierarchy: IndexMap<String, HierarchySection>,
    /// The date column, where the table is a calendar.
    pub calendar: Option<String>,
    /// Month and day on which the calendar's years start, such as `04-01`; also inside `generate`.
    pub year_starts: Option<String>,
    /// The day on which the calendar's weeks start, such as `sunday`; also inside `generate`.
    pub week_starts: Option<String>,
    /// Makes the calendar's rows.
    pub generate: Option<GenerateSection>,
    /// Another table, of which this is a copy.
    pub same_as: Option<String>,
    /// Shown before labels, to tell a table and its copy apart.
    pub prefix: Option<String>,
    /// What is said of it and meant: the names of hints that are not to be given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub allow: Vec<String>,
}

impl TableSection {
    /// What its rows are read from, if it is anything.
    pub fn sources(&self) -> &[String] {
        self.source.as_ref().map_or(&[], OneOrMany::list)
    }
}

/// `csv = { … }`
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct CsvSection {
    /// One character; by default it is found out from the first line.
    pub delimiter: Option<String>,
    /// What stands around fields that hold delimiters or line breaks; by default `"`.
    pub quote: Option<String>,
    /// `,` where numbers are written as in `1.234,50`.
    pub decimal: Option<String>,
    /// What parts thousands, as the comma in `1,234.50`; with a decimal comma it is the point when nothing is said.
    pub thousands: Option<String>,
    /// How characters are written, such as `windows-1252`; by default UTF-8.
    pub encoding: Option<String>,
    /// How many lines stand before the header.
    pub skip: Option<u32>,
    /// How the header's line begins: in each file the lines before it are passed over, however many there are.
    pub header: Option<String>,
}

/// `workbook = { … }`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct WorkbookSection {
    /// The sheet's name; by default the first.
    pub sheet: Option<String>,
    /// The cells, such as `B3:F200`; without an end (`B3:F`, `B3`) as far as there are any. Its first row names the columns.
    pub range: Option<String>,
}

/// `unpivot = { columns = ["q_*"], name = "question", value = "answer" }`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct UnpivotSection {
    /// Names of columns, or patterns of them such as `q_*`.
    pub columns: Vec<String>,
    /// What the column of their names is called.
    pub name: String,
    /// What the column of their values is called.
    pub value: String,
}

/// `partition = { column = "sailed_on", by = "month" }`
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct PartitionSection {
    /// A column of dates or timestamps.
    pub column: String,
    /// `day`, `week`, `month`, `quarter` or `year`.
    pub by: String,
}

/// `[table.NAME.column.NAME]`
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ColumnSection {
    /// The name in the source, where it differs.
    pub source_name: Option<String>,
    /// Where it stands in nested data, such as `address.city`.
    pub path: Option<String>,
    /// Its place in the source, from 1, where its name there is none or not its own.
    pub source_position: Option<u32>,
    /// The type, where it is not to be guessed.
    #[serde(rename = "type")]
    pub ty: Option<String>,
    /// How dates are written, where it is not ISO: `dd/MM/yyyy`; of several the first that reads a field.
    pub date_pattern: Option<OneOrMany>,
    /// Fields that stand for null in this column, in place of the table's.
    pub missing: Option<Vec<String>>,
    /// `false`: read, usable while loading, then dropped.
    pub keep: Option<bool>,
    /// Makes this a calculated column.
    pub formula: Option<String>,
    /// What people read instead of the name.
    pub label: Option<String>,
    /// What the column holds.
    pub note: Option<String>,
    /// A pattern for the values.
    pub format: Option<String>,
    /// Not listed for people.
    pub hidden: bool,
    /// The column of the same table that orders it.
    pub display_order: Option<String>,
    /// Kept by period edits: weekdays, holidays; `false` for a generated weekday that is not to be.
    pub day_kind: Option<bool>,
    /// What is said of it and meant: the names of hints that are not to be given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub allow: Vec<String>,
}

/// `[table.NAME.hierarchy.NAME]`
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct HierarchySection {
    /// Columns, outer first.
    pub levels: Vec<String>,
}

/// `generate = { … }`
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct GenerateSection {
    /// First day, by default the first of the first year in the data.
    pub from: Option<String>,
    /// Last day, by default the last of the last year in the data.
    pub to: Option<String>,
    /// Month and day on which years start, such as `04-01`; by default `01-01`.
    pub year_starts: Option<String>,
    /// The day on which weeks start, such as `sunday`; by default `monday`.
    pub week_starts: Option<String>,
}

/// `[[relationship]]`
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RelationshipSection {
    /// The column that points, as `table.column`, or several.
    pub many: OneOrMany,
    /// The key that it points at.
    pub one: OneOrMany,
    /// Followed only where a formula names it.
    #[serde(default)]
    pub spare: bool,
    /// Filters also travel from the many side to the one side.
    #[serde(default)]
    pub both_ways: bool,
    /// Which row of the one side a row points at.
    #[serde(default, rename = "match")]
    pub matching: Matching,
    /// What is said of it and meant: the names of hints that are not to be given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub allow: Vec<String>,
}

impl RelationshipSection {
    /// From the columns that point to the key that they point at, written `table.column`; several are joined with `+`.
    pub fn new(many: &str, one: &str) -> RelationshipSection {
        let side = |text: &str| OneOrMany::Many(separated(text, '+').into_iter().map(str::to_string).collect());
        RelationshipSection {
            many: side(many),
            one: side(one),
            spare: false,
            both_ways: false,
            matching: Matching::Exact,
            allow: Vec::new(),
        }
    }
}

/// One text, or several.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum OneOrMany {
    /// One.
    One(String),
    /// Several.
    Many(Vec<String>),
}

impl OneOrMany {
    /// As a list.
    pub fn list(&self) -> &[String] {
        match self {
            OneOrMany::One(one) => std::slice::from_ref(one),
            OneOrMany::Many(many) => many,
        }
    }
}

/// `[measure.NAME]`
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MeasureSection {
    /// What it computes.
    pub formula: String,
    /// What people read instead of the name.
    #[serde(default)]
    pub label: Option<String>,
    /// A pattern for the values.
    #[serde(default)]
    pub format: Option<String>,
    /// Where it is listed.
    #[serde(default)]
    pub group: Option<String>,
    /// What it means.
    #[serde(default)]
    pub note: Option<String>,
    /// Not listed for people.
    #[serde(default)]
    pub hidden: bool,
    /// What is said of it and meant: the names of hints that are not to be given.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub allow: Vec<String>,
}

impl MeasureSection {
    /// A formula, and nothing said of it.
    pub fn new(formula: String) -> MeasureSection {
        MeasureSection { formula, label: None, format: None, group: None, note: None, hidden: false, allow: Vec::new() }
    }
}

/// `[lens.NAME]`
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct LensSection {
    /// What people read instead of the name.
    pub label: Option<String>,
    /// What it is for.
    pub note: Option<String>,
    /// Other lenses to whose result this one is applied, where both are in one query.
    pub wraps: Vec<String>,
    /// Its readings by name, in display order.
    pub reading: IndexMap<String, ReadingSection>,
}

/// `[lens.NAME.reading.NAME]`
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ReadingSection {
    /// What it makes of the figure, which is called `shown`.
    pub formula: String,
    /// What people read instead of the name.
    #[serde(default)]
    pub label: Option<String>,
    /// A pattern for the values, in place of the figure's own.
    #[serde(default)]
    pub format: Option<String>,
    /// What it means.
    #[serde(default)]
    pub note: Option<String>,
}

/// `[role.NAME]`
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct RoleSection {
    /// For tables by name: which of their rows are seen.
    pub rows: IndexMap<String, String>,
    /// Columns, written `table.column`, and measures that are not answered, nor anything that needs them.
    pub deny: Vec<String>,
    /// Who has the role.
    pub people: Vec<String>,
    /// What it is for.
    pub note: Option<String>,
}

/// `[query.NAME]`
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct QuerySection {
    /// The query.
    pub text: String,
    /// What it is for.
    #[serde(default)]
    pub note: Option<String>,
}

/// `[shortlist.NAME]`
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ShortlistSection {
    /// Tables, columns (written `table.column`), measures, hierarchies and lenses.
    pub list: Vec<String>,
    /// What it is for.
    pub note: Option<String>,
}

/// `[[expect]]`: one of `query`, `same`, `unique`, `no_orphans` and `fresh` says what is looked at.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, default)]
pub struct ExpectSection {
    /// What people call it.
    pub name: Option<String>,
    /// A query, or the name of a saved one.
    pub query: Option<String>,
    /// The lines that the query has to give: axes, then items.
    pub rows: Option<Vec<Vec<ExpectedValue>>>,
    /// How far numbers may be off.
    pub tolerance: Option<f64>,
    /// How many lines the query has to give at least.
    pub min_rows: Option<u64>,
    /// Measures or formulas that have to give the same.
    pub same: Option<Vec<String>>,
    /// Columns in whose every cell and total `same` is held.
    pub by: Vec<String>,
    /// A filter on what `same` compares.
    #[serde(rename = "where")]
    pub filter: Option<String>,
    /// A column, written `table.column`, or several, whose values no two rows share.
    pub unique: Option<OneOrMany>,
    /// The columns of a relationship whose every row has to find its key.
    pub no_orphans: Option<OneOrMany>,
    /// A column of dates or timestamps whose newest value has to be near.
    pub fresh: Option<String>,
    /// How near: `3 days`.
    pub within: Option<String>,
}

/// A value as a model file writes it.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
#[serde(untagged)]
pub enum ExpectedValue {
    /// True or false.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// A number.
    Number(f64),
    /// A text, a date, or anything else as it is shown; an empty one for null.
    Text(String),
}

impl<'de> Deserialize<'de> for ExpectedValue {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<ExpectedValue, D::Error> {
        match toml::Value::deserialize(deserializer)? {
            toml::Value::Boolean(b) => Ok(ExpectedValue::Bool(b)),
            toml::Value::Integer(n) => Ok(ExpectedValue::Int(n)),
            toml::Value::Float(x) => Ok(ExpectedValue::Number(x)),
            toml::Value::String(text) => Ok(ExpectedValue::Text(text)),
            toml::Value::Datetime(date) => Ok(ExpectedValue::Text(date.to_string())),
            _ => Err(serde::de::Error::custom("a value is a text, a number, a date, true or false")),
        }
    }
}

/// What a key is called now that earlier drafts of the model file called otherwise.
pub fn former_key(key: &str) -> Option<&'static str> {
    match key {
        "bad_rows" => Some("max_bad_rows"),
        "cyclic" => Some("day_kind"),
        "memory" => Some("memory_limit"),
        "outline" => Some("shortlist"),
        _ => None,
    }
}

impl ExpectSection {
    /// What people call it; `number` is its place among all, from zero.
    pub fn title(&self, number: usize) -> String {
        let list = |list: &OneOrMany| list.list().join(", ");
        let said = [
            self.name.clone(),
            self.same.as_ref().map(|same| format!("{} are the same", same.join(" and "))),
            self.unique.as_ref().map(|columns| format!("{} is unique", list(columns))),
            self.no_orphans.as_ref().map(|columns| format!("{} has no orphans", list(columns))),
            self.fresh.as_ref().map(|column| format!("{column} is fresh")),
            self.query.clone(),
        ];
        said.into_iter().flatten().next().unwrap_or_else(|| format!("expectation {}", number + 1))
    }

    /// What it asks, as a query or the name of a saved one; nothing where it looks at columns.
    pub fn query_text(&self) -> Option<String> {
        let same = self.same.as_ref().map(|formulas| {
            let items = formulas.iter().enumerate().map(|(i, formula)| format!("({formula}) as same_{i}"));
            let items = items.collect::<Vec<_>>().join(", ");
            let by = if self.by.is_empty() { String::new() } else { format!(" by {}", self.by.join(", ")) };
            let filter = self.filter.as_ref().map_or_else(String::new, |filter| format!(" where {filter}"));
            let totals = if self.by.is_empty() { "" } else { " totals" };
            format!("grid {items}{by}{filter}{totals}")
        });
        self.query.clone().or(same)
    }
}
