//! A source that changes at random, refreshed period by period: what comes of it is what a model has that reads all of it.
use std::fs;
use std::path::Path;

use cubrel::Silent;
use cubrel::internals::InModel as _;
use cubrel::value::date;
use cubrel::{Model, RefreshOptions, RefreshReport, Value};
use tempfile::TempDir;

const MODEL: &str = "[model]
name = 'evolving'
[table.line]
source = 'sqlite:lines.db?table=line'
partition = { column = 'day', by = 'month' }
[table.line.column.n]
type = 'int'
[table.line.column.price]
type = 'decimal(18,2)'
[table.line.column.share]
type = 'float'
[table.line.column.note]
type = 'text'
[table.line.column.day]
type = 'date'
[table.line.column.double]
formula = 'line.n * 2 + 1'
[table.line.column.of_note]
formula = 'let mine = note; sum(line.price) given (without row, line.note = mine)'
[table.note]
query = 'grid rows(line) as lines by line.note'
[[relationship]]
many = 'line.note'
one = 'note.note'
";

/// Numbers that look random, and are the same every time.
struct Chance(u64);

impl Chance {
    fn below(&mut self, n: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % n.max(1)
    }
}

const MONTHS: u64 = 6;

fn month(number: u64) -> String {
    format!("2026-{:02}", number + 1)
}

/// Rows of a month, with numbers of a range and a step of their own, so that what a column is coded by changes with them.
fn insert(db: &rusqlite::Connection, chance: &mut Chance, number: u64) {
    let rows = [1, 3, 40, 300][chance.below(4) as usize];
    let (base, step) = (chance.below(2000) as i64 - 1000, [1, 5, 60, 1_000_003][chance.below(4) as usize]);
    let (words, nulls) = (1 + chance.below(30), [2, 9, 1000][chance.below(3) as usize]);
    let digits = chance.below(4) as i32;
    let mut statement =
        db.prepare_cached("insert into line (n, price, share, note, day) values (?, ?, ?, ?, ?)").unwrap();
    for _ in 0..rows {
        let n = (chance.below(nulls) > 0).then(|| base + step * chance.below(20) as i64);
        let price = (chance.below(nulls) > 0).then(|| format!("{}.{:02}", chance.below(900), chance.below(100)));
        let share = (chance.below(nulls) > 0).then(|| chance.below(50_000) as f64 / 10f64.powi(digits));
        let note = (chance.below(nulls) > 0).then(|| format!("note {}", chance.below(words) + 7 * number));
        let day = format!("{}-{:02}", month(number), 1 + chance.below(28));
        statement.execute((n, price, share, note, day)).unwrap();
    }
}

/// Something happens to a month.
fn change(db: &rusqlite::Connection, chance: &mut Chance, number: u64) {
    let like = format!("{}%", month(number));
    let run = |sql: &str| {
        db.execute(sql, [&like]).unwrap();
    };
    let update = |what: &str| run(&format!("update line set {what} where day like ?"));
    match chance.below(7) {
        0 => run("delete from line where day like ?"),
        1 => run("delete from line where day like ? and id % 3 = 0"),
        2 => update("n = n * -7"),
        3 => update("note = null, price = null"),
        4 => update("share = share / 3, note = 'the same'"),
        5 => update("n = 4, price = '0.50'"),
        _ => insert(db, chance, number),
    }
}

fn refreshed(folder: &Path, options: &RefreshOptions) -> (Model, RefreshReport) {
    Model::refresh(folder, options, &Silent).unwrap_or_else(|e| panic!("{e}"))
}

const QUERIES: [&str; 6] = [
    "records line.id, line.n, line.price, line.share, line.note, line.day, line.double, line.of_note order by line.id",
    "grid rows(line) as r, sum(line.n) as n, min(line.n) as a, max(line.n) as z, count(distinct line.n) as d by line.note",
    "grid count(distinct line.note) as w, sum(line.price) as p, max(line.share) as s, median(line.price) as m by line.day",
    "grid count(distinct line.price) as p, count(distinct line.share) as s, count(distinct line.note) as n",
    "grid sum(line.price) as p by line.n where line.n > 0 and line.note like '%1%'",
    "grid sum(line.n) as n by note.lines, line.note",
];

fn answers(model: &Model) -> Vec<Vec<Vec<Value>>> {
    let lines = |text: &str| {
        let grid = model.query(text).unwrap_or_else(|e| panic!("{text}: {e}")).run().unwrap();
        grid.lines.into_iter().map(|line| line.values).collect()
    };
    QUERIES.iter().map(|text| lines(text)).collect()
}

/// What is known of a column without looking at its rows has to be so.
fn check_counts(model: &Model) {
    for column in &model.store().tables[0].columns {
        let codes: Vec<u64> = (0..column.rows()).map(|row| column.code(row)).collect();
        let nulls = codes.iter().filter(|c| **c == column.null_code()).count() as u64;
        let mut some: Vec<u64> = codes.into_iter().filter(|c| *c != column.null_code()).collect();
        some.sort_unstable();
        some.dedup();
        assert_eq!((column.nulls(), column.distinct()), (nulls, some.len() as u64));
    }
}

#[test]
fn periods_read_again_one_by_one_are_all_that_there_is() {
    for seed in 0..12u64 {
        let mut chance = Chance(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15));
        let (own, fresh) = (TempDir::new().unwrap(), TempDir::new().unwrap());
        for folder in [&own, &fresh] {
            fs::write(folder.path().join("model.toml"), MODEL).unwrap();
        }
        let db = rusqlite::Connection::open(own.path().join("lines.db")).unwrap();
        db.execute_batch(
            "create table line (id integer primary key, n integer, price text, share real, note text, day text)",
        )
        .unwrap();
        (0..MONTHS)
            .filter(|_| chance.below(5) > 0)
            .collect::<Vec<_>>()
            .into_iter()
            .for_each(|number| insert(&db, &mut chance, number));
        insert(&db, &mut chance, 0);
        let (_, report) = refreshed(own.path(), &RefreshOptions { all: true, ..RefreshOptions::default() });
        let mut known = report.tables[0].parts;
        for step in 0..8 {
            let first = chance.below(MONTHS);
            for _ in 0..1 + chance.below(3) {
                let number = first + chance.below(MONTHS - first);
                change(&db, &mut chance, number);
            }
            let since = date::parse_date(format!("{}-01", month(first)).as_bytes());
            let (model, report) = refreshed(own.path(), &RefreshOptions { since, ..RefreshOptions::default() });
            fs::copy(own.path().join("lines.db"), fresh.path().join("lines.db")).unwrap();
            let (whole, _) = refreshed(fresh.path(), &RefreshOptions { all: true, ..RefreshOptions::default() });
            let what = format!("seed {seed}, step {step}, since {}", month(first));
            let line = &report.tables[0];
            // Rows without a day, of which there are none here, are read every time; so are months that are new.
            let most = MONTHS - first + 1 + line.parts.saturating_sub(known);
            assert!(line.parts_read <= most, "{what}: {} parts of {} read", line.parts_read, line.parts);
            known = line.parts;
            for ((own, whole), query) in answers(&model).iter().zip(&answers(&whole)).zip(QUERIES) {
                assert_eq!(own, whole, "{what}: {query}");
            }
            [&model, &whole].into_iter().for_each(check_counts);
            // And the same once more from the disk, where nothing is read again.
            let opened = Model::open(own.path()).unwrap();
            assert!(opened.reports().iter().all(|r| !r.read), "{what}: opened");
            assert_eq!(answers(&opened), answers(&model), "{what}: opened");
        }
    }
}
