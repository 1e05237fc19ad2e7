//! Random models and random formulas: batches have to give what the naive evaluator gives, cell by cell.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

mod common;
mod naive;

use common::Random;
use cubrel::{Model, Type, Value};
use naive::Naive;

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
        .build()
        .unwrap()
}

const AXES: &[&str] = &["zone.name", "shop.name", "shop.id", "sale.kind"];
const LIFTABLE: &[&str] = &["zone.name", "shop.name", "shop.id", "sale.kind", "shop", "zone", "sale", "(shop, zone)"];

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
        4 | 5 => format!("lift {}", r.pick(LIFTABLE)),
        6 => format!("lift {}", r.pick(&["all", "axes", "row"])),
        _ => format!("leave {}", r.pick(LIFTABLE)),
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
        10 => format!("(let v = {inner}; rows(sale) given (sale.x > v))"),
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

fn check(seed: u64, cases: u64, depth: u64) {
    let model = model(seed);
    let naive = Naive::new(&model);
    let r = &mut Random(seed ^ 0x5EED);
    for _ in 0..cases {
        let mut axes: Vec<&str> = (0..r.below(3)).map(|_| r.pick(AXES)).collect();
        axes.dedup();
        let filter = (r.below(3) == 0).then(|| {
            r.pick(&[
                "zone.name = 'N'",
                "shop.name is not null",
                "sale.x > 0",
                "shop.name = 'a' or zone.name = 'S'",
                "sale.x >= avg(sale.x)",
            ])
        });
        let depth = r.below(depth + 1);
        let item = formula(r, depth);
        let mut text = format!("grid {item} as x");
        if !axes.is_empty() {
            text += &format!(" by {}", axes.join(", "));
        }
        if let Some(filter) = filter {
            text += &format!(" where {filter}");
        }
        let expected = shown(&naive.grid(&[&item], &axes, filter));
        let query = model.query(&text).unwrap_or_else(|e| panic!("seed {seed}: {text}\n{e}"));
        for (name, options) in common::configurations() {
            let grid = query.run_with(&options).unwrap_or_else(|e| panic!("seed {seed}, {name}: {text}\n{e}")).0;
            let found = shown(&grid.lines.iter().map(|l| l.values.clone()).collect::<Vec<_>>());
            assert_eq!(found, expected, "seed {seed}, {name}\n{text}");
        }
    }
}

#[test]
fn simple_formulas_in_every_context() {
    (0..1000).for_each(|seed| check(seed, 12, 1));
}

#[test]
fn nested_formulas_in_every_context() {
    (10_000..11_200).for_each(|seed| check(seed, 12, 3));
}
