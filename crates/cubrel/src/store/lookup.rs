//! A relationship as data: for each key code, or for each row, the row that it points at.

use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

use rayon::prelude::*;

use super::bits::{PackedInts, bits_for};
use super::buffer::Buffer;
use super::checksum::Checksum;
use super::codes::Segment;
use super::column::{Column, Encoding, NO_ROW};
use super::deferred::Deferred;
use crate::value::{Matching, Value};

/// A key whose codes are at most this many times the rows gets an array over its codes.
const CODES_PER_ROW: u64 = 2;

/// What a relationship's many side points at.
#[derive(Clone, Debug)]
pub struct Lookup {
    /// The rows pointed at.
    pub target: Target,
    /// Rows of the many side that point at nothing, with a null key or one that the one side has not.
    pub unmatched_rows: u64,
    /// Distinct keys on the many side.
    pub key_count: u64,
    /// Rows of the one side.
    pub one_rows: usize,
    /// Some keys that found nothing, for people.
    pub examples: Vec<String>,
    /// Whether it is what was written, where it comes from a file.
    pub checksum: Option<Arc<Checksum<Lookup>>>,
    /// What it is, where this here knows nothing.
    pub deferred: Option<Arc<Deferred<Lookup>>>,
}

/// How the rows are found.
#[derive(Clone, Debug)]
pub enum Target {
    /// By the code of the one key column; the last entry is null's.
    ByCode(Buffer<u32>),
    /// By the row, where there are several key columns or very many codes: the row pointed at, or the number of rows
    /// of the one side for none.
    ByRow(PackedInts),
}

/// Two rows of the one side have the same key.
#[derive(Clone, Debug)]
pub struct DuplicateKeys {
    /// How many rows there are too many.
    pub surplus: u64,
    /// Some of the keys, with how often they occur.
    pub examples: Vec<(String, u64)>,
}

/// Keys shown when something is wrong with them.
const EXAMPLES: usize = 5;

/// The rows of the one side by key.
struct Index<'a> {
    columns: &'a [&'a Column],
    rows: RowsOfKeys,
}

/// The rows of the one side by all of the key but its last column, and by that in order.
struct Timeline<'a> {
    columns: &'a [&'a Column],
    rows: HashMap<Vec<u64>, Vec<(i64, u32)>, foldhash::fast::RandomState>,
}

/// Finds the row that a key points at.
trait Finds {
    /// The row for a key that stands on the many side; [`NO_ROW`] for none. A part that is null finds nothing.
    fn find(&self, key: &[Value]) -> u32;
}

enum RowsOfKeys {
    /// By the code of the one key column.
    ByCode(Vec<u32>),
    /// By the codes of all key columns.
    ByCodes(HashMap<Vec<u64>, u32, foldhash::fast::RandomState>),
}

/// The rows whose keys are whole: no part of one is null.
fn whole_keys(columns: &[&Column]) -> impl Iterator<Item = (u32, Vec<u64>)> {
    let codes: Vec<Vec<u64>> = columns.iter().map(|c| c.codes()).collect();
    let nulls: Vec<u64> = columns.iter().map(|c| c.null_code()).collect();
    let rows = columns.first().map_or(0, |c| c.rows());
    (0..rows).filter_map(move |row| {
        let key: Vec<u64> = codes.iter().map(|c| c[row]).collect();
        key.iter().zip(&nulls).all(|(code, null)| code != null).then_some((row as u32, key))
    })
}

impl Index<'_> {
    fn of<'a>(one: &'a [&'a Column]) -> Result<Index<'a>, DuplicateKeys> {
        let rows = one.first().map_or(0, |c| c.rows());
        let mut repeated: HashMap<Vec<u64>, u64> = HashMap::new();
        let rows = match one {
            [column] if column.domain() <= CODES_PER_ROW * rows as u64 + 65_536 => {
                let mut row_of = vec![NO_ROW; column.domain() as usize + 1];
                for (row, code) in column.codes().into_iter().enumerate().filter(|(_, c)| *c < column.domain()) {
                    if row_of[code as usize] != NO_ROW {
                        *repeated.entry(vec![code]).or_insert(1) += 1;
                    }
                    row_of[code as usize] = row as u32;
                }
                RowsOfKeys::ByCode(row_of)
            }
            _ => {
                let mut row_of = HashMap::with_capacity_and_hasher(rows, Default::default());
                for (row, key) in whole_keys(one) {
                    if let Some(_earlier) = row_of.insert(key.clone(), row) {
                        *repeated.entry(key).or_insert(1) += 1;
                    }
                }
                RowsOfKeys::ByCodes(row_of)
            }
        };
        if repeated.is_empty() {
            return Ok(Index { columns: one, rows });
        }
        let surplus = repeated.values().map(|n| n - 1).sum();
        let mut examples: Vec<(String, u64)> = repeated.iter().map(|(k, n)| (show(one, k), *n)).collect();
        examples.sort();
        examples.truncate(EXAMPLES);
        Err(DuplicateKeys { surplus, examples })
    }

    /// The row whose key has these codes.
    fn row(&self, codes: &[u64]) -> u32 {
        match (&self.rows, codes) {
            (RowsOfKeys::ByCode(row_of), [code]) => row_of.get(*code as usize).copied().unwrap_or(NO_ROW),
            (RowsOfKeys::ByCode(_), _) => NO_ROW,
            (RowsOfKeys::ByCodes(row_of), codes) => row_of.get(codes).copied().unwrap_or(NO_ROW),
        }
    }
}

/// The codes that the values of a key have on the one side; none where a part is null, or is not there.
fn codes_of(columns: &[&Column], key: &[Value]) -> Option<Vec<u64>> {
    let code = |(column, value): (&&Column, &Value)| if value.is_null() { None } else { column.code_of(value) };
    columns.iter().zip(key).map(code).collect()
}

impl Finds for Index<'_> {
    fn find(&self, key: &[Value]) -> u32 {
        codes_of(self.columns, key).map_or(NO_ROW, |codes| self.row(&codes))
    }
}

impl Timeline<'_> {
    fn of<'a>(one: &'a [&'a Column]) -> Result<Timeline<'a>, DuplicateKeys> {
        check_unique(one)?;
        let mut rows: HashMap<Vec<u64>, Vec<(i64, u32)>, foldhash::fast::RandomState> = HashMap::default();
        for (row, mut key) in whole_keys(one) {
            let time = key.pop().zip(one.last()).and_then(|(code, column)| moment(&column.value_of(code)));
            if let Some(time) = time {
                rows.entry(key).or_default().push((time, row));
            }
        }
        rows.values_mut().for_each(|line| line.sort_unstable());
        Ok(Timeline { columns: one, rows })
    }
}

/// A day or a time as a number.
fn moment(value: &Value) -> Option<i64> {
    match value {
        Value::Date(day) => Some(i64::from(*day)),
        Value::Timestamp(time) => Some(*time),
        _ => None,
    }
}

impl Finds for Timeline<'_> {
    fn find(&self, key: &[Value]) -> u32 {
        let found = || {
            let (time, rest) = key.split_last()?;
            let line = self.rows.get(&codes_of(&self.columns[..rest.len()], rest)?)?;
            let time = moment(time)?;
            let newer = line.partition_point(|(at, _)| *at <= time);
            Some(line[newer.checked_sub(1)?].1)
        };
        found().unwrap_or(NO_ROW)
    }
}

/// Whether each key stands in one row only; a null key is no key.
///
/// # Errors
/// The keys that stand in several.
pub fn check_unique(one: &[&Column]) -> Result<(), DuplicateKeys> {
    Index::of(one).map(|_| ())
}

fn show(columns: &[&Column], codes: &[u64]) -> String {
    columns.iter().zip(codes).map(|(c, code)| c.value_of(*code).to_string()).collect::<Vec<_>>().join(", ")
}

/// Calls `visit` with every code of a column and its value, in order.
fn each_value(column: &Column, mut visit: impl FnMut(u64, &Value)) {
    let mut code = 0;
    match column.encoding() {
        Encoding::Texts(dictionary) => dictionary.each(|text| {
            visit(code, &Value::text(text));
            code += 1;
        }),
        _ => (0..column.domain()).for_each(|code| visit(code, &column.value_of(code))),
    }
}

impl Lookup {
    /// Finds the row of every key.
    ///
    /// # Errors
    /// When keys of the one side are not unique.
    pub fn build(many: &[&Column], one: &[&Column], matching: Matching) -> Result<Lookup, DuplicateKeys> {
        Ok(match matching {
            Matching::Exact => Lookup::by(many, one, &Index::of(one)?),
            Matching::AtOrBefore => Lookup::by(many, one, &Timeline::of(one)?),
        })
    }

    fn by(many: &[&Column], one: &[&Column], index: &impl Finds) -> Lookup {
        let rows = many.first().map_or(0, |c| c.rows());
        let one_rows = one.first().map_or(0, |c| c.rows());
        match many {
            [column] if column.domain() <= CODES_PER_ROW * rows as u64 + 65_536 => {
                Lookup::by_code(column, one_rows, index)
            }
            _ => Lookup::by_row(many, one_rows, index),
        }
    }

    fn by_code(column: &Column, one_rows: usize, index: &impl Finds) -> Lookup {
        let mut target = vec![NO_ROW; column.domain() as usize + 1];
        each_value(column, |code, value| target[code as usize] = index.find(std::slice::from_ref(value)));
        let mut unmatched_rows = column.nulls();
        let mut examples = Vec::new();
        if target.iter().filter(|r| **r == NO_ROW).count() > 1 {
            let missing = |segment: &Segment| {
                let (mut count, mut first) = (0, BTreeSet::new());
                for code in segment.all().into_iter().filter(|code| target[*code as usize] == NO_ROW) {
                    count += 1;
                    if code < column.domain() && first.insert(code) && first.len() > EXAMPLES {
                        first.pop_last();
                    }
                }
                (count, first)
            };
            let all: Vec<(u64, BTreeSet<u64>)> = column.segments().par_iter().map(missing).collect();
            unmatched_rows = all.iter().map(|(count, _)| count).sum();
            let keys: BTreeSet<u64> = all.into_iter().flat_map(|(_, keys)| keys).collect();
            let keys = keys.into_iter().take(EXAMPLES);
            examples = keys.map(|c| column.value_of(c).to_string()).collect();
        }
        let key_count = column.distinct();
        let target = Target::ByCode(target.into());
        Lookup { target, unmatched_rows, key_count, one_rows, examples, ..Lookup::nothing() }
    }

    fn by_row(many: &[&Column], one_rows: usize, index: &impl Finds) -> Lookup {
        let rows = many.first().map_or(0, |c| c.rows());
        let mut examples: Vec<String> = Vec::new();
        let mut targets = vec![one_rows as u64; rows];
        let mut keys: HashMap<Vec<u64>, u32, foldhash::fast::RandomState> = HashMap::default();
        let mut unmatched_rows = rows as u64;
        for (row, key) in whole_keys(many) {
            let found = *keys.entry(key).or_insert_with_key(|key| {
                let values: Vec<Value> = key.iter().zip(many).map(|(code, column)| column.value_of(*code)).collect();
                let found = index.find(&values);
                if found == NO_ROW && examples.len() < EXAMPLES {
                    examples.push(show(many, key));
                }
                found
            });
            if found != NO_ROW {
                targets[row as usize] = u64::from(found);
                unmatched_rows -= 1;
            }
        }
        let packed = PackedInts::pack(targets.into_iter(), bits_for(one_rows as u64));
        let key_count = keys.len() as u64;
        let target = Target::ByRow(packed);
        Lookup { target, unmatched_rows, key_count, one_rows, examples, ..Lookup::nothing() }
    }

    /// The relationship where it is what was written, else one that points at nothing.
    pub fn verified(&self) -> &Lookup {
        let made = self.made();
        let Some(checksum) = &made.checksum else { return made };
        checksum.instead(|| true, || made.pointing_at_nothing()).map_or(made, |l| l)
    }

    /// The relationship, made if it was not yet; whether it is what was written is not looked at.
    pub fn made(&self) -> &Lookup {
        self.deferred.as_ref().map_or(self, |deferred| deferred.get())
    }

    /// A relationship that is made when it is used for the first time.
    pub fn deferred(make: impl Fn() -> Lookup + Send + Sync + 'static) -> Lookup {
        Lookup { deferred: Some(Arc::new(Deferred::new(make))), ..Lookup::nothing() }
    }

    /// One that points at nothing, whatever the key.
    pub fn nothing() -> Lookup {
        let (target, examples) = (Target::ByCode(vec![NO_ROW].into()), Vec::new());
        Lookup { target, unmatched_rows: 0, key_count: 0, one_rows: 0, examples, checksum: None, deferred: None }
    }

    fn pointing_at_nothing(&self) -> Lookup {
        let target = match &self.target {
            Target::ByCode(rows) => Target::ByCode(vec![NO_ROW; rows.len()].into()),
            Target::ByRow(packed) => {
                let none = std::iter::repeat_n(self.one_rows as u64, packed.len());
                Target::ByRow(PackedInts::pack(none, bits_for(self.one_rows as u64)))
            }
        };
        Lookup { target, checksum: None, ..self.clone() }
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        match &self.target {
            Target::ByCode(rows) => rows.len() * 4,
            Target::ByRow(packed) => packed.heap_bytes(),
        }
    }
}
