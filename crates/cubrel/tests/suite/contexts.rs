//! Random models and random formulas: batches have to give what the naive evaluator gives, cell by cell.

use crate::common::{Random, segments};
use crate::naive::Naive;
use cubrel::internals::InModel as _;
use cubrel::internals::InQuery as _;
use cubrel::{Model, Type, Value};

/// Two fact tables over a chain, a spare relationship, a key of two columns, orphans, nulls, equal rows, empty tables.
fn model(seed: u64) -> Model {
    let r = &mut Random(seed);
    let nulls = [0, 10, 30][r.below(3) as usize];
    let (zones, shops, sales, visits) = (r.below(4), r.below(6), r.below(25), r.below(12));
    let or_null = |r: &mut Random, v: Value| if r.below(100) < nulls { Value::Null } else { v };
    let int = |v: u64| Value::Int(v as i64);
    let zone: Vec<Vec<Value>> =
        (0..zones).map(|i| vec![int(i), or_null(r, Value::text(["N", "S"][i as usize % 2]))]).collect();
    let shop: Vec<Vec<Value>> = (0..shops)
        .map(|i| {
            let name = Value::text(["a", "b", "c"][r.below(3) as usize]);
            let (zone, other) = (int(r.below(zones + 1)), int(r.below(zones + 1)));
            vec![int(i), or_null(r, name), or_null(r, zone), or_null(r, other)]
        })
        .collect();
    let sale: Vec<Vec<Value>> = (0..sales)
        .map(|_| {
            let (shop, kind, x) =
                (int(r.below(shops + 1)), Value::text(["p", "q"][r.below(2) as usize]), r.below(9) as i64 - 2);
            vec![or_null(r, shop), or_null(r, kind), or_null(r, Value::Int(x))]
        })
        .collect();
    let visit: Vec<Vec<Value>> = (0..visits)
        .map(|_| {
            let (shop, n) = (int(r.below(shops + 2)), int(r.below(5)));
            vec![or_null(r, shop), n]
        })
        .collect();
    Model::builder()
        .rows("zone", &[("id", Type::Int), ("name", Type::Text)], &zone)
        .rows("shop", &[("id", Type::Int), ("name", Type::Text), ("zone", Type::Int), ("other", Type::Int)], &shop)
        .rows("sale", &[("shop", Type::Int), ("kind", Type::Text), ("x", Type::Int)], &sale)
        .rows("visit", &[("shop", Type::Int), ("n", Type::Int)], &visit)
        .relationship("sale.shop", "shop.id")
        .relationship("visit.shop", "shop.id")
        .relationship("shop.zone", "zone.id")
        .spare_relationship("shop.other", "zone.id")
        .measure("total", "sum(sale.x)")
        .measure("visits", "sum(visit.n)")
        .measure("ratio", "total / visits")
        .measure("lots", "if(rows(sale) > 2, total, 0)")
        .segment_rows(segments(seed))
        .build()
        .unwrap()
}

/// Two roles of a calendar, and a bridge over which filters travel both ways.
fn model_with_days(seed: u64) -> Model {
    let r = &mut Random(seed);
    let nulls = [0, 10, 30][r.below(3) as usize];
    let (people, accounts, bridges, postings) = (r.below(4), r.below(4), r.below(7), r.below(30));
    let or_null = |r: &mut Random, v: Value| if r.below(100) < nulls { Value::Null } else { v };
    let int = |v: u64| Value::Int(v as i64);
    let first = cubrel::value::date::make_date(2023, 12, 20).unwrap();
    let day = |r: &mut Random| Value::Date(first + r.below(440) as i32 / if r.chance(50) { 1 } else { 6 });
    let name = |r: &mut Random| Value::text(["a", "b", "c"][r.below(3) as usize]);
    let person: Vec<Vec<Value>> = (0..people)
        .map(|i| {
            let name = name(r);
            vec![int(i), or_null(r, name)]
        })
        .collect();
    let account: Vec<Vec<Value>> = (0..accounts)
        .map(|i| {
            let kind = Value::text(["p", "q"][r.below(2) as usize]);
            vec![int(i), or_null(r, kind)]
        })
        .collect();
    let bridge: Vec<Vec<Value>> = (0..bridges)
        .map(|_| {
            let (p, a) = (int(r.below(people + 1)), int(r.below(accounts + 1)));
            vec![or_null(r, p), or_null(r, a)]
        })
        .collect();
    let posting: Vec<Vec<Value>> = (0..postings)
        .map(|_| {
            let (account, on, due, x) = (int(r.below(accounts + 1)), day(r), day(r), Value::Int(r.below(9) as i64 - 2));
            vec![or_null(r, account), or_null(r, on), due, or_null(r, x)]
        })
        .collect();
    Model::builder()
        .definitions(
            "[table.calendar]\ncalendar = 'date'\ngenerate = { from = '2024-01-01', to = '2025-02-20' }\n
             [table.due]\nsame_as = 'calendar'\n
             [[relationship]]\nmany = 'bridge.account'\none = 'account.id'\nboth_ways = true\n",
        )
        .rows("person", &[("id", Type::Int), ("name", Type::Text)], &person)
        .rows("account", &[("id", Type::Int), ("kind", Type::Text)], &account)
        .rows("bridge", &[("person", Type::Int), ("account", Type::Int)], &bridge)
        .rows("posting", &[("account", Type::Int), ("on", Type::Date), ("due", Type::Date), ("x", Type::Int)], &posting)
        .relationship("bridge.person", "person.id")
        .relationship("posting.account", "account.id")
        .relationship("posting.on", "calendar.date")
        .relationship("posting.due", "due.date")
        .measure("total", "sum(posting.x)")
        .segment_rows(segments(seed))
        .build()
        .unwrap()
}

/// Keys of two columns that begin alike, a table that points at itself, a copy, a key that is looked up.
fn model_with_ways(seed: u64) -> Model {
    let r = &mut Random(seed);
    let nulls = [0, 10, 30][r.below(3) as usize];
    let (ports, boats, trips, legs) = (r.below(6), r.below(5), r.below(20), r.below(20));
    let or_null = |r: &mut Random, v: Value| if r.below(100) < nulls { Value::Null } else { v };
    let int = |v: u64| Value::Int(v as i64);
    let port: Vec<Vec<Value>> = (0..ports)
        .map(|i| {
            let name = Value::text(["a", "b", "c"][r.below(3) as usize]);
            vec![int(i / 2), int(i % 2), int(r.below(9)), or_null(r, name)]
        })
        .collect();
    let boat: Vec<Vec<Value>> = (0..boats)
        .map(|i| {
            let (tug, kind) = (int(r.below(boats + 1)), Value::text(["p", "q"][r.below(2) as usize]));
            vec![int(i), or_null(r, tug), or_null(r, kind), int(r.below(7))]
        })
        .collect();
    let trip: Vec<Vec<Value>> = (0..trips)
        .map(|i| {
            let (a, b, c, boat) = (int(r.below(4)), int(r.below(2)), int(r.below(2)), int(r.below(boats + 1)));
            vec![int(i), or_null(r, a), or_null(r, b), c, or_null(r, boat), int(r.below(9))]
        })
        .collect();
    let leg: Vec<Vec<Value>> = (0..legs)
        .map(|_| {
            let (trip, n) = (int(r.below(trips + 1)), int(r.below(5)));
            vec![or_null(r, trip), n]
        })
        .collect();
    let make: Vec<Vec<Value>> =
        ["q", "p", "r"].iter().skip(r.below(3) as usize).map(|kind| vec![Value::text(kind), int(r.below(4))]).collect();
    Model::builder()
        .rows("port", &[("k1", Type::Int), ("k2", Type::Int), ("x", Type::Int), ("name", Type::Text)], &port)
        .rows("boat", &[("id", Type::Int), ("tug", Type::Int), ("kind", Type::Text), ("n", Type::Int)], &boat)
        .rows(
            "trip",
            &[
                ("id", Type::Int),
                ("a", Type::Int),
                ("b", Type::Int),
                ("c", Type::Int),
                ("boat", Type::Int),
                ("x", Type::Int),
            ],
            &trip,
        )
        .rows("leg", &[("trip", Type::Int), ("n", Type::Int)], &leg)
        .column("leg", "made_as", "boat.kind")
        .rows("make", &[("kind", Type::Text), ("rate", Type::Int)], &make)
        .relationship("leg.made_as", "make.kind")
        .definitions("[table.far_port]\nsame_as = 'port'\n")
        .spare_relationship("trip.a + trip.b", "port.k1 + port.k2")
        .spare_relationship("trip.a + trip.c", "port.k1 + port.k2")
        .relationship("trip.a + trip.b", "far_port.k1 + far_port.k2")
        .relationship("trip.boat", "boat.id")
        .spare_relationship("boat.tug", "boat.id")
        .relationship("leg.trip", "trip.id")
        .measure("total", "sum(trip.x)")
        .measure("legs", "sum(leg.n)")
        .segment_rows(segments(seed))
        .build()
        .unwrap()
}

const WAY_AXES: &[&str] = &["port.name", "far_port.name", "boat.kind", "boat.id", "trip.c", "make.rate"];

fn way_formula(r: &mut Random, depth: u64) -> String {
    const WAYS: &[&str] = &["trip.c", "(trip.a, trip.c)", "boat.tug", "(trip.c, trip.a)"];
    if depth == 0 {
        return r
            .pick(&[
                "total",
                "legs",
                "rows(trip)",
                "rows(boat)",
                "sum(boat.n)",
                "sum(trip.x * far_port.x)",
                "sum(trip.x * port.x via trip.c)",
                "sum(leg.n * port.x via (trip.a, trip.c))",
                "sum(port.x via (trip.a, trip.c))",
                "sum(boat.n via boat.tug)",
                "sum(boat.n - (boat.n via boat.tug))",
                "sum(trip.x * boat.n via boat.tug)",
                "count(distinct boat.kind via boat.tug)",
                "max(leg.n * far_port.x)",
                "sum(leg.n * make.rate)",
                "sum(leg.n * make.rate + (boat.n via boat.tug))",
                "sum((boat.n via boat.tug) per boat)",
                "sum(port.x via trip.c per trip)",
            ])
            .to_string();
    }
    let inner = way_formula(r, depth - 1);
    match r.below(8) {
        0 => format!("({inner} + {})", way_formula(r, depth - 1)),
        1..=3 => format!("({inner} via {})", r.pick(WAYS)),
        4 => {
            let edit = r.pick(&[
                "port.name via trip.c = 'a'",
                "instead boat.kind = 'p'",
                "boat.kind via boat.tug = 'p'",
                "make.rate > 1",
                "trip where (boat.n > 2 or far_port.x > 4)",
                "without boat.kind",
                "without axes",
                "without port",
            ]);
            format!("({inner}) given ({edit})")
        }
        5 => format!("(({inner}) given (boat.kind is not null) via {})", r.pick(WAYS)),
        _ => {
            let domain = r.pick(&["boat", "trip", "port.name", "boat.kind", "(far_port.name, boat.kind) of trip"]);
            format!("{}({inner} per {domain})", r.pick(&["sum", "max", "count"]))
        }
    }
}

fn period(r: &mut Random) -> String {
    let unit = |r: &mut Random| r.pick(&["day", "week", "month", "quarter", "year"]);
    let edit = match r.below(9) {
        0 | 1 => format!("so_far({})", unit(r)),
        2 => format!("trailing({} {})", r.below(20) + 1, unit(r)),
        3 | 4 => format!("shift({} {})", r.below(15) as i64 - 8, unit(r)),
        5 => format!("whole({})", unit(r)),
        6 => format!("whole({}, {})", unit(r), r.below(7) as i64 - 3),
        7 => r.pick(&["at_start", "at_end"]).to_string(),
        _ => "at_end(posting)".to_string(),
    };
    format!("{edit} on {}", r.pick(&["calendar", "calendar", "due"]))
}

const DAY_AXES: &[&str] =
    &["calendar.month", "calendar.year", "calendar.weekday", "due.quarter", "person.name", "account.kind"];

fn day_formula(r: &mut Random, depth: u64) -> String {
    if depth == 0 {
        return r
            .pick(&[
                "total",
                "rows(posting)",
                "rows(account)",
                "rows(person)",
                "rows(bridge)",
                "rows(calendar)",
                "max(posting.x)",
                "avg(posting.x)",
                "count(distinct posting.account)",
                "days_between(min(calendar.date), max(calendar.date))",
                "single(account.id)",
                "(rows(person) both_ways bridge.person)",
                "(count(distinct person.name) both_ways bridge.person)",
                "rank(total per account.kind)",
                "rank(rows(posting) per person.name asc)",
                "if(narrowed(calendar.month), total, 7)",
                "(total + grouping(account.kind))",
                "(total given (account.kind in top(1, total per account.kind)))",
                "(total given (account.kind in top(1, rows(account) per account.kind)))",
                "first(posting.x order by posting.due)",
                "(total given (person.name in bottom(2, rows(posting) per person.name)))",
                "sum(total per account.kind where account.kind in top(1, total per account.kind))",
            ])
            .to_string();
    }
    let inner = day_formula(r, depth - 1);
    match r.below(11) {
        0 => format!("({inner} + {})", day_formula(r, depth - 1)),
        1 => format!("coalesce({inner}, 0)"),
        2..=4 => format!("({inner}) given ({})", period(r)),
        5 => format!("({inner}) given ({}, {})", period(r), period(r)),
        6 => {
            let edit = r.pick(&[
                "calendar.month > date '2024-06-01'",
                "instead calendar.weekday = 1",
                "calendar.weekday in (2, 3) or calendar.year = 2025",
                "without calendar.month",
                "without calendar",
                "without account",
                "person.name = 'a'",
                "instead account.kind = 'p'",
                "without axes",
                "without all but calendar",
                "without row",
                "posting where (account.kind = 'p' or calendar.year = 2024)",
            ]);
            if r.chance(50) {
                format!("({inner}) given ({edit}, {})", period(r))
            } else {
                format!("({inner}) given ({}, {edit})", period(r))
            }
        }
        7 => format!("({inner} both_ways {})", r.pick(&["bridge.person", "bridge.account"])),
        _ => {
            let domain = r.pick(&[
                "calendar.month",
                "person",
                "account",
                "posting",
                "person.name",
                "(account.kind, calendar.year)",
                "due.month of posting",
                "calendar.weekday",
            ]);
            let aggregate = r.pick(&["sum", "max", "count", "avg"]);
            let condition = r.pick(&["", "", " where total > 1", " where rows(bridge) > 0"]);
            format!("{aggregate}({inner} per {domain}{condition})")
        }
    }
}

const AXES: &[&str] = &["zone.name", "shop.name", "shop.id", "sale.kind"];
const DROPPABLE: &[&str] = &["zone.name", "shop.name", "shop.id", "sale.kind", "shop", "zone", "sale", "(shop, zone)"];

/// A predicate that can stand in `where` and in `given`.
fn predicate(r: &mut Random) -> &'static str {
    r.pick(&[
        "zone.name = 'N'",
        "zone.name <> 'S'",
        "zone.name is null",
        "shop.name in ('a', 'b')",
        "coalesce(shop.name, 'a') = 'a'",
        "shop.name = 'a' or zone.name = 'S'",
        "shop.name is null or zone.name = 'N'",
        "sale.kind = 'p'",
        "sale.x > 1",
        "sale.x > 0 or shop.name = 'b'",
        "shop.id > 1 and zone.name = 'N'",
        "sale.x >= avg(sale.x)",
        "sale where (shop.name = 'a' or zone.name = 'N')",
    ])
}

fn edit(r: &mut Random) -> String {
    match r.below(9) {
        0 | 1 => predicate(r).to_string(),
        2 | 3 => format!(
            "instead {}",
            r.pick(&["zone.name = 'N'", "shop.name = 'a'", "shop.name = 'b' or zone.name = 'S'", "sale.x > 1"])
        ),
        4 | 5 => format!("without {}", r.pick(DROPPABLE)),
        6 => format!("without {}", r.pick(&["all", "axes", "row"])),
        _ => format!("without all but {}", r.pick(DROPPABLE)),
    }
}

/// A formula of a cell, numbers all the way.
fn formula(r: &mut Random, depth: u64) -> String {
    if depth == 0 {
        return r
            .pick(&[
                "total",
                "visits",
                "ratio",
                "lots",
                "rows(sale)",
                "rows(shop)",
                "count(sale.x)",
                "count(distinct sale.kind)",
                "max(sale.x)",
                "avg(sale.x)",
                "single(shop.id)",
                "sum(sale.x * shop.id)",
                "sum(if(zone.name = 'N', sale.x, 1))",
                "min(shop.zone)",
                "count(distinct sale.kind, sale.x)",
                "median(sale.x)",
                "percentile_disc(sale.x, 0.4)",
                "min(sale.x) via shop.other",
            ])
            .to_string();
    }
    let inner = formula(r, depth - 1);
    match r.below(12) {
        0 => format!("({inner} + {})", formula(r, depth - 1)),
        1 => format!("({inner} / {})", formula(r, depth - 1)),
        2 => format!("coalesce({inner}, 0)"),
        3 => format!("if({inner} > 1, {}, {})", formula(r, depth - 1), formula(r, depth - 1)),
        4 | 5 => format!("({inner}) given ({})", edit(r)),
        6 => format!("({inner}) given ({}, {})", edit(r), edit(r)),
        7 => format!("({inner} via shop.other)"),
        8 => {
            let domain = r.pick(&[
                "shop",
                "sale",
                "zone",
                "shop.name",
                "zone.name",
                "(shop.name, zone.name)",
                "(sale.kind, zone.name)",
                "shop.name of sale",
                "sale.kind",
            ]);
            let aggregate = r.pick(&["sum", "max", "count", "avg", "single"]);
            let condition = r.pick(&["", "", " where total > 1", " where rows(sale) > 0"]);
            format!("{aggregate}({inner} per {domain}{condition})")
        }
        9 => format!("(let v = {inner}; sum(if(sale.x > v, sale.x, 0)))"),
        10 => {
            let compared =
                r.pick(&["sale.x > v", "sale.x = v", "v >= sale.x", "sale.x < v", "shop.id = v", "v < visit.n"]);
            let what =
                r.pick(&["rows(sale)", "sum(sale.x)", "max(sale.x)", "count(distinct sale.kind)", "rows(visit)"]);
            format!("(let v = {inner}; {what} given ({compared}))")
        }
        _ => format!("sum({inner} per shop where shop.name <> 'c')"),
    }
}

/// Floats to ten digits, so that the order of adding does not matter.
fn shown(lines: &[Vec<Value>]) -> Vec<String> {
    let value = |v: &Value| match v.as_f64() {
        Some(x) => format!("{x:.9}").replace("-0.000000000", "0.000000000"),
        None => v.to_string(),
    };
    let mut all: Vec<String> = lines.iter().map(|l| l.iter().map(value).collect::<Vec<_>>().join("|")).collect();
    all.sort();
    all
}

/// A random model with what can stand in queries on it.
struct Subject {
    model: fn(u64) -> Model,
    axes: &'static [&'static str],
    filters: &'static [&'static str],
    formula: fn(&mut Random, u64) -> String,
}

const SHOPS: Subject = Subject {
    model,
    axes: AXES,
    filters: &[
        "zone.name = 'N'",
        "shop.name is not null",
        "sale.x > 0",
        "shop.name = 'a' or zone.name = 'S'",
        "sale.x >= avg(sale.x)",
        "shop.name in top(1, total per shop.name)",
    ],
    formula,
};

const DAYS: Subject = Subject {
    model: model_with_days,
    axes: DAY_AXES,
    filters: &[
        "calendar.year = 2024",
        "calendar.month is null or calendar.month > date '2024-05-01'",
        "person.name = 'a'",
        "person.name is null and account.kind = 'p'",
        "account.kind is not null",
        "calendar.weekday < 4",
        "posting.x > 0",
    ],
    formula: day_formula,
};

const WAYS: Subject = Subject {
    model: model_with_ways,
    axes: WAY_AXES,
    filters: &[
        "boat.kind = 'p'",
        "make.rate is null",
        "port.name is not null",
        "trip.x > 3",
        "far_port.name = 'a'",
        "boat.n > 1",
    ],
    formula: way_formula,
};

fn check(subject: &Subject, seed: u64, cases: u64, depth: u64) {
    let model = (subject.model)(seed);
    let naive = Naive::new(&model);
    let r = &mut Random(seed ^ 0x5EED);
    for _ in 0..cases {
        let mut axes: Vec<&str> = (0..r.below(3)).map(|_| r.pick(subject.axes)).collect();
        axes.sort_unstable();
        axes.dedup();
        let filter = (r.below(3) == 0).then(|| r.pick(subject.filters));
        let depth = r.below(depth + 1);
        let item = (subject.formula)(r, depth);
        let mut text = format!("grid {item} as x");
        if !axes.is_empty() {
            text += &format!(" by {}", axes.join(", "));
        }
        if let Some(filter) = filter {
            text += &format!(" where {filter}");
        }
        let expected = shown(&naive.grid(&[&item], &axes, filter));
        let query = model.query(&text).unwrap_or_else(|e| panic!("seed {seed}: {text}\n{e}"));
        // Every case in the usual way and in one of the others.
        let mut ways = crate::common::configurations();
        let other = ways.swap_remove(1 + r.below(ways.len() as u64 - 1) as usize);
        for (name, options) in [ways.swap_remove(0), other] {
            let grid = query.run_with(&options).unwrap_or_else(|e| panic!("seed {seed}, {name}: {text}\n{e}")).0;
            let found = shown(&grid.lines.iter().map(|l| l.values.clone()).collect::<Vec<_>>());
            assert_eq!(found, expected, "seed {seed}, {name}\n{text}");
        }
    }
}

#[test]
fn simple_formulas_in_every_context() {
    (0..cases(6000)).for_each(|seed| check(&SHOPS, seed, 12, 1));
}

#[test]
fn nested_formulas_in_every_context() {
    (10_000..10_000 + cases(6000)).for_each(|seed| check(&SHOPS, seed, 12, 3));
}

#[test]
fn periods_bridges_sets_and_ranks_in_every_context() {
    (20_000..20_000 + cases(500)).for_each(|seed| check(&DAYS, seed, 10, 2));
}

#[test]
fn named_relationships_in_every_context() {
    (40_000..40_000 + cases(1500)).for_each(|seed| check(&WAYS, seed, 10, 3));
}

/// How many models; `CASES=10` makes it ten times as many.
fn cases(usual: u64) -> u64 {
    let times = std::env::var("CASES").ok().and_then(|t| t.parse::<u64>().ok());
    usual * times.unwrap_or(1)
}

/// A calculated column has on every row what the formula has with that row bound.
#[test]
fn calculated_columns_row_by_row() {
    for seed in 30_000..30_000 + cases(1500) {
        let subject = if seed % 3 == 0 { &DAYS } else { &SHOPS };
        let r = &mut Random(seed ^ 0xC01);
        let table = if seed % 3 == 0 {
            r.pick(&["person", "account", "posting", "bridge"])
        } else {
            r.pick(&["zone", "shop", "sale", "visit"])
        };
        let depth = r.below(3);
        let formula = (subject.formula)(r, depth);
        let model = (subject.model)(seed);
        let expected = Naive::new(&model).column(table, &formula);
        let columns = model.schema().table(model.schema().find_table(table).unwrap());
        // The column of the table says whose rows are meant.
        let text = format!("records {table}.{}, {formula} as x", columns.columns[0].name);
        let query = model.query(&text).unwrap_or_else(|e| panic!("seed {seed}: {text}\n{e}"));
        for (name, options) in crate::common::configurations() {
            let grid = query.run_with(&options).unwrap_or_else(|e| panic!("seed {seed}, {name}: {text}\n{e}")).0;
            let found: Vec<Vec<Value>> = grid.lines.iter().map(|l| vec![l.values[1].clone()]).collect();
            let expected: Vec<Vec<Value>> = expected.iter().map(|v| vec![v.clone()]).collect();
            assert_eq!(in_order(&found), in_order(&expected), "seed {seed}, {name}\n{text}");
        }
    }
}

fn in_order(lines: &[Vec<Value>]) -> Vec<String> {
    lines.iter().map(|l| shown(std::slice::from_ref(l)).remove(0)).collect()
}
