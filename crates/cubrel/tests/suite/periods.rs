//! Figures over time, the same asked of SQLite: to date, moving years, a year ago, the month before, by month and region.

use crate::common::{Random, segments};
use cubrel::{Model, Type, Value};
use rusqlite::Connection;

const FIRST: &str = "2022-01-01";
const LAST: &str = "2025-12-31";

struct Both {
    model: Model,
    sql: Connection,
}

fn both(seed: u64) -> Both {
    let r = &mut Random(seed);
    let first = cubrel::value::date::parse_date(FIRST.as_bytes()).unwrap();
    let count = r.below(120) + 1;
    // Some data has long gaps, some lies beyond the calendar.
    let rows: Vec<Vec<Value>> = (0..count)
        .map(|_| {
            let day = first - 20 + (r.below(1500) as i32 / if r.chance(30) { 40 } else { 1 });
            let region = r.pick(&["North", "South", "West"]);
            let x = r.below(50) as i64 - 5;
            vec![Value::Date(day), Value::text(region), if r.chance(8) { Value::Null } else { Value::Int(x) }]
        })
        .collect();
    let sql = Connection::open_in_memory().unwrap();
    sql.execute_batch(&format!(
        "create table posting (d text, region text, x integer);
         create table cal as with recursive days(d) as (select '{FIRST}' union all select date(d, '+1 day') from days where d < '{LAST}')
           select d, strftime('%Y-%m-01', d) as month, cast(strftime('%Y', d) as integer) as year from days;
         create table months as select month, min(year) as year, min(d) as a, max(d) as b from cal group by month;"
    ))
    .unwrap();
    for row in &rows {
        let x: Option<i64> = if let Value::Int(x) = row[2] { Some(x) } else { None };
        sql.execute("insert into posting values (?1, ?2, ?3)", (row[0].to_string(), row[1].to_string(), x)).unwrap();
    }
    let model = Model::builder()
        .definitions(&format!(
            "[table.calendar]\ncalendar = 'date'\ngenerate = {{ from = '{FIRST}', to = '{LAST}' }}\n
             [[relationship]]\nmany = 'posting.d'\none = 'calendar.date'"
        ))
        .rows("posting", &[("d", Type::Date), ("region", Type::Text), ("x", Type::Int)], &rows)
        .rows("region", &[("name", Type::Text)], &["North", "South", "West"].map(|n| vec![Value::text(n)]))
        .relationship("posting.region", "region.name")
        .measure("total", "sum(posting.x)")
        .segment_rows(segments(seed))
        .build()
        .unwrap();
    Both { model, sql }
}

/// A period edit, and the first and last day that it leaves of a month from `a` to `b`, in SQL.
const EDITS: &[(&str, &str, &str)] = &[
    ("so_far(year)", "date(b, 'start of year')", "b"),
    ("so_far(month)", "a", "b"),
    ("trailing(12 months)", "date(b, '+1 day', '-12 months')", "b"),
    ("trailing(90 days)", "date(b, '-89 days')", "b"),
    ("shift(-1 year)", "date(a, '-1 year')", "date(a, '-1 year', '+1 month', '-1 day')"),
    ("shift(2 months)", "date(a, '+2 months')", "date(a, '+3 months', '-1 day')"),
    ("shift(-10 days)", "date(a, '-10 days')", "date(b, '-10 days')"),
    ("whole(year)", "date(a, 'start of year')", "date(a, 'start of year', '+1 year', '-1 day')"),
    ("whole(month, -1)", "date(a, '-1 month')", "date(a, '-1 day')"),
    ("whole(month, 1)", "date(a, '+1 month')", "date(a, '+2 months', '-1 day')"),
    ("at_start", "a", "a"),
    ("at_end", "b", "b"),
];

/// A figure, and the same in SQL.
const FIGURES: &[(&str, &str)] = &[
    ("total", "sum(x)"),
    ("avg(posting.x)", "avg(x)"),
    ("max(posting.x)", "max(x)"),
    ("count(distinct posting.x)", "nullif(count(distinct x), 0)"),
];

impl Both {
    fn asked(&self, text: &str) -> Vec<String> {
        let mut lines: Vec<String> = crate::common::shown(&crate::common::run(&self.model, text));
        lines.sort();
        lines
    }

    fn expected(&self, query: &str) -> Vec<String> {
        let mut statement = self.sql.prepare(query).unwrap_or_else(|e| panic!("{query}: {e}"));
        let count = statement.column_count();
        let mut rows = statement.query([]).unwrap();
        let mut lines = Vec::new();
        while let Some(row) = rows.next().unwrap() {
            let field = |i: usize| match row.get_ref(i).unwrap() {
                rusqlite::types::ValueRef::Null => String::new(),
                rusqlite::types::ValueRef::Integer(v) => v.to_string(),
                rusqlite::types::ValueRef::Real(v) => {
                    format!("{v:.10}").trim_end_matches('0').trim_end_matches('.').to_string()
                }
                other => other.as_str().unwrap().to_string(),
            };
            lines.push((0..count).map(field).collect::<Vec<_>>().join("|"));
        }
        lines.sort();
        lines
    }
}

#[test]
fn period_edits_by_month_and_region_as_in_sql() {
    for seed in 0..60 {
        let both = both(seed);
        let r = &mut Random(seed ^ 0xDA7E);
        for _ in 0..6 {
            let (edit, from, to) = EDITS[r.below(EDITS.len() as u64) as usize];
            let (figure, aggregate) = FIGURES[r.below(FIGURES.len() as u64) as usize];
            let year = if r.chance(50) { " where calendar.year = 2024" } else { "" };
            let only = if year.is_empty() { "" } else { " and m.year = 2024" };
            let days = format!("p.d between {from} and {to} and p.d between '{FIRST}' and '{LAST}'");
            // Months without a figure do not show; counts that are 0 are left out on both sides.
            let by_month = both.asked(&format!("grid {figure} given ({edit}) as f by calendar.month{year}"));
            let by_month: Vec<String> =
                by_month.into_iter().filter(|l| !(figure.starts_with("count") && l.ends_with("|0"))).collect();
            let expected = both.expected(&format!(
                "select * from (select m.month, (select {aggregate} from posting p where {days}) as f from months m where 1{only})
                 where f is not null"
            ));
            assert_eq!(by_month, expected, "seed {seed}: {figure} given ({edit}){year}");
            let by_both =
                both.asked(&format!("grid {figure} given ({edit}) as f by calendar.month, region.name{year}"));
            let by_both: Vec<String> =
                by_both.into_iter().filter(|l| !(figure.starts_with("count") && l.ends_with("|0"))).collect();
            // Calendar and regions do not look each other up: all combinations are tried.
            let expected = both.expected(&format!(
                "select * from (select m.month, g.region, (select {aggregate} from posting p where p.region = g.region and {days}) as f
                 from months m, (select 'North' as region union select 'South' union select 'West') g where 1{only}) where f is not null"
            ));
            let narrowed = both.asked(&format!(
                "grid {figure} given ({edit}, without region) as f by calendar.month, region.name{year}"
            ));
            assert!(narrowed.len() >= by_month.len().min(1), "dropping the region leaves the month's figure");
            assert_eq!(by_both, expected, "seed {seed}: {figure} given ({edit}) by region{year}");
        }
    }
}

#[test]
fn growth_and_shares_over_time_as_in_sql() {
    for seed in 200..230 {
        let both = both(seed);
        let found = both.asked("grid total - total given (shift(-1 year)) as more by calendar.year");
        let expected = both.expected(
            "with y as (select year, (select sum(x) from posting p join cal c on c.d = p.d where c.year = years.year) as t
               from (select distinct year from cal) years)
             select * from (select a.year, a.t - b.t as more from y a join y b on b.year = a.year - 1) where more is not null",
        );
        assert_eq!(found, expected, "seed {seed}");
        let found = both.asked("grid total / total given (whole(year)) as share by calendar.month");
        let expected = both.expected(
            "with t as (select c.month, c.year, sum(p.x) as s from posting p join cal c on c.d = p.d group by 1, 2)
             select * from (select month, s * 1.0 / nullif((select sum(s) from t o where o.year = t.year), 0) as share from t)
             where share is not null",
        );
        assert_eq!(found, expected, "seed {seed}");
    }
}
