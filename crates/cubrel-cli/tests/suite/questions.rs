//! The questions of the bench, asked of the demo model and of SQLite on the same files: the same answers.
use std::path::{Path, PathBuf};

use assert_cmd::Command;
use rusqlite::Connection;
use rusqlite::functions::{Aggregate, Context, FunctionFlags};
use rusqlite::types::ValueRef;

/// Questions whose SQL the other engines have words for that SQLite lacks.
const IN_OTHER_WORDS: [(&str, &str); 1] = [(
    "totals on both axes",
    "with b as (select p.region, year(sailed_on) as year, net from booking b left join route r on b.route_id = r.id
       left join port p on r.departure_port_id = p.id)
     select region, year, sum(net) from b group by 1, 2 union all select region, null, sum(net) from b group by 1
     union all select null, year, sum(net) from b group by 2 union all select null, null, sum(net) from b",
)];

fn cubrel(folder: &Path, args: &[&str]) -> String {
    let output = Command::cargo_bin("cubrel").unwrap().current_dir(folder).args(args).output().unwrap();
    assert!(output.status.success(), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// A column of a table, and the numbers or texts that it has.
fn insert(db: &Connection, table: &str, file: &Path) {
    let mut reader = csv::Reader::from_path(file).unwrap();
    let header: Vec<String> = reader.headers().unwrap().iter().map(String::from).collect();
    let columns: Vec<String> = header.iter().map(|name| format!("{name} numeric")).collect();
    db.execute(&format!("create table if not exists {table} ({})", columns.join(", ")), []).unwrap();
    let places = vec!["?"; header.len()].join(", ");
    let mut statement = db.prepare(&format!("insert into {table} values ({places})")).unwrap();
    for record in reader.records() {
        let record = record.unwrap();
        let known = |field: &str| Some(field.to_string()).filter(|f| !f.is_empty() && f != "NA");
        statement.execute(rusqlite::params_from_iter(record.iter().map(known))).unwrap();
    }
}

fn database(model: &Path) -> Connection {
    let db = Connection::open_in_memory().unwrap();
    let mut files: Vec<PathBuf> = std::fs::read_dir(model.join("data")).unwrap().map(|f| f.unwrap().path()).collect();
    files.sort();
    db.execute_batch("begin").unwrap();
    for file in files {
        let name = file.file_stem().unwrap().to_str().unwrap().to_string();
        insert(&db, name.split('-').next().unwrap(), &file);
    }
    db.execute_batch(
        "commit;
         alter table booking rename to line;
         create table booking as select *, passengers * unit_fare as gross,
           cast(passengers * unit_fare - coalesce(concession, 0) as real) as net,
           cast(julianday(sailed_on) - julianday(booked_on) as integer) as lead_days from line;
         create table calendar as with recursive d(date) as
           (select '2023-01-01' union all select date(date, '+1 day') from d where date < '2026-12-31')
           select date, cast(substr(date, 1, 4) as integer) as year from d;",
    )
    .unwrap();
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC;
    db.create_scalar_function("year", 1, flags, |c| Ok(c.get::<Option<String>>(0)?.map(|d| year(&d)))).unwrap();
    db.create_scalar_function("date_trunc", 2, flags, |c| {
        assert_eq!(c.get::<String>(0)?, "month");
        Ok(c.get::<Option<String>>(1)?.map(|d| format!("{}-01", &d[..7])))
    })
    .unwrap();
    db.create_scalar_function("months_before", 2, flags, |c| {
        Ok(c.get::<Option<String>>(0)?.map(|d| months_before(&d, c.get(1).unwrap())))
    })
    .unwrap();
    db.create_aggregate_function("median", 1, flags, Of(median)).unwrap();
    db.create_aggregate_function("stddev_samp", 1, flags, Of(stddev_samp)).unwrap();
    db
}

fn year(date: &str) -> i64 {
    date[..4].parse().unwrap()
}

fn months_before(date: &str, months: i64) -> String {
    let month = year(date) * 12 + date[5..7].parse::<i64>().unwrap() - 1 - months;
    format!("{:04}-{:02}{}", month.div_euclid(12), month.rem_euclid(12) + 1, &date[7..])
}

/// An aggregate of all numbers.
struct Of(fn(Vec<f64>) -> Option<f64>);

impl Aggregate<Vec<f64>, Option<f64>> for Of {
    fn init(&self, _: &mut Context<'_>) -> rusqlite::Result<Vec<f64>> {
        Ok(Vec::new())
    }

    fn step(&self, context: &mut Context<'_>, all: &mut Vec<f64>) -> rusqlite::Result<()> {
        all.extend(context.get::<Option<f64>>(0)?);
        Ok(())
    }

    fn finalize(&self, _: &mut Context<'_>, all: Option<Vec<f64>>) -> rusqlite::Result<Option<f64>> {
        Ok((self.0)(all.unwrap_or_default()))
    }
}

fn median(mut all: Vec<f64>) -> Option<f64> {
    all.sort_by(f64::total_cmp);
    let middle = all.len() / 2;
    match all.len() {
        0 => None,
        n if n % 2 == 1 => Some(all[middle]),
        _ => Some(all[middle - 1].midpoint(all[middle])),
    }
}

fn stddev_samp(all: Vec<f64>) -> Option<f64> {
    let mean = all.iter().sum::<f64>() / all.len() as f64;
    (all.len() > 1).then(|| (all.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (all.len() - 1) as f64).sqrt())
}

/// SQL as SQLite has it: days as text, months counted by a function, and numbers that are no doubles multiplied first.
fn in_sqlite(sql: &str) -> String {
    let mut text = sql.replace("date '", "'").replace("* 1.1", "* 11 / 10");
    while let Some(at) = text.find(" - interval ") {
        let start = text[..at].rfind(|c: char| c.is_whitespace() || c == '(').map_or(0, |i| i + 1);
        let words: Vec<&str> = text[at..].split_whitespace().take(4).collect();
        let (count, unit) = (words[2].parse::<i64>().unwrap(), words[3].trim_end_matches(|c: char| !c.is_alphabetic()));
        let months = count * if unit == "year" { 12 } else { 1 };
        let end = at + text[at..].find(unit).unwrap() + unit.len();
        text = format!("{}months_before({}, {months}){}", &text[..start], &text[start..at], &text[end..]);
    }
    text
}

/// A value in a form that is the same whoever gave it.
fn plain(field: &str) -> String {
    match field.parse::<f64>() {
        Ok(number) => format!("{:.8e}", if number == 0.0 { 0.0 } else { number }),
        Err(_) => field.to_string(),
    }
}

fn asked(db: &Connection, sql: &str) -> Vec<Vec<String>> {
    let mut statement = db.prepare(sql).unwrap_or_else(|e| panic!("{e}\n{sql}"));
    let columns = statement.column_count();
    let mut rows = statement.query([]).unwrap();
    let mut lines = Vec::new();
    while let Some(row) = rows.next().unwrap() {
        let field = |i: usize| match row.get_ref(i).unwrap() {
            ValueRef::Null => String::new(),
            ValueRef::Text(text) => plain(std::str::from_utf8(text).unwrap()),
            ValueRef::Integer(n) => plain(&n.to_string()),
            ValueRef::Real(x) => plain(&x.to_string()),
            ValueRef::Blob(_) => panic!("nothing is a blob"),
        };
        lines.push((0..columns).map(field).collect());
    }
    lines
}

fn near(a: &str, b: &str) -> bool {
    match (a.parse::<f64>(), b.parse::<f64>()) {
        (Ok(a), Ok(b)) => (a - b).abs() <= 1e-7 * a.abs().max(b.abs()).max(1e-3),
        _ => a == b,
    }
}

#[test]
fn the_questions_of_the_bench_have_the_answers_of_sqlite() {
    let folder = tempfile::tempdir().unwrap();
    cubrel(folder.path(), &["demo", "ferries", "--rows", "20000"]);
    let model = folder.path().join("ferries");
    let db = database(&model);
    let text = include_str!("../../../../benches/questions/questions.toml");
    let questions: toml::Table = toml::from_str(text).unwrap();
    let mut asked_of_both = 0;
    for question in questions["question"].as_array().unwrap() {
        let [name, grid, sql] = ["name", "grid", "sql"].map(|key| question[key].as_str().unwrap());
        if grid.starts_with("records") {
            // Which of the newest come when several are as new is nobody's promise.
            continue;
        }
        let output = cubrel(&model, &["query", grid, "--format", "csv"]);
        let mut reader = csv::Reader::from_reader(output.as_bytes());
        let marks = reader.headers().unwrap().iter().filter(|h| *h == "total").count();
        let line = |record: csv::StringRecord| {
            let fields = record.len() - marks;
            record.iter().take(fields).map(plain).collect::<Vec<_>>()
        };
        let mut ours: Vec<Vec<String>> = reader.records().map(|r| line(r.unwrap())).collect();
        let other = IN_OTHER_WORDS.iter().find(|(n, _)| *n == name).map(|(_, sql)| *sql);
        let mut theirs = asked(&db, &other.map_or_else(|| in_sqlite(sql), String::from));
        ours.sort();
        theirs.sort();
        assert_eq!(ours.len(), theirs.len(), "{name}: {:?} and {:?}", ours.first(), theirs.first());
        for (a, b) in ours.iter().zip(&theirs) {
            assert!(a.len() == b.len() && a.iter().zip(b).all(|(a, b)| near(a, b)), "{name}: {a:?} and {b:?}");
        }
        assert!(!ours.is_empty(), "{name} has an answer");
        asked_of_both += 1;
    }
    assert!(asked_of_both > 40, "{asked_of_both} questions");
}
