//! A relationship as data: for each key code, or for each row, the row that it points at.

use std::collections::{BTreeSet, HashSet};
use std::sync::Arc;

use foldhash::fast::RandomState;
use indexmap::IndexSet;

use super::bits::{PackedInts, bits_for};
use super::buffer::Buffer;
use super::checksum::Checksum;
use super::codes::Segment;
use super::column::{CodedColumn, NO_ROW};
use super::deferred::Deferred;
use super::key_rows::{CODES_PER_ROW, DuplicateKeys, EXAMPLES, Finds, KeyIndex, RowsOfCodes, Timeline, show};
use cubrel_value::Matching;
use cubrel_value::threads::{map_each, map_parts, map_ranges};

/// What a relationship's many side points at.
#[derive(Clone, Debug)]
pub struct Lookup {
    /// The rows pointed at.
    pub target: LookupRows,
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
pub enum LookupRows {
    /// By the code of the one key column; the last entry is null's.
    ByCode(Buffer<u32>),
    /// By the row, where there are several key columns or very many codes: the row pointed at, or the number of rows
    /// of the one side for none.
    ByRow(PackedInts),
}

/// So many keys are looked for at a time.
const KEYS_AT_A_TIME: usize = 1 << 12;

/// What the keys of a segment point at.
struct FoundRows {
    /// For each row, the one found or [`NO_ROW`].
    rows: Vec<u32>,
    /// Keys that find nothing, in the order in which they stand.
    missing: IndexSet<Vec<u64>, RandomState>,
    /// The others, where the rows that they find do not tell them apart.
    others: HashSet<Vec<u64>, RandomState>,
}

impl FoundRows {
    fn of(many: &[&CodedColumn], segment: usize, find: &RowsOfCodes<'_>, tells_apart: bool) -> FoundRows {
        let codes: Vec<Vec<u64>> = many.iter().map(|column| column.segments()[segment].all()).collect();
        let nulls: Vec<u64> = many.iter().map(|column| column.null_code()).collect();
        let count = codes.first().map_or(0, Vec::len);
        let mut found =
            FoundRows { rows: Vec::with_capacity(count), missing: IndexSet::default(), others: HashSet::default() };
        let mut key = vec![0; many.len()];
        for from in (0..count).step_by(KEYS_AT_A_TIME) {
            let range = from..count.min(from + KEYS_AT_A_TIME);
            let keys: Vec<&[u64]> = codes.iter().map(|codes| &codes[range.clone()]).collect();
            let rows = find(&keys);
            for (i, row) in rows.iter().enumerate().filter(|(_, row)| **row == NO_ROW || !tells_apart) {
                key.iter_mut().zip(&keys).for_each(|(part, codes)| *part = codes[i]);
                let is_whole = key.iter().zip(&nulls).all(|(code, null)| code != null);
                if *row == NO_ROW && is_whole && !found.missing.contains(&key) {
                    found.missing.insert(key.clone());
                }
                if *row != NO_ROW && !found.others.contains(&key) {
                    found.others.insert(key.clone());
                }
            }
            found.rows.extend(rows);
        }
        found
    }
}

impl Lookup {
    /// Finds the row of every key.
    ///
    /// # Errors
    /// When keys of the one side are not unique.
    pub fn build(many: &[&CodedColumn], one: &[&CodedColumn], matching: Matching) -> Result<Lookup, DuplicateKeys> {
        Ok(match matching {
            Matching::Exact => Lookup::by(many, one, &KeyIndex::of(one)?),
            Matching::AtOrBefore => Lookup::by(many, one, &Timeline::of(one)?),
        })
    }

    fn by(many: &[&CodedColumn], one: &[&CodedColumn], index: &impl Finds) -> Lookup {
        let rows = many.first().map_or(0, |c| c.rows());
        let one_rows = one.first().map_or(0, |c| c.rows());
        match many {
            [column] if column.domain() <= CODES_PER_ROW * rows as u64 + 65_536 => {
                Lookup::by_code(column, one_rows, index)
            }
            _ => Lookup::by_row(many, one_rows, index),
        }
    }

    fn by_code(column: &CodedColumn, one_rows: usize, index: &impl Finds) -> Lookup {
        let keys = [column];
        let find = index.by_codes(&keys);
        let codes: Vec<u64> = (0..column.domain()).collect();
        let mut target = map_ranges(codes.len(), KEYS_AT_A_TIME, |some| find(&[&codes[some]])).concat();
        // Null points at nothing.
        target.push(NO_ROW);
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
            let all: Vec<(u64, BTreeSet<u64>)> = map_each(column.segments(), missing);
            unmatched_rows = all.iter().map(|(count, _)| count).sum();
            let keys: BTreeSet<u64> = all.into_iter().flat_map(|(_, keys)| keys).collect();
            let keys = keys.into_iter().take(EXAMPLES);
            examples = keys.map(|c| column.value_of(c).to_string()).collect();
        }
        let key_count = column.distinct();
        let target = LookupRows::ByCode(target.into());
        Lookup { target, unmatched_rows, key_count, one_rows, examples, ..Lookup::nothing() }
    }

    fn by_row<F: Finds>(many: &[&CodedColumn], one_rows: usize, index: &F) -> Lookup {
        let find = index.by_codes(many);
        let segments = many.first().map_or(0, |column| column.segments().len());
        let parts: Vec<FoundRows> = map_parts(segments, |segment| FoundRows::of(many, segment, &find, F::TELLS_APART));
        let none = one_rows as u64;
        let target = |row: &u32| if *row == NO_ROW { none } else { u64::from(*row) };
        let rows: Vec<u32> = parts.iter().flat_map(|part| &part.rows).copied().collect();
        let packed = PackedInts::pack(rows.iter().map(target), bits_for(none));
        let mut is_found = vec![false; one_rows + 1];
        let mut unmatched_rows = 0;
        for row in &rows {
            unmatched_rows += u64::from(*row == NO_ROW);
            is_found[(*row as usize).min(one_rows)] = true;
        }
        let found = is_found[..one_rows].iter().filter(|is_found| **is_found).count();
        let mut missing: IndexSet<Vec<u64>, RandomState> = IndexSet::default();
        let mut others: HashSet<Vec<u64>, RandomState> = HashSet::default();
        for part in parts {
            missing.extend(part.missing);
            others.extend(part.others);
        }
        let key_count = (missing.len() + if F::TELLS_APART { found } else { others.len() }) as u64;
        let examples = missing.iter().take(EXAMPLES).map(|key| show(many, key)).collect();
        let target = LookupRows::ByRow(packed);
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
        let (target, examples) = (LookupRows::ByCode(vec![NO_ROW].into()), Vec::new());
        Lookup { target, unmatched_rows: 0, key_count: 0, one_rows: 0, examples, checksum: None, deferred: None }
    }

    fn pointing_at_nothing(&self) -> Lookup {
        let target = match &self.target {
            LookupRows::ByCode(rows) => LookupRows::ByCode(vec![NO_ROW; rows.len()].into()),
            LookupRows::ByRow(packed) => {
                let none = std::iter::repeat_n(self.one_rows as u64, packed.len());
                LookupRows::ByRow(PackedInts::pack(none, bits_for(self.one_rows as u64)))
            }
        };
        Lookup { target, checksum: None, ..self.clone() }
    }

    /// Bytes on the heap.
    pub fn heap_bytes(&self) -> usize {
        match &self.target {
            LookupRows::ByCode(rows) => rows.len() * 4,
            LookupRows::ByRow(packed) => packed.heap_bytes(),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;
    use std::sync::Arc;

    use super::super::raw::RawColumn;
    use super::*;
    use cubrel_value::{Data, Type, Value, Vector, VectorBuilder};

    const MANY: u64 = 900;
    const ONE: u64 = 300;

    fn noise(i: u64) -> u64 {
        i.wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(23) >> 20
    }

    fn column(values: &[Value], ty: Type) -> CodedColumn {
        let mut builder = VectorBuilder::new(ty, values.len());
        values.iter().for_each(|value| builder.push(value.clone()));
        CodedColumn::encode(&RawColumn::from_vector(builder.finish(), ty).expect("fits"), 128)
    }

    /// The type of a part of a key, and its value for a number.
    type Part<'p> = (Type, &'p dyn Fn(u64) -> Value);

    /// Keys of several parts, each part a function of a number: the one side has the numbers below [`ONE`] once, the many side
    /// others as well, and some nulls.
    fn keys(parts: &[Part<'_>]) -> [Vec<CodedColumn>; 2] {
        let some = |rows: u64, number: &dyn Fn(u64) -> Option<u64>| -> Vec<CodedColumn> {
            let part = |(place, (ty, of)): (usize, &Part<'_>)| {
                let value = |row: u64| match number(row) {
                    None if row % parts.len() as u64 == place as u64 => Value::Null,
                    number => of(number.unwrap_or(row)),
                };
                column(&(0..rows).map(value).collect::<Vec<_>>(), *ty)
            };
            parts.iter().enumerate().map(part).collect()
        };
        let many = some(MANY, &|row| (row % 11 != 3).then(|| noise(row) % (ONE + 40)));
        [many, some(ONE, &|row| Some((row * 7 + 5) % ONE))]
    }

    /// Row by row and value by value.
    fn naive(many: &[&CodedColumn], one: &[&CodedColumn]) -> (Vec<u32>, usize) {
        let key = |columns: &[&CodedColumn], row: u32| -> Vec<Value> {
            columns.iter().map(|c| c.value_of(c.codes()[row as usize])).collect()
        };
        let theirs: Vec<Vec<Value>> = (0..ONE as u32).map(|row| key(one, row)).collect();
        let mine: Vec<Vec<Value>> = (0..MANY as u32).map(|row| key(many, row)).collect();
        let is_whole = |key: &&Vec<Value>| !key.contains(&Value::Null);
        let find = |key: &Vec<Value>| {
            let same = |other: &Vec<Value>| other.iter().zip(key).all(|(a, b)| a.total_cmp(b).is_eq());
            theirs.iter().position(|other| is_whole(&key) && same(other)).map_or(NO_ROW, |row| row as u32)
        };
        let distinct: BTreeSet<String> = mine.iter().filter(is_whole).map(|key| format!("{key:?}")).collect();
        (mine.iter().map(find).collect(), distinct.len())
    }

    #[test]
    fn keys_of_several_parts_find_their_rows() {
        let int = |n: u64| Value::Int(n as i64);
        let far = |n: u64| Value::Int(noise(n) as i64 * 400_000 - (1 << 61));
        let short = |n: u64| Value::text(["Ness", "Holm", "Skaw"][n as usize % 3]);
        let numbered = |n: u64| Value::text(format!("TI-{:05}", n * 31 % 7919));
        let long = |n: u64| Value::text(format!("the boat of {n} to the isle of {} {}", noise(n), "o".repeat(40)));
        let day = |n: u64| Value::Date(n as i32 / 9);
        let (tens, ones) = (|n: u64| Value::Int(n as i64 / 10), |n: u64| Value::Int(n as i64 % 10));
        let (rest, times) = (|n: u64| Value::Int(n as i64 / 18), |n: u64| Value::Int(n as i64 % 18));
        let cases: [&[Part<'_>]; 7] = [
            &[(Type::Int, &int), (Type::Text, &short)],
            // Few and many rows for each code of a part.
            &[(Type::Int, &ones), (Type::Int, &tens)],
            &[(Type::Int, &rest), (Type::Int, &times)],
            &[(Type::Text, &numbered), (Type::Date, &day)],
            &[(Type::Text, &long), (Type::Text, &short), (Type::Int, &int)],
            &[(Type::Int, &far), (Type::Int, &int)],
            // More than a number of 128 bits holds.
            &[(Type::Int, &far), (Type::Int, &far), (Type::Int, &far)],
        ];
        for (case, parts) in cases.iter().enumerate() {
            let [many, one] = keys(parts);
            let (many, one): (Vec<&CodedColumn>, Vec<&CodedColumn>) = (many.iter().collect(), one.iter().collect());
            let lookup = Lookup::build(&many, &one, Matching::Exact).expect("each key once");
            let LookupRows::ByRow(packed) = &lookup.target else { panic!("case {case} is by code") };
            let (targets, distinct) = naive(&many, &one);
            let found = (0..MANY as usize).map(|row| packed.get(row)).map(|t| if t == ONE { NO_ROW } else { t as u32 });
            assert_eq!(found.collect::<Vec<_>>(), targets, "case {case}");
            let unmatched = targets.iter().filter(|row| **row == NO_ROW).count();
            assert_eq!((lookup.unmatched_rows, lookup.key_count), (unmatched as u64, distinct as u64), "case {case}");
            assert_eq!(lookup.examples.len(), EXAMPLES, "case {case}");
        }
    }

    #[test]
    fn keys_of_one_part_find_their_rows_whatever_their_types() {
        let int = |n: u64| Value::Int(n as i64 * 3);
        let listed = |n: u64| Value::Int(noise(n) as i64 * 400_000 - (1 << 61));
        let decimal =
            |scale: u8| move |n: u64| Value::Decimal { unscaled: i128::from(n * 3) * 10i128.pow(scale.into()), scale };
        let (hundredths, thousandths) = (decimal(2), decimal(3));
        let float = |n: u64| Value::Float(n as f64 * 3.0);
        let day = |n: u64| Value::Date(n as i32 * 2);
        let numbered = |n: u64| Value::text(format!("TI-{:05}", n * 31 % 7919));
        let long = |n: u64| Value::text(format!("the boat of {n} to the isle of {} {}", noise(n), "o".repeat(40)));
        let [two, three] = [2, 3].map(|scale| Type::Decimal { precision: 18, scale });
        let cases: [(Part<'_>, Part<'_>); 10] = [
            ((Type::Int, &int), (Type::Int, &int)),
            ((Type::Int, &listed), (Type::Int, &listed)),
            ((two, &hundredths), (two, &hundredths)),
            ((two, &hundredths), (three, &thousandths)),
            ((Type::Int, &int), (two, &hundredths)),
            ((Type::Float, &float), (Type::Float, &float)),
            ((Type::Int, &int), (Type::Float, &float)),
            ((Type::Date, &day), (Type::Date, &day)),
            ((Type::Text, &numbered), (Type::Text, &numbered)),
            ((Type::Text, &long), (Type::Text, &long)),
        ];
        for (case, (of_many, of_one)) in cases.into_iter().enumerate() {
            let ([many, _], [_, one]) = (keys(&[of_many]), keys(&[of_one]));
            let (many, one) = (&many[0], &one[0]);
            let lookup = Lookup::build(&[many], &[one], Matching::Exact).expect("each key once");
            let LookupRows::ByCode(rows) = &lookup.target else { panic!("case {case} is by row") };
            let (targets, distinct) = naive(&[many], &[one]);
            assert_eq!(
                many.codes().iter().map(|code| rows[*code as usize]).collect::<Vec<_>>(),
                targets,
                "case {case}"
            );
            let unmatched = targets.iter().filter(|row| **row == NO_ROW).count();
            assert_eq!((lookup.unmatched_rows, lookup.key_count), (unmatched as u64, distinct as u64), "case {case}");
        }
    }

    #[test]
    fn keys_that_stand_twice_are_told() {
        let texts = |f: &dyn Fn(u64) -> String| {
            let values = Vector::new(Data::Text((0..ONE).map(|i| Arc::from(f(i).as_str())).collect()));
            CodedColumn::encode(&RawColumn::from_vector(values, Type::Text).expect("fits"), 128)
        };
        let (a, b) = (texts(&|i| format!("{}", i % 10)), texts(&|i| format!("{}", i % 20)));
        let Err(duplicates) = Lookup::build(&[&a, &b], &[&a, &b], Matching::Exact) else { panic!("not unique") };
        let keys: BTreeSet<(u64, u64)> = (0..ONE).map(|i| (i % 10, i % 20)).collect();
        assert_eq!(duplicates.surplus, ONE - keys.len() as u64);
        assert!(duplicates.surplus > 0 && duplicates.examples.iter().all(|(_, times)| *times > 1));
    }
}
