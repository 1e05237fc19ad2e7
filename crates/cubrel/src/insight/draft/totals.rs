//! A row that is the sum of all others, as people leave it at the end of an export.

use crate::formula::words::quote_name;
use crate::load::loaded::{LoadedColumn, LoadedTable};
use crate::value::{Type, Value};

/// What such rows are called.
const WORDS: &[&str] = &[
    "total",
    "totals",
    "grand total",
    "sum",
    "all",
    "overall",
    "gesamt",
    "gesamtsumme",
    "summe",
    "insgesamt",
    "somme",
    "totale",
    "totaal",
    "suma",
    "razem",
    "i alt",
    "sum total",
    "summa",
    "yhteensä",
];
/// Rows that are summed up at least.
const FEWEST_ROWS: usize = 3;
/// How far a sum of doubles may be off.
const NEAR: f64 = 1e-9;

/// The condition that leaves such a row out, and what it says; none where there is none.
pub(super) fn total_row(loaded: &LoadedTable) -> Option<(String, String)> {
    if loaded.rows <= FEWEST_ROWS {
        return None;
    }
    let sums = loaded.columns.iter().filter(|c| c.data.ty().is_number()).filter_map(sum_rows);
    let mut counts: Vec<(usize, usize)> = Vec::new();
    for row in sums.flatten() {
        match counts.iter_mut().find(|(known, _)| *known == row) {
            Some((_, count)) => *count += 1,
            None => counts.push((row, 1)),
        }
    }
    let (row, columns) = counts.into_iter().max_by_key(|(_, count)| *count)?;
    let texts = || loaded.columns.iter().filter(|c| c.data.ty() == Type::Text);
    let called = texts().find(|c| {
        let value = value(c, row);
        value.as_text().is_some_and(|t| WORDS.contains(&t.trim().trim_end_matches(':').to_lowercase().as_str()))
            && rows_with(c, &value) == 1
    });
    let blank = || texts().find(|c| value(c, row).is_null() && c.data.nulls() == 1);
    let (filter, says) = if let Some(column) = called {
        let name = quote_name(&column.name);
        let word = value(column, row).to_string();
        let or_null = if column.data.nulls() > 0 { format!("{name} is null or ") } else { String::new() };
        (format!("{or_null}{name} <> '{}'", word.replace('\'', "''")), format!("`{word}` in `{}`", column.name))
    } else {
        let column = blank().filter(|_| columns > 1 || texts().all(|c| value(c, row).is_null()))?;
        (format!("{} is not null", quote_name(&column.name)), format!("nothing in `{}`", column.name))
    };
    let sums = if columns == 1 { "the sum of a column".to_string() } else { format!("the sums of {columns} columns") };
    Some((filter, format!("one row has {says} and {sums}: it is left out")))
}

fn value(column: &LoadedColumn, row: usize) -> Value {
    column.data.value_of(column.data.code(row))
}

fn rows_with(column: &LoadedColumn, value: &Value) -> usize {
    let code = column.data.code_of(value);
    column.data.codes().into_iter().filter(|c| Some(*c) == code).count()
}

/// The rows whose value is the sum of all others.
fn sum_rows(column: &LoadedColumn) -> Option<Vec<usize>> {
    let values: Vec<f64> =
        column.data.codes().into_iter().map(|code| column.data.value_of(code).as_f64().unwrap_or(0.0)).collect();
    let sum: f64 = values.iter().sum();
    let filled = values.iter().filter(|v| **v != 0.0).count();
    if sum == 0.0 || filled <= FEWEST_ROWS {
        return None;
    }
    let is_sum = |v: &f64| (2.0 * v - sum).abs() <= NEAR * sum.abs();
    Some(values.iter().enumerate().filter(|(_, v)| is_sum(v)).map(|(row, _)| row).collect())
}
