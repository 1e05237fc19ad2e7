//! Databases as sources: what to read of one, and in which parts.

use serde::{Deserialize, Serialize};

use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::date::{self, Unit};

/// What to read of a database.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DatabaseQuery {
    /// Where the database is: a file, or everything of the address in front of `?`.
    pub place: String,
    /// The query.
    pub query: String,
}

impl DatabaseQuery {
    /// Reads `PLACE?table=…` or `PLACE?query=…`.
    ///
    /// # Errors
    /// When it says neither.
    pub fn parse(source: &str, place: &str) -> Result<DatabaseQuery, Diagnostic> {
        let wrong = || {
            let example = source.split('?').next().unwrap_or_default();
            Diagnostic::general(Problem::Model, format!("`{source}` does not say what to read of the database"))
                .help(format!("write `{example}?table=booking`, or `{example}?query=select …`"))
        };
        let (place, what) = place.split_once('?').ok_or_else(wrong)?;
        let query = match what.split_once('=') {
            Some(("table", table)) => {
                let parts: Vec<String> = table.split('.').map(quoted).collect();
                format!("select * from {}", parts.join("."))
            }
            Some(("query", query)) => query.trim_end_matches([';', ' ']).to_string(),
            _ => return Err(wrong()),
        };
        Ok(DatabaseQuery { place: place.to_string(), query })
    }

    /// The query for the rows of one period.
    pub fn of(&self, period: Option<&PeriodOfRows>, column: &str) -> String {
        let column = quoted(column);
        match period {
            None => self.query.clone(),
            Some(PeriodOfRows::Days(from, to)) => format!(
                "select * from ({}) as part where {column} >= '{}' and {column} < '{}'",
                self.query,
                date::date_to_string(*from),
                date::date_to_string(*to)
            ),
            Some(PeriodOfRows::Never) => format!("select * from ({}) as part where {column} is null", self.query),
        }
    }

    /// The query for the first and last value of a column.
    pub fn ends(&self, column: &str) -> String {
        let column = quoted(column);
        format!("select min({column}), max({column}) from ({}) as part", self.query)
    }
}

/// A name as SQL quotes it.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// Rows that are read by themselves.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum PeriodOfRows {
    /// Day numbers: the first, and the first that is not in it any more.
    Days(i32, i32),
    /// Rows without a date.
    Never,
}

impl PeriodOfRows {
    /// The periods that hold all days from `first` to `last`, and the one for rows without a day.
    pub fn all(ends: Option<(i32, i32)>, by: Unit) -> Vec<PeriodOfRows> {
        let mut periods = vec![PeriodOfRows::Never];
        let Some((first, last)) = ends else { return periods };
        let Some(mut from) = by.start(first) else { return periods };
        while from <= last {
            let Some(to) = by.next(from) else { break };
            periods.push(PeriodOfRows::Days(from, to));
            from = to;
        }
        periods
    }

    /// Whether it was over before a day.
    pub fn is_before(&self, day: i32) -> bool {
        matches!(self, PeriodOfRows::Days(_, to) if *to <= day)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_source_names_a_table_or_a_query() {
        let parse = |what: &str| DatabaseQuery::parse(what, what);
        let wanted = parse("data/x.db?table=s.a \"b\"").expect("a table");
        assert_eq!(
            (wanted.place.as_str(), wanted.query.as_str()),
            ("data/x.db", "select * from \"s\".\"a \"\"b\"\"\"")
        );
        assert_eq!(parse("x.db?query=select 1 = 1;").expect("a query").query, "select 1 = 1");
        assert!(parse("x.db").is_err() && parse("x.db?rows=1").is_err());
    }

    #[test]
    fn periods_hold_every_day_once() {
        let day = |text: &str| date::parse_date(text.as_bytes()).expect("a date");
        let (first, last) = (day("2025-11-20"), day("2026-02-01"));
        for unit in [Unit::Day, Unit::Week, Unit::Month, Unit::Quarter, Unit::Year] {
            let periods = PeriodOfRows::all(Some((first, last)), unit);
            let mut held = Vec::new();
            for period in &periods[1..] {
                let PeriodOfRows::Days(from, to) = period else { panic!("{period:?}") };
                held.extend(*from..*to);
            }
            assert!(held.windows(2).all(|w| w[0] + 1 == w[1]), "{unit:?}");
            assert!(held.contains(&first) && held.contains(&last), "{unit:?}");
        }
        assert_eq!(PeriodOfRows::all(Some((first, last)), Unit::Month).len(), 5);
        assert_eq!(PeriodOfRows::all(None, Unit::Month), [PeriodOfRows::Never]);
        assert!(
            PeriodOfRows::Days(first, last).is_before(last) && !PeriodOfRows::Days(first, last).is_before(last - 1)
        );
    }
}
