//! Which row of the one side a key points at: by the codes that the parts of the key have there.

use std::collections::HashMap;

use foldhash::fast::RandomState;

use super::column::{CodedColumn, Encoding, NO_ROW};
use super::dictionary::TextDictionary;
use cubrel_value::threads::map_owned;
use cubrel_value::{Type, Value};

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

/// The rows for some keys, given part by part as the codes that these have on the many side; [`NO_ROW`] for none. A part that is
/// null finds nothing.
pub(super) type RowsOfCodes<'f> = Box<dyn Fn(&[&[u64]]) -> Vec<u32> + Sync + 'f>;

/// Finds the rows that keys point at.
pub(super) trait Finds: Sync {
    /// Whether different keys find different rows.
    const TELLS_APART: bool;

    /// What finds the rows for keys of these columns of the many side.
    fn by_codes<'f>(&'f self, many: &'f [&'f CodedColumn]) -> RowsOfCodes<'f>;
}

enum RowsOfKeys {
    /// By the code of the one key column.
    ByCode(Vec<u32>),
    /// By the codes of several key columns.
    ByLead(RowsByLead),
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
        let mut codes = match (from.encoding(), to.encoding()) {
            (Encoding::Texts(mine), Encoding::Texts(theirs)) => text_codes(mine, theirs),
            _ if have_same_numbers(from, to) => number_codes(from, to),
            _ => {
                let mut codes = Vec::with_capacity(from.domain() as usize + 1);
                each_value(from, |_, value| codes.push(to.code_of(value).unwrap_or(NO_CODE)));
                codes
            }
        };
        codes.push(NO_CODE);
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

/// The codes that texts have in another dictionary: both stand in order.
fn text_codes(mine: &TextDictionary, theirs: &TextDictionary) -> Vec<u64> {
    let theirs = theirs.list();
    let mut at = 0;
    let mut codes = Vec::with_capacity(mine.len() + 1);
    mine.each(|text| {
        while at < theirs.len() && theirs.get_bytes(at) < text.as_bytes() {
            at += 1;
        }
        let is_there = at < theirs.len() && theirs.get_bytes(at) == text.as_bytes();
        codes.push(if is_there { at as u64 } else { NO_CODE });
    });
    codes
}

/// Whether equal values of two columns are the same whole number in both.
fn have_same_numbers(a: &CodedColumn, b: &CodedColumn) -> bool {
    match (a.ty(), b.ty()) {
        (Type::Decimal { scale, .. }, Type::Decimal { scale: other, .. }) => scale == other,
        (Type::Float | Type::Text, _) => false,
        (a, b) => a == b,
    }
}

/// The codes that the numbers of one column have in another that has the same numbers: both stand in order.
fn number_codes(from: &CodedColumn, to: &CodedColumn) -> Vec<u64> {
    let listed = from.listed();
    let starts: Vec<u64> = (0..from.domain()).step_by(CODES_OF_A_THREAD as usize).collect();
    let part = |start: u64| {
        let codes = start..from.domain().min(start + CODES_OF_A_THREAD);
        let number = |code: u64| listed.as_ref().map_or_else(|| from.int_of(code), |list| list[code as usize]);
        let numbers: Vec<i64> = codes.map(number).collect();
        let mut codes = Vec::with_capacity(numbers.len());
        to.encoding().each_code_of(to.domain(), &numbers, |code| codes.push(code.unwrap_or(NO_CODE)));
        codes
    };
    map_owned(starts, part).concat()
}

/// So many codes are translated by a thread at a time.
const CODES_OF_A_THREAD: u64 = 1 << 16;

/// Calls `find` with each of some keys, translated, and gives what it finds; [`NO_ROW`] where a part is not there.
fn rows_of_keys(
    translations: &[Translation<'_>],
    keys: &[&[u64]],
    mut find: impl FnMut(usize, &[u64]) -> u32,
) -> Vec<u32> {
    let mut key = vec![0; translations.len()];
    let row = |i: usize| {
        key.iter_mut().zip(translations).zip(keys).for_each(|((to, of), codes)| *to = of.of(codes[i]));
        if key.contains(&NO_CODE) { NO_ROW } else { find(i, &key) }
    };
    (0..keys.first().map_or(0, |codes| codes.len())).map(row).collect()
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

impl RowsOfKeys {
    /// By hash; `count` gets each key that was there before.
    fn by_hash(one: &[&CodedColumn], mut count: impl FnMut(&[u64])) -> RowsOfKeys {
        let rows = one.first().map_or(0, |c| c.rows());
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
}

/// Rows by the codes of several key columns: those of one code of the first stand together, by what the others say. Such a key
/// is found in less memory than by hash, and so mostly in the caches.
struct RowsByLead {
    /// The key column with the most codes.
    lead: usize,
    /// What each of the others counts when they are put into one number of 32 bits.
    strides: Vec<u32>,
    /// Where the rows of each code of the lead begin, and the end.
    starts: Vec<u32>,
    /// What the other columns say, rising within each code, and the row.
    rows: Vec<(u32, u32)>,
}

/// Up to so many rows of a code are all looked at: nothing waits for what a comparison says.
const FEW_ROWS: usize = 16;

impl RowsByLead {
    /// `None` where the codes are too many, or a key stands in several rows.
    fn of(one: &[&CodedColumn]) -> Option<RowsByLead> {
        let lead = (0..one.len()).max_by_key(|column| one[*column].domain())?;
        let (rows, codes) = (one[lead].rows(), one[lead].domain());
        if codes > CODES_PER_ROW * rows as u64 + 65_536 {
            return None;
        }
        let mut strides = vec![0u32; one.len()];
        let mut room = 1u32;
        for (stride, column) in
            strides.iter_mut().zip(one).enumerate().filter(|(i, _)| *i != lead).map(|(_, pair)| pair)
        {
            *stride = room;
            room = room.checked_mul(u32::try_from(column.domain()).ok()?.checked_add(1)?)?;
        }
        let mut starts = vec![0u32; codes as usize + 1];
        each_whole_key(one, |_, key| starts[key[lead] as usize + 1] += 1);
        (1..starts.len()).for_each(|code| starts[code] += starts[code - 1]);
        let mut next = starts.clone();
        let mut by_lead = RowsByLead { lead, strides, rows: vec![(0, 0); starts[codes as usize] as usize], starts };
        each_whole_key(one, |row, key| {
            let at = &mut next[key[lead] as usize];
            by_lead.rows[*at as usize] = (by_lead.others(key), row);
            *at += 1;
        });
        by_lead.sort().then_some(by_lead)
    }

    /// What the columns but the lead say of a key.
    fn others(&self, key: &[u64]) -> u32 {
        self.strides.iter().zip(key).fold(0, |sum, (stride, code)| sum.wrapping_add(stride.wrapping_mul(*code as u32)))
    }

    /// Sorts the rows of each code; false where a key stands in several.
    fn sort(&mut self) -> bool {
        self.starts.windows(2).all(|ends| {
            let rows = &mut self.rows[ends[0] as usize..ends[1] as usize];
            rows.sort_unstable();
            rows.windows(2).all(|pair| pair[0].0 < pair[1].0)
        })
    }

    /// The rows of some keys. What each of them says comes first, so that looking for one need not wait for another.
    fn rows_of(&self, translations: &[Translation<'_>], keys: &[&[u64]]) -> Vec<u32> {
        let translated = |(of, codes): (&Translation<'_>, &&[u64])| codes.iter().map(|code| of.of(*code)).collect();
        let parts: Vec<Vec<u64>> = translations.iter().zip(keys).map(translated).collect();
        let mut others = vec![0u32; parts[self.lead].len()];
        let mut is_whole = vec![true; others.len()];
        for (part, stride) in parts.iter().zip(&self.strides) {
            for ((others, is_whole), code) in others.iter_mut().zip(&mut is_whole).zip(part) {
                *others = others.wrapping_add(stride.wrapping_mul(*code as u32));
                *is_whole &= *code != NO_CODE;
            }
        }
        let codes = parts[self.lead].iter().zip(others).zip(is_whole);
        codes
            .map(|((lead, others), is_whole)| if is_whole { self.row(*lead as usize, others) } else { NO_ROW })
            .collect()
    }

    fn row(&self, lead: usize, others: u32) -> u32 {
        let rows = &self.rows[self.starts[lead] as usize..self.starts[lead + 1] as usize];
        if rows.len() <= FEW_ROWS {
            return rows.iter().fold(NO_ROW, |found, (codes, row)| if *codes == others { *row } else { found });
        }
        rows.binary_search_by_key(&others, |(codes, _)| *codes).map_or(NO_ROW, |at| rows[at].1)
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
            _ => match RowsByLead::of(one) {
                Some(by_lead) => RowsOfKeys::ByLead(by_lead),
                None => RowsOfKeys::by_hash(one, |key| *repeated.entry(key.to_vec()).or_insert(1) += 1),
            },
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
}

impl Finds for KeyIndex<'_> {
    const TELLS_APART: bool = true;

    fn by_codes<'f>(&'f self, many: &'f [&'f CodedColumn]) -> RowsOfCodes<'f> {
        let translations: Vec<Translation<'_>> =
            many.iter().zip(self.columns).map(|(from, to)| Translation::new(from, to)).collect();
        Box::new(move |keys| match &self.rows {
            RowsOfKeys::ByLead(by_lead) => by_lead.rows_of(&translations, keys),
            RowsOfKeys::ByCode(row_of) => rows_of_keys(&translations, keys, |_, key| row_of[key[0] as usize]),
            RowsOfKeys::Packed(strides, row_of) => {
                rows_of_keys(&translations, keys, |_, key| row_of.get(&packed(strides, key)).copied().unwrap_or(NO_ROW))
            }
            RowsOfKeys::ByCodes(row_of) => {
                rows_of_keys(&translations, keys, |_, key| row_of.get(key).copied().unwrap_or(NO_ROW))
            }
        })
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

    fn by_codes<'f>(&'f self, many: &'f [&'f CodedColumn]) -> RowsOfCodes<'f> {
        let Some((times, rest)) = many.split_last() else { return Box::new(|_| Vec::new()) };
        let translations: Vec<Translation<'_>> =
            rest.iter().zip(self.columns).map(|(from, to)| Translation::new(from, to)).collect();
        Box::new(move |keys| {
            let Some((moments, rest)) = keys.split_last() else { return Vec::new() };
            let row = |i: usize, key: &[u64]| self.row(key, moment(&times.value_of(moments[i]))).unwrap_or(NO_ROW);
            if rest.is_empty() {
                return (0..moments.len()).map(|i| row(i, &[])).collect();
            }
            rows_of_keys(&translations, rest, row)
        })
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
