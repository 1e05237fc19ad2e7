//! Several figures of the same rows in one grid, and shares of very many values: held against the rows themselves.

use std::sync::LazyLock;

use crate::common::{run, shown};
use cubrel::{Model, Type, Value};

const ROWS: i64 = 12_000;
const VESSELS: i64 = 7;

/// A sailing: its vessel, seats that are always known, fuel and delay that are not, and what it costs.
struct Sailing {
    vessel: i64,
    seats: i64,
    fuel: Option<f64>,
    delay: Option<i64>,
    price: i128,
}

fn noise(i: i64) -> i64 {
    let mixed = (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15_u64 as i64);
    (mixed ^ mixed >> 29).wrapping_mul(0xBF58_476D_1CE4_E5B9_u64 as i64) >> 33 & 0xFFFF
}

static SAILINGS: LazyLock<Vec<Sailing>> = LazyLock::new(|| {
    let sailing = |i: i64| Sailing {
        // One vessel has most of them, and one none.
        vessel: (noise(i) % (2 * VESSELS) - VESSELS).max(0),
        seats: noise(i + 1) % 500,
        // Some of them alike, some below zero; quarters, so that sums are the same in any order.
        fuel: (noise(i + 2) % 9 > 0).then(|| (noise(i + 3) % 8000 - 2000) as f64 / 4.0),
        delay: (noise(i + 4) % 4 > 0).then(|| noise(i + 5) % 90 - 20),
        price: i128::from(noise(i + 6)) * i128::from(noise(i + 7)),
    };
    (0..ROWS).map(sailing).collect()
});

static MODEL: LazyLock<Model> = LazyLock::new(|| {
    let row = |s: &Sailing| {
        let price = Value::Decimal { unscaled: s.price, scale: 2 };
        let (fuel, delay) = (s.fuel.map_or(Value::Null, Value::float), s.delay.map_or(Value::Null, Value::Int));
        vec![Value::Int(s.vessel), Value::Int(s.seats), fuel, delay, price]
    };
    let price = ("price", Type::Decimal { precision: 18, scale: 2 });
    let columns = [("vessel", Type::Int), ("seats", Type::Int), ("fuel", Type::Float), ("delay", Type::Int), price];
    let vessels: Vec<Vec<Value>> = (0..VESSELS).map(|i| vec![Value::Int(i), Value::Int(i % 3)]).collect();
    Model::builder()
        .rows("sailing", &columns, &SAILINGS.iter().map(row).collect::<Vec<_>>())
        .rows("vessel", &[("id", Type::Int), ("class", Type::Int)], &vessels)
        .relationship("sailing.vessel", "vessel.id")
        .build()
        .unwrap()
});

/// A figure that every line has, so that it shows whatever else it has.
const ANCHOR: &str = "min(sailing.seats) as least";

/// The figures that one grid has, one after the other.
fn together(figures: &[&str], rest: &str) -> Vec<String> {
    let items: Vec<String> = figures.iter().enumerate().map(|(i, figure)| format!("{figure} as f{i}")).collect();
    shown(&run(&MODEL, &format!("grid {ANCHOR}, {} {rest}", items.join(", "))))
}

/// The same, each asked for by itself: line by line its keys, then a figure after the other.
fn alone(figures: &[&str], rest: &str) -> Vec<(String, Vec<String>)> {
    let of = |figure: &&str| shown(&run(&MODEL, &format!("grid {ANCHOR}, {figure} as f {rest}")));
    let columns: Vec<Vec<String>> = figures.iter().map(of).collect();
    let line = |i: usize| {
        let values = columns.iter().map(|lines| lines[i].rsplit('|').next().unwrap_or_default().to_string());
        (columns[0][i].rsplit_once('|').map_or_else(String::new, |(key, _)| key.to_string()), values.collect())
    };
    (0..columns[0].len()).map(line).collect()
}

/// Lines with some of their figures, in this order.
fn with(lines: &[(String, Vec<String>)], places: &[usize]) -> Vec<String> {
    let line = |(key, values): &(String, Vec<String>)| {
        let values = places.iter().map(|place| values[*place].as_str());
        std::iter::once(key.as_str()).chain(values).collect::<Vec<_>>().join("|")
    };
    lines.iter().map(line).collect()
}

#[test]
fn figures_of_the_same_rows_are_the_same_together_as_alone() {
    let figures = [
        "sum(sailing.seats)",
        "avg(sailing.seats)",
        "rows(sailing)",
        "count(sailing.seats)",
        "avg(sailing.delay)",
        "sum(sailing.delay)",
        "count(sailing.delay)",
        "sum(sailing.fuel)",
        "avg(sailing.fuel)",
        "avg(sailing.price)",
        "sum(sailing.price)",
        "avg(sailing.seats * 2)",
        "sum(sailing.seats * sailing.price)",
        "avg(sailing.seats * sailing.price)",
        "avg(vessel.class)",
    ];
    let all: Vec<usize> = (0..figures.len()).collect();
    let turned: Vec<usize> = all.iter().rev().copied().collect();
    // None of these counts rows.
    let means = vec![1, 9, 10];
    for rest in [
        "",
        "where sailing.delay is null",
        "by vessel.id",
        "by vessel.class where sailing.seats < 250",
        "by vessel.class, sailing.delay where vessel.class = 1",
        "by sailing.seats",
    ] {
        let lines = alone(&figures, rest);
        for places in [&all, &turned, &means] {
            let some: Vec<&str> = places.iter().map(|place| figures[*place]).collect();
            assert_eq!(together(&some, rest), with(&lines, places), "{some:?} {rest}");
        }
    }
    // Each with rows of its own, in one pass.
    let narrowed = [
        "sum(sailing.seats)",
        "avg(sailing.seats) given (sailing.seats > 100)",
        "sum(sailing.seats) given (sailing.seats > 100)",
        "rows(sailing) given (sailing.delay > 0)",
        "avg(sailing.price) given (sailing.delay > 0)",
        "sum(sailing.price) given (sailing.delay > 0)",
    ];
    let lines = alone(&narrowed, "by vessel.id");
    assert_eq!(together(&narrowed, "by vessel.id"), with(&lines, &[0, 1, 2, 3, 4, 5]));
}

#[test]
fn sums_means_and_counts_are_those_of_the_rows() {
    let expected = |class: i64| {
        let of: Vec<&Sailing> = SAILINGS.iter().filter(|s| s.vessel % 3 == class).collect();
        let seats: i64 = of.iter().map(|s| s.seats).sum();
        let delays: Vec<i64> = of.iter().filter_map(|s| s.delay).collect();
        let mean = |sum: i64, count: usize| {
            let text = format!("{:.10}", sum as f64 / count as f64);
            text.trim_end_matches('0').trim_end_matches('.').to_string()
        };
        let delay: i64 = delays.iter().sum();
        let (means, count) = ((mean(seats, of.len()), mean(delay, delays.len())), of.len());
        format!("{class}|{seats}|{}|{count}|{delay}|{}|{}", means.0, means.1, delays.len())
    };
    let text = "grid sum(sailing.seats) as a, avg(sailing.seats) as b, rows(sailing) as c, sum(sailing.delay) as d, \
        avg(sailing.delay) as e, count(sailing.delay) as f by vessel.class";
    assert_eq!(shown(&run(&MODEL, text)), (0..3).map(expected).collect::<Vec<String>>());
}

/// What stands at a share of sorted values: of two neighbours what lies between them, or the first that reaches it.
fn at(mut values: Vec<f64>, share: f64, between: bool) -> String {
    values.sort_by(f64::total_cmp);
    if values.is_empty() {
        return String::new();
    }
    let found = if between {
        let place = share * (values.len() - 1) as f64;
        let (low, high) = (values[place.floor() as usize], values[place.ceil() as usize]);
        low + (high - low) * (place - place.floor())
    } else {
        values[((share * values.len() as f64).ceil().max(1.0) as usize).min(values.len()) - 1]
    };
    format!("{found:.10}").trim_end_matches('0').trim_end_matches('.').to_string()
}

type ValueOf = fn(&Sailing) -> Option<f64>;

const VALUES: [(&str, ValueOf); 4] = [
    ("sailing.seats", |s| Some(s.seats as f64)),
    ("sailing.fuel", |s| s.fuel),
    ("sailing.delay", |s| s.delay.map(|d| d as f64)),
    // Computed row by row, of which very few are alike.
    ("sailing.seats * sailing.fuel", |s| s.fuel.map(|f| s.seats as f64 * f)),
];

#[test]
fn shares_of_very_many_values_are_those_of_the_sorted_ones() {
    for (formula, of) in VALUES {
        for (share, aggregate, between) in [
            (0.5, format!("median({formula})"), true),
            (0.0, format!("percentile_cont({formula}, 0)"), true),
            (0.99, format!("percentile_cont({formula}, 0.99)"), true),
            (1.0, format!("percentile_cont({formula}, 1)"), true),
            (0.25, format!("percentile_disc({formula}, 0.25)"), false),
        ] {
            for by in [1, 3, VESSELS] {
                let (axis, group): (&str, fn(&Sailing, i64) -> i64) = match by {
                    1 => ("", |_, _| 0),
                    3 => ("by vessel.class", |s, _| s.vessel % 3),
                    _ => ("by vessel.id", |s, _| s.vessel),
                };
                let line = |place: i64| {
                    let own = SAILINGS.iter().filter(|s| group(s, by) == place).filter_map(of).collect();
                    let key = if by == 1 { String::new() } else { format!("{place}|") };
                    format!("{key}{}", at(own, share, between))
                };
                let there = (0..by).filter(|place| SAILINGS.iter().any(|s| group(s, by) == *place));
                let found = shown(&run(&MODEL, &format!("grid {aggregate} as m {axis}")));
                assert_eq!(found, there.map(line).collect::<Vec<String>>(), "{aggregate} {axis}");
            }
        }
    }
}
