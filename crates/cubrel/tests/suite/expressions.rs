//! Expressions over several columns of a row, worked out in steps over vectors, give what each row gives by itself.

use crate::common::{Random, run, shown};
use cubrel::internals::InQuery as _;
use cubrel::run::Options;
use cubrel::{Model, Type, Value};

const ROWS: usize = 5000;

/// Bookings whose numbers hardly repeat; nulls in some columns; scattered, or in the order of their routes.
fn model(rows: usize, in_order: bool, nulls: bool) -> Model {
    let r = &mut Random(rows as u64);
    // Of many rows so many that an array of them would leave the nearer caches, and two rows for each.
    let prices = if rows > 100_000 { 140_000 } else { 5_000_000 };
    let mut lines: Vec<Vec<Value>> = (0..rows)
        .map(|i| {
            let mut maybe = |value: Value| if nulls && r.below(6) == 0 { Value::Null } else { value };
            let n = (i as i64).wrapping_mul(0x9E37_79B9_7F4A_7C15_u64 as i64) >> 20;
            let money = |n: i64| Value::Decimal { unscaled: i128::from(n), scale: 2 };
            vec![
                Value::Int(i as i64),
                maybe(money(n.rem_euclid(prices) - 7_000)),
                money(n.rem_euclid(977)),
                maybe(Value::Int(n.rem_euclid(91) - 9)),
                Value::Date(19_000 + (n.rem_euclid(800)) as i32),
                maybe(Value::Date(19_010 + (n.rem_euclid(797)) as i32)),
                Value::Int(n.rem_euclid(14)),
                maybe(Value::float(n.rem_euclid(10_007) as f64 / 7.0)),
            ]
        })
        .collect();
    if in_order {
        lines.sort_by(|a, b| a[6].total_cmp(&b[6]));
    }
    let columns = [
        ("id", Type::Int),
        ("price", Type::decimal(2)),
        ("fee", Type::decimal(2)),
        ("seats", Type::Int),
        ("booked", Type::Date),
        ("travels", Type::Date),
        ("route", Type::Int),
        ("delay", Type::Float),
    ];
    let routes: Vec<Vec<Value>> = (0..13)
        .map(|i| {
            vec![
                Value::Int(i),
                Value::Bool(i % 3 == 0),
                Value::Int(100 * i - 400),
                Value::text(["North", "South"][i as usize % 2]),
            ]
        })
        .collect();
    Model::builder()
        .rows("booking", &columns, &lines)
        .rows(
            "route",
            &[("id", Type::Int), ("summer", Type::Bool), ("length", Type::Int), ("region", Type::Text)],
            &routes,
        )
        .relationship("booking.route", "route.id")
        .build()
        .unwrap()
}

/// Numbers of a row.
const NUMBERS: &[&str] = &[
    "round(booking.price * booking.fee, 2)",
    "round(booking.price * (1 - 0.01 * booking.fee), 1)",
    "trunc(booking.price - booking.fee)",
    "floor(booking.price - 10 * booking.fee) + ceil(booking.fee)",
    "round(booking.price + booking.fee, -2)",
    "abs(booking.price - booking.fee) % 7",
    "least(booking.price, booking.fee, 900.5) - greatest(booking.fee, 3)",
    "days_between(booking.booked, booking.travels) * booking.seats",
    "case when booking.price < 10 then 1 when booking.price < 20000 then 2 when booking.fee > 3 then booking.seats else 4 end",
    "case when booking.travels < booking.booked then booking.price end",
    "case when booking.seats is null then -1 when route.summer then booking.seats * 2 else route.length end",
    "case when not (booking.seats > 10 and route.region = 'North') then booking.price - booking.fee else 0.01 end",
    "case when booking.seats in (1, 2, 3, 5, 8) or booking.travels is null then booking.fee * booking.seats else -booking.fee end",
    "coalesce(booking.seats, route.length, 7) * booking.fee",
    "coalesce(booking.price, booking.fee)",
    "if(booking.seats between 3 and 40, booking.price, booking.fee)",
    "case when booking.seats % 3 = 0 then booking.seats * booking.seats * booking.seats end",
    "(let x = booking.price - booking.fee; x * x - round(x))",
];

/// What a row can be asked.
const CONDITIONS: &[&str] = &[
    "booking.price > 100 * booking.fee",
    "booking.booked < booking.travels",
    "booking.booked = booking.travels or booking.seats > booking.fee",
    "not (booking.price - booking.fee > booking.seats)",
    "round(booking.fee * booking.seats) % 5 <> 2",
    "booking.seats * booking.fee in (0, 1.5, 12) or booking.seats + route.length < 0",
    "case when booking.seats > 20 then booking.price else booking.fee end between 1 and 200",
    "(booking.seats > 3) = route.summer",
    "booking.delay > booking.fee",
    "booking.delay <> booking.price or booking.delay is null",
];

fn all_ways(of: impl Fn(&Model)) {
    for in_order in [false, true] {
        for nulls in [false, true] {
            of(&model(ROWS, in_order, nulls));
        }
    }
}

#[test]
fn numbers_of_rows_are_the_same_in_every_configuration() {
    all_ways(|model| {
        for number in NUMBERS {
            let grid = run(
                model,
                &format!(
                    "grid sum({number}) as s, avg({number}) as a, count({number}) as c, min({number}) as m, median({number}) as d
                     by booking.route totals"
                ),
            );
            assert_eq!(grid.lines.len(), 15, "{number}");
        }
    });
}

#[test]
fn conditions_of_rows_are_the_same_in_every_configuration() {
    let mut passing = Vec::new();
    all_ways(|model| {
        for condition in CONDITIONS {
            run(model, &format!("grid rows(booking) as n, sum(booking.fee) as s by route.region where {condition}"));
            run(model, &format!("grid count({condition}) as c, sum(case when {condition} then 1 else 0 end) as s"));
        }
    });
    let model = model(ROWS, false, true);
    for condition in CONDITIONS {
        let grid = run(&model, &format!("grid rows(booking) as n where {condition}"));
        passing.push(grid.lines.first().and_then(|line| line.values[0].as_f64()).unwrap_or(0.0) as usize);
    }
    assert!(passing.iter().all(|n| (10..ROWS - 10).contains(n)), "{passing:?}");
}

/// What hangs off one column is looked up by its code, unless there are so many that it is worked out row by row.
#[test]
fn numbers_of_a_column_of_very_many_values_are_those_of_its_rows() {
    let model = model(300_000, false, true);
    for question in [
        "grid sum(round(booking.price)) as s, avg(floor(booking.price * 1.19)) as a, sum(booking.id % 7) as m",
        "grid sum(case when booking.id < 10 then 1 when booking.id < 20000 then 2 when booking.id < 250000 then 3 end) as s,
         sum(case when booking.price < 1 then 1 when booking.price < 2 then 2 when booking.price < 3 then 3 when booking.price < 5 then 4
             when booking.price < 9 then 5 when booking.price < 1000 then booking.price else 6 end) as t by booking.route",
        "grid rows(booking) as n where round(booking.price) % 10 = 3",
        "grid rows(booking) as n where booking.price % 10 = 3 or booking.seats = 4",
        "grid max(abs(booking.price)) as m, count(booking.price > 17) as c by route.region",
    ] {
        let query = model.query(question).unwrap();
        let plain = Options { optimize: false, hoist: false, ..Options::default() };
        let grids = [Options::default(), plain].map(|options| query.run_with(&options).unwrap().0);
        assert_eq!(shown(&grids[0]), shown(&grids[1]), "{question}");
    }
}

/// What fails in a row is an error, also where it is only asked whether there is a value, or nobody uses it.
#[test]
fn what_fails_fails_in_every_configuration() {
    let row = |i: i64| {
        let few = if i % 5 == 0 { Value::Null } else { Value::Int(60 + i % 7) };
        vec![Value::Int(i64::MAX / 4 - i), few, Value::Int(i64::MAX / 4 - i * 7 % 997)]
    };
    let model = Model::builder()
        .rows("t", &[("a", Type::Int), ("b", Type::Int), ("c", Type::Int)], &(0..1000).map(row).collect::<Vec<_>>())
        .build()
        .unwrap();
    for (question, fails) in [
        ("grid sum(if(t.a * t.a * t.b is null, 1, 0)) as x", true),
        ("grid rows(t) as n where t.a * t.a * t.b is null", true),
        ("grid sum((let x = t.a * t.a * t.b; if(t.b > 0, t.b, x))) as x", true),
        ("grid sum((let x = t.a * t.a * t.b; t.b + 1)) as x", true),
        ("grid sum(if(t.a * t.c * t.a is null, t.a, t.c)) as x", true),
        ("grid sum(if((t.a * t.c * t.a > 0) is null, t.a, t.c)) as x", true),
        ("grid sum(if((t.a * t.c * t.a in (1, 2)) is null, t.a, t.c)) as x", true),
        ("grid sum(if((t.a < 0 and t.a * t.c * t.a > 0) is null, t.a, t.c)) as x", false),
        ("grid sum(case when t.b > 0 then t.b + 1 when t.b < 0 then t.a * t.a * t.b end) as x", false),
        ("grid sum(if(t.b * t.b is null, 1, 0)) as x", false),
    ] {
        let query = model.query(question).unwrap();
        for (name, options) in crate::common::configurations() {
            let outcome = query.run_with(&options);
            assert_eq!(outcome.is_err(), fails, "{name}: {question}");
        }
    }
}
