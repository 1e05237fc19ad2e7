//! Columns of many texts, of every kind and in many parts that change one by one: what is asked of them is what plain lists
//! of texts give.
use std::collections::{BTreeMap, BTreeSet};

use cubrel::Silent;
use cubrel::internals::InModel as _;
use cubrel::store::Encoding;
use cubrel::value::date;
use cubrel::{Model, RefreshOptions, Value};
use tempfile::TempDir;

const MODEL: &str = "[model]
name = 'texts'
[table.t]
source = 'sqlite:t.db?table=t'
partition = { column = 'day', by = 'month' }
[table.t.column.day]
type = 'date'
";

/// Rows of a month: enough for dictionaries that are worth packing.
const ROWS: u64 = 1500;
const MONTHS: u64 = 4;

fn noise(i: u64) -> u64 {
    let mixed = (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (mixed ^ mixed >> 29).wrapping_mul(0xBF58_476D_1CE4_E5B9) >> 7
}

fn words(i: u64, count: u64) -> String {
    const WORDS: [&str; 12] =
        ["the boat", "waits", "for", "fog", "Ærø", "tide", "crew", "paid", "late", "at", "harbour", "日本"];
    (0..count).map(|k| WORDS[noise(i * 31 + k) as usize % WORDS.len()]).collect::<Vec<_>>().join(" ")
}

/// A kind of texts: its name, how it is kept once it is large, and the text of a number.
type KindOfTexts = (&'static str, &'static str, fn(u64) -> String);

const KINDS: &[KindOfTexts] = &[
    ("reference", "template", |i| format!("TI-{:07}", noise(i) % 10_000_000)),
    ("identifier", "template", |i| format!("{:016x}{:08x}", noise(i), noise(i + 99) as u32)),
    ("dashed", "template", |i| {
        format!("{:08x}-{:04x}-4{:03x}", noise(i) as u32, noise(i + 3) as u16, noise(i + 5) as u16 >> 4)
    }),
    ("note", "blocks", |i| format!("{} {}", words(i, 3 + i % 9), noise(i) % 100_000)),
    ("page", "blocks", |i| format!("https://ferries.example/{}/{}?id={}", i % 7, words(i, 1), noise(i) % 1_000_000)),
    ("long", "blocks", |i| format!("{}{}", "é".repeat(70 + i as usize % 9), noise(i))),
    ("few", "plain", |i| words(i % 9, 2)),
];

struct Table {
    folder: TempDir,
    db: rusqlite::Connection,
    /// By month, the texts of its rows.
    rows: BTreeMap<u64, Vec<Option<String>>>,
}

impl Table {
    fn new() -> Table {
        let folder = TempDir::new().unwrap();
        std::fs::write(folder.path().join("model.toml"), MODEL).unwrap();
        let db = rusqlite::Connection::open(folder.path().join("t.db")).unwrap();
        db.execute_batch("create table t (text text, day text); pragma journal_mode = memory").unwrap();
        Table { folder, db, rows: BTreeMap::new() }
    }

    /// Puts other rows in place of those of a month.
    fn set(&mut self, month: u64, texts: Vec<Option<String>>) {
        let like = format!("2026-{:02}%", month + 1);
        let change = self.db.unchecked_transaction().unwrap();
        change.execute("delete from t where day like ?", [&like]).unwrap();
        for (i, text) in texts.iter().enumerate() {
            let day = format!("2026-{:02}-{:02}", month + 1, 1 + i % 28);
            change.prepare_cached("insert into t values (?, ?)").unwrap().execute((text, day)).unwrap();
        }
        change.commit().unwrap();
        self.rows.insert(month, texts);
    }

    fn refresh(&self, since: Option<u64>) -> Model {
        let day = |month: u64| date::parse_date(format!("2026-{:02}-01", month + 1).as_bytes()).unwrap();
        let options = RefreshOptions { since: since.map(day), ..RefreshOptions::default() };
        Model::refresh(self.folder.path(), &options, &Silent).unwrap_or_else(|e| panic!("{e}")).0
    }

    fn texts(&self) -> impl Iterator<Item = Option<&str>> {
        self.rows.values().flatten().map(Option::as_deref)
    }
}

fn lines(model: &Model, text: &str) -> Vec<Vec<Value>> {
    let grid = model.query(text).unwrap_or_else(|e| panic!("{text}: {e}")).run().unwrap();
    grid.lines.into_iter().map(|line| line.values).collect()
}

fn one(model: &Model, text: &str) -> Value {
    lines(model, text)[0][0].clone()
}

fn form(model: &Model) -> &'static str {
    let Encoding::Texts(dictionary) = model.store().tables[0].columns[0].encoding() else { panic!("no texts") };
    dictionary.form()
}

fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// Everything that is asked is what the list gives.
fn check(table: &Table, model: &Model, what: &str) {
    let count = |test: &dyn Fn(&str) -> bool| Value::Int(table.texts().flatten().filter(|t| test(t)).count() as i64);
    let rows = |test: String| one(model, &format!("grid rows(t) as n where {test}"));
    let different: BTreeSet<&str> = table.texts().flatten().collect();
    let of_all =
        "grid count(distinct t.text) as d, min(t.text) as a, max(t.text) as z, count(t.text) as n, rows(t) as r";
    let (first, last) = (different.first().copied(), different.last().copied());
    let text = |t: Option<&str>| t.map_or(Value::Null, Value::text);
    let expected = vec![
        Value::Int(different.len() as i64),
        text(first),
        text(last),
        count(&|_| true),
        Value::Int(table.texts().count() as i64),
    ];
    assert_eq!(lines(model, of_all), [expected], "{what}");
    let sample: Vec<&str> = different.iter().copied().step_by(1 + different.len() / 5).collect();
    for own in sample {
        let (q, begins) = (quoted(own), own.chars().take(4).collect::<String>());
        assert_eq!(rows(format!("t.text = {q}")), count(&|t| t == own), "{what}: = {q}");
        assert_eq!(rows(format!("t.text < {q}")), count(&|t| t < own), "{what}: < {q}");
        assert_eq!(rows(format!("t.text >= {q}")), count(&|t| t >= own), "{what}: >= {q}");
        assert_eq!(rows(format!("t.text <> {q}")), count(&|t| t != own), "{what}: <> {q}");
        let either = format!("t.text in ({q}, 'nowhere', {})", quoted(&format!("{own}~")));
        assert_eq!(rows(either), count(&|t| t == own), "{what}: in");
        let starts = format!("starts_with(t.text, {})", quoted(&begins));
        assert_eq!(rows(starts), count(&|t| t.starts_with(&begins)), "{what}: starts with {begins}");
        assert_eq!(
            rows(format!("length(t.text) = {}", own.chars().count())),
            count(&|t| t.chars().count() == own.chars().count()),
            "{what}"
        );
    }
    assert_eq!(
        rows("t.text is null".into()),
        Value::Int(table.texts().filter(Option::is_none).count() as i64),
        "{what}"
    );
    // Line by line, in the order of the texts.
    let mut counts: BTreeMap<&str, i64> = BTreeMap::new();
    table.texts().flatten().for_each(|t| *counts.entry(t).or_default() += 1);
    let grid = lines(model, "grid rows(t) as n by t.text where t.text is not null");
    let expected = counts.iter().map(|(t, n)| vec![Value::text(*t), Value::Int(*n)]);
    assert!(grid.into_iter().eq(expected), "{what}: by text");
}

#[test]
fn texts_in_parts_that_change_are_plain_lists_of_texts() {
    for (kind, large, make) in KINDS {
        let mut table = Table::new();
        let texts = |month: u64, salt: u64, nulls: u64| -> Vec<Option<String>> {
            // Months share a third of their texts.
            let number = |i: u64| if i.is_multiple_of(3) { i } else { month * 100_000 + i + salt };
            (0..ROWS).map(|i| (!noise(i + salt).is_multiple_of(nulls)).then(|| make(number(i)))).collect()
        };
        (0..MONTHS).for_each(|month| table.set(month, texts(month, 0, 40)));
        let model = table.refresh(None);
        assert_eq!(form(&model), *large, "{kind}");
        check(&table, &model, kind);
        // The last month is another one, then has no texts, then none but nulls, then one that is unlike all others.
        let last = MONTHS - 1;
        for (step, other) in [
            ("other texts", texts(last, 7, 40)),
            ("no rows but one", vec![Some(make(1))]),
            ("nulls", vec![None; 50]),
            ("one that is unlike", vec![Some("日本 ~ unlike all others ".repeat(5)), None, Some(String::from("'"))]),
            ("as before", texts(last, 0, 40)),
        ] {
            table.set(last, other);
            check(&table, &table.refresh(Some(last)), &format!("{kind}: {step}"));
        }
        // From the disk, and all of it read again.
        check(&table, &Model::open(table.folder.path()).unwrap(), &format!("{kind}: opened"));
        let whole =
            Model::refresh(table.folder.path(), &RefreshOptions { all: true, ..RefreshOptions::default() }, &Silent);
        check(&table, &whole.unwrap().0, &format!("{kind}: read again"));
    }
}
