//! Rows that stand twice in a source: the same in all columns, or an older state of what another row has a newer one of.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::sync::Arc;

use super::LoadError;
use super::loaded::{LoadedColumn, LoadedTable};
use cubrel_formula::source::{Problem, suggestion};
use cubrel_model::Document;
use cubrel_model::file::TableSection;
use cubrel_store::{CodedColumn, KeptRows};
use cubrel_value::units;

/// Leaves out what the model says is not to be kept, and tells how much that was.
///
/// # Errors
/// When the model names columns that are not there.
pub(super) fn leave_out(
    document: &Document,
    name: &str,
    section: &TableSection,
    table: &mut LoadedTable,
) -> Result<(), LoadError> {
    if section.distinct {
        let columns: Vec<&CodedColumn> = table.columns.iter().map(|c| &*c.data).collect();
        let keep = first_of_each(&columns, table.rows);
        kept(table, &keep, "the same stands in another row");
    }
    let Some(latest) = &section.latest_by else { return Ok(()) };
    let wrong = |key: &str, message: String, help: String| {
        LoadError::from(document.problem(Problem::Model, &format!("table.{name}.{key}"), message).help(help))
    };
    let names: Vec<&str> = table.columns.iter().map(|c| c.name.as_str()).collect();
    let find = |key: &str, wanted: &str| {
        let found = table.columns.iter().find(|c| c.name == wanted).map(|c| c.data.clone());
        found.ok_or_else(|| wrong(key, format!("table `{name}` has no column `{wanted}`"), suggestion(wanted, &names)))
    };
    let Some(key) = &section.key else {
        let help = "set `key` to the column that tells which rows are about the same".into();
        return Err(wrong("latest_by", format!("nothing says of what the latest row of `{name}` is kept"), help));
    };
    let (keys, latest) = (find("key", key)?, find("latest_by", latest)?);
    let keep = latest_of_each(&keys, &latest);
    kept(table, &keep, "another row has a newer state of the same");
    Ok(())
}

/// The first of rows that are the same in all columns.
fn first_of_each(columns: &[&CodedColumn], rows: usize) -> Vec<bool> {
    let codes: Vec<Vec<u64>> = columns.iter().map(|c| c.codes()).collect();
    let mut seen: HashMap<Vec<u64>, (), foldhash::fast::RandomState> = HashMap::default();
    (0..rows).map(|row| seen.insert(codes.iter().map(|c| c[row]).collect(), ()).is_none()).collect()
}

/// Of rows with one key the one with the largest value; of equal ones the last. Rows without a key are all kept.
fn latest_of_each(keys: &CodedColumn, latest: &CodedColumn) -> Vec<bool> {
    // Codes stand in the order of their values, and null's comes after all others.
    let age = |code: u64| if code == latest.null_code() { 0 } else { code + 1 };
    let ages: Vec<u64> = latest.codes().into_iter().map(age).collect();
    let keys_of_rows = keys.codes();
    let mut newest: HashMap<u64, usize, foldhash::fast::RandomState> = HashMap::default();
    for (row, key) in keys_of_rows.iter().enumerate().filter(|(_, key)| **key != keys.null_code()) {
        match newest.entry(*key) {
            Entry::Vacant(entry) => drop(entry.insert(row)),
            Entry::Occupied(mut entry) if ages[row] >= ages[*entry.get()] => drop(entry.insert(row)),
            Entry::Occupied(_) => {}
        }
    }
    let is_newest = |(row, key): (usize, &u64)| *key == keys.null_code() || newest.get(key) == Some(&row);
    keys_of_rows.iter().enumerate().map(is_newest).collect()
}

/// The table with some of its rows.
fn kept(table: &mut LoadedTable, keep: &[bool], why: &str) {
    let gone = keep.iter().filter(|keep| !**keep).count();
    let Some(first) = table.columns.first().filter(|_| gone > 0) else { return };
    let rows = Arc::new(KeptRows::new(first.data.segment_bounds(), keep));
    let cut = |column: &LoadedColumn| {
        let later = Arc::new(column.data.with_rows_later(&rows));
        LoadedColumn { data: later.made().clone(), ..column.clone() }
    };
    table.columns = table.columns.iter().map(cut).collect();
    table.rows = rows.count();
    table.report.rows = table.rows as u64;
    let noun = if gone == 1 { "row is" } else { "rows are" };
    table.report.notes.push(format!("{} {noun} left out: {why}", units::count(gone as u64)));
}

#[cfg(test)]
mod tests {
    use super::*;
    use cubrel::Model;
    use cubrel::internals::InModel as _;
    use cubrel_value::{Type, Value};

    #[test]
    fn the_latest_row_of_each_key_is_kept_and_rows_without_one() {
        let int = |v: Option<i64>| v.map_or(Value::Null, Value::Int);
        let rows = [
            (Some(1), Some(5)),
            (Some(2), None),
            (Some(1), Some(7)),
            (None, Some(1)),
            (Some(2), Some(-3)),
            (Some(1), Some(7)),
            (None, None),
        ];
        let rows: Vec<Vec<Value>> = rows.iter().map(|(k, v)| vec![int(*k), int(*v)]).collect();
        let model = Model::builder().rows("t", &[("k", Type::Int), ("v", Type::Int)], &rows).build().unwrap();
        let columns = &model.store().tables[0].columns;
        let (keys, latest) = (columns[0].verified(), columns[1].verified());
        // Rows may stand in another order than they were given in.
        let told: Vec<(Value, Value)> =
            keys.codes().into_iter().zip(latest.codes()).map(|(k, v)| (keys.value_of(k), latest.value_of(v))).collect();
        let keep = latest_of_each(keys, latest);
        let mut left: Vec<String> =
            told.iter().zip(&keep).filter(|(_, keep)| **keep).map(|((k, v), _)| format!("{k}:{v}")).collect();
        left.sort();
        assert_eq!(left, ["1:7", "2:-3", ":", ":1"]);
        let same = first_of_each(&[keys, latest], rows.len());
        assert_eq!(same.iter().filter(|keep| **keep).count(), rows.len() - 1);
    }
}
