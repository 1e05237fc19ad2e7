//! Two formulas side by side, and what is advised: the verdict is what two grids say that were asked by themselves.
use std::collections::{BTreeMap, BTreeSet};
use std::sync::LazyLock;

use cubrel::advice::faster_formulas;
use cubrel::formula_comparison::{FormulaPair, compare_formulas};
use cubrel::{Model, QueryOptions, Type, Value};

const ROWS: i64 = 6000;

fn noise(i: i64) -> i64 {
    ((i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15_u64 as i64) >> 33).abs()
}

/// Bookings of customers and routes; some point at nothing, some have no price.
static MODEL: LazyLock<Model> = LazyLock::new(|| {
    let key =
        |i: i64, n: i64| if noise(i * 5 + n) % 40 == 0 { Value::Null } else { Value::Int(noise(i + n) % (n + 1)) };
    let price = |i: i64| match noise(i * 3) % 25 {
        0 => Value::Null,
        _ => Value::Decimal { unscaled: (noise(i * 7) % 9000).into(), scale: 2 },
    };
    let bookings: Vec<Vec<Value>> = (0..ROWS)
        .map(|i| {
            vec![key(i, 12), key(i, 150), price(i), Value::Int(noise(i) % 6), Value::Float(noise(i * 9) as f64 / 7.0)]
        })
        .collect();
    let routes: Vec<Vec<Value>> =
        (0..12).map(|i| vec![Value::Int(i), Value::text(["North", "South", "West"][i as usize % 3])]).collect();
    let customers: Vec<Vec<Value>> = (0..150).map(|i| vec![Value::Int(i), Value::Int(noise(i) % 9)]).collect();
    Model::builder()
        .rows(
            "booking",
            &[
                ("route", Type::Int),
                ("customer", Type::Int),
                ("price", Type::Decimal { precision: 18, scale: 2 }),
                ("people", Type::Int),
                ("weight", Type::Float),
            ],
            &bookings,
        )
        .rows("route", &[("id", Type::Int), ("region", Type::Text)], &routes)
        .rows("customer", &[("id", Type::Int), ("size", Type::Int)], &customers)
        .relationship("booking.route", "route.id")
        .relationship("booking.customer", "customer.id")
        .measure("revenue", "sum(booking.price)")
        .measure("people", "sum(booking.people)")
        .build()
        .unwrap()
});

/// Formulas that are the same everywhere, somewhere or nowhere.
const PAIRS: &[(&str, &str)] = &[
    ("revenue", "sum(booking.price)"),
    ("revenue", "sum(revenue per booking.route)"),
    ("revenue", "sum(revenue per route)"),
    ("revenue", "sum(revenue per customer)"),
    ("people", "sum(people per (booking.route, booking.customer))"),
    ("people", "sum(booking.people * 2) / 2"),
    ("rows(booking)", "count(booking.price)"),
    ("rows(booking)", "count(booking.people)"),
    ("avg(booking.price)", "revenue / rows(booking)"),
    ("avg(booking.price)", "revenue / count(booking.price)"),
    ("max(booking.price)", "max(booking.price per booking)"),
    ("sum(booking.weight)", "sum(sum(booking.weight) per booking.people)"),
    ("count(distinct booking.customer)", "sum(1 per customer where rows(booking) > 0)"),
    ("revenue given (without route)", "revenue"),
    ("coalesce(revenue, 0)", "revenue"),
    ("if(people = 0, null, revenue / people)", "revenue / people"),
    ("sum(if(booking.people > 2, booking.price, 0))", "revenue given (booking.people > 2)"),
    ("median(booking.price)", "percentile_cont(booking.price, 0.5)"),
];

const AXES: &[&str] =
    &["", "route.region", "booking.people", "route.region, customer.size", "booking.route, booking.people"];
const FILTERS: &[&str] =
    &["", "booking.people >= 4", "route.region = 'North'", "customer.size in (1, 2) and booking.price > 20"];

/// The figure of each cell and total, by its axes and which of them are totalled.
fn cells(formula: &str, by: &str, filter: &str) -> BTreeMap<(BTreeSet<usize>, Vec<String>), Value> {
    let part = |word: &str, text: &str| if text.is_empty() { String::new() } else { format!(" {word} {text}") };
    let totals = if by.is_empty() { "" } else { " totals" };
    let text = format!("grid {formula} as figure{}{}{totals}", part("by", by), part("where", filter));
    let grid = MODEL.query(&text).unwrap_or_else(|e| panic!("{text}: {e}")).run().unwrap();
    let axes = grid.columns.len() - 1;
    let cell = |values: &[Value]| values[..axes].iter().map(|v| format!("{v:?}")).collect();
    let of = |line: &cubrel::GridLine| {
        let totalled: BTreeSet<usize> = line.totalled.iter().copied().collect();
        ((totalled, cell(&line.values)), line.values[axes].clone())
    };
    grid.lines.iter().map(of).collect()
}

fn near(a: &Value, b: &Value) -> bool {
    match (a.as_f64(), b.as_f64()) {
        (Some(x), Some(y)) => (x - y).abs() <= 1e-9 * x.abs().max(y.abs()),
        _ => a.is_null() && b.is_null(),
    }
}

/// In how many cells two formulas differ, each asked by itself; a cell that one of them has not is null there.
fn differing(a: &str, b: &str, by: &str, filter: &str) -> usize {
    let (a, b) = (cells(a, by, filter), cells(b, by, filter));
    let places: BTreeSet<_> = a.keys().chain(b.keys()).collect();
    let figure = |cells: &BTreeMap<_, Value>, place| cells.get(place).cloned().unwrap_or(Value::Null);
    places.into_iter().filter(|place| !near(&figure(&a, place), &figure(&b, place))).count()
}

#[test]
fn the_verdict_is_what_two_grids_say() {
    let (mut same, mut different) = (0, 0);
    for (measure, with) in PAIRS {
        for (by, filter) in AXES.iter().flat_map(|by| FILTERS.iter().map(move |filter| (by, filter))) {
            let contest = FormulaPair {
                measure: measure.to_string(),
                with: with.to_string(),
                by: by.to_string(),
                filter: filter.to_string(),
            };
            let found = compare_formulas(&MODEL, &contest, &QueryOptions::default(), 1)
                .unwrap_or_else(|e| panic!("{contest:?} {e}"));
            assert_eq!(found.differing, differing(measure, with, by, filter), "{contest:?}");
            assert_eq!(found.differences.len(), found.differing.min(10), "{contest:?}");
            for difference in &found.differences {
                assert_ne!(difference.measure, difference.with, "{contest:?} {difference:?}");
            }
            *if found.differing == 0 { &mut same } else { &mut different } += 1;
            // A formula against itself never differs.
            let own = FormulaPair { with: measure.to_string(), ..contest };
            assert_eq!(compare_formulas(&MODEL, &own, &QueryOptions::default(), 1).unwrap().differing, 0, "{own:?}");
        }
    }
    assert!(same > 80 && different > 80, "{same} the same, {different} not");
}

#[test]
fn what_is_advised_is_the_same_in_every_cell() {
    let slow = [
        "sum(revenue per customer)",
        "sum(revenue per route)",
        "sum(if(people = 0, null, revenue / people) * people per booking.route)",
        "sum(sum(booking.price) * single(booking.people) per booking)",
        "max(revenue per booking)",
        "count(distinct customer.id)",
        "sum(if(people = 0, 0, revenue / people) per booking.customer)",
        "avg(revenue per customer where rows(booking) > 0)",
    ];
    for formula in slow {
        for (by, filter) in AXES.iter().flat_map(|by| FILTERS.iter().map(move |filter| (by, filter))) {
            let part = |word: &str, text: &str| if text.is_empty() { String::new() } else { format!(" {word} {text}") };
            let text = format!(
                "grid {formula} as x{}{} {}",
                part("by", by),
                part("where", filter),
                if by.is_empty() { "" } else { "totals" }
            );
            for advice in
                faster_formulas(&MODEL, &text, &QueryOptions::default()).unwrap_or_else(|e| panic!("{text}: {e}"))
            {
                assert_eq!(differing(&advice.formula, &advice.instead, by, filter), 0, "{text}: {advice:?}");
                assert!(advice.after_ms < advice.before_ms && advice.cells > 0, "{text}: {advice:?}");
            }
        }
    }
}

#[test]
fn what_cannot_be_compared_says_so() {
    let contest = |measure: &str, with: &str, by: &str, filter: &str| {
        let contest = FormulaPair { measure: measure.into(), with: with.into(), by: by.into(), filter: filter.into() };
        compare_formulas(&MODEL, &contest, &QueryOptions::default(), 1).map(|found| found.differing)
    };
    for (measure, with, by, filter, what) in [
        ("revenue", "sum(booking.prize)", "", "", "price"),
        ("revenu", "revenue", "", "", "revenue"),
        ("revenue", "sum(booking.price", "", "", "`)`"),
        ("revenue", "people", "route.regio", "", "region"),
        ("revenue", "people", "", "route.region =", "end"),
    ] {
        let problem = contest(measure, with, by, filter).unwrap_err().to_string();
        assert!(problem.contains(what), "{measure} {with} {by} {filter}: {problem}");
    }
    // A comment at the end of a formula ends with it.
    assert_eq!(contest("revenue -- as it was", "revenue", "route.region", "").unwrap(), 0);
}
