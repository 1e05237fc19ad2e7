//! What is stored is what would be stored now: whatever changes between two openings, the answers are those of a store
//! that is made anew.

use std::fs;
use std::path::Path;

use cubrel::Silent;
use cubrel::{Model, RefreshOptions};

const MODEL: &str = "[model]
locale = 'en-GB'
currency = 'GBP'
[table.t]
source = 't.csv'
key = 'id'
where = \"days_between(d, today()) < 100000\"
[table.t.column.age]
formula = \"days_between(d, today())\"
[table.t.column.age_late]
formula = \"days_between(d, today()) + coalesce(sum(f.x), 0)\"
[table.t.column.shown]
formula = \"to_text(x * 1.5, '¤#,##0.00')\"
[table.t.column.shown_late]
formula = \"to_text(coalesce(sum(f.x), 0) * 1000.5, '#,##0.0')\"
[table.t.column.zone]
formula = 'days.year via t.d'
[table.t.column.zone_name]
formula = 'zone.name'
[table.zone]
source = 'zone.csv'
[table.f]
source = 'f.csv'
[table.days]
calendar = 'date'
generate = { from = '2024-01-01', to = '2025-12-31' }
[table.due]
same_as = 'days'
[table.worked]
query = \"grid sum(t.age) as age by t.id\"
[[relationship]]
many = 'f.id'
one = 't.id'
[[relationship]]
many = 't.d'
one = 'days.date'
[[relationship]]
many = 't.zone'
one = 'zone.year'
[measure.late]
formula = 'sum(t.age_late)'
";

const QUESTIONS: &[&str] = &[
    "records t.id, t.d, t.x, t.age, t.age_late, t.shown, t.shown_late order by t.id",
    "grid late by days.year, days.quarter, days.week",
    "grid late, rows(t) as n by zone.name, t.zone_name",
    "grid rows(due) as n by due.year, due.quarter",
    "grid sum(worked.age) as a",
    "grid sum(t.x) given (so_far(year) on days) as x by days.month",
];

/// What a model answers on some day.
fn answers(folder: &Path, today: i32) -> Vec<String> {
    let options = RefreshOptions { today: Some(today), ..RefreshOptions::default() };
    let (model, _) = Model::open_with(folder, &options, &Silent).unwrap();
    let answer = |text: &&str| {
        let grid = model.query(text).unwrap().run().unwrap();
        grid.lines.iter().map(|l| format!("{:?}", l.values)).collect::<Vec<_>>().join("\n")
    };
    QUESTIONS.iter().map(answer).collect()
}

fn write(folder: &Path, model: &str) {
    fs::write(folder.join("model.toml"), model).unwrap();
    fs::write(
        folder.join("t.csv"),
        "id,d,x\n1,2024-03-31,1\n2,2024-04-01,20\n3,2025-01-05,300\n,,NA\n".replace(",,NA", "4,2025-06-01,7"),
    )
    .unwrap();
    fs::write(folder.join("zone.csv"), "year,name\n2024,old\n2025,new\n2026,next\n").unwrap();
    fs::write(folder.join("f.csv"), "id,x\n1,5\n1,6\n3,7\n").unwrap();
}

/// What changes, how the model reads then, and the day.
type Change<'a> = (&'a str, &'a dyn Fn(&str) -> String, i32);

#[test]
fn answers_are_those_of_a_store_made_anew() {
    let day = 20_600;
    let changes: &[Change<'_>] = &[
        ("nothing", &|m| m.to_string(), day),
        ("the day", &|m| m.to_string(), day + 1),
        ("the locale", &|m| m.replace("en-GB", "de-DE"), day),
        ("the currency", &|m| m.replace("currency = 'GBP'", "currency = 'USD'"), day),
        ("where years begin", &|m| m.replace("calendar = 'date'", "calendar = 'date'\nyear_starts = '04-01'"), day),
        ("where weeks begin", &|m| m.replace("calendar = 'date'", "calendar = 'date'\nweek_starts = 'sunday'"), day),
        (
            "a type",
            &|m| m.replace("[table.t.column.age]", "[table.t.column.x]\ntype = 'float'\n[table.t.column.age]"),
            day,
        ),
        ("a formula", &|m| m.replace("x * 1.5", "x * 2.5"), day),
        ("a measure", &|m| m.replace("sum(t.age_late)", "sum(t.age_late) + 1"), day),
        ("what is loaded", &|m| m.replace("< 100000", "< 100"), day),
        ("a relationship", &|m| m.replace("many = 't.d'", "spare = true\nmany = 't.d'"), day),
        ("the query of a table", &|m| m.replace("sum(t.age) as age", "sum(t.age) + 1 as age"), day),
        ("what people read", &|m| m.replace("key = 'id'", "key = 'id'\nlabel = 'Things'\nnote = 'n'"), day),
    ];
    for (what, change, today) in changes {
        let old = tempfile::tempdir().unwrap();
        write(old.path(), MODEL);
        let before = answers(old.path(), day);
        let changed = change(MODEL);
        assert!(*what == "nothing" || changed != MODEL || *today != day, "{what}");
        fs::write(old.path().join("model.toml"), &changed).unwrap();
        let anew = tempfile::tempdir().unwrap();
        write(anew.path(), &changed);
        let expected = answers(anew.path(), *today);
        assert_eq!(answers(old.path(), *today), expected, "{what}");
        let same = ["nothing", "what people read", "a relationship"].contains(what);
        assert!(same || expected != before, "{what} changes nothing: the case is worth nothing");
        // And back again.
        fs::write(old.path().join("model.toml"), MODEL).unwrap();
        assert_eq!(answers(old.path(), day), before, "{what}, and back");
    }
}
