//! Which row of the one side a key points at: by the codes that the parts of the key have there.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::column::{CodedColumn, Encoding, NO_ROW};
use crate::value::Value;

/// A key whose codes are at most this many times the rows gets an array over its codes.
pub(super) const CODES_PER_ROW: u64 = 2;

/// Two rows of the one side have the same key.
#[derive(Clone, Debug)]
pub struct DuplicateKeys {
    /// How many rows there are too many.
    pub surplus: u64,
    /// Some of the keys, with how often they occur.
    pub examples: Vec<(String, u64)>,
}

/// Keys shown when something is wrong with them.
pub(super) const EXAMPLES: usize = 5;

/// The rows of the one side by key.
pub(super) struct KeyIndex<'a> {
    columns: &'a [&'a CodedColumn],
    rows: RowsOfKeys,
}

/// The rows of the one side by all of the key but its last column, and by that in order.
pub(super) struct Timeline<'a> {
    columns: &'a [&'a CodedColumn],
    rows: HashMap<Vec<u64>, Vec<(i64, u32)>, RandomState>,
}

/// The row for the codes that the parts of a key have; [`NO_ROW`] for none.
pub(super) type RowOfCodes<'f> = Box<dyn Fn(&[u64]) -> u32 + Sync + 'f>;

/// Finds the row that a key points at.
pub(super) trait Finds: Sync {
    /// Whether different keys find different rows.
    const TELLS_APART: bool;

    /// The row for a key that stands on the many side; [`NO_ROW`] for none. A part that is null finds nothing.
    fn find(&self, key: &[Value]) -> u32;

    /// The same by the codes that the parts of a key have on the many side.
    fn by_codes<'f>(&'f self, many: &'f [&'f CodedColumn]) -> RowOfCodes<'f>;
}

enum RowsOfKeys {
    /// By the code of the one key column.
    ByCode(Vec<u32>),
    /// By the codes of all key columns, each times what those after it can be.
    Packed(Vec<u128>, HashMap<u128, u32, RandomState>),
    /// By the codes of all key columns, where no number holds them.
    ByCodes(HashMap<Vec<u64>, u32, RandomState>),
}

/// What the codes of one column are in another that has the same values, or some of them.
enum Translation<'a> {
    /// By code, [`NO_CODE`] for what the other has not.
    ByCode(Vec<u64>),
    /// Of very many codes, each when it is asked for.
    Later(&'a CodedColumn, &'a CodedColumn),
}

/// The other column has no such value.
const NO_CODE: u64 = u64::MAX;

impl<'a> Translation<'a> {
    fn new(from: &'a CodedColumn, to: &'a CodedColumn) -> Translation<'a> {
        if from.domain() > CODES_PER_ROW * from.rows() as u64 + 65_536 {
            return Translation::Later(from, to);
        }
        let mut codes = vec![NO_CODE; from.domain() as usize + 1];
        match (from.encoding(), to.encoding()) {
            (Encoding::Texts(mine), Encoding::Texts(theirs)) => {
                // Both stand in order.
                let theirs = theirs.list();
                let (mut slots, mut at) = (codes.iter_mut(), 0);
                mine.each(|text| {
                    while at < theirs.len() && theirs.get_bytes(at) < text.as_bytes() {
                        at += 1;
                    }
                    let is_there = at < theirs.len() && theirs.get_bytes(at) == text.as_bytes();
                    slots.next().filter(|_| is_there).into_iter().for_each(|slot| *slot = at as u64);
                });
            }
            _ => each_value(from, |code, value| codes[code as usize] = to.code_of(value).unwrap_or(NO_CODE)),
        }
        Translation::ByCode(codes)
    }

    fn of(&self, code: u64) -> u64 {
        match self {
            Translation::ByCode(codes) => codes[code as usize],
            Translation::Later(from, _) if code == from.null_code() => NO_CODE,
            Translation::Later(from, to) => to.code_of(&from.value_of(code)).unwrap_or(NO_CODE),
        }
    }
}

/// Writes the codes of a key, translated; false where a part of it is not there.
fn translate(translations: &[Translation<'_>], key: &[u64], to: &mut [u64]) -> bool {
    to.iter_mut().zip(translations).zip(key).for_each(|((to, translation), code)| *to = translation.of(*code));
    !to.contains(&NO_CODE)
}

/// A key has at most so many parts on the way; one of more takes memory for each.
const PARTS: usize = 8;

/// Calls `take` with room for so many parts of a key.
fn with_parts<R>(parts: usize, take: impl FnOnce(&mut [u64]) -> R) -> R {
    match parts <= PARTS {
        true => take(&mut [0; PARTS][..parts]),
        false => take(&mut vec![0; parts]),
    }
}

/// What each part of a key counts when all are put into one number; `None` where that is too large.
fn strides_of(columns: &[&CodedColumn]) -> Option<Vec<u128>> {
    let mut strides = vec![1u128; columns.len()];
    let mut room = 1u128;
    for (stride, column) in strides.iter_mut().zip(columns).rev() {
        *stride = room;
        room = room.checked_mul(u128::from(column.domain()) + 1)?;
    }
    Some(strides)
}

fn packed(strides: &[u128], codes: &[u64]) -> u128 {
    strides.iter().zip(codes).map(|(stride, code)| stride * u128::from(*code)).sum()
}

/// Calls `visit` with the rows whose keys are whole: no part of one is null.
fn each_whole_key(columns: &[&CodedColumn], mut visit: impl FnMut(u32, &[u64])) {
    let codes: Vec<Vec<u64>> = columns.iter().map(|c| c.codes()).collect();
    let nulls: Vec<u64> = columns.iter().map(|c| c.null_code()).collect();
    let mut key = vec![0; columns.len()];
    for row in 0..columns.first().map_or(0, |c| c.rows()) {
        key.iter_mut().zip(&codes).for_each(|(part, codes)| *part = codes[row]);
        if key.iter().zip(&nulls).all(|(code, null)| code != null) {
            visit(row as u32, &key);
        }
    }
}

impl KeyIndex<'_> {
    pub(super) fn of<'a>(one: &'a [&'a CodedColumn]) -> Result<KeyIndex<'a>, DuplicateKeys> {
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
                let mut count = |key: &[u64]| *repeated.entry(key.to_vec()).or_insert(1) += 1;
                match strides_of(one) {
                    Some(strides) => {
                        let mut row_of = HashMap::with_capacity_and_hasher(rows, RandomState::default());
                        each_whole_key(one, |row, key| {
                            row_of.insert(packed(&strides, key), row).inspect(|_| count(key));
                        });
                        RowsOfKeys::Packed(strides, row_of)
                    }
                    None => {
                        let mut row_of = HashMap::with_capacity_and_hasher(rows, RandomState::default());
                        each_whole_key(one, |row, key| {
                            row_of.insert(key.to_vec(), row).inspect(|_| count(key));
                        });
                        RowsOfKeys::ByCodes(row_of)
                    }
                }
            }
        };
        if repeated.is_empty() {
            return Ok(KeyIndex { columns: one, rows });
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
            (RowsOfKeys::Packed(strides, row_of), codes) => {
                row_of.get(&packed(strides, codes)).copied().unwrap_or(NO_ROW)
            }
            (RowsOfKeys::ByCodes(row_of), codes) => row_of.get(codes).copied().unwrap_or(NO_ROW),
        }
    }
}

/// The codes that the values of a key have on the one side; none where a part is null, or is not there.
fn codes_of(columns: &[&CodedColumn], key: &[Value]) -> Option<Vec<u64>> {
    let code = |(column, value): (&&CodedColumn, &Value)| if value.is_null() { None } else { column.code_of(value) };
    columns.iter().zip(key).map(code).collect()
}

impl Finds for KeyIndex<'_> {
    const TELLS_APART: bool = true;

    fn find(&self, key: &[Value]) -> u32 {
        codes_of(self.columns, key).map_or(NO_ROW, |codes| self.row(&codes))
    }

    fn by_codes<'f>(&'f self, many: &'f [&'f CodedColumn]) -> RowOfCodes<'f> {
        let translations: Vec<Translation<'_>> =
            many.iter().zip(self.columns).map(|(from, to)| Translation::new(from, to)).collect();
        let row = move |key: &[u64], codes: &mut [u64]| {
            if translate(&translations, key, codes) { self.row(codes) } else { NO_ROW }
        };
        Box::new(move |key| with_parts(key.len(), |codes| row(key, codes)))
    }
}

impl Timeline<'_> {
    pub(super) fn of<'a>(one: &'a [&'a CodedColumn]) -> Result<Timeline<'a>, DuplicateKeys> {
        check_unique(one)?;
        let mut rows: HashMap<Vec<u64>, Vec<(i64, u32)>, RandomState> = HashMap::default();
        each_whole_key(one, |row, key| {
            let Some((last, rest)) = key.split_last() else { return };
            if let Some(time) = one.last().and_then(|column| moment(&column.value_of(*last))) {
                rows.entry(rest.to_vec()).or_default().push((time, row));
            }
        });
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

impl Timeline<'_> {
    /// The newest row with some codes that is not after a time.
    fn row(&self, codes: &[u64], time: Option<i64>) -> Option<u32> {
        let (line, time) = (self.rows.get(codes)?, time?);
        let newer = line.partition_point(|(at, _)| *at <= time);
        Some(line[newer.checked_sub(1)?].1)
    }
}

impl Finds for Timeline<'_> {
    const TELLS_APART: bool = false;

    fn find(&self, key: &[Value]) -> u32 {
        let found = || {
            let (time, rest) = key.split_last()?;
            self.row(&codes_of(&self.columns[..rest.len()], rest)?, moment(time))
        };
        found().unwrap_or(NO_ROW)
    }

    fn by_codes<'f>(&'f self, many: &'f [&'f CodedColumn]) -> RowOfCodes<'f> {
        let Some((times, rest)) = many.split_last() else { return Box::new(|_| NO_ROW) };
        let translations: Vec<Translation<'_>> =
            rest.iter().zip(self.columns).map(|(from, to)| Translation::new(from, to)).collect();
        let row = move |key: &[u64], codes: &mut [u64]| {
            let time = moment(&times.value_of(*key.last()?));
            if translate(&translations, key, codes) { self.row(codes, time) } else { None }
        };
        Box::new(move |key| with_parts(rest.len(), |codes| row(key, codes).unwrap_or(NO_ROW)))
    }
}

/// Whether each key stands in one row only; a null key is no key.
///
/// # Errors
/// The keys that stand in several.
pub fn check_unique(one: &[&CodedColumn]) -> Result<(), DuplicateKeys> {
    KeyIndex::of(one).map(|_| ())
}

pub(super) fn show(columns: &[&CodedColumn], codes: &[u64]) -> String {
    columns.iter().zip(codes).map(|(c, code)| c.value_of(*code).to_string()).collect::<Vec<_>>().join(", ")
}

/// Calls `visit` with every code of a column and its value, in order.
pub(super) fn each_value(column: &CodedColumn, mut visit: impl FnMut(u64, &Value)) {
    let mut code = 0;
    match column.encoding() {
        Encoding::Texts(dictionary) => dictionary.each(|text| {
            visit(code, &Value::text(text));
            code += 1;
        }),
        _ => (0..column.domain()).for_each(|code| visit(code, &column.value_of(code))),
    }
}
