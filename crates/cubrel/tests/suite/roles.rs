//! A query asked in a role gives what it gives on a model that never had the other rows.

use crate::common::{Random, segments, shown};
use cubrel::{Model, QueryOptions, Type, Value};

/// Rows of `zone` (id, name), `shop` (id, zone, other zone) and `sale` (shop, x).
#[derive(Clone)]
struct Rows {
    zone: Vec<Vec<Value>>,
    shop: Vec<Vec<Value>>,
    sale: Vec<Vec<Value>>,
}

fn rows(r: &mut Random) -> Rows {
    let or_null = |r: &mut Random, v: u64| if r.chance(12) { Value::Null } else { Value::Int(v as i64) };
    let (zones, shops, sales) = (r.below(4) + 1, r.below(6), r.below(25));
    let zone = (0..zones).map(|i| {
        let name = r.pick(&["N", "S", "W"]);
        vec![Value::Int(i as i64), if r.chance(15) { Value::Null } else { Value::text(name) }]
    });
    let zone = zone.collect();
    let shop = (0..shops)
        .map(|i| {
            let (a, b) = (r.below(zones + 1), r.below(zones + 1));
            vec![Value::Int(i as i64), or_null(r, a), or_null(r, b)]
        })
        .collect();
    let sale = (0..sales)
        .map(|_| {
            let (s, x) = (r.below(shops + 1), r.below(9));
            vec![or_null(r, s), or_null(r, x)]
        })
        .collect();
    Rows { zone, shop, sale }
}

fn model(rows: &Rows, rules: &[(&str, &str)]) -> Model {
    let rules: String =
        rules.iter().enumerate().map(|(i, (t, rule))| format!("[role.r{i}]\nrows.{t} = \"{rule}\"\n")).collect();
    Model::builder()
        .definitions(&rules)
        .rows("zone", &[("id", Type::Int), ("name", Type::Text)], &rows.zone)
        .rows("shop", &[("id", Type::Int), ("zone", Type::Int), ("other", Type::Int)], &rows.shop)
        .rows("sale", &[("shop", Type::Int), ("x", Type::Int)], &rows.sale)
        .relationship("sale.shop", "shop.id")
        .relationship("shop.zone", "zone.id")
        .spare_relationship("shop.other", "zone.id")
        .measure("total", "sum(sale.x)")
        .segment_rows(segments(rows.sale.len() as u64))
        .build()
        .unwrap()
}

/// A rule, and the same in Rust: for rows of its table, and for a row of nulls.
struct Rule {
    table: &'static str,
    text: &'static str,
    passes: fn(&[Value]) -> bool,
    null: bool,
}

fn number(v: &Value) -> i64 {
    match v {
        Value::Int(v) => *v,
        _ => 0,
    }
}

const RULES: &[Rule] = &[
    Rule { table: "zone", text: "name = 'N'", passes: |z| z[1] == Value::text("N"), null: false },
    Rule { table: "zone", text: "name is null or name <> 'S'", passes: |z| z[1] != Value::text("S"), null: true },
    Rule { table: "shop", text: "id > 1", passes: |s| number(&s[0]) > 1, null: false },
    Rule { table: "sale", text: "coalesce(x, 9) > 3", passes: |s| s[1].is_null() || number(&s[1]) > 3, null: true },
    Rule {
        table: "shop",
        text: "zone is null or zone < 2",
        passes: |s| s[1].is_null() || number(&s[1]) < 2,
        null: true,
    },
];

impl Rule {
    /// The rows that are left: a row goes with the row that it points at.
    fn kept(&self, rows: &Rows) -> [Vec<bool>; 3] {
        let target = |list: &[Vec<Value>], key: &Value| list.iter().position(|r| !key.is_null() && r[0] == *key);
        let zone: Vec<bool> = rows.zone.iter().map(|z| self.table != "zone" || (self.passes)(z)).collect();
        let over_zone = |s: &[Value]| match target(&rows.zone, &s[1]) {
            Some(z) => zone[z],
            None => self.table != "zone" || self.null,
        };
        let shop: Vec<bool> =
            rows.shop.iter().map(|s| (self.table != "shop" || (self.passes)(s)) && over_zone(s)).collect();
        let over_shop = |s: &[Value]| match target(&rows.shop, &s[0]) {
            Some(p) => shop[p],
            None => self.table == "sale" || self.null,
        };
        let sale = rows.sale.iter().map(|s| (self.table != "sale" || (self.passes)(s)) && over_shop(s)).collect();
        [zone, shop, sale]
    }
}

const QUERIES: &[&str] = &[
    "grid total, rows(sale) as n, rows(shop) as s, rows(zone) as z",
    "grid total by zone.name totals",
    "grid total, rows(shop) as s by shop.id",
    "grid total given (without all) as t by zone.name",
    "grid total given (instead zone.name = 'S') as t by zone.name",
    "grid total via shop.other as t by zone.name",
    "grid count(distinct sale.shop) as c, max(sale.x) as m by zone.name",
    "grid avg(total per shop) as a, max(total per zone.name) as b",
    "grid total / total given (without zone) as share by zone.name",
    "grid rank(total per shop.id) as place by shop.id",
    "grid total where zone.name in top(1, total per zone.name)",
    "grid rows(zone) both_ways shop.zone as z by shop.id",
    "grid total by zone.name with empty",
    "grid total by shop.id order by total desc limit 1 others",
    "records sale.x, zone.name order by sale.x",
    "records shop.id, total, total given (without row) as t",
];

#[test]
fn a_role_is_as_if_the_other_rows_had_never_been() {
    for seed in 0..600 {
        let r = &mut Random(seed);
        let rows = rows(r);
        let chosen: Vec<&Rule> = (0..r.below(2) + 1).map(|_| &RULES[r.below(RULES.len() as u64) as usize]).collect();
        let rules: Vec<(&str, &str)> = chosen.iter().map(|rule| (rule.table, rule.text)).collect();
        // Several roles unite their rows. Rows that only one of them sees may point at rows that only the other sees.
        let mut kept = chosen[0].kept(&rows);
        for rule in &chosen[1..] {
            for (mine, more) in kept.iter_mut().zip(rule.kept(&rows)) {
                mine.iter_mut().zip(more).for_each(|(a, b)| *a |= b);
            }
        }
        let only = |list: &[Vec<Value>], keep: &[bool]| {
            list.iter().zip(keep).filter(|(_, k)| **k).map(|(row, _)| row.clone()).collect::<Vec<_>>()
        };
        let left = Rows {
            zone: only(&rows.zone, &kept[0]),
            shop: only(&rows.shop, &kept[1]),
            sale: only(&rows.sale, &kept[2]),
        };
        let (whole, part) = (model(&rows, &rules), model(&left, &[]));
        let options =
            QueryOptions { roles: (0..rules.len()).map(|i| format!("r{i}")).collect(), ..QueryOptions::default() };
        for text in QUERIES {
            let expected = shown(&crate::common::run(&part, text));
            let query = whole.query_with(text, &options).unwrap_or_else(|e| panic!("{text}: {e}"));
            for (name, way) in crate::common::configurations() {
                let found = shown(&query.run_with(&way).unwrap().0);
                assert_eq!(found, expected, "seed {seed}, {rules:?}, {name}: {text}");
            }
        }
    }
}
