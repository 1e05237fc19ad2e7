//! Keys of tables, and how many of a column's values are among them.

use std::cell::{LazyCell, OnceCell};
use std::collections::{HashMap, HashSet};

use super::table::Table;
use cubrel_load::loaded::LoadedColumn;
use cubrel_store::CodedColumn;
use cubrel_value::units::counted;
use cubrel_value::{Type, Value};

/// How much of a column's values have to be keys of the other table.
pub(super) const CONTAINED: f64 = 0.9;
/// Texts of which that many are keys there point there, whatever the names say, when so many rows do.
const CONTAINED_TEXTS: f64 = 0.6;
/// Of which less are keys there points nowhere.
const DOUBTFUL: f64 = 0.4;
/// Of more keys it is not asked which values are keys but for capitals.
const MOST_FOLDED: usize = 1 << 17;
/// Keys that so few values have say nothing without a name.
pub(super) const FEWEST_KEYS: usize = 3;
/// One row in so many may repeat a key for a column to be nearly one.
const NEARLY: usize = 50;

/// Why a relationship is none yet.
#[derive(Clone)]
pub(super) enum Refused {
    /// It cannot be.
    Impossible(String),
    /// It may not be meant.
    InDoubt,
}

/// The key of a table, or what is nearly one.
pub(super) struct TableKey<'t> {
    pub(super) column: &'t LoadedColumn,
    /// Its values, once they are asked for.
    values: OnceCell<Keys>,
    /// Why it is none.
    pub(super) refused: Option<Refused>,
}

impl TableKey<'_> {
    pub(super) fn of(table: &Table) -> Option<TableKey<'_>> {
        let known = |column, refused| TableKey { column, values: OnceCell::new(), refused };
        if let Some(key) = table.key.as_ref().and_then(|key| table.column(key)) {
            return Some(known(key, None));
        }
        let nearly = nearly_key(table)?;
        let (surplus, examples) = repeated(&nearly.data);
        let why = format!("{}: {}", counted(surplus, "duplicate key"), examples.join(", "));
        Some(known(nearly, Some(Refused::Impossible(why))))
    }

    pub(super) fn values(&self) -> &Keys {
        self.values.get_or_init(|| Keys::of(&self.column.data))
    }
}

/// The values of a key.
pub(super) struct Keys {
    values: HashSet<Value>,
    /// Those that are texts, without capitals and blanks around them, once they are asked for.
    folded: OnceCell<HashSet<String>>,
}

impl Keys {
    fn of(column: &CodedColumn) -> Keys {
        let values = rows_by_code(column).into_keys().map(|code| column.value_of(code)).collect();
        Keys { values, folded: OnceCell::new() }
    }

    fn has(&self, value: &Value) -> bool {
        self.values.contains(value)
    }

    /// Whether a text is one of them but for capitals and blanks.
    fn has_alike(&self, value: &Value) -> bool {
        let all = self.folded.get_or_init(|| self.values.iter().filter_map(folded).collect());
        folded(value).is_some_and(|text| all.contains(&text))
    }
}

fn folded(value: &Value) -> Option<String> {
    value.as_text().map(|text| text.trim().to_lowercase())
}

/// How many values of a column are keys.
pub(super) struct Contained {
    pub(super) values: usize,
    pub(super) share: f64,
    /// Whether it says that the column points there, or only that it may.
    pub(super) is_enough: bool,
    /// How many would be keys but for capitals and blanks, where it points there only then.
    pub(super) but_for_capitals: Option<usize>,
}

pub(super) fn is_unique(table: &Table, column: &LoadedColumn) -> bool {
    table.loaded.rows > 0 && column.data.nulls() == 0 && column.data.distinct() as usize == table.loaded.rows
}

/// The key of each table: the unique column that columns of most other tables point at, or else the one that looks like a
/// key by its name and place.
pub(super) fn keys_of(tables: &[Table]) -> Vec<Option<String>> {
    tables.iter().enumerate().map(|(i, table)| key_by_use(tables, i).or_else(|| key_by_name(table))).collect()
}

/// Of unique columns the one that most tables have values of, those first that say so by their names; of several such ones
/// none.
fn key_by_use(tables: &[Table], at: usize) -> Option<String> {
    let counted = unique_columns(&tables[at]).map(|column| (pointing(tables, at, column), column));
    let pointed: Vec<(Pointing, &LoadedColumn)> = counted.filter(|(count, _)| count.all > 0).collect();
    let most = pointed.iter().map(|(count, _)| *count).max()?;
    match pointed.iter().filter(|(count, _)| *count == most).collect::<Vec<_>>().as_slice() {
        [(_, only)] => Some(only.name.clone()),
        _ => None,
    }
}

/// In how many other tables a column stands whose values are those of a unique one, several times each.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Pointing {
    /// By its name, too.
    named: usize,
    all: usize,
}

fn pointing(tables: &[Table], at: usize, key: &LoadedColumn) -> Pointing {
    // Most columns point nowhere, by their names and numbers alone.
    let keys = LazyCell::new(|| Keys::of(&key.data));
    let alike = |table: &Table, c: &LoadedColumn| {
        let alike = likeness(table, c, &tables[at], key)?;
        let may = c.data.distinct() > 0 && !is_unique(table, c) && may_be_there(c, alike > 0.0, &key.data);
        let found = may.then(|| counted_there(&c.data, alike > 0.0, |value| keys.has(value)))?;
        found.filter(|found| found.is_enough).map(|_| alike > 0.0)
    };
    let others = tables.iter().enumerate().filter(|(i, _)| *i != at);
    let found = others.filter_map(|(_, table)| table.loaded.columns.iter().filter_map(|c| alike(table, c)).max());
    found.fold(Pointing { named: 0, all: 0 }, |sum, named| Pointing {
        named: sum.named + usize::from(named),
        all: sum.all + 1,
    })
}

/// How much the name of a table's column says that it points at the key of another, 0 for nothing; none where it says that
/// it does not: that it is called after its own table.
pub(super) fn likeness(table: &Table, column: &LoadedColumn, other: &Table, key: &LoadedColumn) -> Option<f64> {
    const NAMES_IT: f64 = 0.8;
    let alike = table.naming.likeness(&column.name, &other.naming, &key.name);
    (alike >= NAMES_IT || !table.naming.is_own(&column.name)).then_some(alike)
}

/// Whether values of a column could be keys at all, without a look at the rows: there are not more of them than could be keys,
/// and they are no numbers that no name speaks for (those from one on are among those of every key).
pub(super) fn may_be_there(column: &LoadedColumn, alike: bool, key: &CodedColumn) -> bool {
    let too_many = (key.distinct() as f64) < DOUBTFUL * column.data.distinct() as f64;
    column.data.ty() == key.ty() && !too_many && (alike || column.data.ty() == Type::Text)
}

/// How many values of a column are keys, where that says that it points there, or that it may.
pub(super) fn found_there(column: &LoadedColumn, alike: bool, keys: &Keys) -> Option<Contained> {
    let exact = counted_there(&column.data, alike, |value| keys.has(value));
    let is_told = exact.as_ref().is_some_and(|found| found.is_enough);
    if is_told || column.data.ty() != Type::Text || keys.values.len() > MOST_FOLDED {
        return exact;
    }
    // Only that some may be meant is told of what differs from keys.
    let folded = counted_there(&column.data, alike, |value| keys.has_alike(value)).filter(|folded| folded.is_enough);
    let Some(folded) = folded else { return exact };
    let is_key = |code: &u64| keys.has(&column.data.value_of(*code));
    let values = rows_by_code(&column.data).keys().filter(|code| is_key(code)).count();
    Some(Contained { values, share: folded.share, is_enough: false, but_for_capitals: Some(folded.values) })
}

fn counted_there(column: &CodedColumn, alike: bool, is_key: impl Fn(&Value) -> bool) -> Option<Contained> {
    if is_elsewhere(column, &is_key) {
        return None;
    }
    let counts = rows_by_code(column);
    let found = counts.iter().filter(|(code, _)| is_key(&column.value_of(**code))).map(|(_, rows)| *rows);
    let (values, rows) = found.fold((0, 0), |(values, all), rows| (values + 1usize, all + rows));
    let share = values as f64 / counts.len().max(1) as f64;
    let of_rows = rows as f64 / (column.rows() as u64 - column.nulls()).max(1) as f64;
    let by_rows = share >= CONTAINED_TEXTS && of_rows >= CONTAINED;
    let is_enough = if alike { share >= CONTAINED || by_rows } else { values >= FEWEST_KEYS && by_rows };
    let is_doubtful = values >= FEWEST_KEYS && share >= DOUBTFUL && of_rows >= DOUBTFUL;
    (is_enough || is_doubtful).then_some(Contained { values, share, is_enough, but_for_capitals: None })
}

/// Whether hardly any of some texts of a column are keys, so that no more need be looked at.
fn is_elsewhere(column: &CodedColumn, is_key: impl Fn(&Value) -> bool) -> bool {
    const LOOKED_AT: u64 = 500;
    let step = (column.domain() / LOOKED_AT).max(1) as usize;
    let some = || (0..column.domain()).step_by(step);
    let found = || some().filter(|code| is_key(&column.value_of(*code))).count();
    column.ty() == Type::Text && (found() as f64) < DOUBTFUL / 4.0 * some().count() as f64
}

/// How many rows each code stands in that stands in any; null's is none.
pub(super) fn rows_by_code(column: &CodedColumn) -> HashMap<u64, u64> {
    let domain = column.domain();
    // What a column could hold may be far more than what it holds.
    if domain > 2 * column.rows() as u64 + 1024 {
        let mut counts: HashMap<u64, u64> = HashMap::new();
        column.codes().into_iter().for_each(|code| *counts.entry(code).or_default() += 1);
        counts.remove(&column.null_code());
        return counts;
    }
    let mut counts: Vec<u64> = vec![0; domain as usize + 1];
    column.codes().into_iter().for_each(|code| counts[code as usize] += 1);
    counts.truncate(domain as usize);
    (0..).zip(counts).filter(|(_, rows)| *rows > 0).collect()
}

fn unique_columns(table: &Table) -> impl Iterator<Item = &LoadedColumn> {
    table.loaded.columns.iter().filter(|c| can_be(c) && is_unique(table, c))
}

/// A unique column, one that is called a key before others, and the first before later ones. None where one that is more of
/// a key has values that stand in several rows.
fn key_by_name(table: &Table) -> Option<String> {
    let unique: Vec<&LoadedColumn> = unique_columns(table).collect();
    let rank = |c: &LoadedColumn| table.naming.key_rank(&c.name);
    let named = unique.iter().filter_map(|c| Some((rank(c)?, c))).min_by_key(|(rank, _)| *rank);
    if nearly_key(table).is_some_and(|c| rank(c) < named.map(|(rank, _)| rank).or(Some(usize::MAX))) {
        return None;
    }
    let first = unique.first().filter(|c| c.name == table.loaded.columns[0].name);
    named.map(|(_, c)| c.name.clone()).or(first.map(|c| c.name.clone()))
}

fn can_be(column: &LoadedColumn) -> bool {
    matches!(column.data.ty(), Type::Int | Type::Text | Type::Date)
}

/// The column that would be the key, were there not some of its values in several rows.
fn nearly_key(table: &Table) -> Option<&LoadedColumn> {
    let nearly = |c: &&LoadedColumn| {
        let surplus = table.loaded.rows.saturating_sub(c.data.distinct() as usize);
        can_be(c) && c.data.nulls() == 0 && surplus > 0 && surplus <= table.loaded.rows / NEARLY
    };
    let named = table.loaded.columns.iter().filter(nearly).filter_map(|c| Some((table.naming.key_rank(&c.name)?, c)));
    named.min_by_key(|(rank, _)| *rank).map(|(_, c)| c)
}

/// Which values of a column stand in several rows, and in how many more than one each.
fn repeated(column: &CodedColumn) -> (u64, Vec<String>) {
    let counts = rows_by_code(column);
    let mut several: Vec<u64> = counts.iter().filter(|(_, n)| **n > 1).map(|(code, _)| *code).collect();
    several.sort_unstable();
    let surplus = several.iter().map(|code| counts[code] - 1).sum();
    (surplus, several.into_iter().take(EXAMPLES).map(|code| format!("`{}`", column.value_of(code))).collect())
}

/// Repeated keys that are shown.
const EXAMPLES: usize = 3;
