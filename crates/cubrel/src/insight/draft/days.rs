//! The calendar of a draft, and the dates that point there.

use super::keys::rows_by_code;
use super::links::{Link, has_two_ways, is_one};
use super::names::table_words;
use super::table::Table;
use cubrel_load::loaded::LoadedColumn;
use cubrel_value::date::DAY_MICROS;
use cubrel_value::{Type, Value};

/// The calendar that dates point at.
pub(super) enum DraftCalendar {
    /// A table of the files, and its column of days.
    Table(usize, String),
    /// One that is generated, of that name.
    Generated(String),
}

/// A date that points at the calendar.
pub(super) struct Day {
    pub(super) table: usize,
    pub(super) column: String,
    pub(super) spare: bool,
}

/// The calendar, if anything is dated, and what points there beside the relationships that are known.
pub(super) fn days(tables: &[Table], links: &[Link]) -> (Option<DraftCalendar>, Vec<Day>) {
    let own = calendar_table(tables, links);
    let at = own.as_ref().map_or(tables.len(), |(table, _)| *table);
    let taken = links.iter().filter(|l| l.refused.is_none() && !l.spare);
    let mut edges: Vec<(usize, usize)> = taken.map(|l| (l.many.0, l.one.0)).collect();
    let mut order: Vec<usize> = (0..tables.len()).filter(|t| *t != at && is_counted(tables, links, *t)).collect();
    order.sort_by_key(|t| std::cmp::Reverse(tables[*t].loaded.rows));
    let all_days = own.as_ref().and_then(|(table, column)| tables[*table].column(column)).and_then(ends);
    let is_there = |days: (i64, i64)| all_days.is_none_or(|all| all.0 <= days.0 && days.1 <= all.1);
    let mut found = Vec::new();
    for table in order {
        for (column, said_by) in dates(&tables[table], links, table) {
            let fits = own.is_none() || ends(said_by).is_some_and(is_there);
            if !fits || links.iter().any(|l| l.many == (table, column.clone()) && l.one.0 == at) {
                continue;
            }
            edges.push((table, at));
            let spare = has_two_ways(&edges);
            if spare {
                edges.pop();
            }
            found.push(Day { table, column, spare });
        }
    }
    found.sort_by_key(|day| day.table);
    let generated = || {
        let is_taken = tables.iter().any(|t| t.name == "calendar");
        DraftCalendar::Generated(if is_taken { "days" } else { "calendar" }.to_string())
    };
    let calendar = own.map(|(table, column)| DraftCalendar::Table(table, column));
    (calendar.or_else(|| (!found.is_empty()).then(generated)), found)
}

/// Whether rows of a table are what happened, not only what is spoken of: no table points at it, or it has a date, points elsewhere
/// itself, and those that point at it have hardly more rows (the orders of lines).
pub(super) fn is_counted(tables: &[Table], links: &[Link], at: usize) -> bool {
    const LINES: usize = 20;
    if !is_one(links, tables, &tables[at].name) {
        return true;
    }
    let rows = |table: usize| tables[table].loaded.rows;
    let meant = || links.iter().filter(|link| link.refused.is_none());
    let most = meant().filter(|link| link.one.0 == at).map(|link| rows(link.many.0)).max();
    let has_few = most.is_some_and(|most| rows(at).saturating_mul(LINES) >= most);
    let is_dated = tables[at].loaded.columns.iter().any(|c| matches!(c.data.ty(), Type::Date | Type::Timestamp));
    has_few && is_dated && meant().any(|link| link.many.0 == at)
}

/// A table with a row for each day, and nothing left out, that is called one or has more to say of days.
fn calendar_table(tables: &[Table], links: &[Link]) -> Option<(usize, String)> {
    const CALLED: &[&str] = &["calendar", "date", "day", "time"];
    const PARTS: &[&str] = &["year", "quarter", "month", "week", "weekday"];
    let column = |table: &Table| {
        let has = |names: &[&str], words: Vec<String>| words.iter().any(|w| names.contains(&w.as_str()));
        let parts = || table.loaded.columns.iter().any(|c| has(PARTS, table.naming.words(&c.name)));
        let is_called = has(CALLED, table_words(&table.name)) || parts();
        let found = table.loaded.columns.iter().find(|c| is_called && is_every_day(c, table.loaded.rows))?;
        Some(found.name.clone())
    };
    let found = tables.iter().enumerate().filter_map(|(i, table)| Some((i, column(table)?)));
    let pointing = |at: usize| links.iter().filter(|l| l.one.0 == at).count();
    found.max_by_key(|(at, _)| (pointing(*at), std::cmp::Reverse(*at)))
}

fn is_every_day(column: &LoadedColumn, rows: usize) -> bool {
    const FEWEST: usize = 28;
    let one_each =
        column.data.ty() == Type::Date && column.data.nulls() == 0 && column.data.distinct() as usize == rows;
    one_each && rows >= FEWEST && ends(column).is_some_and(|(first, last)| (last - first) as usize + 1 == rows)
}

/// The first and the last day of a column of days or moments.
fn ends(column: &LoadedColumn) -> Option<(i64, i64)> {
    let day = |code| match column.data.value_of(code) {
        Value::Date(day) => Some(i64::from(day)),
        Value::Timestamp(at) => Some(at.div_euclid(DAY_MICROS)),
        _ => None,
    };
    let days: Vec<i64> = rows_by_code(&column.data).into_keys().filter_map(day).collect();
    Some((*days.iter().min()?, *days.iter().max()?))
}

/// Dates of a table, each with the column that says them: its own columns, or the days of its moments.
fn dates<'t>(table: &'t Table, links: &[Link], at: usize) -> Vec<(String, &'t LoadedColumn)> {
    let is_key = |c: &LoadedColumn| links.iter().any(|l| l.many == (at, c.name.clone()) && l.refused.is_none());
    let own = table.loaded.columns.iter().filter(|c| c.data.ty() == Type::Date && !is_key(c));
    let derived = derived_days(table).into_iter();
    own.map(|c| (c.name.clone(), c)).chain(derived.filter_map(|(of, day)| Some((day, table.column(&of)?)))).collect()
}

/// Columns with a time of day, in tables that have no date: each with a name for its day.
pub(super) fn derived_days(table: &Table) -> Vec<(String, String)> {
    if table.loaded.columns.iter().any(|c| c.data.ty() == Type::Date) {
        return Vec::new();
    }
    let moments = table.loaded.columns.iter().filter(|c| c.data.ty() == Type::Timestamp);
    moments.map(|c| (c.name.clone(), format!("{}_day", c.name))).collect()
}
