//! What a query spares itself: passes over rows that others do anyway, groups that nobody asks for, lines that do not stay. The numbers
//! are those of the plain way, which `common::run` holds them against.

use std::sync::LazyLock;

use crate::common::shown;
use cubrel::internals::InQuery as _;
use cubrel::run::RunProfile;
use cubrel::run::{Options, Runs};
use cubrel::{Grid, Model, Type, Value};

const ROWS: i64 = 20_000;
const VESSELS: i64 = 1_000;

/// Sailings in no order that helps: no two neighbours have the same route, vessel or delay.
static MODEL: LazyLock<Model> = LazyLock::new(|| {
    let sailing: Vec<Vec<Value>> = (0..ROWS)
        .map(|i| {
            let scattered = i * 7919 % ROWS;
            let delay = if scattered % 6 == 0 { Value::Null } else { Value::Int(scattered % 31) };
            vec![Value::Int(i * 4 % 9), Value::Int(scattered % VESSELS), delay]
        })
        .collect();
    let vessel: Vec<Vec<Value>> = (0..VESSELS).map(|i| vec![Value::Int(i), Value::Int(i % 7)]).collect();
    Model::builder()
        .rows("sailing", &[("route", Type::Int), ("vessel", Type::Int), ("delay", Type::Int)], &sailing)
        .rows("vessel", &[("id", Type::Int), ("class", Type::Int)], &vessel)
        .relationship("sailing.vessel", "vessel.id")
        .measure("delay", "sum(sailing.delay)")
        .build()
        .unwrap()
});

fn plain() -> Options {
    Options { optimize: false, totals: false, ..Options::default() }
}

/// Row by row, in whatever order rows have been brought.
fn by_row() -> Options {
    Options { runs: Runs::Never, ..Options::default() }
}

fn asked(text: &str, options: &Options) -> (Grid, RunProfile) {
    MODEL.query(text).unwrap().run_with(options).unwrap_or_else(|e| panic!("{text}\n{e}"))
}

/// Rows looked at in all, and how many reads were done in the pass of another.
fn cost(text: &str, options: &Options) -> (u64, usize) {
    let (_, profile) = asked(text, options);
    let read = profile.reads.iter().map(|r| r.stats.rows_read).sum::<u64>() - read_of_axes(&profile);
    (read, profile.reads.iter().filter(|r| r.with.is_some()).count())
}

/// Rows of smaller tables, which tell what lines there are.
fn read_of_axes(profile: &RunProfile) -> u64 {
    profile.reads.iter().filter(|r| r.stats.rows < ROWS as u64).map(|r| r.stats.rows_read).sum()
}

#[test]
fn figures_that_differ_in_their_filters_are_read_in_one_pass() {
    let all = ROWS as u64;
    for (text, reads) in [
        // The whole, and a part of it.
        ("grid delay, delay given (sailing.route = 3) as a by vessel.class", 2),
        ("grid delay given (sailing.route = 3) / delay as share by vessel.class where sailing.route < 6", 2),
        // Parts without the whole, of few rows,
        (
            "grid delay given (vessel.class = 3) as a, delay given (vessel.class = 4) as b by sailing.route \
             where sailing.vessel < 90",
            2,
        ),
        // or which are most of it together; other aggregates, other keys, and one that several see.
        (
            "grid delay given (sailing.route < 3) as a, median(sailing.delay) given (sailing.route >= 3) as b, \
             count(distinct sailing.route) given (sailing.delay > 3) as c, max(sailing.delay) given (sailing.delay > 3) as d \
             by vessel.id",
            3,
        ),
        ("grid rows(sailing), rows(sailing) given (sailing where (sailing.route * 9 > sailing.delay)) as late", 2),
    ] {
        crate::common::run(&MODEL, text);
        assert_eq!(cost(text, &by_row()), (all, reads - 1), "{text}");
        assert_eq!(cost(text, &plain()).0, all * reads as u64, "{text}");
    }
}

#[test]
fn figures_of_other_groups_or_of_few_rows_each_are_read_by_themselves() {
    for text in [
        "grid delay, delay given (without axes) as entire by vessel.class",
        "grid delay given (sailing.route = 3) as a, delay given (sailing.route = 4) as b by vessel.class",
    ] {
        crate::common::run(&MODEL, text);
        assert_eq!(cost(text, &by_row()).1, 0, "{text}");
    }
}

#[test]
fn figures_are_put_together_from_finer_ones_however_many_groups_there_could_be() {
    for text in [
        // A vessel's key tells its row.
        "grid delay by vessel.id, vessel.class having delay = (max(delay per vessel) given (without axes))",
        // More groups could be than there is room for in an array.
        "grid delay by sailing.route, vessel.id, vessel.class, sailing.delay where sailing.vessel < 40 \
         having delay = (delay given (without sailing.delay))",
    ] {
        let found = crate::common::run(&MODEL, text);
        assert!(!found.lines.is_empty(), "{text}");
        assert_eq!(cost(text, &by_row()).0, ROWS as u64, "{text}");
        assert_eq!(cost(text, &plain()).0, 2 * ROWS as u64, "{text}");
    }
}

#[test]
fn an_error_in_one_of_the_figures_is_that_figures() {
    let wrong = "sum(cast('x' || cast(sailing.delay as text) as int)) given (sailing.route = 3)";
    let asks = |never: &str| format!("grid delay, case when {never} then {wrong} end as b by vessel.class");
    // One pass would have to compute it, but nobody asks for it.
    let found = [by_row(), plain()].map(|options| shown(&asked(&asks("delay is null"), &options).0));
    assert_eq!(found[0], found[1]);
    assert_eq!(found[0], shown(&crate::common::run(&MODEL, &asks("delay is null"))));
    let refused = MODEL.query(&asks("delay > 0")).unwrap().run().unwrap_err().to_string();
    assert!(refused.contains("`x0` cannot be turned into int"), "{refused}");
}

#[test]
fn groups_that_no_cell_asks_for_are_not_read() {
    let text = "grid sum((rows(sailing) given (sailing.route = 3)) per sailing.vessel \
                where (count(distinct sailing.route) given (without vessel)) > 0) as n where vessel.class = 2";
    crate::common::run(&MODEL, text);
    let passed = |options: &Options| {
        let (_, profile) = asked(text, options);
        profile.reads.iter().map(|r| r.stats.rows_passed).max().unwrap()
    };
    let few = Options { wanted_above: 100, ..Options::default() };
    let of_class = (0..VESSELS).filter(|vessel| vessel % 7 == 2).count() as i64 * (ROWS / VESSELS);
    assert_eq!((passed(&few), passed(&plain())), (of_class as u64, ROWS as u64));
}

/// A key of hundreds of values can have more codes than there is memory for.
#[test]
fn keys_with_codes_beyond_all_bounds_are_grouped_by_all_the_same() {
    let (rows, far) = (3000, 1_000_000_007_i64);
    let sailed: Vec<Vec<Value>> = (0..rows)
        .map(|i| vec![Value::Int((i * far).wrapping_mul(far).rem_euclid(1 << 61)), Value::Int(i % 5)])
        .collect();
    let model = Model::builder()
        .rows("sailing", &[("code", Type::Int), ("route", Type::Int)], &sailed)
        .measure("n", "rows(sailing)")
        .build()
        .unwrap();
    for text in [
        "grid n by sailing.code having n > 0 order by n desc limit 3",
        "grid sum((n given (sailing.route = 3)) per sailing.code where (n given (without sailing.route)) > 0) as x",
        "grid n given (sailing.route = 3) as a, n given (sailing.route = 4) as b by sailing.code where sailing.route > 2",
    ] {
        crate::common::run(&model, text);
    }
}

/// What hangs off a key with very many codes is kept in fewer bits where its groups are few.
#[test]
fn groups_by_what_hangs_off_very_many_keys_are_what_the_rows_say() {
    const KEYS: i64 = 40_000;
    let class = |vessel: i64| vessel * 31 % 300;
    let vessel: Vec<Vec<Value>> =
        (0..KEYS).map(|i| vec![Value::Int(i), Value::Int(class(i)), Value::Int(i % 7)]).collect();
    // Some vessels are in no list.
    let of = |i: i64| i * 7919 % (KEYS + 1000);
    let sailing: Vec<Vec<Value>> = (0..30_000).map(|i| vec![Value::Int(of(i)), Value::Int(i % 13)]).collect();
    let model = Model::builder()
        .rows("vessel", &[("id", Type::Int), ("class", Type::Int), ("deck", Type::Int)], &vessel)
        .rows("sailing", &[("vessel", Type::Int), ("delay", Type::Int)], &sailing)
        .relationship("sailing.vessel", "vessel.id")
        .build()
        .unwrap();
    let known = |vessel: i64| vessel < KEYS;
    for (axis, number) in [("deck", (|v| v % 7) as fn(i64) -> i64), ("class", |v| v * 31 % 300)] {
        let text = format!("grid sum(sailing.delay) as n by vessel.{axis} where vessel.deck <> 3");
        let found = crate::common::run(&model, &text);
        let sum = |group: i64| {
            let of_group = |i: &i64| known(of(*i)) && number(of(*i)) == group && of(*i) % 7 != 3;
            (0..30_000).filter(of_group).map(|i| i % 13).sum::<i64>()
        };
        assert!(found.lines.len() >= 6, "{text}");
        for line in &found.lines {
            let (Value::Int(group), n) = (&line.values[0], &line.values[1]) else { panic!("{text}: {line:?}") };
            assert_eq!(*n, Value::Int(sum(*group)), "{text}: {group}");
        }
    }
}

/// Options under which a grid may have few cells.
fn few_cells(options: Options) -> Options {
    Options { sparse_above: 0, wanted_above: 0, max_cells: 20, ..options }
}

#[test]
fn lines_that_do_not_stay_are_no_cells() {
    for text in [
        "grid delay by vessel.id having delay > 334 order by delay desc",
        "grid delay by vessel.id, vessel.class having delay > 200 order by delay desc limit 5",
        "grid delay, max(sailing.delay) as most by vessel.id order by delay desc limit 3",
        "grid delay by vessel.id order by delay / rows(sailing) desc limit 3",
        "grid delay by vessel.class, vessel.id having rows(sailing) > 3 and delay < 162",
    ] {
        crate::common::run(&MODEL, text);
        let (found, _) = asked(text, &few_cells(Options::default()));
        assert!((1..=20).contains(&found.lines.len()), "{} lines of {text}", found.lines.len());
        assert_eq!(shown(&found), shown(&asked(text, &plain()).0), "{text}");
        let refused = MODEL.query(text).unwrap().run_with(&few_cells(plain())).map(|(grid, _)| grid.lines.len());
        assert!(refused.is_err(), "{text}: {refused:?}");
    }
}

/// Where a limit counts something else than groups, or what is dropped is asked for again, all lines are made.
#[test]
fn lines_stay_that_a_limit_by_groups_would_miss() {
    for text in [
        // Of the first by count some have no figure, and do not show.
        "grid delay given (sailing.route = 3) as a by sailing.route, vessel.id order by rows(sailing) desc limit 4",
        "grid min(sailing.delay) as a by vessel.id order by rows(sailing) limit 3",
        "grid delay by vessel.class, vessel.id order by delay desc limit 1 within vessel.class",
        "grid delay by vessel.id order by delay desc limit 3 others totals",
        "grid delay by vessel.class split by sailing.route having delay > 100 order by delay desc limit 3",
        "measure entire = delay given (without axes); grid delay, entire by vessel.id having delay > entire / 900 order by delay desc limit 3",
        "grid delay by vessel.id order by vessel.id desc, delay limit 3",
        "grid delay by vessel.id order by delay desc, vessel.id desc limit 3",
        "grid delay by vessel.id having delay / (delay - delay) > 1 limit 3",
    ] {
        let query = match MODEL.query(text) {
            Ok(query) => query,
            Err(e) => panic!("{text}\n{e}"),
        };
        let wanted = query.run_with(&plain()).map(|(grid, _)| shown(&grid)).map_err(|e| e.to_string());
        for (name, options) in crate::common::configurations() {
            let found = query.run_with(&options).map(|(grid, _)| shown(&grid)).map_err(|e| e.to_string());
            assert_eq!(found, wanted, "{name}: {text}");
        }
    }
}

/// Sailings some of which are of no vessel, of one that is not listed, or on no route; vessels some of which are of no class.
fn with_strays() -> Model {
    const COUNT: i64 = 600;
    let some = |i: i64, every: i64, n: i64| if i % every == 0 { Value::Null } else { Value::Int(n) };
    let sailing = (0..COUNT).map(|i| {
        let scattered = i * 7919 % COUNT;
        vec![some(scattered, 11, i * 4 % 9), some(scattered, 13, scattered % 57), some(i, 6, scattered % 31 - 3)]
    });
    let vessel = (0..50).map(|i| vec![Value::Int(i), some(i, 8, i % 7)]);
    let route = (0..8).map(|i| vec![Value::Int(i), some(i, 5, i % 3)]);
    Model::builder()
        .rows(
            "sailing",
            &[("route", Type::Int), ("vessel", Type::Int), ("delay", Type::Int)],
            &sailing.collect::<Vec<_>>(),
        )
        .rows("vessel", &[("id", Type::Int), ("class", Type::Int)], &vessel.collect::<Vec<_>>())
        .rows("route", &[("id", Type::Int), ("region", Type::Int)], &route.collect::<Vec<_>>())
        .relationship("sailing.vessel", "vessel.id")
        .relationship("sailing.route", "route.id")
        .measure("delay", "sum(sailing.delay)")
        .measure("late", "rows(sailing) given (sailing.delay > 5)")
        .build()
        .unwrap()
}

/// What a `per` goes through is told by the rows that its figures have, within every line; a `per` over rows that point at nothing, or
/// one that lines tell less about, goes through the table.
#[test]
fn what_is_gone_through_within_lines_is_what_rows_have_there() {
    let model = with_strays();
    let folds = [
        "sum(delay per vessel.id of sailing)",
        "sum(delay per vessel.id)",
        "sum(late * late per sailing.vessel)",
        "max(delay + late per vessel.class of sailing)",
        "sum(late per vessel.id of sailing where delay > 20)",
        "sum((late given (without vessel)) * late per vessel.id of sailing)",
        "sum(late per vessel.id of sailing where (late given (without (route, sailing.route))) > 2)",
        "avg(late given (sailing.delay < 20) per (vessel.id, sailing.route))",
        "sum(max(delay per sailing.route of sailing) per vessel.id of sailing)",
        "sum(delay given (vessel.class = 3) per vessel.id of sailing)",
        "count(delay per sailing)",
    ];
    let lines = [
        "",
        "by vessel.class",
        "by route.region",
        "by sailing.route where vessel.class in (1, 2, 5)",
        "by route.region, vessel.class",
        "by route.id split by vessel.class where sailing.delay <> 4",
        "by vessel.id having x > 3",
    ];
    let mut shows = 0;
    for fold in folds {
        for of in lines {
            shows += crate::common::run(&model, &format!("measure x = {fold}; grid x {of}")).lines.len();
        }
    }
    assert!(shows > 1000, "{shows} lines");
}
