//! Values on their way from sources to coded columns.

use std::collections::HashMap;
use std::sync::Arc;

use super::TableReport;
use crate::store::{RawColumn, RawData};
use crate::value::{Type, parse};

/// Bad rows that are shown.
pub(super) const EXAMPLES: usize = 5;

/// The columns of a source.
pub struct Loaded {
    /// Names in the model, and values.
    pub columns: Vec<(String, RawColumn)>,
    /// Rows that could not be read.
    pub bad_rows: u64,
    /// Some of them.
    pub bad_examples: Vec<String>,
}

impl Loaded {
    /// Puts the counts of bad rows into a report.
    pub fn report(&self, report: &mut TableReport) {
        report.bad_rows = self.bad_rows;
        report.bad_examples = self.bad_examples.clone();
    }
}

/// The values of one column of one file.
pub(super) enum Staging {
    Ints(Vec<i64>, Type),
    Floats(Vec<f64>),
    Texts { places: HashMap<Arc<str>, u32, foldhash::fast::RandomState>, values: Vec<Arc<str>>, indices: Vec<u32> },
}

impl Staging {
    pub(super) fn new(ty: Type) -> Staging {
        match ty {
            Type::Text => Staging::Texts { places: HashMap::default(), values: Vec::new(), indices: Vec::new() },
            Type::Float => Staging::Floats(Vec::new()),
            ty => Staging::Ints(Vec::new(), ty),
        }
    }

    /// Takes a field; false when it is not of the type.
    pub(super) fn push(&mut self, field: &[u8]) -> bool {
        match self {
            Staging::Ints(values, ty) => match int_of(field, *ty) {
                Some(v) => values.push(v),
                None => return false,
            },
            Staging::Floats(values) => match parse::float(field) {
                Some(v) => values.push(v),
                None => return false,
            },
            Staging::Texts { places, values, indices } => {
                let Ok(text) = std::str::from_utf8(field) else {
                    return false;
                };
                let place = match places.get(text) {
                    Some(place) => *place,
                    None => {
                        let (place, shared): (u32, Arc<str>) = (values.len() as u32, Arc::from(text));
                        values.push(shared.clone());
                        places.insert(shared, place);
                        place
                    }
                };
                indices.push(place);
            }
        }
        true
    }

    /// Takes a text that is known to be one.
    pub(super) fn push_text(&mut self, text: &str) {
        self.push(text.as_bytes());
    }

    pub(super) fn push_null(&mut self) {
        match self {
            Staging::Ints(values, _) => values.push(0),
            Staging::Floats(values) => values.push(0.0),
            Staging::Texts { indices, .. } => indices.push(0),
        }
    }

    pub(super) fn pop(&mut self) {
        match self {
            Staging::Ints(values, _) => drop(values.pop()),
            Staging::Floats(values) => drop(values.pop()),
            Staging::Texts { indices, .. } => drop(indices.pop()),
        }
    }
}

pub(super) fn int_of(field: &[u8], ty: Type) -> Option<i64> {
    match ty {
        Type::Int => parse::int(field),
        Type::Decimal { precision, scale } => i64::try_from(parse::decimal(field, precision, scale)?).ok(),
        Type::Bool => parse::boolean(field).map(i64::from),
        Type::Date => crate::value::date::parse_date(field).map(i64::from),
        Type::Timestamp => parse::timestamp(field),
        Type::Float | Type::Text | Type::Null => None,
    }
}

/// What was read of one file, or of a part of one.
pub(super) struct Part {
    pub(super) columns: Vec<Staging>,
    pub(super) valid: Vec<Vec<bool>>,
    pub(super) bad_rows: u64,
    pub(super) bad_examples: Vec<String>,
}

impl Part {
    pub(super) fn new(types: &[Type]) -> Part {
        Part {
            columns: types.iter().map(|t| Staging::new(*t)).collect(),
            valid: vec![Vec::new(); types.len()],
            bad_rows: 0,
            bad_examples: Vec::new(),
        }
    }

    pub(super) fn bad(&mut self, message: String) {
        self.bad_rows += 1;
        if self.bad_examples.len() < EXAMPLES {
            self.bad_examples.push(message);
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

pub(super) fn join(names: Vec<String>, types: Vec<Type>, parts: Vec<Part>) -> Loaded {
    let mut loaded = Loaded { columns: Vec::new(), bad_rows: 0, bad_examples: Vec::new() };
    let mut columns: Vec<Vec<Staging>> = types.iter().map(|_| Vec::new()).collect();
    let mut valid: Vec<Vec<bool>> = types.iter().map(|_| Vec::new()).collect();
    for part in parts {
        loaded.bad_rows += part.bad_rows;
        loaded.bad_examples.extend(part.bad_examples);
        for (i, (column, part_valid)) in part.columns.into_iter().zip(part.valid).enumerate() {
            columns[i].push(column);
            valid[i].extend(part_valid);
        }
    }
    loaded.bad_examples.truncate(EXAMPLES);
    for (((name, ty), parts), valid) in names.into_iter().zip(types).zip(columns).zip(valid) {
        let valid = valid.contains(&false).then_some(valid);
        loaded.columns.push((name, RawColumn { ty, data: join_column(ty, parts), valid }));
    }
    loaded
}

fn join_column(ty: Type, parts: Vec<Staging>) -> RawData {
    let mut ints = Vec::new();
    let mut floats = Vec::new();
    let mut values: Vec<Arc<str>> = Vec::new();
    let mut all: Vec<u32> = Vec::new();
    let mut known: HashMap<Arc<str>, u32, foldhash::fast::RandomState> = HashMap::default();
    for part in parts {
        match part {
            Staging::Ints(v, _) => ints.extend(v),
            Staging::Floats(v) => floats.extend(v),
            Staging::Texts { values: texts, indices, .. } => {
                let to: Vec<u32> = texts
                    .into_iter()
                    .map(|text| {
                        *known.entry(text.clone()).or_insert_with(|| {
                            values.push(text);
                            values.len() as u32 - 1
                        })
                    })
                    .collect();
                // A part of nothing but nulls has no texts.
                all.extend(indices.into_iter().map(|i| to.get(i as usize).copied().unwrap_or(0)));
            }
        }
    }
    match ty {
        Type::Text => RawData::Texts { values, indices: all },
        Type::Float => RawData::Floats(floats),
        _ => RawData::Ints(ints),
    }
}
