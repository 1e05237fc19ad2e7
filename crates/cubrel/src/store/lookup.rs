//! A relationship as data: for each key code, or for each row, the row that it points at.

use std::collections::HashMap;

use super::bits::{PackedInts, bits_for};
use super::column::Column;
use crate::value::Value;

/// No row: the key finds nothing, or is null.
pub const NO_ROW: u32 = u32::MAX;
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
    /// Some keys that found nothing, for people.
    pub examples: Vec<String>,
}

/// How the rows are found.
#[derive(Clone, Debug)]
pub enum Target {
    /// By the code of the one key column; the last entry is null's.
    ByCode(Box<[u32]>),
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

/// One key, or the parts of one.
fn key(columns: &[&Column], row: usize) -> Option<Vec<Value>> {
    let values: Vec<Value> = columns.iter().map(|c| c.value_of(c.code(row))).collect();
    values.iter().all(|v| !v.is_null()).then_some(values)
}

fn show(key: &[Value]) -> String {
    key.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// The row of each key of the one side; a null key is no key.
pub fn index(one: &[&Column]) -> Result<HashMap<Vec<Value>, u32>, DuplicateKeys> {
    let rows = one.first().map_or(0, |c| c.rows());
    let mut rows_of: HashMap<Vec<Value>, u32> = HashMap::with_capacity(rows);
    let mut repeated: HashMap<Vec<Value>, u64> = HashMap::new();
    for row in 0..rows {
        if let Some(key) = key(one, row)
            && rows_of.insert(key.clone(), row as u32).is_some()
        {
            *repeated.entry(key).or_insert(1) += 1;
        }
    }
    if repeated.is_empty() {
        return Ok(rows_of);
    }
    let surplus = repeated.values().map(|n| n - 1).sum();
    let mut examples: Vec<(String, u64)> = repeated.iter().map(|(k, n)| (show(k), *n)).collect();
    examples.sort();
    examples.truncate(EXAMPLES);
    Err(DuplicateKeys { surplus, examples })
}

impl Lookup {
    /// Finds the row of every key.
    pub fn build(many: &[&Column], one: &[&Column]) -> Result<Lookup, DuplicateKeys> {
        let rows_of = index(one)?;
        let rows = many.first().map_or(0, |c| c.rows());
        match many {
            [column] if column.domain() <= CODES_PER_ROW * rows as u64 + 65_536 => {
                Ok(Lookup::by_code(column, &rows_of))
            }
            _ => Ok(Lookup::by_row(many, rows, one.first().map_or(0, |c| c.rows()), &rows_of)),
        }
    }

    fn by_code(column: &Column, rows_of: &HashMap<Vec<Value>, u32>) -> Lookup {
        let find = |code: u64| rows_of.get(&[column.value_of(code)][..]).copied().unwrap_or(NO_ROW);
        let mut target: Vec<u32> = (0..column.domain()).map(find).collect();
        target.push(NO_ROW);
        let mut unmatched_rows = column.nulls();
        let mut examples = Vec::new();
        if target.iter().filter(|r| **r == NO_ROW).count() > 1 {
            unmatched_rows = 0;
            let mut missing = vec![false; target.len()];
            for code in column.codes() {
                if target[code as usize] == NO_ROW {
                    unmatched_rows += 1;
                    missing[code as usize] = true;
                }
            }
            let keys = (0..column.domain()).filter(|c| missing[*c as usize]).take(EXAMPLES);
            examples = keys.map(|c| column.value_of(c).to_string()).collect();
        }
        Lookup {
            target: Target::ByCode(target.into_boxed_slice()),
            unmatched_rows,
            key_count: column.distinct(),
            examples,
        }
    }

    fn by_row(many: &[&Column], rows: usize, one_rows: usize, rows_of: &HashMap<Vec<Value>, u32>) -> Lookup {
        let mut examples: Vec<String> = Vec::new();
        let mut keys = std::collections::HashSet::new();
        let mut unmatched_rows = 0;
        let targets: Vec<u64> = (0..rows)
            .map(|row| {
                let key = key(many, row);
                let found = key.as_ref().and_then(|k| rows_of.get(k)).map(|r| u64::from(*r));
                if found.is_none() {
                    unmatched_rows += 1;
                    if let Some(key) = &key
                        && examples.len() < EXAMPLES
                        && !examples.contains(&show(key))
                    {
                        examples.push(show(key));
                    }
                }
                keys.extend(key);
                found.unwrap_or(one_rows as u64)
            })
            .collect();
        let packed = PackedInts::pack(targets.into_iter(), bits_for(one_rows as u64));
        Lookup { target: Target::ByRow(packed), unmatched_rows, key_count: keys.len() as u64, examples }
    }

    /// The same relationship for someone who may not see all rows: what points at a row that is not allowed points at
    /// nothing. `points` gives the code or row of the many side's rows that are allowed.
    #[must_use]
    pub fn restricted(&self, one: Option<&[bool]>, one_rows: usize, points: impl Iterator<Item = usize>) -> Lookup {
        let may = |row: u32| row != NO_ROW && one.is_none_or(|allowed| allowed[row as usize]);
        let (target, missing): (Target, Vec<bool>) = match &self.target {
            Target::ByCode(rows) => {
                let rows: Vec<u32> = rows.iter().map(|r| if may(*r) { *r } else { NO_ROW }).collect();
                let missing = rows.iter().map(|r| *r == NO_ROW).collect();
                (Target::ByCode(rows.into_boxed_slice()), missing)
            }
            Target::ByRow(packed) => {
                let rows: Vec<u64> = (0..packed.len())
                    .map(|i| packed.get(i))
                    .map(|r| if (r as usize) < one_rows && may(r as u32) { r } else { one_rows as u64 })
                    .collect();
                let missing = rows.iter().map(|r| *r as usize == one_rows).collect();
                (Target::ByRow(PackedInts::pack(rows.into_iter(), bits_for(one_rows as u64))), missing)
            }
        };
        let unmatched_rows = points.filter(|p| missing[*p]).count() as u64;
        Lookup { target, unmatched_rows, key_count: self.key_count, examples: Vec::new() }
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        match &self.target {
            Target::ByCode(rows) => rows.len() * 4,
            Target::ByRow(packed) => packed.heap_bytes(),
        }
    }
}
