//! Random models with nulls, orphans, equal rows and keys that are looked up; random queries; the same asked of SQLite
//! in SQL.

use std::collections::BTreeMap;

use crate::common::{Random, segments};
use cubrel::{Grid, Model, Type, Value};
use rusqlite::Connection;
use rusqlite::types::Value as Sql;

/// `sale` points at `shop`, `shop` at `zone`: a chain, with keys that are missing or find nothing. With the zone's name,
/// which it looks up over the chain, `sale` points at `climate`.
struct Case {
    model: Model,
    sql: Connection,
}

const SALE: &[(&str, Type)] = &[
    ("id", Type::Int),
    ("shop", Type::Int),
    ("kind", Type::Text),
    ("x", Type::Int),
    ("price", Type::Decimal { precision: 18, scale: 2 }),
    ("day", Type::Date),
];
const SHOP: &[(&str, Type)] = &[("id", Type::Int), ("name", Type::Text), ("grade", Type::Text), ("zone", Type::Int)];
const ZONE: &[(&str, Type)] = &[("id", Type::Int), ("name", Type::Text), ("rank", Type::Int)];
const CLIMATE: &[(&str, Type)] = &[("zone", Type::Text), ("kind", Type::Text), ("rain", Type::Int)];

fn maybe(random: &mut Random, nulls: u64, value: Value) -> Value {
    if random.chance(nulls) { Value::Null } else { value }
}

fn make(seed: u64) -> Case {
    let random = &mut Random(seed);
    let nulls = [0, 5, 40][random.below(3) as usize];
    let (zones, shops, sales) = (random.below(4), random.below(7), random.below(60));
    let zone: Vec<Vec<Value>> = (0..zones)
        .map(|i| {
            let name = Value::text(format!("Z{}", random.below(3)));
            vec![Value::Int(i as i64), maybe(random, nulls, name), Value::Int(random.below(5) as i64)]
        })
        .collect();
    let shop: Vec<Vec<Value>> = (0..shops)
        .map(|i| {
            let name = Value::text(format!("shop {}", random.below(5)));
            let grade = Value::text(random.pick(&["a", "b", "c"]));
            let zone = Value::Int(random.below(zones + 1) as i64);
            vec![
                Value::Int(i as i64 * 10),
                maybe(random, nulls, name),
                maybe(random, nulls, grade),
                maybe(random, nulls, zone),
            ]
        })
        .collect();
    let sale: Vec<Vec<Value>> = (0..sales)
        .map(|i| {
            let shop = Value::Int(random.below(shops + 1) as i64 * 10);
            let kind = Value::text(random.pick(&["new", "old", "O'Hara \"x\""]));
            let price = Value::Decimal { unscaled: i128::from(random.below(5000)) - 1000, scale: 2 };
            let x = Value::Int(random.below(40) as i64 - 15);
            let day = Value::Date(20_000 + random.below(40) as i32);
            vec![
                // No two have the same, in no order.
                Value::Int(i as i64 * 37 % 61),
                maybe(random, nulls, shop),
                maybe(random, nulls, kind),
                maybe(random, nulls, x),
                maybe(random, nulls, price),
                maybe(random, nulls, day),
            ]
        })
        .collect();
    let mut climate: Vec<Vec<Value>> = Vec::new();
    for (zone, kind) in (0..3).flat_map(|z| ["new", "old"].map(|kind| (z, kind))) {
        if random.chance(70) {
            let rain = Value::Int(random.below(4) as i64);
            let rain = maybe(random, nulls, rain);
            climate.push(vec![Value::text(format!("Z{zone}")), Value::text(kind), rain]);
        }
    }
    let model = Model::builder()
        .column("sale", "wet", "climate.rain * 2 + coalesce(zone.rank, 0)")
        .column("sale", "zone_name", "zone.name")
        .definitions("[[relationship]]\nmany = ['sale.zone_name', 'sale.kind']\none = ['climate.zone', 'climate.kind']")
        .rows("climate", CLIMATE, &climate)
        .rows("sale", SALE, &sale)
        .rows("shop", SHOP, &shop)
        .rows("zone", ZONE, &zone)
        .relationship("sale.shop", "shop.id")
        .relationship("shop.zone", "zone.id")
        .measure("total", "sum(sale.x)")
        .segment_rows(segments(seed))
        .build()
        .unwrap();
    let sql = Connection::open_in_memory().unwrap();
    // As the standard has it.
    sql.execute_batch("pragma case_sensitive_like = on").unwrap();
    let tables = [("sale", SALE, &sale), ("shop", SHOP, &shop), ("zone", ZONE, &zone), ("climate", CLIMATE, &climate)];
    for (name, columns, rows) in tables {
        let names: Vec<&str> = columns.iter().map(|(n, _)| *n).collect();
        sql.execute(&format!("create table {name} ({})", names.join(", ")), []).unwrap();
        let marks = vec!["?"; names.len()].join(", ");
        for row in rows {
            let values = row.iter().map(to_sql);
            sql.execute(&format!("insert into {name} values ({marks})"), rusqlite::params_from_iter(values)).unwrap();
        }
    }
    Case { model, sql }
}

/// Prices as cents, so that SQLite adds them exactly; days as their ISO text.
fn to_sql(value: &Value) -> Sql {
    match value {
        Value::Null => Sql::Null,
        Value::Int(v) => Sql::Integer(*v),
        Value::Decimal { unscaled, .. } => Sql::Integer(*unscaled as i64),
        other => Sql::Text(other.to_string()),
    }
}

fn from_sql(value: &Sql) -> String {
    match value {
        Sql::Null => String::new(),
        Sql::Integer(v) => v.to_string(),
        Sql::Real(v) => format!("{v:.6}"),
        Sql::Text(t) => t.clone(),
        Sql::Blob(_) => unreachable!("nothing makes blobs"),
    }
}

fn ours(value: &Value) -> String {
    match value {
        Value::Decimal { unscaled, .. } => unscaled.to_string(),
        Value::Float(v) => format!("{v:.6}"),
        other => other.to_string(),
    }
}

/// A predicate over one column, in both languages, and the column.
fn predicate(random: &mut Random) -> (String, String, &'static str) {
    let list = [
        ("shop.grade = 'a'", "shop.grade"),
        ("shop.grade <> 'b'", "shop.grade"),
        ("shop.grade in ('a', 'c')", "shop.grade"),
        ("shop.grade is null", "shop.grade"),
        ("not (shop.grade = 'a')", "shop.grade"),
        ("zone.rank > 1", "zone.rank"),
        ("coalesce(zone.rank, 9) >= 3", "zone.rank"),
        ("zone.name is not null", "zone.name"),
        ("sale.x between -3 and 12", "sale.x"),
        ("sale.x not in (1, 2, 3)", "sale.x"),
        ("sale.kind like 'o%'", "sale.kind"),
        ("sale.kind = 'O''Hara \"x\"'", "sale.kind"),
        ("sale.day >= date '2024-10-15'", "sale.day"),
        ("climate.rain > 1", "climate.rain"),
        ("climate.rain is null", "climate.rain"),
    ];
    let (text, column) = list[random.below(list.len() as u64) as usize];
    (text.to_string(), text.replace("date '", "'"), column)
}

const JOINED: &str = "sale left join shop on sale.shop = shop.id left join zone on shop.zone = zone.id \
                      left join climate on zone.name = climate.zone and sale.kind = climate.kind";
const AXES: &[&str] = &[
    "shop.name",
    "shop.grade",
    "zone.name",
    "zone.rank",
    "sale.kind",
    "sale.day",
    "climate.rain",
    // These tell the rows of their tables apart, so that others follow from them.
    "shop.id",
    "zone.id",
    "sale.id",
];

/// A condition that looks at columns of several tables at once.
fn mixed(random: &mut Random) -> (String, String) {
    let parts = [(); 4].map(|()| predicate(random));
    let shape = random.below(4);
    let of = |parts: [&str; 4]| {
        let [a, b, c, d] = parts;
        match shape {
            0 => format!("({a} and {b}) or ({c} and {d})"),
            1 => format!("({a} or {b}) and not ({c} and {d})"),
            2 => format!("{a} or ({b} and {c})"),
            _ => format!("sale.x > zone.rank or {a} and {b}"),
        }
    };
    let (ours, sql) = (of(parts.each_ref().map(|p| p.0.as_str())), of(parts.each_ref().map(|p| p.1.as_str())));
    (format!("sale where ({ours})"), format!("({sql})"))
}
const FIGURES: &[(&str, &str)] = &[
    ("rows(sale)", "count(*)"),
    ("total", "sum(sale.x)"),
    ("sum(sale.price)", "sum(sale.price)"),
    ("avg(sale.x)", "avg(sale.x)"),
    ("min(sale.price)", "min(sale.price)"),
    ("max(sale.day)", "max(sale.day)"),
    ("min(shop.name || '!')", ""),
    ("count(sale.x)", "count(sale.x)"),
    ("count(distinct sale.kind)", "count(distinct sale.kind)"),
    ("sum(sale.x * zone.rank)", "sum(sale.x * zone.rank)"),
    (
        "sum(case when sale.kind = 'new' then sale.x when sale.x > 3 then 1 else 0 end)",
        "sum(case when sale.kind = 'new' then sale.x when sale.x > 3 then 1 else 0 end)",
    ),
    ("sum(if(zone.rank > 2, sale.x, 0))", "sum(case when zone.rank > 2 then sale.x else 0 end)"),
    ("sum(sale.wet)", "sum(climate.rain * 2 + coalesce(zone.rank, 0))"),
    ("sum(sale.x) / rows(sale)", "cast(sum(sale.x) as real) / count(*)"),
];

fn keyed(rows: Vec<Vec<String>>, keys: usize) -> BTreeMap<Vec<String>, Vec<String>> {
    let mut map = BTreeMap::new();
    for mut row in rows {
        let figures = row.split_off(keys);
        assert!(map.insert(row.clone(), figures).is_none(), "line {row:?} stands twice");
    }
    map
}

fn ask_sql(sql: &Connection, text: &str) -> Vec<Vec<String>> {
    let mut statement = sql.prepare(text).unwrap_or_else(|e| panic!("{text}\n{e}"));
    let columns = statement.column_count();
    let rows = statement.query_map([], |row| (0..columns).map(|i| row.get::<_, Sql>(i)).collect::<Result<Vec<_>, _>>());
    rows.unwrap().map(|row| row.unwrap().iter().map(from_sql).collect()).collect()
}

fn grid_rows(grid: &Grid) -> Vec<Vec<String>> {
    grid.lines.iter().map(|l| l.values.iter().map(ours).collect()).collect()
}

fn distinct_axes(random: &mut Random, most: u64) -> Vec<&'static str> {
    let mut axes: Vec<&str> = (0..random.below(most + 1)).map(|_| random.pick(AXES)).collect();
    axes.sort_unstable();
    axes.dedup();
    axes
}

fn group_by(axes: &[&str]) -> String {
    if axes.is_empty() { String::new() } else { format!(" group by {}", axes.join(", ")) }
}

fn select(axes: &[&str], figures: &[&str]) -> String {
    axes.iter().chain(figures).copied().collect::<Vec<_>>().join(", ")
}

fn where_of(conditions: &[String]) -> String {
    if conditions.is_empty() { String::new() } else { format!(" where {}", conditions.join(" and ")) }
}

#[test]
fn grouped_filtered_aggregates_are_those_of_sqlite() {
    for seed in 0..250 {
        let case = make(seed);
        let random = &mut Random(seed ^ 0xABCD);
        for _ in 0..6 {
            let axes = distinct_axes(random, 3);
            let mut filters: Vec<_> =
                (0..random.below(3)).map(|_| predicate(random)).map(|(ours, sql, _)| (ours, sql)).collect();
            if random.chance(40) {
                filters.push(mixed(random));
            }
            let mut figures = vec![FIGURES[0]];
            figures.extend(
                (0..3).map(|_| FIGURES[random.below(FIGURES.len() as u64) as usize]).filter(|(_, s)| !s.is_empty()),
            );
            let split = if axes.is_empty() { 0 } else { random.below(axes.len() as u64 + 1) as usize };
            let (by, across) = axes.split_at(split);
            let mut text = format!("grid {}", figures.iter().map(|(f, _)| *f).collect::<Vec<_>>().join(", "));
            if !by.is_empty() {
                text += &format!(" by {}", by.join(", "));
            }
            if !across.is_empty() {
                text += &format!(" split by {}", across.join(", "));
            }
            text += &where_of(&filters.iter().map(|(f, ..)| f.clone()).collect::<Vec<_>>());
            let in_sql: Vec<String> = filters.iter().map(|(_, s)| s.clone()).collect();
            let sql = format!(
                "select {} from {JOINED}{}{}",
                select(&axes, &figures.iter().map(|(_, s)| *s).collect::<Vec<_>>()),
                where_of(&in_sql),
                group_by(&axes)
            );
            let expected = keyed(ask_sql(&case.sql, &sql), axes.len());
            let found = keyed(grid_rows(&crate::common::run(&case.model, &text)), axes.len());
            assert_eq!(found, expected, "seed {seed}\n{text}\n{sql}");
        }
    }
}

/// Figures of which each goes through other rows, and of the lines only those that are wanted.
#[test]
fn narrowed_judged_and_limited_figures_are_those_of_sqlite() {
    for seed in 3000..3250 {
        let case = make(seed);
        let random = &mut Random(seed ^ 0x77);
        for _ in 0..6 {
            let axes = distinct_axes(random, 3);
            let filters: Vec<_> = (0..random.below(3)).map(|_| predicate(random)).collect();
            let mut figures = vec![("rows(sale)".to_string(), "count(*)".to_string())];
            for _ in 0..1 + random.below(3) {
                let (ours, sql) = FIGURES[random.below(FIGURES.len() as u64) as usize];
                let (narrow, narrow_sql, column) = predicate(random);
                if sql.is_empty() || sql.contains(" / ") {
                    continue;
                }
                // A condition in `given` takes the place of others on its column.
                let replaces = axes.contains(&column) || filters.iter().any(|(.., c)| *c == column);
                figures.push(match replaces || random.chance(20) {
                    true => (ours.to_string(), sql.to_string()),
                    false => (format!("{ours} given ({narrow})"), format!("{sql} filter (where {narrow_sql})")),
                });
            }
            let by = if axes.is_empty() { String::new() } else { format!(" by {}", axes.join(", ")) };
            let ours: Vec<&str> = figures.iter().map(|(f, _)| f.as_str()).collect();
            let theirs: Vec<&str> = figures.iter().map(|(_, s)| s.as_str()).collect();
            let conditions: Vec<String> = filters.iter().map(|(f, ..)| f.clone()).collect();
            let mut text = format!("grid {}{by}{}", ours.join(", "), where_of(&conditions));
            let in_sql: Vec<String> = filters.iter().map(|(_, s, _)| s.clone()).collect();
            let mut sql =
                format!("select {} from {JOINED}{}{}", select(&axes, &theirs), where_of(&in_sql), group_by(&axes));
            let judge = random.below(figures.len() as u64) as usize;
            if !axes.is_empty() && !ours[judge].contains("day") && !ours[judge].contains("price") && random.chance(60) {
                text += &format!(" having {} > 2", ours[judge]);
                sql += &format!(" having {} > 2", theirs[judge]);
            }
            let expected = keyed(ask_sql(&case.sql, &sql), axes.len());
            let found = keyed(grid_rows(&crate::common::run(&case.model, &text)), axes.len());
            assert_eq!(found, expected, "seed {seed}\n{text}\n{sql}");
            if !axes.is_empty() {
                let most = 1 + random.below(4) as usize;
                let limited = format!("{text} order by rows(sale) desc limit {most}");
                let first = keyed(grid_rows(&crate::common::run(&case.model, &limited)), axes.len());
                let counts = |lines: &BTreeMap<Vec<String>, Vec<String>>| {
                    let mut counts: Vec<u64> = lines.values().map(|figures| figures[0].parse().unwrap()).collect();
                    counts.sort_unstable_by(|a, b| b.cmp(a));
                    counts.truncate(most);
                    counts
                };
                assert_eq!(first.len(), expected.len().min(most), "seed {seed}\n{limited}");
                assert_eq!(counts(&first), counts(&expected), "seed {seed}\n{limited}");
                assert!(first.iter().all(|(key, line)| expected.get(key) == Some(line)), "seed {seed}\n{limited}");
            }
        }
    }
}

#[test]
fn dropped_replaced_and_iterated_figures_are_those_of_sqlite() {
    for seed in 1000..1250 {
        let case = make(seed);
        let random = &mut Random(seed ^ 0x1234);
        for _ in 0..4 {
            let axes = distinct_axes(random, 3);
            let filters: Vec<_> = (0..random.below(3)).map(|_| predicate(random)).collect();
            let dropped = random.pick(AXES);
            let by = if axes.is_empty() { String::new() } else { format!(" by {}", axes.join(", ")) };
            let conditions: Vec<String> = filters.iter().map(|(f, ..)| f.clone()).collect();
            let in_sql: Vec<String> = filters.iter().map(|(_, s, _)| s.clone()).collect();
            let all = keyed(
                ask_sql(
                    &case.sql,
                    &format!(
                        "select {} from {JOINED}{}{}",
                        select(&axes, &["count(*)"]),
                        where_of(&in_sql),
                        group_by(&axes)
                    ),
                ),
                axes.len(),
            );
            let iterated = random.pick(AXES);
            let inner = {
                let mut keys = axes.clone();
                if !keys.contains(&iterated) {
                    keys.push(iterated);
                }
                keys
            };
            let text = format!(
                "grid rows(sale), total given (without {dropped}), max(total per {iterated}), total given (instead zone.rank = 2){by}{}",
                where_of(&conditions)
            );
            let found = keyed(grid_rows(&crate::common::run(&case.model, &text)), axes.len());
            for (key, counts) in &all {
                let line = found.get(key).unwrap_or_else(|| panic!("seed {seed}: no line {key:?}\n{text}"));
                assert_eq!(line[0], counts[0], "seed {seed}\n{text}\n{key:?}");
                let same = |column: &str| {
                    let place = axes.iter().position(|a| *a == column)?;
                    Some((column.to_string(), key[place].clone()))
                };
                let at = |skip: &str, dropped: &str, more: &str| {
                    let mut conditions: Vec<String> =
                        filters.iter().filter(|(.., c)| *c != dropped).map(|(_, s, _)| s.clone()).collect();
                    conditions.extend(axes.iter().filter(|a| **a != skip).filter_map(|a| same(a)).map(|(c, v)| {
                        if v.is_empty() {
                            format!("{c} is null")
                        } else {
                            format!("cast({c} as text) = '{}'", v.replace('\'', "''"))
                        }
                    }));
                    conditions.extend((!more.is_empty()).then(|| more.to_string()));
                    where_of(&conditions)
                };
                let dropped_sql = format!("select sum(sale.x) from {JOINED}{}", at(dropped, dropped, ""));
                assert_eq!(
                    line[1],
                    ask_sql(&case.sql, &dropped_sql)[0][0],
                    "seed {seed}\n{text}\n{key:?}\n{dropped_sql}"
                );
                let max_sql = format!(
                    "select max(s) from (select sum(sale.x) s from {JOINED}{}{})",
                    at("", "", ""),
                    group_by(&inner)
                );
                assert_eq!(line[2], ask_sql(&case.sql, &max_sql)[0][0], "seed {seed}\n{text}\n{key:?}\n{max_sql}");
                let instead_sql =
                    format!("select sum(sale.x) from {JOINED}{}", at("zone.rank", "zone.rank", "zone.rank = 2"));
                assert_eq!(
                    line[3],
                    ask_sql(&case.sql, &instead_sql)[0][0],
                    "seed {seed}\n{text}\n{key:?}\n{instead_sql}"
                );
            }
        }
    }
}

#[test]
fn every_total_is_evaluated_and_not_added_up() {
    for seed in 2000..2080 {
        let case = make(seed);
        let grid = crate::common::run(
            &case.model,
            "grid rows(sale), count(distinct sale.kind) by zone.name, shop.grade split by sale.kind totals",
        );
        for line in &grid.lines {
            let names = ["zone.name", "shop.grade", "sale.kind"];
            let conditions: Vec<String> = (0..3)
                .filter(|i| !line.totalled.contains(i))
                .map(|i| match &line.values[i] {
                    Value::Null => format!("{} is null", names[i]),
                    v => format!("{} = '{}'", names[i], v.to_string().replace('\'', "''")),
                })
                .collect();
            let sql = format!("select count(*), count(distinct sale.kind) from {JOINED}{}", where_of(&conditions));
            let expected = &ask_sql(&case.sql, &sql)[0];
            let found: Vec<String> = line.values[3..].iter().map(ours).collect();
            assert_eq!(&found, expected, "seed {seed}: {line:?}\n{sql}");
        }
    }
}
