//! Keys, and the columns that point at them: by their names, and by how many of their values are keys.

use std::cell::{LazyCell, OnceCell};
use std::collections::{HashMap, HashSet};

use super::table::Table;
use crate::load::loaded::LoadedColumn;
use crate::store::CodedColumn;
use crate::value::units::{self, counted};
use crate::value::{Type, Value};

/// How much of a column's values have to be keys of the other table.
const CONTAINED: f64 = 0.9;
/// Texts of which that many are keys there point there, whatever the names say, when so many rows do.
const CONTAINED_TEXTS: f64 = 0.6;
/// Of which less are keys there points nowhere.
const DOUBTFUL: f64 = 0.4;
/// Of more keys it is not asked which values are keys but for capitals.
const MOST_FOLDED: usize = 1 << 17;
/// Keys that so few values have say nothing without a name.
const FEWEST_KEYS: usize = 3;
/// One row in so many may repeat a key for a column to be nearly one.
const NEARLY: usize = 50;

/// A relationship with the evidence for it.
pub(super) struct Link {
    pub(super) many: (usize, String),
    pub(super) one: (usize, String),
    pub(super) evidence: String,
    /// Why it is none yet.
    pub(super) refused: Option<Refused>,
    pub(super) spare: bool,
    score: f64,
}

/// Why a relationship is none yet.
#[derive(Clone)]
pub(super) enum Refused {
    /// It cannot be.
    Impossible(String),
    /// It may not be meant.
    InDoubt,
}

/// The key of a table, or what is nearly one.
struct TableKey<'t> {
    column: &'t LoadedColumn,
    /// Its values, once they are asked for.
    values: OnceCell<Keys>,
    /// Why it is none.
    refused: Option<Refused>,
}

impl TableKey<'_> {
    fn new(column: &LoadedColumn, refused: Option<Refused>) -> TableKey<'_> {
        TableKey { column, values: OnceCell::new(), refused }
    }
}

/// The values of a key.
struct Keys {
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
struct Contained {
    values: usize,
    share: f64,
    /// Whether it says that the column points there, or only that it may.
    is_enough: bool,
    /// How many would be keys but for capitals and blanks, where it points there only then.
    but_for_capitals: Option<usize>,
}

fn is_unique(table: &Table, column: &LoadedColumn) -> bool {
    table.loaded.rows > 0 && column.data.nulls() == 0 && column.data.distinct() as usize == table.loaded.rows
}

pub(super) fn words(name: &str) -> Vec<String> {
    let mut words: Vec<String> = vec![String::new()];
    let mut lower = false;
    for c in name.chars() {
        if !c.is_alphanumeric() || lower && c.is_uppercase() {
            words.push(String::new());
        }
        if c.is_alphanumeric() {
            words.last_mut().into_iter().for_each(|w| w.extend(c.to_lowercase()));
        }
        lower = c.is_lowercase();
    }
    words.retain(|w| !w.is_empty());
    words
}

/// Without the endings of plurals.
fn singular(word: &str) -> &str {
    word.strip_suffix("es").filter(|w| w.ends_with(['s', 'x', 'h'])).or(word.strip_suffix('s')).unwrap_or(word)
}

pub(super) const KEY_WORDS: &[&str] = &["id", "uuid", "guid", "key", "code", "no", "nr", "number", "ref", "name"];

pub(super) fn names_key(name: &str) -> Option<usize> {
    let words = words(name);
    KEY_WORDS.iter().position(|k| words.last().is_some_and(|w| w == k))
}

/// The key of each table: the unique column that columns of most other tables point at, or else the one that looks like a
/// key by its name and place.
pub(super) fn keys_of(tables: &[Table]) -> Vec<Option<String>> {
    tables.iter().enumerate().map(|(i, table)| key_by_use(tables, i).or_else(|| key_by_name(table))).collect()
}

/// Of unique columns the one that most tables have values of; of several such ones none.
fn key_by_use(tables: &[Table], at: usize) -> Option<String> {
    let counted = unique_columns(&tables[at]).map(|column| (pointing(tables, at, column), column));
    let pointed: Vec<(usize, &LoadedColumn)> = counted.filter(|(count, _)| *count > 0).collect();
    let most = pointed.iter().map(|(count, _)| *count).max()?;
    match pointed.iter().filter(|(count, _)| *count == most).collect::<Vec<_>>().as_slice() {
        [(_, only)] => Some(only.name.clone()),
        _ => None,
    }
}

/// In how many other tables a column stands whose values are those of a unique one, several times each.
fn pointing(tables: &[Table], at: usize, key: &LoadedColumn) -> usize {
    // Most columns point nowhere, by their names and numbers alone.
    let keys = LazyCell::new(|| Keys::of(&key.data));
    let points = |table: &Table, c: &LoadedColumn| {
        let alike = likeness(&c.name, &tables[at].name, &key.name) > 0.0;
        let may = c.data.distinct() > 0 && !is_unique(table, c) && may_be_there(c, alike, &key.data);
        may && counted_there(&c.data, alike, |value| keys.has(value)).is_some_and(|found| found.is_enough)
    };
    let others = tables.iter().enumerate().filter(|(i, _)| *i != at);
    others.filter(|(_, table)| table.loaded.columns.iter().any(|c| points(table, c))).count()
}

/// Whether values of a column could be keys at all, without a look at the rows: there are not more of them than could be keys,
/// and they are no numbers that no name speaks for (those from one on are among those of every key).
fn may_be_there(column: &LoadedColumn, alike: bool, key: &CodedColumn) -> bool {
    let too_many = (key.distinct() as f64) < DOUBTFUL * column.data.distinct() as f64;
    column.data.ty() == key.ty() && !too_many && (alike || column.data.ty() == Type::Text)
}

/// How many values of a column are keys, where that says that it points there, or that it may.
fn found_there(column: &LoadedColumn, alike: bool, keys: &Keys) -> Option<Contained> {
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
fn rows_by_code(column: &CodedColumn) -> HashMap<u64, u64> {
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
    let named = unique.iter().filter_map(|c| Some((names_key(&c.name)?, c))).min_by_key(|(rank, _)| *rank);
    if nearly_key(table).is_some_and(|c| names_key(&c.name) < named.map(|(rank, _)| rank).or(Some(usize::MAX))) {
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
    let named = table.loaded.columns.iter().filter(nearly).filter_map(|c| Some((names_key(&c.name)?, c)));
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

/// How much a column's name says that it points at a table's key: 0 for nothing.
fn likeness(many: &str, one: &str, key: &str) -> f64 {
    let (many, key_words) = (words(many), words(key));
    let table: Vec<String> = words(one).iter().map(|w| singular(w).to_string()).collect();
    let names_table = table.iter().all(|t| many.iter().any(|m| singular(m) == t));
    let names_part = table.iter().any(|t| many.iter().any(|m| singular(m) == t));
    let ends_alike = many.last() == key_words.last();
    match (names_table, names_part, many == key_words, ends_alike) {
        (true, _, _, true) => 1.0,
        (_, _, true, _) if !key_words.iter().all(|word| KEY_WORDS.contains(&word.as_str())) || key_words.len() > 1 => {
            0.9
        }
        (true, ..) => 0.8,
        (_, true, _, true) => 0.6,
        _ => 0.0,
    }
}

/// Columns that point at keys of other tables; of several to one table the likeliest is the default.
pub(super) fn links(tables: &[Table]) -> Vec<Link> {
    // By table, its key or what is nearly one.
    let mut keys: HashMap<usize, TableKey<'_>> = HashMap::new();
    for (i, table) in tables.iter().enumerate() {
        let find = |key: &String| table.loaded.columns.iter().find(|c| c.name == *key);
        if let Some(key) = table.key.as_ref().and_then(find) {
            keys.insert(i, TableKey::new(key, None));
        } else if let Some(key) = nearly_key(table) {
            let (surplus, examples) = repeated(&key.data);
            let why = format!("{}: {}", counted(surplus, "duplicate key"), examples.join(", "));
            keys.insert(i, TableKey::new(key, Some(Refused::Impossible(why))));
        }
    }
    let mut found: Vec<Link> = Vec::new();
    for (m, many) in tables.iter().enumerate() {
        for c in &many.loaded.columns {
            if many.key.as_deref() == Some(&c.name) || c.data.distinct() == 0 {
                continue;
            }
            let candidates = keys.iter().filter_map(|(o, TableKey { column: key, values: key_values, refused })| {
                let alike = likeness(&c.name, &tables[*o].name, &key.name);
                if *o == m || key.data.distinct() < 2 || !may_be_there(c, alike > 0.0, &key.data) {
                    return None;
                }
                let names = if alike > 0.0 { ", and the names are alike" } else { "" };
                let Contained { values, share, is_enough, but_for_capitals } =
                    found_there(c, alike > 0.0, key_values.get_or_init(|| Keys::of(&key.data)))?;
                let folded = but_for_capitals
                    .map(|values| format!(", {} but for capitals and blanks", units::count(values as u64)));
                // What is certain comes before what may be.
                let certain = if is_enough { 1.0 } else { 0.0 };
                Some(Link {
                    many: (m, c.name.clone()),
                    one: (*o, key.name.clone()),
                    evidence: format!(
                        "{} of its {} are keys there{}{names}",
                        units::count(values as u64),
                        counted(c.data.distinct(), "value"),
                        folded.unwrap_or_default(),
                    ),
                    refused: refused.clone().or((!is_enough).then_some(Refused::InDoubt)),
                    spare: false,
                    score: certain + alike + share,
                })
            });
            found.extend(candidates.max_by(|a, b| a.score.total_cmp(&b.score).then(b.one.0.cmp(&a.one.0))));
        }
    }
    make_unique(&mut found);
    found
}

/// Between two tables there is one way that is taken by default: others become spare.
fn make_unique(links: &mut [Link]) {
    let mut order: Vec<usize> = (0..links.len()).filter(|i| links[*i].refused.is_none()).collect();
    order.sort_by(|a, b| links[*b].score.total_cmp(&links[*a].score).then(a.cmp(b)));
    let mut taken: Vec<(usize, usize)> = Vec::new();
    for i in order {
        let (from, to) = (links[i].many.0, links[i].one.0);
        let mut with = taken.clone();
        with.push((from, to));
        links[i].spare = has_two_ways(&with);
        if !links[i].spare {
            taken = with;
        }
    }
}

fn has_two_ways(edges: &[(usize, usize)]) -> bool {
    fn ways(edges: &[(usize, usize)], from: usize, depth: usize, seen: &mut HashMap<usize, usize>) {
        if depth > edges.len() {
            return;
        }
        for (_, to) in edges.iter().filter(|(f, _)| *f == from) {
            *seen.entry(*to).or_default() += 1;
            ways(edges, *to, depth + 1, seen);
        }
    }
    edges.iter().any(|(from, _)| {
        let mut seen = HashMap::new();
        ways(edges, *from, 0, &mut seen);
        seen.iter().any(|(to, n)| *n > 1 || to == from)
    })
}

pub(super) fn place(tables: &[Table], at: &(usize, String)) -> String {
    format!("{}.{}", tables[at.0].name, at.1)
}

pub(super) fn is_one(links: &[Link], tables: &[Table], name: &str) -> bool {
    let is_meant = |l: &&Link| !matches!(l.refused, Some(Refused::InDoubt));
    links.iter().filter(is_meant).any(|l| tables[l.one.0].name == name)
}

/// The relationships of a table that does nothing but put rows of two others together: each of those has several there, on
/// both sides.
pub(super) fn bridge<'l>(tables: &[Table], links: &'l [Link], at: usize) -> Option<[&'l Link; 2]> {
    let own: Vec<&Link> = links.iter().filter(|l| l.many.0 == at && l.refused.is_none()).collect();
    let [a, b] = own.as_slice() else { return None };
    let table = &tables[at].loaded;
    let find = |link: &Link| table.columns.iter().find(|c| c.name == link.many.1);
    let (first, second) = (find(a)?, find(b)?);
    let is_key = |name: &str| name == a.many.1 || name == b.many.1 || tables[at].key.as_deref() == Some(name);
    let counts = |c: &LoadedColumn| c.data.ty().is_number() && !is_key(&c.name);
    if a.one.0 == b.one.0 || table.columns.iter().any(counts) {
        return None;
    }
    let (codes, others) = (first.data.codes(), second.data.codes());
    let mut seen = HashSet::new();
    if !codes.iter().zip(&others).all(|pair| seen.insert(pair)) {
        return None;
    }
    let repeats = |c: &LoadedColumn| (c.data.distinct() as usize) < table.rows;
    (repeats(first) && repeats(second)).then_some([a, b])
}

/// A column that points at the key of its own table.
pub(super) struct Tree {
    pub(super) column: String,
    pub(super) key: String,
    /// How many rows there are from one without a row above to the deepest.
    pub(super) levels: usize,
}

/// Names of columns that hold the row above.
const ABOVE: &[&str] = &["parent", "above", "manager", "boss", "leader", "head", "superior", "owner", "upper", "under"];

/// A column whose values are keys of its own table, so that rows stand below others; never in a circle.
pub(super) fn tree(table: &Table) -> Option<Tree> {
    let key = table.loaded.columns.iter().find(|c| Some(&c.name) == table.key.as_ref())?;
    let rows_of: LazyCell<HashMap<Value, usize>, _> = LazyCell::new(|| {
        key.data.codes().into_iter().enumerate().map(|(row, code)| (key.data.value_of(code), row)).collect()
    });
    let find = |c: &LoadedColumn| {
        let is_above = words(&c.name).iter().any(|w| ABOVE.contains(&w.as_str()));
        let may = c.name != key.name && c.data.ty() == key.data.ty() && c.data.distinct() > 0;
        // In a tree rows share what is above them.
        if !may || is_unique(table, c) || c.data.ty() != Type::Text && !is_above {
            return None;
        }
        let above: Vec<Option<Value>> =
            c.data.codes().into_iter().map(|code| Some(c.data.value_of(code)).filter(|v| !v.is_null())).collect();
        let there = above.iter().flatten().filter(|v| rows_of.contains_key(*v)).count();
        let named = above.iter().flatten().count();
        if (there as f64) < CONTAINED * named as f64 || there < if is_above { 1 } else { FEWEST_KEYS } {
            return None;
        }
        let above: Vec<Option<usize>> = above.into_iter().map(|v| rows_of.get(&v?).copied()).collect();
        Some(Tree { column: c.name.clone(), key: key.name.clone(), levels: levels(&above)? })
    };
    table.loaded.columns.iter().find_map(find)
}

/// How many rows stand above each other at most, given the row above each; none where that leads in a circle. A row that is
/// its own is at the top.
fn levels(above: &[Option<usize>]) -> Option<usize> {
    let mut known: Vec<usize> = vec![0; above.len()];
    for start in 0..above.len() {
        let mut way = Vec::new();
        let mut at = Some(start);
        while let Some(row) = at.filter(|row| known[*row] == 0) {
            if way.len() > above.len() {
                return None;
            }
            way.push(row);
            at = above[row].filter(|up| *up != row);
        }
        let mut level = at.map_or(0, |row| known[row]);
        for row in way.into_iter().rev() {
            level += 1;
            known[row] = level;
        }
    }
    known.into_iter().max().filter(|most| *most > 1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_say_what_they_point_at() {
        let words_of = |name: &str| words(name).join(" ");
        assert_eq!(words_of("BookingRef"), "booking ref");
        assert_eq!(words_of("port_of-call (2)"), "port of call 2");
        assert_eq!(
            [singular("ports"), singular("boxes"), singular("routes"), singular("bus")],
            ["port", "box", "route", "bu"]
        );
        let cases = [
            ("port_id", "port", "id", 1.0),
            ("PortCode", "ports", "Port Code", 1.0),
            ("port", "ports", "code", 0.8),
            ("id", "port", "id", 0.0),
            ("fare_code", "fare", "fare_code", 1.0),
            ("fare_code", "classes", "fare_code", 0.9),
            ("call_id", "port_call", "id", 0.6),
            ("net", "port", "id", 0.0),
            ("-", "port", "%", 0.0),
        ];
        for (many, one, key, expected) in cases {
            let found = likeness(many, one, key);
            assert!((found - expected).abs() < 1e-9, "{many} to {one}.{key}: {found}");
        }
    }

    #[test]
    fn rows_above_rows_end_somewhere() {
        let cases: &[(&[Option<usize>], Option<usize>)] = &[
            (&[None, Some(0), Some(1), Some(0)], Some(3)),
            (&[Some(1), Some(2), None], Some(3)),
            (&[Some(0), Some(0)], Some(2)),
            (&[Some(1), Some(0)], None),
            (&[None, Some(2), Some(3), Some(1)], None),
            (&[None, None], None),
            (&[], None),
        ];
        for (above, expected) in cases {
            assert_eq!(levels(above), *expected, "{above:?}");
        }
    }

    #[test]
    fn between_two_tables_there_is_one_way() {
        let cases: &[(&[(usize, usize)], bool)] = &[
            (&[], false),
            (&[(0, 1), (0, 2), (1, 3)], false),
            (&[(0, 1), (0, 1)], true),
            (&[(0, 1), (1, 2), (0, 2)], true),
            (&[(0, 1), (1, 0)], true),
            (&[(0, 0)], true),
            (&[(0, 1), (0, 2), (1, 3), (2, 3)], true),
        ];
        for (edges, expected) in cases {
            assert_eq!(has_two_ways(edges), *expected, "{edges:?}");
        }
    }
}
