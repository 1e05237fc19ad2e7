//! Aggregates of what is computed row by row, which has no codes: held against plain loops, in every configuration.

use std::collections::{BTreeMap, HashSet};

use cubrel::internals::InQuery as _;
use cubrel::{Model, Type, Value};

use crate::common::{Random, configurations, run, shown};

/// What a row has: a group, whole numbers with the least and the largest there are, doubles of both signs, a day, a truth value.
struct Row {
    group: i64,
    edge: Option<i64>,
    small: Option<i64>,
    double: Option<f64>,
    day: Option<i32>,
    is_late: Option<bool>,
}

fn rows(seed: u64, count: i64, groups: u64) -> Vec<Row> {
    let mut random = Random(seed);
    let mut row = |_| {
        let small = random.below(2001) as i64 - 1000;
        let edge = match random.below(12) {
            0 => i64::MAX,
            1 => i64::MIN,
            2 => 0,
            _ => small << (random.below(50) as u32),
        };
        let group = random.below(groups) as i64;
        let mut some = || !random.chance(20);
        Row {
            group,
            edge: some().then_some(edge),
            small: some().then_some(small),
            double: some().then_some(small as f64 / 7.0),
            day: some().then_some(20_000 + small as i32),
            is_late: some().then_some(small % 3 == 0),
        }
    };
    (0..count).map(&mut row).collect()
}

fn model(rows: &[Row], segment: usize) -> Model {
    let columns = [
        ("g", Type::Int),
        ("edge", Type::Int),
        ("small", Type::Int),
        ("double", Type::Float),
        ("day", Type::Date),
        ("is_late", Type::Bool),
    ];
    let values = |row: &Row| {
        vec![
            Value::Int(row.group),
            row.edge.map_or(Value::Null, Value::Int),
            row.small.map_or(Value::Null, Value::Int),
            row.double.map_or(Value::Null, Value::Float),
            row.day.map_or(Value::Null, Value::Date),
            row.is_late.map_or(Value::Null, Value::Bool),
        ]
    };
    let values: Vec<Vec<Value>> = rows.iter().map(values).collect();
    Model::builder().rows("sailing", &columns, &values).segment_rows(segment).build().unwrap()
}

const KINDS: [(u64, i64, u64, usize); 5] =
    [(1, 900, 1, 1 << 20), (2, 900, 3, 293), (3, 1500, 40, 1 << 20), (4, 700, 500, 7), (5, 5000, 900, 1 << 20)];

/// Formulas that no list of codes has the values of, since two columns go into each, and what they are in a row.
type Computed = (&'static str, fn(&Row) -> Option<Value>);
const COMPUTED: [Computed; 8] = [
    ("greatest(sailing.edge, sailing.small)", |r| Some(Value::Int(r.edge?.max(r.small?)))),
    ("least(sailing.edge, sailing.small)", |r| Some(Value::Int(r.edge?.min(r.small?)))),
    ("sailing.small * sailing.edge * 1.0", |r| {
        Some(Value::Decimal { unscaled: i128::from(r.small?) * i128::from(r.edge?) * 10, scale: 1 })
    }),
    ("sailing.double - sailing.small", |r| Some(Value::Float(r.double? - r.small? as f64))),
    ("sailing.double / sailing.small", |r| Some(Value::Float(r.double? / r.small.filter(|s| *s != 0)? as f64))),
    ("add_days(sailing.day, sailing.small)", |r| Some(Value::Date(r.day? + r.small? as i32))),
    ("cast(sailing.small as text) || sailing.day", |r| {
        Some(Value::text(format!("{}{}", r.small?, Value::Date(r.day?))))
    }),
    ("sailing.is_late = (sailing.small > 0)", |r| Some(Value::Bool(r.is_late? == (r.small? > 0)))),
];

fn of_groups(rows: &[Row], of: fn(&Row) -> Option<Value>) -> BTreeMap<i64, Vec<Value>> {
    let mut groups: BTreeMap<i64, Vec<Value>> = BTreeMap::new();
    for row in rows {
        groups.entry(row.group).or_default().extend(of(row));
    }
    groups
}

#[test]
fn the_least_and_the_largest_of_what_is_computed() {
    for (seed, count, groups, segment) in KINDS {
        let rows = rows(seed, count, groups);
        let model = model(&rows, segment);
        for (formula, of) in COMPUTED {
            let grid = run(&model, &format!("grid min({formula}) as a, max({formula}) as b by sailing.g with empty"));
            let mut expected = Vec::new();
            for (group, mut values) in of_groups(&rows, of) {
                values.sort_by(Value::total_cmp);
                let (a, b) = (values.first().cloned(), values.last().cloned());
                expected.push(vec![Value::Int(group), a.unwrap_or(Value::Null), b.unwrap_or(Value::Null)]);
            }
            let found: Vec<Vec<Value>> = grid.lines.iter().map(|line| line.values.clone()).collect();
            assert_eq!(found, expected, "{formula} of {count} rows in {groups} groups");
        }
    }
}

#[test]
fn the_spread_of_what_is_computed() {
    // Far from zero, where squares would lose what they are about.
    let formula = "sailing.double - sailing.small + 1e9";
    let of: fn(&Row) -> Option<Value> = |r| Some(Value::Float(r.double? - r.small? as f64 + 1e9));
    let text = format!("grid var_samp({formula}) as a, stddev_pop({formula}) as b by sailing.g with empty");
    for (seed, count, groups, segment) in KINDS {
        let rows = rows(seed, count, groups);
        let query = model(&rows, segment).query(&text).unwrap();
        let expected = of_groups(&rows, of);
        // What doubles are added up to depends on how rows are parted, by less than can be seen.
        for (name, options) in configurations() {
            let (grid, _) = query.run_with(&options).unwrap();
            assert_eq!(grid.lines.len(), expected.len(), "{name}");
            for (line, (group, values)) in grid.lines.iter().zip(&expected) {
                let values: Vec<f64> = values.iter().filter_map(Value::as_f64).collect();
                let [of_sample, of_all] = spreads(&values);
                assert_eq!(line.values[0], Value::Int(*group), "{name}");
                assert!(is_near(&line.values[1], of_sample), "{name}: {} in place of {of_sample:?}", line.values[1]);
                assert!(is_near(&line.values[2], of_all), "{name}: {} in place of {of_all:?}", line.values[2]);
            }
        }
    }
}

/// The variance of a sample, and the deviation in all.
fn spreads(values: &[f64]) -> [Option<f64>; 2] {
    let n = values.len() as f64;
    let mean = values.iter().map(|v| v - 1e9).sum::<f64>() / n;
    let squares: f64 = values.iter().map(|v| (v - 1e9 - mean).powi(2)).sum();
    [(n >= 2.0).then_some(squares / (n - 1.0)), (n >= 1.0).then_some((squares / n).sqrt())]
}

fn is_near(value: &Value, expected: Option<f64>) -> bool {
    match (value.as_f64(), expected) {
        (Some(found), Some(expected)) => (found - expected).abs() <= 1e-6 * expected.max(1.0),
        (found, expected) => found.is_none() && expected.is_none(),
    }
}

#[test]
fn different_values_of_what_is_computed_and_combinations_of_them() {
    let combinations: [&[usize]; 9] = [&[0], &[2], &[4], &[6], &[7], &[0, 6], &[6, 6, 2], &[5, 3, 7], &[0, 1, 5, 6]];
    for (seed, count, groups, segment) in KINDS {
        let rows = rows(seed, count, groups);
        let model = model(&rows, segment);
        for combination in combinations {
            let computed: Vec<Computed> = combination.iter().map(|i| COMPUTED[*i]).collect();
            let formulas: Vec<&str> = computed.iter().map(|(formula, _)| *formula).collect();
            let text = format!("grid count(distinct {}) as n by sailing.g with empty", formulas.join(", "));
            let mut expected: BTreeMap<i64, HashSet<Vec<Value>>> = BTreeMap::new();
            for row in &rows {
                let seen = expected.entry(row.group).or_default();
                seen.extend(computed.iter().map(|(_, of)| of(row)).collect::<Option<Vec<Value>>>());
            }
            let expected: Vec<String> =
                expected.iter().map(|(group, seen)| format!("{group}|{}", seen.len())).collect();
            assert_eq!(shown(&run(&model, &text)), expected, "{text}");
        }
    }
}
