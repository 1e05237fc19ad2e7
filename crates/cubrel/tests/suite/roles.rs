//! A query asked in a role gives what it gives on a model that never had the other rows.

use crate::common::{Random, segments, shown};
use cubrel::formula_comparison::{self, FormulaPair};
use cubrel::internals::InModel as _;
use cubrel::internals::InQuery as _;
use cubrel::why::WhyOptions;
use cubrel::{Model, QueryOptions, Type, Value, View};
use cubrel::{advice, model_comparison, profile};
use serde_json::Value as Json;

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
    definitions(rows, rules, "", true).segment_rows(segments(rows.sale.len() as u64)).build().unwrap()
}

/// In one segment each table, as what is cut is.
fn model_with(rows: &Rows, rules: &[(&str, &str)], more: &str, named: bool) -> Model {
    definitions(rows, rules, more, named).build().unwrap()
}

/// With more definitions; and with the name of a zone and what is computed from it, or without.
fn definitions(rows: &Rows, rules: &[(&str, &str)], more: &str, named: bool) -> cubrel::Builder {
    let rules: String =
        rules.iter().enumerate().map(|(i, (t, rule))| format!("[role.r{i}]\nrows.{t} = \"{rule}\"\n")).collect();
    let zone: Vec<Vec<Value>> = rows.zone.iter().map(|z| z[..1 + usize::from(named)].to_vec()).collect();
    let builder = Model::builder()
        .definitions(&(rules + more))
        .rows("zone", &[("id", Type::Int), ("name", Type::Text)][..1 + usize::from(named)], &zone)
        .rows("shop", &[("id", Type::Int), ("zone", Type::Int), ("other", Type::Int)], &rows.shop)
        .rows("sale", &[("shop", Type::Int), ("x", Type::Int)], &rows.sale)
        .relationship("sale.shop", "shop.id")
        .relationship("shop.zone", "zone.id")
        .spare_relationship("shop.other", "zone.id")
        .measure("total", "sum(sale.x)");
    let names = |b: cubrel::Builder| b.measure("first_name", "min(zone.name)").column("shop", "zone_name", "zone.name");
    if named { names(builder) } else { builder }
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

/// A model, rules for it, and the rows that they leave.
fn case(seed: u64) -> (Rows, Vec<(&'static str, &'static str)>, Rows) {
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
    let left =
        Rows { zone: only(&rows.zone, &kept[0]), shop: only(&rows.shop, &kept[1]), sale: only(&rows.sale, &kept[2]) };
    (rows, rules, left)
}

/// As somebody sees it who has the role of each rule.
fn seen_in(model: &Model, rules: &[(&str, &str)]) -> View {
    let roles: Vec<String> = (0..rules.len()).map(|i| format!("r{i}")).collect();
    model.as_user(&roles, None).unwrap()
}

#[test]
fn a_role_is_as_if_the_other_rows_had_never_been() {
    for seed in 0..600 {
        let (rows, rules, left) = case(seed);
        let (whole, part) = (model(&rows, &rules), model(&left, &[]));
        let seen = seen_in(&whole, &rules);
        for text in QUERIES {
            let expected = shown(&crate::common::run(&part, text));
            // What the whole model keeps for its next question tells nobody in a role anything.
            whole.query(text).unwrap().run().unwrap();
            let query = seen.query(text).unwrap_or_else(|e| panic!("{text}: {e}"));
            for (name, way) in crate::common::configurations() {
                let found = shown(&query.run_with(&way).unwrap().0);
                assert_eq!(found, expected, "seed {seed}, {rules:?}, {name}: {text}");
            }
        }
    }
}

/// Questions that fail, and say something of the row or the name that they fail at.
const FAILING: &[&str] = &[
    "grid sum(cast(zone.name as int) per zone) as a",
    "grid total where cast(zone.name as int) > 1",
    "grid total given (cast(zone.name || '!' as int) > 1) as t",
    "grid sum(cast(if(sale.x > 5, zone.name, '1') as int)) as s by shop.id",
    "grid max(cast(shop.zone_name as int) per shop where cast(shop.zone_name as int) > 0) as m",
    "records sale.x, cast(zone.name as int) as n",
    "grid cast(first_name as int) as n by zone.id",
    "grid first_nam",
    "grid total by zone.nam",
    "grid zone_name",
    "grid total by shop.zone_nam",
];

const PLACES: &[(&str, &str)] = &[
    ("grid total", ""),
    ("grid total by zone.name", "zone.name = 'N'"),
    ("grid total by zone.name", "zone.name = 'S'"),
    ("grid total by zone.name", "zone.name = 'SS'"),
    ("grid total / total given (without zone) as share by zone.name", "zone.name is null"),
    ("grid max(total per shop.id) as m by zone.id", "zone.id = 1"),
    ("grid first_name by shop.id", "shop.id = 2"),
    ("shop.zone_name", "shop.id = 0"),
    ("shop.zone_name", "shop.id = 3"),
    ("shop.zone_nam", "shop.id = 3"),
];

/// All that a model tells, in words: answers, errors, explanations, counters, sizes.
fn everything(model: &Model) -> Vec<String> {
    let options = &QueryOptions::default();
    let mut told = Vec::new();
    for text in QUERIES.iter().chain(FAILING) {
        let grid = model.query_with(text, options).and_then(|query| query.run());
        told.push(match grid {
            Ok(grid) => format!("{text}\n{:?}", shown(&grid)),
            Err(e) => format!("{text}\n{e}"),
        });
        if let Ok(batch) = model.query_with(text, options).and_then(|query| Ok(query.run()?.to_record_batch()?)) {
            told.push(format!("{text}\n{batch:?}"));
        }
        if let Ok((profile, _)) = advice::profile_with_advice(model, text, options, 1) {
            let mut reads = Vec::new();
            profile.tree.iter().for_each(|node| counters(node, &mut reads));
            told.push(format!("{text}\n{}", reads.join("\n")));
        }
    }
    for (text, at) in PLACES {
        let why = WhyOptions { query: options.clone(), rows: 3, ..WhyOptions::default() };
        told.push(match model.why(text, at, &why) {
            Ok(mut why) => {
                why.notes.retain(|note| !note.starts_with("asked as"));
                format!("{text} at {at}\n{why:#?}")
            }
            Err(e) => format!("{text} at {at}\n{e}"),
        });
    }
    for (measure, with) in CONTESTS {
        let (measure, with, by) = (measure.to_string(), with.to_string(), "zone.name".to_string());
        let contest = FormulaPair { measure, with, by, ..FormulaPair::default() };
        told.push(match formula_comparison::compare_formulas(model, &contest, options, 1) {
            Ok(rival) => format!("{contest:?}\n{}", without_times(&serde_json::to_value(rival).unwrap())),
            Err(e) => format!("{contest:?}\n{e}"),
        });
    }
    told.push(match model_comparison::compare_models(model, model, &[], options, 1) {
        Ok(comparison) => without_times(&serde_json::to_value(comparison).unwrap()),
        Err(e) => e.to_string(),
    });
    told.push(serde_json::to_string_pretty(&model.sizes()).unwrap());
    told.push(format!("{:#?}", model.catalog()));
    for name in NAMED {
        told.push(match model.uses(name) {
            Ok(mut uses) => {
                // Where the others' texts stand in a file is nobody's business.
                uses.used_by.iter_mut().for_each(|used| (used.line, used.column) = (None, None));
                format!("{uses:#?}")
            }
            Err(e) => format!("{name}\n{e}"),
        });
    }
    told.push(format!("{:#?}", model.unused()));
    told
}

/// What it is asked of which part uses it.
const NAMED: &[&str] = &[
    "total",
    "totel",
    "first_name",
    "zone",
    "zone.name",
    "zone.id",
    "shop.zone",
    "shop.zone_name",
    "sale.x",
    "shop.zone → zone.id",
    "sale.shop -> shop.id",
    "r0",
];

/// Formulas that are held against each other.
const CONTESTS: &[(&str, &str)] = &[
    ("total", "sum(sale.x) + 0"),
    ("total", "max(sale.x)"),
    ("total", "cast(min(zone.name) as int)"),
    ("count(distinct sale.shop)", "rows(shop)"),
    ("first_name", "first_nam"),
];

/// What of a report is no time, in lines.
fn without_times(report: &Json) -> String {
    match report {
        Json::Object(entries) => {
            let kept = entries.iter().filter(|(key, _)| !key.ends_with("ms") && *key != "speedup");
            kept.map(|(key, value)| format!("{key}: {}\n", without_times(value))).collect()
        }
        Json::Array(values) => values.iter().map(|value| format!("- {}\n", without_times(value))).collect(),
        value => value.to_string(),
    }
}

/// What of a profile is no time.
fn counters(node: &profile::Node, found: &mut Vec<String>) {
    if let Some(read) = &node.read {
        let counted = (read.rows, read.rows_read, read.segments_skipped, read.bytes_read, read.groups);
        found.push(format!("{} by {:?}: {counted:?}", read.table, read.group_by));
    }
    node.parts.iter().for_each(|part| counters(part, found));
}

#[test]
fn nothing_on_any_road_tells_of_rows_and_columns_that_a_role_has_not() {
    // More of them on request: CUBREL_ROLES=10000.
    let seeds = std::env::var("CUBREL_ROLES").ok().and_then(|n| n.parse().ok()).unwrap_or(150);
    for seed in 0..seeds {
        let (rows, rules, left) = case(seed);
        for named in [true, false] {
            // The last role denies the name as well, and with it what is computed from it.
            let deny = if named { "" } else { "deny = ['zone.name']\n" };
            let (whole, part) = (model_with(&rows, &rules, deny, true), model_with(&left, &[], "", named));
            let expected = everything(&part);
            let found = everything(&seen_in(&whole, &rules));
            for (found, expected) in found.iter().zip(&expected) {
                assert_eq!(found, expected, "seed {seed}, {rules:?}, names: {named}");
            }
        }
    }
}

/// Keys that are denied: nothing that is told depends on what they are.
#[test]
fn what_a_denied_key_is_cannot_be_told_from_anything() {
    const DENY: &str = "[role.r0]\ndeny = ['zone.id', 'shop.id', 'shop.zone', 'shop.other', 'sale.shop']\n";
    let moved = |rows: &Rows| {
        let by = |row: &[Value], keys: &[usize]| {
            let moved = |(i, v): (usize, &Value)| match v {
                Value::Int(v) if keys.contains(&i) => Value::Int(v + 100),
                v => v.clone(),
            };
            row.iter().enumerate().map(moved).collect::<Vec<Value>>()
        };
        let all = |list: &[Vec<Value>], keys: &[usize]| list.iter().map(|row| by(row, keys)).collect();
        Rows { zone: all(&rows.zone, &[0]), shop: all(&rows.shop, &[0, 1, 2]), sale: all(&rows.sale, &[0]) }
    };
    let mut answered = 0;
    for seed in 0..100 {
        let (rows, ..) = case(seed);
        let (here, there) = (model_with(&rows, &[], DENY, true), model_with(&moved(&rows), &[], DENY, true));
        let found = everything(&seen_in(&here, &[("", "")]));
        for (found, expected) in found.iter().zip(&everything(&seen_in(&there, &[("", "")]))) {
            assert_eq!(found, expected, "seed {seed}");
        }
        let keys = |text: &&String| ["zone.id", "shop.id", "sale.shop"].iter().any(|k| text.contains(k));
        // What asks for a key is refused, as if there were none; the rest is answered over its relationships.
        let by_name = &found.iter().find(|text| text.starts_with("grid total by zone.name totals")).unwrap();
        assert!(!keys(by_name), "{by_name}");
        answered += usize::from(by_name.lines().count() > 1);
    }
    assert_eq!(answered, 100);
}

#[test]
fn who_has_no_role_sees_nothing() {
    let (rows, rules, _) = case(7);
    let whole = model(&rows, &rules);
    let nobody = whole.as_user::<&str>(&[], Some("ann")).unwrap();
    for text in QUERIES {
        assert!(nobody.query(text).is_err(), "{text}");
    }
    assert_eq!((nobody.sizes().model.rows, nobody.sizes().tables.len()), (0, 0));
    assert!(nobody.why("grid total", "", &WhyOptions::default()).is_err());
    // Nor is there a way back.
    assert!(nobody.as_user(&["r0"], None).is_err());
    let one = whole.as_user(&["r0"], None).unwrap();
    assert!(one.as_user(&["r0"], None).is_err() && one.roles().is_empty());
}

#[test]
fn tables_by_query_are_worked_out_from_the_rows_of_the_role() {
    let of_query = |more: &str| {
        format!(
            "[table.best]\nquery = 'grid total, rows(sale) as n by shop.zone'\n{more}
             [table.again]\nsame_as = 'best'
             [[relationship]]\nmany = 'shop.zone'\none = 'best.zone'\nspare = true\n"
        )
    };
    for seed in 0..60 {
        let (rows, rules, left) = case(seed);
        let (whole, part) =
            (model_with(&rows, &rules, &of_query(""), true), model_with(&left, &[], &of_query(""), true));
        let seen = seen_in(&whole, &rules);
        for text in [
            "grid sum(best.total) as t, sum(best.n) as n, rows(best) as r, rows(again) as c, total",
            "records best.zone, best.total order by best.zone",
            "grid sum(best.n via shop.zone) as t by shop.id",
        ] {
            let run = |model: &Model| shown(&crate::common::run(model, text));
            assert_eq!(run(&seen), run(&part), "seed {seed}, {rules:?}: {text}");
        }
        let open = model_with(&rows, &rules, &of_query("all_rows = true\n"), true);
        assert!(open.warnings().iter().any(|w| w.message.contains("`best` is worked out over all rows")));
        let all = "grid sum(best.n) as n, rows(best) as r, rows(again) as c";
        let run = |model: &Model| shown(&crate::common::run(model, all));
        assert_eq!(run(&seen_in(&open, &rules)), run(&whole), "seed {seed}");
    }
}

#[test]
fn rules_that_fail_quote_nothing() {
    let (rows, ..) = case(3);
    let whole = model(&rows, &[("zone", "cast(name as int) = 1")]);
    let e = whole.as_user(&["r0"], None).map(drop);
    let text = e.map_or_else(|e| e.to_string(), |()| String::new());
    if rows.zone.iter().any(|z| !z[1].is_null()) {
        assert!(text.contains("the rule of role `r0` for `zone` cannot be computed for every row"), "{text}");
        assert!(!["`N`", "`S`", "`W`"].iter().any(|name| text.contains(name)), "{text}");
    }
}

#[test]
fn denials_that_leave_a_way_open_are_told_and_readings_go_with_what_they_name() {
    let (rows, ..) = case(7);
    let more = |deny: &str| {
        format!(
            "[role.some]\ndeny = [{deny}]\n[measure.ratio]\nformula = 'total / rows(sale)'\n
             [lens.seen.reading.now]\nformula = 'shown'\n[lens.seen.reading.share]\nformula = 'shown / total'\n"
        )
    };
    let told = |model: &Model| {
        let open = |w: &&cubrel::Diagnostic| w.message.contains("stays open");
        model.warnings().iter().filter(open).map(|w| w.message.clone()).collect::<Vec<_>>()
    };
    let by_measure = model_with(&rows, &[], &more("'ratio'"), true);
    assert_eq!(told(&by_measure), ["role `some` denies `ratio`, and what it is computed from stays open: sale.x"]);
    let by_column = model_with(&rows, &[], &more("'ratio', 'sale.x'"), true);
    assert!(told(&by_column).is_empty());
    let seen = by_column.as_user(&["some"], None).unwrap();
    let readings: Vec<&str> = seen.schema().lenses[0].readings.iter().map(|r| r.name.as_str()).collect();
    assert_eq!(readings, ["now"], "the other names what is computed from sale.x");
    assert!(seen.query("grid rows(sale) as n by seen").is_ok());
    // What is denied is in no list that the library gives.
    let listed = format!("{:?} {:?}", seen.document().file, seen.sizes());
    assert!(!listed.contains("sum(sale.x)") && !listed.contains("\"x\""), "{listed}");
}
