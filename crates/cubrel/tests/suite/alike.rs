//! Calculated columns of rows that are alike in all that their formulas need are computed once for a run of them. The same
//! formula beside something that tells all rows apart, and changes nothing, has to give the same.
use std::fmt::Write as _;
use std::fs;

use cubrel::Silent;
use cubrel::internals::InModel as _;
use cubrel::{Error, Grid, Model, RefreshOptions, Value};
use tempfile::TempDir;

const FORMULAS: &[&str] = &[
    "n * 2",
    "n + route.miles",
    "route.name || '/' || kind",
    "case when kind = 'b' then n when kind is null then -1 end",
    "if(n > 3, route.fee / n, n / 0)",
    "let mine = kind; sum(line.n) given (without row, line.kind = mine)",
    "let mine = n; rows(line) given (without row, line.n < mine)",
    "n / sum(line.n) given (without row)",
    "sum(line.n) given (without row, route.name = 'R2')",
    "let twice = n * 2; let more = twice + 1; more * more",
    "coalesce(route.fee, price)",
    "price * n",
    "cast(price as float) / route.miles",
    "add_days(day, n)",
    "(let mine = route_id; max(line.price) given (without row, line.route_id = mine)) - price",
    // The row itself counts, so that nothing is computed once for several.
    "sum(line.n)",
    "rows(line) + n",
    "rank(sum(line.n) per line.kind)",
    SAME[1],
];

/// Those that give the same on every row.
const SAME: [&str; 3] =
    ["sum(line.n) given (without row, route.name = 'R2')", "sum(route.fee)", "rank(sum(line.n) per line.kind)"];

const ROWS: usize = 30_000;

/// Lines in runs of lengths that differ, with nulls and keys that are nowhere.
fn lines() -> String {
    let mut text = String::from("id,n,kind,route_id,price,day\n");
    let mut row = 0;
    let mut run = 0usize;
    while row < ROWS {
        let noise = run.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 33;
        let n = if noise.is_multiple_of(11) { String::new() } else { (noise % 7).to_string() };
        let kind = ["a", "b", "c", ""][run / 9 % 4];
        let price = format!("{}.{:02}", run / 5 % 90, run % 3 * 25);
        for _ in 0..(1 + noise % 60).min(ROWS - row) {
            writeln!(text, "{row},{n},{kind},{},{price},2026-0{}-11", run / 3 % 6, 1 + run / 40 % 9).unwrap();
            row += 1;
        }
        run += 1;
    }
    text
}

fn model(columns: &str) -> Result<(TempDir, Model), Error> {
    let folder = TempDir::new().unwrap();
    fs::write(folder.path().join("line.csv"), lines()).unwrap();
    fs::write(folder.path().join("route.csv"), "id,name,miles,fee\n0,R0,3,1.50\n1,R1,0,\n2,R2,12,4.25\n3,,7,0.10\n")
        .unwrap();
    let text = format!(
        "[model]\nname = 'alike'\n[table.line]\nsource = 'line.csv'\n[table.route]\nsource = 'route.csv'\nkey = 'id'\n\
         [[relationship]]\nmany = 'line.route_id'\none = 'route.id'\n{columns}"
    );
    fs::write(folder.path().join("model.toml"), text).unwrap();
    Model::refresh(folder.path(), &RefreshOptions::default(), &Silent).map(|(model, _)| (folder, model))
}

fn column(table: &str, name: &str, formula: &str) -> String {
    format!("[table.{table}.column.{name}]\nformula = \"{formula}\"\n")
}

fn asked(model: &Model, text: &str) -> Grid {
    model.query(text).unwrap_or_else(|e| panic!("{text}: {e}")).run().unwrap_or_else(|e| panic!("{text}: {e}"))
}

#[test]
fn what_is_computed_once_a_run_is_what_each_row_gives() {
    let mut columns = String::new();
    for (i, formula) in FORMULAS.iter().enumerate() {
        columns += &column("line", &format!("once{i}"), formula);
        // No two rows have the same `id`; where it is null, which it never is, the value would be null, too.
        columns += &column("line", &format!("each{i}"), &format!("if(id is null, null, ({formula}))"));
    }
    let (_folder, model) = model(&columns).unwrap();
    for (i, formula) in FORMULAS.iter().enumerate() {
        let grid = asked(&model, &format!("records line.id, line.once{i}, line.each{i} order by line.id"));
        assert_eq!(grid.lines.len(), ROWS, "{formula}");
        let mut different = std::collections::HashSet::new();
        for line in &grid.lines {
            assert_eq!(line.values[1], line.values[2], "{formula}: row {}", line.values[0]);
            different.insert(line.values[1].to_string());
        }
        assert!(different.len() > 1 || SAME.contains(formula), "{formula}");
    }
    // What is known of a column without looking at its rows is right.
    let table = &model.store().tables[0];
    for column in &table.columns {
        let codes: Vec<u64> = (0..column.rows()).map(|row| column.code(row)).collect();
        let nulls = codes.iter().filter(|code| **code == column.null_code()).count() as u64;
        let different: std::collections::HashSet<u64> =
            codes.into_iter().filter(|c| *c != column.null_code()).collect();
        assert_eq!((column.nulls(), column.distinct()), (nulls, different.len() as u64));
    }
}

#[test]
fn the_first_row_that_fails_is_told() {
    for formula in ["cast(route.name || kind as int)", "if(id is null, 0, cast(route.name || kind as int))"] {
        let Err(problem) = model(&column("line", "wrong", formula)) else { panic!("{formula} works") };
        let text = problem.to_string();
        assert!(text.contains("row 1 of line"), "{formula}: {text}");
    }
    // Whether it is computed once a run or for each row, the same row is told: the first one in the table's own order.
    let told = |guard: &str| {
        let formula = format!("if({guard}, 1, cast(route.name || 'x' as int))");
        let Err(problem) = model(&column("line", "wrong", &formula)) else { panic!("{formula} works") };
        let text = problem.to_string();
        text[text.find("row ").unwrap()..].to_string()
    };
    // What fails inside of an aggregate has another place than a row of the column.
    let inside = "n + sum(cast(line.kind as int)) given (without all, line.id > 100)";
    let Err(problem) = model(&column("line", "wrong", inside)) else { panic!("{inside} works") };
    assert!(problem.to_string().contains("cannot be turned into int"), "{problem}");
    let (once, each) = (told("price <> 7.50"), told("coalesce(id, 0) < 0 or price <> 7.50"));
    assert_eq!(once, each);
    assert!(!once.starts_with("row 1 of"), "{once}");
}

#[test]
fn totals_of_such_columns_are_those_of_their_rows() {
    let columns =
        column("line", "share", "n / sum(line.n) given (without row)") + &column("line", "far", "n + route.miles");
    let (_folder, model) = model(&columns).unwrap();
    let grid = asked(
        &model,
        "grid sum(line.share) as s, sum(line.far) as f, sum(line.n + route.miles) as g, count(line.far) as c, count(line.n + route.miles) as d",
    );
    let values = &grid.lines[0].values;
    let Value::Float(share) = values[0] else { panic!("{:?}", values[0]) };
    assert!((share - 1.0).abs() < 1e-9, "{share}");
    assert_eq!((&values[1], &values[3]), (&values[2], &values[4]));
}
