//! Comparisons with a value from outside: one read grouped by the column answers what a read for each value does, and
//! what a loop over the rows does.

use std::cmp::Ordering;

use crate::common::{Random, segments};
use cubrel::{Model, Type, Value};

const ROWS: usize = 300;

/// A column of each kind, with nulls, and a group.
fn rows(seed: u64) -> Vec<Vec<Value>> {
    let r = &mut Random(seed);
    let row = |_| {
        let n = r.below(40) as i64 - 10;
        let or_null = |r: &mut Random, v: Value| if r.chance(8) { Value::Null } else { v };
        vec![
            Value::Int(r.below(12) as i64),
            or_null(r, Value::Int(n)),
            or_null(r, Value::Decimal { unscaled: i128::from(n) * 25, scale: 2 }),
            or_null(r, Value::Float(n as f64 / 8.0)),
            or_null(r, Value::text(format!("t{:02}", n + 10))),
            or_null(r, Value::Date(20_000 + n as i32)),
            Value::Int(r.below(1000) as i64),
        ]
    };
    (0..ROWS).map(row).collect()
}

const COLUMNS: [(&str, Type); 7] = [
    ("group", Type::Int),
    ("int", Type::Int),
    ("decimal", Type::Decimal { precision: 18, scale: 2 }),
    ("float", Type::Float),
    ("text", Type::Text),
    ("date", Type::Date),
    ("x", Type::Int),
];

fn holds(op: &str, order: Ordering) -> bool {
    match op {
        "=" => order.is_eq(),
        "<" => order.is_lt(),
        "<=" => order.is_le(),
        ">" => order.is_gt(),
        _ => order.is_ge(),
    }
}

/// The figures of the rows whose column stands so to a value.
fn naive(rows: &[&Vec<Value>], column: usize, op: &str, value: &Value) -> Vec<Value> {
    let passes = |row: &&&Vec<Value>| {
        let own = &row[column];
        !own.is_null() && !value.is_null() && holds(op, own.total_cmp(value))
    };
    let x: Vec<i64> = rows.iter().filter(passes).map(|row| row[6].as_exact(0).unwrap() as i64).collect();
    let or_null = |v: Option<i64>| v.map_or(Value::Null, Value::Int);
    vec![
        Value::Int(x.len() as i64),
        or_null((!x.is_empty()).then(|| x.iter().sum())),
        or_null(x.iter().min().copied()),
        or_null(x.iter().max().copied()),
    ]
}

#[test]
fn cells_with_a_value_each() {
    for seed in 0..4 {
        let rows = rows(seed);
        let model = Model::builder().rows("t", &COLUMNS, &rows).segment_rows(segments(seed)).build().unwrap();
        for (column, (name, _)) in COLUMNS.iter().enumerate().take(6).skip(1) {
            for op in ["=", "<", "<=", ">", ">="] {
                for (edits, everywhere) in [("without axes, ", true), ("", false)] {
                    let item = |what: &str| {
                        format!("(let v = max(t.{name}); {what} given ({edits}t.{name} {op} v)) as \"{what}\"")
                    };
                    let items: Vec<String> = ["rows(t)", "sum(t.x)", "min(t.x)", "max(t.x)"].map(item).to_vec();
                    let text = format!("grid {} by t.group", items.join(", "));
                    let grid = crate::common::run(&model, &text);
                    for line in &grid.lines {
                        let own: Vec<&Vec<Value>> = rows.iter().filter(|r| r[0] == line.values[0]).collect();
                        let value =
                            own.iter().map(|r| &r[column]).filter(|v| !v.is_null()).max_by(|a, b| a.total_cmp(b));
                        let all: Vec<&Vec<Value>> = if everywhere { rows.iter().collect() } else { own.clone() };
                        let expected = naive(&all, column, op, value.unwrap_or(&Value::Null));
                        assert_eq!(line.values[1..], expected, "seed {seed}: {text}");
                    }
                }
            }
        }
    }
}

#[test]
fn rows_with_a_value_each() {
    let rows = rows(99);
    for (column, (name, _)) in COLUMNS.iter().enumerate().take(6).skip(1) {
        for op in ["=", "<", "<=", ">", ">="] {
            let formula =
                |what: &str| format!("let v = {name}; {what} given (without row, t.group = mine, t.{name} {op} v)");
            let model = Model::builder()
                .rows("t", &COLUMNS, &rows)
                .column("t", "how_many", &format!("let mine = group; {}", formula("rows(t)")))
                .column("t", "total", &format!("let mine = group; {}", formula("sum(t.x)")))
                .build()
                .unwrap();
            let grid = crate::common::run(&model, "records t.group, t.how_many, t.total");
            assert_eq!(grid.lines.len(), ROWS);
            for (line, row) in grid.lines.iter().zip(&rows) {
                let own: Vec<&Vec<Value>> = rows.iter().filter(|r| r[0] == row[0]).collect();
                let expected = naive(&own, column, op, &row[column]);
                assert_eq!(line.values[1..3], expected[..2], "t.{name} {op}, {row:?}");
            }
        }
    }
}
