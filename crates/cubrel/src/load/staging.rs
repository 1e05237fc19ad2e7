//! Values on their way from sources to coded columns.

use foldhash::fast::RandomState;
use hashbrown::HashTable;
use std::hash::BuildHasher;

use super::way::{Said, Way};
use crate::store::{RawColumn, RawData, TextList};
use crate::value::{Type, date, parse};

/// Bad rows that are shown.
pub(super) const EXAMPLES: usize = 5;
/// Texts of which fewer than this have been seen may still turn out to repeat.
const REPEATS_UNKNOWN: usize = 4096;

/// Rows of a source that could not be read.
#[derive(Clone, Debug, Default)]
pub(super) struct BadRows {
    pub(super) count: u64,
    /// Some of them.
    pub(super) examples: Vec<String>,
}

impl BadRows {
    pub(super) fn add(&mut self, message: String) {
        self.count += 1;
        if self.examples.len() < EXAMPLES {
            self.examples.push(message);
        }
    }

    pub(super) fn join(&mut self, other: BadRows) {
        self.count += other.count;
        self.examples.extend(other.examples);
        self.examples.truncate(EXAMPLES);
    }
}

/// Texts, each once while they repeat.
#[derive(Default)]
pub(super) struct Interner {
    values: TextList,
    indices: Vec<u32>,
    /// Where a text stands in `values`; not kept any more once texts have turned out to be nearly all different.
    places: HashTable<u32>,
    given_up: bool,
    hasher: RandomState,
    /// Short texts seen of late, with their places.
    recent: Vec<(u128, u32)>,
}

/// Short texts that are remembered; a power of two.
const RECENT: usize = 256;

/// A text of up to 15 bytes as a number that no other one has.
#[inline]
fn short(text: &[u8]) -> Option<u128> {
    let len = text.len();
    // Bytes in the middle may be taken twice: of texts of one length all are taken at the same places.
    let (low, high) = match (text.first_chunk::<8>(), text.last_chunk::<8>()) {
        (Some(first), Some(last)) if len < 16 => {
            let beyond = u64::from_le_bytes(*last).checked_shr(8 * (16 - len as u32)).unwrap_or(0);
            (u64::from_le_bytes(*first), beyond)
        }
        (Some(_), _) => return None,
        _ => match (text.first_chunk::<4>(), text.last_chunk::<4>()) {
            (Some(first), Some(last)) => {
                (u64::from(u32::from_le_bytes(*first)) | u64::from(u32::from_le_bytes(*last)) << 32, 0)
            }
            _ => match text {
                [] => (0, 0),
                [first, .., last] => (u64::from(*first) | u64::from(text[len / 2]) << 8 | u64::from(*last) << 16, 0),
                [only] => (u64::from(*only), 0),
            },
        },
    };
    Some(u128::from(low) | u128::from(high | (len as u64 + 1) << 56) << 64)
}

/// Where a short text is remembered.
#[inline]
fn recent_place(short: u128) -> usize {
    let folded = (short as u64 ^ (short >> 64) as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (folded >> 56) as usize % RECENT
}

impl Interner {
    /// Takes a text, in UTF-8.
    fn push(&mut self, text: &[u8]) {
        let next = self.values.len() as u32;
        if self.given_up {
            self.values.push_bytes(text);
            self.indices.push(next);
            return;
        }
        let short = short(text);
        if let Some(key) = short
            && let Some((known, place)) = self.recent.get(recent_place(key))
            && *known == key
        {
            self.indices.push(*place);
            return;
        }
        let hash = self.hasher.hash_one(text);
        let (values, hasher) = (&mut self.values, &self.hasher);
        let found = self.places.entry(
            hash,
            |place| values.get_bytes(*place as usize) == text,
            |place| hasher.hash_one(values.get_bytes(*place as usize)),
        );
        let place = match found {
            hashbrown::hash_table::Entry::Occupied(entry) => *entry.get(),
            hashbrown::hash_table::Entry::Vacant(entry) => {
                entry.insert(next);
                values.push_bytes(text);
                next
            }
        };
        self.indices.push(place);
        if let Some(key) = short {
            self.recent.resize(RECENT, (0, 0));
            self.recent[recent_place(key)] = (key, place);
        }
        if self.values.len() > REPEATS_UNKNOWN && self.values.len() > self.indices.len() / 2 {
            self.given_up = true;
            self.places = HashTable::new();
        }
    }
}

/// The values of one column of a piece.
pub(super) struct Staging {
    ty: Type,
    values: Values,
    /// Which values are not null, once there is a null.
    valid: Option<Vec<bool>>,
    /// Whether fields are known to be UTF-8.
    is_text: bool,
}

pub(super) enum Values {
    Ints(Vec<i64>),
    Floats(Vec<f64>),
    Texts(Interner),
}

impl Staging {
    pub(super) fn new(ty: Type) -> Staging {
        let values = match ty {
            Type::Text => Values::Texts(Interner::default()),
            Type::Float => Values::Floats(Vec::new()),
            _ => Values::Ints(Vec::new()),
        };
        Staging { ty, values, valid: None, is_text: false }
    }

    pub(super) fn ty(&self) -> Type {
        self.ty
    }

    pub(super) fn len(&self) -> usize {
        match &self.values {
            Values::Ints(values) => values.len(),
            Values::Floats(values) => values.len(),
            Values::Texts(texts) => texts.indices.len(),
        }
    }

    /// Takes a field; false when it is not of the type.
    #[inline]
    pub(super) fn push(&mut self, field: &[u8]) -> bool {
        match &mut self.values {
            Values::Ints(values) => match exact_of(field, self.ty) {
                Some(v) => values.push(v),
                None => return false,
            },
            Values::Floats(values) => match parse::float(field) {
                Some(v) => values.push(v),
                None => return false,
            },
            Values::Texts(texts) => {
                if !self.is_text && std::str::from_utf8(field).is_err() {
                    return false;
                }
                texts.push(field);
            }
        }
        if let Some(valid) = &mut self.valid {
            valid.push(true);
        }
        true
    }

    pub(super) fn push_null(&mut self) {
        let len = self.len();
        self.valid.get_or_insert_with(|| vec![true; len]).push(false);
        match &mut self.values {
            Values::Ints(values) => values.push(0),
            Values::Floats(values) => values.push(0.0),
            Values::Texts(texts) => texts.indices.push(0),
        }
    }

    /// Takes away all but the first `rows` values.
    pub(super) fn truncate(&mut self, rows: usize) {
        match &mut self.values {
            Values::Ints(values) => values.truncate(rows),
            Values::Floats(values) => values.truncate(rows),
            Values::Texts(texts) => texts.indices.truncate(rows),
        }
        if let Some(valid) = &mut self.valid {
            valid.truncate(rows);
        }
    }

    /// Takes fields; tells which ones are not of the type, and have something else in their place.
    pub(super) fn extend<'f>(&mut self, fields: impl ExactSizeIterator<Item = &'f [u8]>, way: &Way<'_>) -> Vec<usize> {
        let before = self.len();
        let mut marks = Marks { before, after: before + fields.len(), valid: &mut self.valid, misfits: Vec::new() };
        if let Some(valid) = marks.valid {
            valid.resize(marks.after, true);
        }
        let exact = |field: &[u8]| exact_of(field, self.ty);
        match (&mut self.values, self.ty) {
            (Values::Ints(to), Type::Int) => marks.take(to, fields, |f| way.read(f, |f| short_number(f, 0), exact)),
            (Values::Ints(to), Type::Decimal { precision, scale }) => {
                marks.take(to, fields, |f| way.read(f, |f| short_decimal(f, precision, scale), exact));
            }
            (Values::Ints(to), Type::Date) => {
                let day = |f: &[u8]| date::parse_date(f).map(i64::from);
                marks.take(to, fields, |f| way.read(f, day, exact));
            }
            (Values::Ints(to), _) => marks.take(to, fields, |f| way.read(f, exact, exact)),
            (Values::Floats(to), _) => marks.take(to, fields, |f| way.read(f, short_float, parse::float)),
            (Values::Texts(texts), _) => {
                for (row, field) in fields.enumerate() {
                    match way.text(field, self.is_text) {
                        Said::Value(()) => texts.push(field),
                        said => {
                            texts.indices.push(0);
                            marks.mark(row, said);
                        }
                    }
                }
            }
        }
        marks.misfits
    }

    /// Takes whole numbers; of those that `is_null` tells nothing is looked at. Tells the first that `each` refuses.
    pub(super) fn extend_ints<T: Copy>(
        &mut self,
        ints: &[T],
        is_null: Option<impl Fn(usize) -> bool>,
        each: impl Fn(T) -> Option<i64>,
    ) -> Result<(), T> {
        self.mark_nulls(ints.len(), is_null.as_ref());
        let Values::Ints(values) = &mut self.values else { return Ok(()) };
        let mut refused = None;
        let mut take = |v: T| {
            each(v).unwrap_or_else(|| {
                refused.get_or_insert(v);
                0
            })
        };
        match is_null {
            None => values.extend(ints.iter().map(|v| take(*v))),
            Some(is_null) => {
                values.extend(ints.iter().enumerate().map(|(i, v)| if is_null(i) { 0 } else { take(*v) }));
            }
        }
        refused.map_or(Ok(()), Err)
    }

    /// Takes doubles; those that are no numbers, and those that `is_null` tells, as nothing.
    pub(super) fn extend_floats<T: Copy>(
        &mut self,
        floats: &[T],
        is_null: Option<impl Fn(usize) -> bool>,
        each: impl Fn(T) -> f64,
    ) {
        let has_odd = floats.iter().any(|v| !each(*v).is_finite());
        let no_number = |i: usize| is_null.as_ref().is_some_and(|is_null| is_null(i)) || !each(floats[i]).is_finite();
        self.mark_nulls(floats.len(), (has_odd || is_null.is_some()).then_some(&no_number));
        if let Values::Floats(values) = &mut self.values {
            values.extend(floats.iter().map(|v| Some(each(*v)).filter(|v| v.is_finite()).unwrap_or(0.0)));
        }
    }

    /// Marks which of so many values to come are null.
    fn mark_nulls(&mut self, count: usize, is_null: Option<&impl Fn(usize) -> bool>) {
        let before = self.len();
        if let Some(is_null) = is_null {
            let valid = self.valid.get_or_insert_with(|| vec![true; before]);
            valid.extend((0..count).map(|i| !is_null(i)));
        } else if let Some(valid) = &mut self.valid {
            valid.resize(before + count, true);
        }
    }

    /// Takes texts, nulls as nothing.
    pub(super) fn extend_texts<'t>(&mut self, texts: impl Iterator<Item = Option<&'t str>>) {
        for value in texts {
            match value {
                Some(text) => drop(self.push(text.as_bytes())),
                None => self.push_null(),
            }
        }
    }

    /// Takes some of `texts`, each given by its place; nulls as no place, or as a place where there is no text.
    pub(super) fn extend_places(
        &mut self,
        texts: &[Option<&str>],
        places: impl ExactSizeIterator<Item = Option<usize>> + Clone,
    ) {
        let text_at = |place: Option<usize>| place.and_then(|p| Some((p, (*texts.get(p)?)?)));
        let no_text: Vec<bool> = places.clone().map(|place| text_at(place).is_none()).collect();
        self.mark_nulls(no_text.len(), no_text.contains(&true).then_some(&|i: usize| no_text[i]));
        let Values::Texts(interner) = &mut self.values else { return };
        let mut known: Vec<Option<u32>> = vec![None; texts.len()];
        for place in places {
            match text_at(place) {
                None => interner.indices.push(0),
                Some((place, text)) => match known[place] {
                    Some(index) => interner.indices.push(index),
                    None => {
                        interner.push(text.as_bytes());
                        known[place] = interner.indices.last().copied();
                    }
                },
            }
        }
    }

    pub(super) fn raw(self) -> RawColumn {
        let data = match self.values {
            Values::Ints(values) => RawData::Ints(values),
            Values::Floats(values) => RawData::Floats(values),
            Values::Texts(Interner { values, indices, .. }) => RawData::Texts { values, indices },
        };
        RawColumn { ty: self.ty, data, valid: self.valid.filter(|v| v.contains(&false)) }
    }
}

/// Which of some values that are being taken are null, or are not of the type.
struct Marks<'a> {
    /// Values of the column before and after.
    before: usize,
    after: usize,
    valid: &'a mut Option<Vec<bool>>,
    misfits: Vec<usize>,
}

impl Marks<'_> {
    fn take<'f, T: Default>(
        &mut self,
        to: &mut Vec<T>,
        fields: impl ExactSizeIterator<Item = &'f [u8]>,
        read: impl Fn(&[u8]) -> Said<T>,
    ) {
        to.reserve(fields.len());
        for (row, field) in fields.enumerate() {
            match read(field) {
                Said::Value(value) => to.push(value),
                said => {
                    to.push(T::default());
                    self.mark(row, said);
                }
            }
        }
    }

    #[inline(never)]
    fn mark<T>(&mut self, row: usize, said: Said<T>) {
        match said {
            Said::Null => self.valid.get_or_insert_with(|| vec![true; self.after])[self.before + row] = false,
            _ => self.misfits.push(row),
        }
    }
}

/// A field as the whole number that a column of the type holds.
fn exact_of(field: &[u8], ty: Type) -> Option<i64> {
    match ty {
        Type::Int => parse::int(field),
        Type::Decimal { precision, scale } => i64::try_from(parse::decimal(field, precision, scale)?).ok(),
        Type::Bool => parse::boolean(field).map(i64::from),
        Type::Date => date::parse_date(field).map(i64::from),
        Type::Timestamp => parse::timestamp(field),
        Type::Float | Type::Text | Type::Null => None,
    }
}

/// A decimal of few digits; `None` for everything that needs a closer look.
#[inline]
fn short_decimal(field: &[u8], precision: u8, scale: u8) -> Option<i64> {
    let limit = POWERS.get(usize::from(precision)).copied().unwrap_or(i64::MAX);
    short_number(field, scale).filter(|v| v.abs() < limit)
}

/// Digits of a whole number that every double of its size has.
const DOUBLE_DIGITS: usize = 15;

/// A double of few digits; `None` for everything that needs a closer look. W. Clinger, "How to read floating point numbers
/// accurately" (PLDI 1990): both numbers are exact, so that the division rounds once.
#[inline]
fn short_float(field: &[u8]) -> Option<f64> {
    let point = field.iter().position(|c| *c == b'.');
    let decimals = point.map_or(0, |p| field.len() - p - 1);
    if field.len() > DOUBLE_DIGITS || field.first() == Some(&b'-') {
        return None;
    }
    let units = short_number(field, decimals as u8)?;
    Some(units as f64 / POWERS[decimals] as f64)
}

/// Digits that fit 64 bits whatever they are.
const SHORT: u8 = 18;
const POWERS: [i64; 19] = {
    let mut powers = [1i64; 19];
    let mut i = 1;
    while i < 19 {
        powers[i] = powers[i - 1] * 10;
        i += 1;
    }
    powers
};

/// A number of few digits at a scale; `None` for everything that needs a closer look.
#[inline]
fn short_number(field: &[u8], scale: u8) -> Option<i64> {
    let (negative, digits) = match field {
        [b'-', rest @ ..] => (true, rest),
        _ => (false, field),
    };
    if digits.is_empty() || digits.len() > usize::from(SHORT) {
        return None;
    }
    let (mut value, mut point) = (0i64, None);
    for (i, c) in digits.iter().enumerate() {
        match c {
            b'0'..=b'9' => value = value * 10 + i64::from(c - b'0'),
            b'.' if point.is_none() => point = Some(i),
            _ => return None,
        }
    }
    let after = point.map_or(0, |p| digits.len() - p - 1);
    let whole = digits.len() - after - usize::from(point.is_some());
    let missing = usize::from(scale).checked_sub(after)?;
    if whole + after == 0 || whole + usize::from(scale) > usize::from(SHORT) {
        return None;
    }
    let value = value * POWERS[missing];
    Some(if negative { -value } else { value })
}

/// What was read of one piece of a source.
pub(super) struct Part {
    pub(super) columns: Vec<Staging>,
    pub(super) bad: BadRows,
}

impl Part {
    pub(super) fn rows(&self) -> usize {
        self.columns.first().map_or(0, Staging::len)
    }

    /// For a piece of which it may be known that all of it is UTF-8, and what ASCII parts in it, too.
    pub(super) fn new(types: &[Type], is_text: bool) -> Part {
        Part {
            columns: types.iter().map(|t| Staging { is_text, ..Staging::new(*t) }).collect(),
            bad: BadRows::default(),
        }
    }
}

pub(super) fn described(ty: Type) -> String {
    match ty {
        Type::Int => "a whole number".into(),
        Type::Decimal { .. } => format!("a {ty}"),
        Type::Float => "a number".into(),
        Type::Bool => "true or false".into(),
        Type::Date => "a date such as 2026-03-01".into(),
        Type::Timestamp => "a timestamp such as 2026-03-01 08:30:00".into(),
        Type::Text | Type::Null => "UTF-8 text".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::super::dialect::Shape;
    use super::super::way::{Kind, Missing};
    use super::*;

    const NUMBERS: [&str; 28] = [
        "0",
        "-0",
        "7",
        "-12",
        "123456789012345678",
        "1234567890123456789",
        "1.5",
        "1.50",
        "1.505",
        ".5",
        "5.",
        ".",
        "-",
        "",
        "+3",
        "1e3",
        "0012",
        "-.25",
        "1..2",
        "99999999999999999.99",
        "9223372036854775807",
        "999.99",
        "1000.00",
        "-1000",
        "0.1",
        "123456789.123457",
        "0.000000000001",
        "1,5",
    ];

    /// What a column holds after one field, which may not fit.
    fn taken(field: &str, ty: Type) -> RawData {
        let missing = Missing::new(&[]);
        let way = Way { kind: Kind::Settled, shape: &Shape::Plain, missing: &missing };
        let mut column = Staging::new(ty);
        let misfits = column.extend([field.as_bytes()].into_iter(), &way);
        column.truncate(1 - misfits.len());
        column.raw().data
    }

    #[test]
    fn short_numbers_are_those_of_the_long_way() {
        for field in NUMBERS {
            let bytes = field.as_bytes();
            let decimals = [(18, 0), (18, 2), (5, 2), (18, 6), (3, 3)];
            let exact = decimals.map(|(precision, scale)| Type::Decimal { precision, scale });
            for ty in exact.into_iter().chain([Type::Int]) {
                let RawData::Ints(found) = taken(field, ty) else { panic!("whole numbers") };
                assert_eq!(found.first().copied(), exact_of(bytes, ty), "{field} as {ty}");
            }
            let RawData::Floats(found) = taken(field, Type::Float) else { panic!("doubles") };
            let bits = |v: f64| v.to_bits();
            assert_eq!(found.first().copied().map(bits), parse::float(bytes).map(bits), "{field} as a double");
        }
        for i in 0..20_000u64 {
            let units = i.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> (20 + i % 40);
            let field = format!("{}.{:0width$}", units / 1000, units % 1000, width = 3 + (i % 4) as usize);
            assert_eq!(short_float(field.as_bytes()).or(parse::float(field.as_bytes())), field.parse().ok(), "{field}");
        }
    }

    #[test]
    fn nulls_and_misfits_stand_where_they_were() {
        let missing = ["".to_string(), "none".to_string()];
        let missing = Missing::new(&missing);
        for (ty, fields, misfits, nulls) in [
            (Type::Int, vec!["1", "", "x", "2", "none", "007"], vec![2], vec![1, 4]),
            (Type::Date, vec!["2026-01-01", "2026-02-30", "none"], vec![1], vec![2]),
            (Type::Text, vec!["", "x", "non", "none"], vec![], vec![0, 3]),
            (Type::Float, vec!["1.5", "none", "inf"], vec![2], vec![1]),
        ] {
            let way = Way { kind: Kind::Settled, shape: &Shape::Plain, missing: &missing };
            let mut column = Staging::new(ty);
            for round in 0..3 {
                let found = column.extend(fields.iter().map(|f| f.as_bytes()), &way);
                assert_eq!(found, misfits, "{ty}");
                assert_eq!(column.len(), (round + 1) * fields.len());
            }
            let raw = column.raw();
            let valid: Vec<usize> = (0..raw.len()).filter(|i| !raw.is_valid(*i)).collect();
            let rows = fields.len();
            let expected: Vec<usize> = (0..3).flat_map(|round| nulls.iter().map(move |n| round * rows + n)).collect();
            assert_eq!(valid, expected, "{ty}");
        }
    }

    #[test]
    fn short_texts_are_told_apart() {
        let mut keys = std::collections::HashMap::new();
        let letters = [b'a', b'b', 0];
        for len in 0..18usize {
            // All texts that differ from others in up to two places.
            for (i, k) in (0..len.max(1)).flat_map(|i| (0..len.max(1)).map(move |k| (i, k))) {
                for (x, y) in letters.iter().flat_map(|x| letters.iter().map(move |y| (x, y))) {
                    let mut text = vec![b'a'; len];
                    text.get_mut(i).into_iter().for_each(|b| *b = *x);
                    text.get_mut(k).into_iter().for_each(|b| *b = *y);
                    match short(&text) {
                        Some(key) => assert_eq!(*keys.entry(key).or_insert(text.clone()), text),
                        None => assert!(len > 15, "{len}"),
                    }
                }
            }
        }
    }

    #[test]
    fn texts_that_repeat_stand_once() {
        let mut column = Staging::new(Type::Text);
        for i in 0..20_000 {
            assert!(column.push(format!("t{}", i % 7).as_bytes()));
        }
        column.push_null();
        assert!(column.push(b"last"));
        column.truncate(20_001);
        let RawColumn { data: RawData::Texts { values, indices }, valid: Some(valid), .. } = column.raw() else {
            panic!("texts with a null");
        };
        assert_eq!((values.iter().take(7).count(), indices.len(), valid.len()), (7, 20_001, 20_001));
        assert!(values.len() < 9 && !valid[20_000]);
    }
}
