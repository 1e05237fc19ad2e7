//! Values on their way from sources to coded columns.

use super::field_parser::{FieldParser, ParsedField};
use super::interner::Interner;
use super::numerals::{exact_of, short_decimal, short_float, short_number};
use cubrel_store::{RawColumn, RawData};
use cubrel_value::{Type, date, parse};

/// Bad rows that are shown.
pub(super) const EXAMPLES: usize = 5;
/// Rows of a source that could not be read.
#[derive(Clone, Debug, Default)]
pub(super) struct BadRows {
    pub(super) count: u64,
    /// Some of them.
    pub(super) examples: Vec<String>,
}

impl BadRows {
    /// Of few rows it is asked what is wrong with them: it takes a while to find the line of one.
    pub(super) fn add(&mut self, message: impl FnOnce() -> String) {
        self.count += 1;
        if self.examples.len() < EXAMPLES {
            self.examples.push(message());
        }
    }

    pub(super) fn join(&mut self, other: BadRows) {
        self.count += other.count;
        self.examples.extend(other.examples);
        self.examples.truncate(EXAMPLES);
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

    /// Takes so many nulls.
    pub(super) fn extend_nulls(&mut self, count: usize) {
        (0..count).for_each(|_| self.push_null());
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
    pub(super) fn extend<'f>(
        &mut self,
        fields: impl ExactSizeIterator<Item = &'f [u8]>,
        way: &FieldParser<'_>,
    ) -> Vec<usize> {
        let before = self.len();
        let mut marks = FlawMarks { before, after: before + fields.len(), valid: &mut self.valid, misfits: Vec::new() };
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
            (Values::Ints(to), Type::Timestamp) => {
                marks.take(to, fields, |f| way.read(f, |f| way.time(f), |f| way.time(f)));
            }
            (Values::Ints(to), _) => marks.take(to, fields, |f| way.read(f, exact, exact)),
            (Values::Floats(to), _) => marks.take(to, fields, |f| way.read(f, short_float, parse::float)),
            (Values::Texts(texts), _) => {
                for (row, field) in fields.map(|field| way.field(field)).enumerate() {
                    match way.text(field, self.is_text) {
                        ParsedField::Value(()) => texts.push(field),
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
struct FlawMarks<'a> {
    /// Values of the column before and after.
    before: usize,
    after: usize,
    valid: &'a mut Option<Vec<bool>>,
    misfits: Vec<usize>,
}

impl FlawMarks<'_> {
    fn take<'f, T: Default>(
        &mut self,
        to: &mut Vec<T>,
        fields: impl ExactSizeIterator<Item = &'f [u8]>,
        read: impl Fn(&[u8]) -> ParsedField<T>,
    ) {
        to.reserve(fields.len());
        for (row, field) in fields.enumerate() {
            match read(field) {
                ParsedField::Value(value) => to.push(value),
                said => {
                    to.push(T::default());
                    self.mark(row, said);
                }
            }
        }
    }

    #[inline(never)]
    fn mark<T>(&mut self, row: usize, said: ParsedField<T>) {
        match said {
            ParsedField::Null => self.valid.get_or_insert_with(|| vec![true; self.after])[self.before + row] = false,
            _ => self.misfits.push(row),
        }
    }
}

/// What was read of one piece of a source.
pub(super) struct StagedPart {
    pub(super) columns: Vec<Staging>,
    pub(super) bad: BadRows,
}

impl StagedPart {
    pub(super) fn rows(&self) -> usize {
        self.columns.first().map_or(0, Staging::len)
    }

    /// For a piece of which it may be known that all of it is UTF-8, and what ASCII parts in it, too.
    pub(super) fn new(types: &[Type], is_text: bool) -> StagedPart {
        StagedPart {
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
    use super::super::field_parser::{Admitted, Missing};
    use super::*;

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
            let way = FieldParser {
                kind: Admitted::Settled,
                shape: &Shape::Plain,
                missing: &missing,
                trim: false,
                zone: None,
            };
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
}
