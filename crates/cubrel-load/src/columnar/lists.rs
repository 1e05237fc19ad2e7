//! The entries of lists as rows: of a batch, another one that has a row for each entry.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::{Array, ArrayRef, RecordBatch, StructArray, UInt32Array};
use arrow_schema::{DataType, Field, Schema};
use arrow_select::take::take;

use super::leaves::at_path;
use crate::nested::NESTED;
use crate::nested::RowsOf;
use cubrel_formula::source::suggestion;

/// A value around the entries, and for each entry the row of it that it stands in.
struct Around {
    values: ArrayRef,
    rows: Vec<u32>,
}

/// The entries of a list, each as a row; empty lists, and those that are null, have none.
///
/// # Errors
/// When there is no such list, or nothing that is to be carried; says what there is.
pub(super) fn entries(batch: &RecordBatch, rows_of: &RowsOf) -> Result<RecordBatch, String> {
    let mut around: Vec<Around> = Vec::new();
    let mut current: ArrayRef = Arc::new(StructArray::from(batch.clone()));
    for name in rows_of.path() {
        let inner = field(&current, name)?;
        around.push(Around { rows: (0..current.len() as u32).collect(), values: current });
        current = inner;
        while let Some((values, rows)) = elements(&current)? {
            follow(&mut around, &rows);
            current = values;
        }
        let there: Vec<u32> = (0..current.len() as u32).filter(|row| !current.is_null(*row as usize)).collect();
        if there.len() < current.len() {
            current = taken(&current, &there)?;
            follow(&mut around, &there);
        }
    }
    let mut columns: Vec<(String, ArrayRef)> = Vec::new();
    for carried in rows_of.carried() {
        let Around { values, rows } = &around[carried.depth.min(around.len() - 1)];
        let value = carried.path.iter().try_fold(values.clone(), |value, name| field(&value, name))?;
        columns.push((carried.whole.join(NESTED), taken(&value, rows)?));
    }
    let carried = columns.len();
    let own: Vec<(String, ArrayRef)> = match current.as_struct_opt() {
        Some(fields) => {
            let names = fields.fields().iter().map(|field| field.name().clone());
            names.zip(fields.columns().iter().cloned()).collect()
        }
        None => vec![(rows_of.name().to_string(), current)],
    };
    for (name, values) in own {
        let is_taken = columns[..carried].iter().any(|(other, _)| *other == name);
        // What is called as something around is told apart by the list's name.
        columns.push((if is_taken { format!("{}{NESTED}{name}", rows_of.name()) } else { name }, values));
    }
    let fields: Vec<Field> =
        columns.iter().map(|(name, values)| Field::new(name, values.data_type().clone(), true)).collect();
    let schema = Arc::new(Schema::new(fields));
    RecordBatch::try_new(schema, columns.into_iter().map(|(_, values)| values).collect()).map_err(|e| e.to_string())
}

/// The rows of what is around, where some of the entries, or entries of them, are gone through.
fn follow(around: &mut [Around], entries: &[u32]) {
    for Around { rows, .. } in around {
        *rows = entries.iter().map(|entry| rows[*entry as usize]).collect();
    }
}

fn taken(values: &ArrayRef, rows: &[u32]) -> Result<ArrayRef, String> {
    take(values.as_ref(), &UInt32Array::from(rows.to_vec()), None).map_err(|e| e.to_string())
}

/// A field of values that have several.
fn field(values: &ArrayRef, name: &str) -> Result<ArrayRef, String> {
    let fields = values.as_struct_opt().map(|s| s.fields().iter().map(|f| f.name().as_str()).collect::<Vec<_>>());
    let fields = fields.unwrap_or_default();
    if let Some(place) = fields.iter().position(|field| *field == name) {
        return at_path(values, &[place]);
    }
    // A name may also be put together from those that lead there, as columns are called.
    let rest = |field: &str| name.strip_prefix(field)?.strip_prefix(NESTED);
    let mut nested = fields.iter().enumerate().filter_map(|(place, field)| Some((place, rest(field)?)));
    let found = nested.find_map(|(place, rest)| field(&at_path(values, &[place]).ok()?, rest).ok());
    found.ok_or_else(|| match fields.is_empty() {
        true => format!("there is no `{name}`: nothing is in it"),
        false => format!("there is no `{name}`: {}", suggestion(name, &fields)),
    })
}

/// The values in lists, and the list of each; none where these are no lists.
fn elements(array: &ArrayRef) -> Result<Option<(ArrayRef, Vec<u32>)>, String> {
    let (starts_and_ends, values): (Vec<(usize, usize)>, &ArrayRef) = match array.data_type() {
        DataType::List(_) => {
            let list = array.as_list::<i32>();
            (list.value_offsets().windows(2).map(|w| (w[0] as usize, w[1] as usize)).collect(), list.values())
        }
        DataType::LargeList(_) => {
            let list = array.as_list::<i64>();
            (list.value_offsets().windows(2).map(|w| (w[0] as usize, w[1] as usize)).collect(), list.values())
        }
        DataType::FixedSizeList(_, size) => {
            let step = usize::try_from(*size).map_err(|e| e.to_string())?;
            let list = array.as_fixed_size_list();
            ((0..list.len()).map(|i| (i * step, (i + 1) * step)).collect(), list.values())
        }
        _ => return Ok(None),
    };
    let (mut places, mut lists) = (Vec::new(), Vec::new());
    for (list, (start, end)) in starts_and_ends.into_iter().enumerate().filter(|(list, _)| !array.is_null(*list)) {
        for place in start..end {
            places.push(u32::try_from(place).map_err(|e| e.to_string())?);
            lists.push(list as u32);
        }
    }
    Ok(Some((taken(values, &places)?, lists)))
}
