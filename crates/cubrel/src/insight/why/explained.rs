//! Where a cell is explained, and how its parts are written.

use cubrel_formula::words::quote_text;
use std::sync::Arc;

use crate::Error;
use cubrel_formula::scalar::Place;
use cubrel_formula::schema::{ColumnId, Schema};
use cubrel_formula::source::{Diagnostic, Problem, Source, Span, closest, did_you_mean};
use cubrel_run::Tables;
use cubrel_value::Value;

/// Where a cell is explained.
pub(super) struct Explained<'a> {
    pub(super) schema: &'a Schema,
    pub(super) tables: Tables<'a>,
    /// How many of the rows behind a number are shown.
    pub(super) rows: usize,
}

/// The code of a value, or what was probably meant.
pub(super) fn code_of(tables: Tables<'_>, column: ColumnId, value: &Value) -> Result<u64, Error> {
    let data = tables.column(column);
    if value.is_null() {
        return Ok(data.null_code());
    }
    data.code_of(value).ok_or_else(|| {
        let name = tables.schema.column_name(column);
        let problem = Diagnostic::general(Problem::UnknownName, format!("{name} has no value {}", literal(value)));
        let known: Vec<Value> = (0..data.domain().min(10_000)).map(|c| data.value_of(c)).collect();
        let texts: Vec<&str> = known.iter().filter_map(Value::as_text).collect();
        let help = match value.as_text().and_then(|t| closest(t, texts.iter().copied())) {
            Some(near) => did_you_mean(format!("{name} = '{near}'")),
            None => format!("`grid rows({}) as n by {name}` lists its values", tables.schema.table(column.table).name),
        };
        Error::Problems(vec![problem.help(help)])
    })
}

/// The text of a span of a formula, on one line.
pub(super) fn written(place: &Place) -> String {
    slice(&place.source, place.span)
}

pub(super) fn slice(source: &Arc<Source>, span: Span) -> String {
    source.slice(span).split_whitespace().collect::<Vec<_>>().join(" ")
}

/// A value as it is written in formulas.
pub(super) fn literal(value: &Value) -> String {
    match value {
        Value::Text(text) => quote_text(text),
        Value::Date(_) => format!("date '{value}'"),
        Value::Timestamp(_) => format!("timestamp '{value}'"),
        Value::Null => "null".into(),
        _ => value.to_string(),
    }
}
