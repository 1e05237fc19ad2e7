//! Texts that rows are grouped by, ordered by and told apart by: several of one table together, the first and the last, what they begin with;
//! and parts of a day asked about twice. Held against plain loops, in every configuration.

use std::collections::{BTreeMap, BTreeSet};

use cubrel::{Model, Type, Value};

use crate::common::{Random, configurations, run, shown};

/// A port has a name that others have, too, a region that may be missing, and a size.
struct Port {
    name: String,
    region: Option<String>,
    size: i64,
}

struct Sailing {
    /// Points at no port where there is none of that number.
    port: Option<i64>,
    boat: Option<String>,
    note: Option<String>,
    at: Option<i64>,
    seats: i64,
}

const MINUTE: i64 = 60_000_000;

fn ports(random: &mut Random) -> Vec<Port> {
    let mut port = |n: i64| Port {
        name: format!("Port {}", n % 17),
        region: random.chance(80).then(|| ["North", "South", "East"][random.below(3) as usize].to_string()),
        size: random.below(4) as i64,
    };
    (0..40).map(&mut port).collect()
}

fn sailings(random: &mut Random, count: usize) -> Vec<Sailing> {
    let mut sailing = |_| Sailing {
        port: random.chance(95).then(|| random.below(43) as i64),
        boat: random.chance(90).then(|| format!("MS {}", random.below(12))),
        note: random
            .chance(90)
            .then(|| format!("{} é {}", ["early", "eager", "late", ""][random.below(4) as usize], random.below(300))),
        // Before 1970 as well as after.
        at: random.chance(90).then(|| (random.below(200_000) as i64 - 100_000) * MINUTE * 7),
        seats: random.below(9) as i64,
    };
    (0..count).map(&mut sailing).collect()
}

fn model(ports: &[Port], sailings: &[Sailing], segment: usize) -> Model {
    let text = |text: &Option<String>| text.as_ref().map_or(Value::Null, |text| Value::text(text.clone()));
    let port = |(id, port): (i64, &Port)| {
        vec![Value::Int(id), Value::text(port.name.clone()), text(&port.region), Value::Int(port.size)]
    };
    let sailing = |s: &Sailing| {
        let port = s.port.map_or(Value::Null, Value::Int);
        vec![
            port,
            text(&s.boat),
            text(&s.note),
            s.at.map_or(Value::Null, Value::Timestamp),
            Value::Int(s.seats),
            Value::Null,
        ]
    };
    let of_port = [("id", Type::Int), ("name", Type::Text), ("region", Type::Text), ("size", Type::Int)];
    let of_sailing = [
        ("port", Type::Int),
        ("boat", Type::Text),
        ("note", Type::Text),
        ("at", Type::Timestamp),
        ("seats", Type::Int),
        ("gone", Type::Int),
    ];
    Model::builder()
        .rows("port", &of_port, &(0..).zip(ports).map(port).collect::<Vec<_>>())
        .rows("sailing", &of_sailing, &sailings.iter().map(sailing).collect::<Vec<_>>())
        .relationship("sailing.port", "port.id")
        .segment_rows(segment)
        .build()
        .unwrap()
}

const KINDS: [(u64, usize, usize); 4] = [(1, 60, 7), (2, 900, 1 << 20), (3, 2500, 512), (4, 6000, 1 << 20)];

/// Each kind of rows with its model.
fn each(mut check: impl FnMut(&[Port], &[Sailing], &Model)) {
    for (seed, count, segment) in KINDS {
        let mut random = Random(seed);
        let (ports, sailings) = (ports(&mut random), sailings(&mut random, count));
        check(&ports, &sailings, &model(&ports, &sailings, segment));
    }
}

fn port_of<'p>(ports: &'p [Port], sailing: &Sailing) -> Option<&'p Port> {
    ports.get(usize::try_from(sailing.port?).ok()?)
}

/// A text as grids show it.
fn shown_text(text: Option<&str>) -> String {
    text.map_or_else(|| Value::Null.to_string(), str::to_string)
}

#[test]
fn several_columns_of_one_table_count_together() {
    each(|ports, sailings, model| {
        let mut expected: BTreeMap<(String, String, String), (i64, i64)> = BTreeMap::new();
        let mut by_name: BTreeMap<(String, String), i64> = BTreeMap::new();
        for sailing in sailings {
            let port = port_of(ports, sailing);
            let name = shown_text(port.map(|p| p.name.as_str()));
            let region = shown_text(port.and_then(|p| p.region.as_deref()));
            let size = port.map_or_else(|| Value::Null.to_string(), |p| p.size.to_string());
            let sums = expected.entry((name.clone(), region.clone(), size.clone())).or_default();
            (sums.0, sums.1) = (sums.0 + sailing.seats, sums.1 + 1);
            *by_name.entry((name, shown_text(sailing.boat.as_deref()))).or_default() += sailing.seats;
        }
        let sorted = |mut lines: Vec<String>| {
            lines.sort();
            lines
        };
        let grid = run(model, "grid sum(sailing.seats) as s, rows(sailing) as n by port.name, port.region, port.size");
        let all = expected.iter().map(|((a, b, c), (s, n))| format!("{a}|{b}|{c}|{s}|{n}")).collect();
        assert_eq!(sorted(shown(&grid)), sorted(all));
        // With one of another table between them, and with totals.
        let grid = run(model, "grid sum(sailing.seats) as s by port.name, sailing.boat, port.region, port.size totals");
        let total: i64 = sailings.iter().map(|s| s.seats).sum();
        let last = grid.lines.last().and_then(|line| line.values.last()).cloned();
        assert_eq!(last, Some(Value::Int(total)));
        let grid = run(model, "grid sum(sailing.seats) as s by port.name, sailing.boat");
        let all = by_name.iter().map(|((a, b), s)| format!("{a}|{b}|{s}")).collect();
        assert_eq!(sorted(shown(&grid)), sorted(all));
        // A share of another level asks for the groups of cells by their codes.
        let shares = "grid sum(sailing.seats) as s, (sum(sailing.seats) given (without port.size)) as t by port.name, port.region, port.size";
        for line in &run(model, shares).lines {
            let key = |at: usize| line.values[at].to_string();
            let all = expected.iter().filter(|((a, b, _), _)| *a == key(0) && *b == key(1)).map(|(_, (s, _))| s);
            assert_eq!(line.values[4], Value::Int(all.sum()), "{line:?}");
        }
    });
}

#[test]
fn combinations_of_columns_are_counted() {
    type Part = fn(&[Port], &Sailing) -> Option<String>;
    let parts: [(&str, Part); 6] = [
        ("sailing.boat", |_, s| s.boat.clone()),
        ("sailing.note", |_, s| s.note.clone()),
        ("sailing.seats", |_, s| Some(s.seats.to_string())),
        // Which is null everywhere.
        ("sailing.gone", |_, _| None),
        ("port.name", |ports, s| Some(port_of(ports, s)?.name.clone())),
        ("port.region", |ports, s| port_of(ports, s)?.region.clone()),
    ];
    each(|ports, sailings, model| {
        for chosen in [&[0, 2][..], &[0, 1, 2], &[0, 5], &[0, 1, 2, 4], &[4, 5, 2], &[3, 2], &[2, 3, 0], &[2, 2]] {
            let names = chosen.iter().map(|at| parts[*at].0).collect::<Vec<_>>().join(", ");
            let (mut all, mut by_region) = (BTreeSet::new(), BTreeMap::<String, BTreeSet<Vec<String>>>::new());
            for sailing in sailings {
                let region = port_of(ports, sailing).and_then(|port| port.region.as_deref());
                let of_region = by_region.entry(shown_text(region)).or_default();
                if let Some(row) = chosen.iter().map(|at| parts[*at].1(ports, sailing)).collect::<Option<Vec<_>>>() {
                    of_region.insert(row.clone());
                    all.insert(row);
                }
            }
            let grid = run(model, &format!("grid count(distinct {names}) as n"));
            assert_eq!(grid.lines[0].values[0], Value::Int(all.len() as i64), "{names}");
            let grid = run(model, &format!("grid count(distinct {names}) as n, rows(sailing) as m by port.region"));
            assert_eq!(grid.lines.len(), by_region.len(), "{names}");
            for line in &grid.lines {
                let expected = by_region[&line.values[0].to_string()].len();
                assert_eq!(line.values[1], Value::Int(expected as i64), "{names}: {line:?}");
            }
        }
    });
}

#[test]
fn first_and_last_texts() {
    each(|ports, sailings, model| {
        let mut expected: BTreeMap<String, [Option<&Sailing>; 3]> = BTreeMap::new();
        for sailing in sailings {
            let of = expected.entry(shown_text(port_of(ports, sailing).and_then(|p| p.region.as_deref()))).or_default();
            let Some(boat) = &sailing.boat else { continue };
            // Null comes after all others.
            let by = |s: &Sailing| s.at.unwrap_or(i64::MAX);
            let better = |old: Option<&Sailing>, is: &dyn Fn(&Sailing) -> bool| old.is_none_or(is);
            if better(of[0], &|old| (by(sailing), boat) < (by(old), old.boat.as_ref().unwrap())) {
                of[0] = Some(sailing);
            }
            if better(of[1], &|old| (by(sailing), boat) > (by(old), old.boat.as_ref().unwrap())) {
                of[1] = Some(sailing);
            }
            let text = |s: &Sailing| (s.note.is_none(), s.note.clone().unwrap_or_default());
            if better(of[2], &|old| (text(sailing), boat) < (text(old), old.boat.as_ref().unwrap())) {
                of[2] = Some(sailing);
            }
        }
        let boats = "first(sailing.boat order by sailing.at) as a, last(sailing.boat order by sailing.at) as b, first(sailing.boat order by sailing.note) as c";
        let grid = run(model, &format!("grid {boats}, rows(sailing) as n by port.region"));
        assert_eq!(grid.lines.len(), expected.len());
        for line in &grid.lines {
            let of = &expected[&line.values[0].to_string()];
            for (place, sailing) in of.iter().enumerate() {
                let boat = shown_text(sailing.and_then(|s| s.boat.as_deref()));
                assert_eq!(line.values[place + 1].to_string(), boat, "{place} of {:?}", line.values);
            }
        }
        // Of a far column, over no rows, and with orders that have no keys.
        let far = run(
            model,
            "grid last(port.name order by sailing.seats, sailing.note) as x, first(port.region order by port.name) as y",
        );
        assert_eq!(far.lines.len(), 1);
        let none = run(model, "grid last(sailing.boat order by sailing.at) as x where sailing.seats > 99 with empty");
        assert!(none.lines.iter().all(|line| line.values.iter().all(Value::is_null)));
    });
}

/// A formula of a text, and what it gives.
type Beginning = (&'static str, fn(&str) -> String);

#[test]
fn different_beginnings_of_texts() {
    each(|ports, sailings, model| {
        let beginnings: [Beginning; 4] = [
            ("left(sailing.note, 3)", |note| note.chars().take(3).collect()),
            ("right(sailing.note, 2)", |note| {
                note.chars().rev().take(2).collect::<Vec<_>>().into_iter().rev().collect()
            }),
            ("upper(sailing.note)", |note| note.to_uppercase()),
            ("length(sailing.note)", |note| note.chars().count().to_string()),
        ];
        for (formula, of) in beginnings {
            let mut expected: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
            let mut pairs: BTreeMap<String, BTreeSet<(String, String)>> = BTreeMap::new();
            for sailing in sailings {
                let region = shown_text(port_of(ports, sailing).and_then(|p| p.region.as_deref()));
                let seen = (expected.entry(region.clone()).or_default(), pairs.entry(region).or_default());
                let Some(note) = &sailing.note else { continue };
                seen.0.insert(of(note));
                seen.1.extend(sailing.boat.clone().map(|boat| (of(note), boat)));
            }
            let text = format!(
                "grid count(distinct {formula}) as a, count(distinct {formula}, sailing.boat) as b, rows(sailing) as n by port.region"
            );
            for line in &run(model, &text).lines {
                let region = line.values[0].to_string();
                let counts = [expected[&region].len(), pairs[&region].len()].map(|n| Value::Int(n as i64));
                assert_eq!(line.values[1..3], counts, "{formula} in {region}");
            }
        }
    });
}

#[test]
fn parts_of_a_day_between_others() {
    const DAY: i64 = 24 * 60;
    let hour = |at: i64| (at / MINUTE).rem_euclid(DAY) / 60;
    type Question<'q> = (&'q str, &'q dyn Fn(i64) -> bool);
    each(|_, sailings, model| {
        let questions: [Question<'_>; 5] = [
            ("hour(sailing.at) between 5 and 9", &|at| (5..=9).contains(&hour(at))),
            ("hour(sailing.at) not between 5 and 9", &|at| !(5..=9).contains(&hour(at))),
            ("sailing where (hour(sailing.at) < 3 or hour(sailing.at) >= 20)", &|at| hour(at) < 3 || hour(at) >= 20),
            ("sailing where (hour(sailing.at) >= 3 and minute(sailing.at) < 30)", &|at| {
                hour(at) >= 3 && (at / MINUTE).rem_euclid(60) < 30
            }),
            ("date_trunc('hour', sailing.at) = timestamp '1970-01-02 00:00:00'", &|at| {
                at.div_euclid(60 * MINUTE) == 24
            }),
        ];
        for (condition, passes) in questions {
            let expected = sailings.iter().filter(|s| s.at.is_some_and(passes)).count();
            let grid = run(model, &format!("grid rows(sailing) as n where {condition}"));
            let found = grid.lines.first().map_or(Value::Int(0), |line| line.values[0].clone());
            assert_eq!(found, Value::Int(expected as i64), "{condition}");
        }
        let hours: BTreeSet<i64> = sailings.iter().filter_map(|s| s.at).map(|at| at.div_euclid(60 * MINUTE)).collect();
        let grid = run(model, "grid count(distinct date_trunc('hour', sailing.at)) as n");
        assert_eq!(grid.lines[0].values[0], Value::Int(hours.len() as i64));
    });
    assert!(
        configurations().iter().any(|(_, options)| options.rows_per_combined == 0),
        "keys count together in one of them"
    );
}
