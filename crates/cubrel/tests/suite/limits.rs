//! A query ends where it may not go on, says why, and counts the same whatever it runs on.
use std::sync::LazyLock;
use std::thread;
use std::time::{Duration, Instant};

use cubrel::formula_comparison::FormulaPair;
use cubrel::internals::InQuery as _;
use cubrel::run::ReadStats;
use cubrel::run::{Options, Runs};
use cubrel::why::WhyOptions;
use cubrel::{Builder, Cancel, Error, Limits, Model, QueryOptions, RefreshOptions, Type, Value};
use cubrel::{Observer, Silent, TableReport};
use cubrel::{advice, formula_comparison, model_comparison, profile};

const ROWS: i64 = 60_000;
const VESSELS: i64 = 3_000;

/// Rows in runs by route, scattered over vessels.
static MODEL: LazyLock<Model> = LazyLock::new(|| builder().build().unwrap());

fn builder() -> Builder {
    let rows: Vec<Vec<Value>> =
        (0..ROWS).map(|i| vec![Value::Int(i * 8 / ROWS), Value::Int(i * 7919 % VESSELS), Value::Int(i % 11)]).collect();
    let vessels: Vec<Vec<Value>> = (0..VESSELS).map(|i| vec![Value::Int(i), Value::Int(i % 7)]).collect();
    Model::builder()
        .rows("sailing", &[("route", Type::Int), ("vessel", Type::Int), ("fuel", Type::Int)], &rows)
        .rows("vessel", &[("id", Type::Int), ("class", Type::Int)], &vessels)
        .relationship("sailing.vessel", "vessel.id")
        .measure("fuel", "sum(sailing.fuel)")
        .measure("endless", ENDLESS)
}

fn refused(text: &str, limits: Limits) -> String {
    let options = QueryOptions { limits, ..QueryOptions::default() };
    MODEL.query_with(text, &options).and_then(|query| query.run()).unwrap_err().to_string()
}

#[test]
fn the_limit_that_was_hit_is_named() {
    let by_vessel = "grid fuel by vessel.id, sailing.route";
    let cells = refused(by_vessel, Limits { cells: Some(100), ..Limits::default() });
    assert!(cells.contains("cells, more than the limit of 100: filter, or use fewer axes"), "{cells}");
    let memory = refused(by_vessel, Limits { memory: Some(20_000), ..Limits::default() });
    assert!(memory.contains("groups that sailing is read by take"), "{memory}");
    assert!(memory.contains("more than the memory limit of 19.5 KiB"), "{memory}");
    let time = refused(by_vessel, Limits { time: Some(Duration::ZERO), ..Limits::default() });
    assert!(time.contains("the time limit was reached"), "{time}");
}

#[test]
fn why_keeps_to_the_limits_too() {
    // A read for each different figure of a vessel.
    let slow =
        "grid sum((let mine = fuel; rows(sailing) given (without row, sailing.fuel * mine > 9)) per vessel) as x";
    let asked = |text: &str, at: &str, limits: Limits| {
        let query = QueryOptions { limits, ..QueryOptions::default() };
        MODEL.why(text, at, &WhyOptions { query, rows: 3, ..WhyOptions::default() }).map_err(|e| e.to_string())
    };
    for (text, at) in [("grid fuel", ""), (slow, ""), ("grid fuel by vessel.class", "vessel.class = 3")] {
        let none = Limits { time: Some(Duration::ZERO), ..Limits::default() };
        assert!(asked(text, at, none).unwrap_err().contains("the time limit was reached"), "{text}");
    }
    let start = Instant::now();
    let short = Limits { time: Some(Duration::from_micros(200)), ..Limits::default() };
    assert!(asked(slow, "", short).unwrap_err().contains("the time limit was reached"));
    assert!(start.elapsed() < Duration::from_secs(20), "it went on for {:?}", start.elapsed());
    let long = Limits { time: Some(Duration::from_secs(3600)), ..Limits::default() };
    assert!(asked("grid fuel", "", long).is_ok());
}

#[test]
fn what_stays_within_its_limits_is_not_touched_by_them() {
    let text = "grid fuel by vessel.class totals";
    let limits = Limits { cells: Some(100), memory: Some(1 << 20), time: Some(Duration::from_secs(3600)) };
    let options = QueryOptions { limits, ..QueryOptions::default() };
    let limited = MODEL.query_with(text, &options).unwrap().run().unwrap();
    assert_eq!(limited.lines, MODEL.query(text).unwrap().run().unwrap().lines);
    // Each run has the time for itself.
    let query = MODEL.query_with(text, &options).unwrap();
    assert!((0..3).all(|_| query.run().is_ok()));
}

/// A read of all sailings for each vessel: far longer than anybody waits here.
const ENDLESS: &str = "sum((let mine = single(vessel.id); \
                       rows(sailing) given (without row, sailing.fuel * sailing.vessel + sailing.route > mine)) per vessel)";
/// The same for a column of a vessel.
const ENDLESS_COLUMN: &str = "(let mine = vessel.id; \
                              rows(sailing) given (without row, sailing.fuel * sailing.vessel + sailing.route > mine))";

/// Everything that takes what a query is asked with.
type Road = (&'static str, fn(&QueryOptions, &str) -> Result<(), Error>);

const ROADS: &[Road] = &[
    ("run", |options, x| MODEL.query_with(&format!("grid {x} as x"), options)?.run().map(drop)),
    ("records", |options, x| MODEL.query_with(&format!("records vessel.id, {x} as x"), options)?.run().map(drop)),
    ("why", |options, x| {
        let why = WhyOptions { query: options.clone(), rows: 3, ..WhyOptions::default() };
        MODEL.why(&format!("grid {x} as x"), "", &why).map(drop)
    }),
    ("profile", |options, x| advice::profile_with_advice(&MODEL, &format!("grid {x} as x"), options, 1).map(drop)),
    ("profile of each item", |options, x| profile::profile(&MODEL, &format!("grid {x} as x"), options, 1).map(drop)),
    ("two formulas", |options, x| {
        let contest = FormulaPair { measure: format!("{x} + 0"), with: x.into(), ..FormulaPair::default() };
        formula_comparison::compare_formulas(&MODEL, &contest, options, 1).map(drop)
    }),
    ("two models", |options, x| {
        let only = [if x == ENDLESS { "endless" } else { "fuel" }.to_string()];
        model_comparison::compare_models(&MODEL, &MODEL, &only, options, 1).map(drop)
    }),
    ("cheaper formulas", |options, x| {
        advice::faster_formulas(&MODEL, &format!("grid if(fuel = 0, null, ({x}) / fuel) as x"), options).map(drop)
    }),
];

#[test]
fn work_can_be_ended_from_outside_on_every_road() {
    for (road, ask) in ROADS {
        let already = QueryOptions::default();
        already.cancel.cancel();
        assert!(matches!(ask(&already, "fuel"), Err(Error::Cancelled)), "{road}");
        let options = QueryOptions::default();
        let (cancel, start) = (options.cancel.clone(), Instant::now());
        let ended = thread::spawn(move || ask(&options, ENDLESS));
        thread::sleep(Duration::from_millis(30));
        cancel.cancel();
        let ended = ended.join().unwrap();
        assert!(matches!(ended, Err(Error::Cancelled)), "{road}: {ended:?}");
        assert!(start.elapsed() < Duration::from_secs(20), "{road} went on for {:?}", start.elapsed());
    }
}

/// Ends what it is told of.
struct Ender {
    at_end: bool,
    cancel: Cancel,
}

impl Observer for Ender {
    fn rows(&self, _table: &str, _rows: u64) {
        if !self.at_end {
            self.cancel.cancel();
        }
    }

    fn done(&self, _report: &TableReport) {
        self.cancel.cancel();
    }
}

#[test]
fn building_and_refreshing_can_be_ended_and_replace_nothing() {
    let folder = tempfile::TempDir::new().unwrap();
    let write = |name: &str, text: String| std::fs::write(folder.path().join(name), text).unwrap();
    let rows = |factor: usize| (0..3000).map(|i| format!("{i},{}\n", i * factor % 2999)).collect::<String>();
    write("t.csv", format!("id,x\n{}", rows(7)));
    write("model.toml", "[table.t]\nsource = 't.csv'\nkey = 'id'\n".into());
    let refresh = |cancel: &Cancel| {
        let options = RefreshOptions { cancel: cancel.clone(), ..RefreshOptions::default() };
        Model::refresh(folder.path(), &options, &Silent)
    };
    let sum = |model: &Model| model.query("grid sum(t.x) as x").unwrap().run().unwrap().lines[0].values[0].clone();
    let (model, _) = refresh(&Cancel::default()).unwrap();
    let before = sum(&model);
    // Whoever is told how it goes ends it: while rows are read, and when a table is done.
    write("t.csv", format!("id,x\n{}", rows(11)));
    for at_end in [false, true] {
        let ender = Ender { at_end, cancel: Cancel::default() };
        let options = RefreshOptions { cancel: ender.cancel.clone(), ..RefreshOptions::default() };
        assert!(matches!(Model::refresh(folder.path(), &options, &ender), Err(Error::Cancelled)));
        let options = RefreshOptions { cancel: ender.cancel.clone(), ..RefreshOptions::default() };
        assert!(matches!(Model::open_with(folder.path(), &options, &Silent), Err(Error::Cancelled)));
        let build = Model::builder().rows("t", &[("x", Type::Int)], &[vec![Value::Int(1)]]).cancel(&ender.cancel);
        assert!(matches!(build.build(), Err(Error::Cancelled)));
    }
    // So does somebody else, while a column is worked out that takes far too long.
    let cancel = Cancel::default();
    let slow = builder().column("vessel", "x", ENDLESS_COLUMN).cancel(&cancel);
    let building = thread::spawn(move || slow.build());
    thread::sleep(Duration::from_millis(30));
    cancel.cancel();
    assert!(matches!(building.join().unwrap(), Err(Error::Cancelled)));
    // What was there answers as before.
    write("t.csv", format!("id,x\n{}", rows(7)));
    let (again, report) = Model::open_with(folder.path(), &RefreshOptions::default(), &Silent).unwrap();
    assert!(report.is_none() && sum(&again) == before, "the store of the first refresh is as it was");
}

#[test]
fn counters_are_the_same_in_every_run_and_on_any_number_of_threads() {
    let stats = |text: &str, options: &Options| -> Vec<ReadStats> {
        let (_, profile) = MODEL.query(text).unwrap().run_with(options).unwrap();
        profile.reads.iter().map(|r| r.stats).collect()
    };
    let rows = ROWS as u64;
    for (text, looked_at, passed, groups) in [
        // What all rows come to is known without looking at them.
        ("grid fuel", 0, rows, 1),
        ("grid fuel, max(sailing.fuel * 2) as most", rows, rows, 1),
        ("grid fuel by sailing.route", rows, rows, 8),
        ("grid fuel by vessel.class", rows, rows, 7),
        ("grid fuel where sailing.route = 3", rows, rows / 8, 1),
        ("grid fuel, avg(sailing.fuel) as mean, max(sailing.vessel) as highest by sailing.route", rows, rows, 8),
        ("grid fuel by vessel.id, vessel.class", rows, rows, VESSELS as u64),
    ] {
        let expected = stats(text, &Options::default());
        let read = expected.iter().find(|r| r.rows == rows).unwrap();
        assert_eq!((read.rows_read, read.rows_passed, read.groups), (looked_at, passed, groups), "{text}");
        for options in [
            Options::default(),
            Options { one_thread: true, ..Options::default() },
            Options { part_rows: Some(1), ..Options::default() },
            Options { runs: Runs::Always, ..Options::default() },
            Options { runs: Runs::Never, ..Options::default() },
        ] {
            assert_eq!(stats(text, &options), expected, "{text} {options:?}");
        }
    }
}

#[test]
fn a_total_is_put_together_from_its_lines_where_these_are_few() {
    let query =
        MODEL.query("grid fuel, rows(sailing) as n, max(sailing.fuel) as most by sailing.route totals").unwrap();
    let (grid, profile) = query.run_with(&Options::default()).unwrap();
    let rolled: Vec<(u64, u64)> = profile.reads.iter().map(|r| (r.rolled_up, r.stats.rows_read)).collect();
    assert!(rolled.contains(&(1, 0)), "{rolled:?}");
    let (plain, profile) = query.run_with(&Options { optimize: false, ..Options::default() }).unwrap();
    assert!(profile.reads.iter().all(|r| r.rolled_up == 0));
    assert_eq!(grid.lines, plain.lines);
    // Where there are nearly as many groups as rows, the rows are read: each vessel's total is, the grand total is not.
    let query = MODEL.query("grid fuel by sailing.vessel, sailing.route totals").unwrap();
    let (_, profile) = query.run_with(&Options::default()).unwrap();
    let read: u64 = profile.reads.iter().filter(|r| r.stats.groups > 0).map(|r| r.stats.rows_read).sum();
    let rolled: u64 = profile.reads.iter().map(|r| r.rolled_up).sum();
    assert_eq!((rolled, read % ROWS as u64), (1, 0));
    assert!(read >= 2 * ROWS as u64, "{read}");
}

/// On the stack of a thread as programs have them by default.
fn on_small_stack<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> T {
    thread::Builder::new().stack_size(2 << 20).spawn(work).unwrap().join().unwrap()
}

#[test]
fn deep_and_long_formulas_are_answered_or_refused() {
    let ask =
        |text: String| on_small_stack(move || MODEL.query(&text).and_then(|q| q.run()).map_err(|e| e.to_string()));
    let chain = |of: &str, by: &str, times: usize| vec![of; times].join(by);
    let rows = Value::Int(ROWS);
    // Long chains of what can be grouped anew.
    let wide = [
        format!("grid rows(sailing) where {}", chain("sailing.fuel >= 0", " and ", 20_000)),
        format!("grid rows(sailing) where {}", chain("sailing.fuel >= 0", " or ", 20_000)),
        format!(
            "grid rows(sailing) where sailing.fuel in ({})",
            (0..50_000).map(|n| n.to_string()).collect::<Vec<_>>().join(", ")
        ),
        format!("grid rows(sailing) + 0 * length({})", chain("'a'", " || ", 20_000)),
    ];
    for text in wide {
        let start = text.chars().take(60).collect::<String>();
        assert_eq!(ask(text).map(|g| g.lines[0].values[0].clone()), Ok(rows.clone()), "{start}");
    }
    // As deep as it may be, and deeper.
    let nested = |open: &str, inner: &str, close: &str, times: usize| {
        format!("grid {}{inner}{}", open.repeat(times), close.repeat(times))
    };
    assert_eq!(ask(format!("grid {}", chain("1", " + ", 500))).unwrap().lines[0].values, [Value::Int(500)]);
    for (text, expected) in [
        (format!("grid {}", chain("1", " + ", 4_300)), "more than 500 operators"),
        (format!("grid {}", chain("1", " * ", 100_000)), "more than 500 operators"),
        (nested("(", "fuel", " + 1 + 1 + 1 + 1 + 1 + 1 + 1 + 1 + 1)", 110), "more than 500 operators"),
        (nested("(", "1", ")", 5_000), "nested more than 120 deep"),
        (nested("case when true then ", "1", " end", 5_000), "nested more than 120 deep"),
        (nested("if(true, ", "1", ", 0)", 5_000), "nested more than 120 deep"),
    ] {
        assert!(ask(text).unwrap_err().contains(expected), "{expected}");
    }
    for text in [nested("(", "fuel", ")", 119), nested("case when fuel > 1 then ", "fuel", " end", 100)] {
        assert!(ask(text).is_ok());
    }
}

#[test]
fn measures_that_name_each_other_in_a_long_row_are_answered_or_refused() {
    for count in [100, 1_000, 5_000] {
        let built = on_small_stack(move || {
            let rows = vec![vec![Value::Int(1)]; 3];
            let mut builder = Model::builder().rows("t", &[("x", Type::Int)], &rows).measure("m0", "sum(t.x)");
            for i in 1..=count {
                builder = builder.measure(&format!("m{i}"), &format!("m{} + 1", i - 1));
            }
            let model = builder.build().map_err(|e| e.to_string())?;
            model.query(&format!("grid m{count}")).and_then(|q| q.run()).map_err(|e| e.to_string())
        });
        match built {
            Ok(grid) => assert_eq!(grid.lines[0].values, [Value::Int(3 + count as i64)]),
            Err(e) => assert!(count > 100 && e.contains("formulas deep"), "{count}: {e}"),
        }
    }
}

#[test]
fn measures_that_use_others_twice_are_planned_once_or_refused() {
    let doubled = |step: &dyn Fn(usize) -> String, count: usize| {
        let mut text = "measure m0 = rows(sailing); ".to_string();
        (1..=count).for_each(|i| text += &format!("measure m{i} = {}; ", step(i - 1)));
        let query = MODEL.query(&(text + &format!("grid m{count} by vessel.class"))).map_err(|e| e.to_string())?;
        query.run().map(|grid| grid.lines[0].values[1].clone()).map_err(|e| e.to_string())
    };
    let first = MODEL.query("grid rows(sailing) by vessel.class").unwrap().run().unwrap().lines[0].values[1].clone();
    let Value::Int(rows) = first else { panic!("a count") };
    let start = Instant::now();
    let twice: [&dyn Fn(usize) -> String; 2] =
        [&|i| format!("m{i} + m{i}"), &|i| format!("if(m{i} > 0, m{i}, 0) + m{i}")];
    for step in twice {
        assert_eq!(doubled(step, 40), Ok(Value::Int(rows << 40)));
    }
    // Under other filters each time there is more to plan each time; some of it is answered, and much is refused.
    let shares = |i: usize| format!("m{i} + m{i} given (without all) + m{i} given (without vessel)");
    assert!(doubled(&shares, 3).is_ok());
    assert!(doubled(&shares, 60).unwrap_err().contains("planning this takes more than"));
    assert!(start.elapsed() < Duration::from_secs(30), "it took {:?}", start.elapsed());
}

#[test]
fn planning_ends_when_time_is_up_and_when_it_is_cancelled() {
    let mut text = "measure m0 = rows(sailing); ".to_string();
    let shares = |i: usize| format!("m{i} + m{i} given (without all) + m{i} given (without vessel)");
    (1..=60).for_each(|i| text += &format!("measure m{i} = {}; ", shares(i - 1)));
    text += "grid m60 by vessel.class";
    type Planning = fn(&QueryOptions, &str) -> Option<Error>;
    let roads: [(&str, Planning); 2] = [
        ("query", |options, text| MODEL.query_with(text, options).err()),
        ("why", |options, text| {
            let why = WhyOptions { query: options.clone(), ..WhyOptions::default() };
            MODEL.why(text, "vessel.class = 1", &why).err()
        }),
    ];
    for (road, ask) in roads {
        let start = Instant::now();
        let whole = ask(&QueryOptions::default(), &text).unwrap().to_string();
        assert!(whole.contains("planning this takes more than"), "{road}: {whole}");
        let whole = start.elapsed();
        let limits = Limits { time: Some(Duration::from_millis(1)), ..Limits::default() };
        let start = Instant::now();
        let said = ask(&QueryOptions { limits, ..QueryOptions::default() }, &text).unwrap().to_string();
        assert!(said.contains("the time limit was reached"), "{road}: {said}");
        assert!(start.elapsed() < whole / 2, "{road}: {:?} of {whole:?}", start.elapsed());
        let options = QueryOptions::default();
        options.cancel.cancel();
        assert!(matches!(ask(&options, &text), Some(Error::Cancelled)), "{road}");
    }
}

/// Nested so deeply, `let`s that each take the one before twice.
fn doubled(first: &str, times: usize, op: impl Fn(&str) -> String) -> String {
    let mut text = format!("let t0 = {first}; ");
    for i in 0..times {
        text += &format!("let t{} = {}; ", i + 1, op(&format!("t{i}")));
    }
    format!("({text}length(t{times}))")
}

#[test]
fn texts_that_grow_come_to_an_end() {
    let vessel = "cast(vessel.id as text)";
    let formulas = [
        format!("max(length(lpad({vessel}, 1000000)))"),
        format!("max(length(lpad({vessel}, 1000000) || lpad({vessel}, 1000000)))"),
        format!("max({})", doubled(vessel, 50, |t| format!("{t} || {t}"))),
        format!("max({})", doubled(vessel, 50, |t| format!("concat({t}, {t}, {t})"))),
        format!("max({})", doubled(&format!("lpad({vessel}, 10, 'a')"), 30, |t| format!("replace({t}, 'a', {t})"))),
        format!("max(length(replace(lpad({vessel}, 1000000, 'x'), 'x', lpad('', 1000000, 'y'))))"),
        format!("length(string_agg(lpad({vessel}, 100000), ', ')) "),
        doubled("string_agg(cast(vessel.id as text), ', ')", 40, |t| format!("upper({t} || {t})")),
        // Each of these is allowed, and all of them are too much for a batch.
        format!("max(length({}))", vec![format!("lpad({vessel}, 90000)"); 40].join(" || ")),
    ];
    for formula in &formulas {
        for (places, lines) in [("", 1), (" by vessel.class", 7), (" by sailing.vessel, sailing.route", 3000)] {
            // The time is there for whoever is slow; nothing here needs it.
            let limits = Limits { time: Some(Duration::from_secs(60)), ..Limits::default() };
            let text = format!("grid {formula} as x{places}");
            let options = QueryOptions { limits, ..QueryOptions::default() };
            let query = MODEL.query_with(&text, &options).unwrap_or_else(|e| panic!("{formula}: {e}"));
            let start = Instant::now();
            match query.run() {
                Ok(grid) => assert!(grid.lines.len() <= lines * 8, "{text}"),
                Err(e) => {
                    let said = e.to_string();
                    assert!(said.contains("longer than") || said.contains("take more than"), "{text}: {said}");
                }
            }
            assert!(start.elapsed() < Duration::from_secs(30), "{text}: {:?}", start.elapsed());
        }
    }
    // While loading, too.
    for formula in [doubled("note", 60, |t| format!("{t} || {t}")), "length(lpad(note, 1000000))".into()] {
        let folder = tempfile::tempdir().unwrap();
        let rows: String = (0..3000).map(|i| format!("note {i}\n")).collect();
        std::fs::write(folder.path().join("t.csv"), format!("note\n{rows}")).unwrap();
        let model = format!("[table.t]\nsource = 't.csv'\n[table.t.column.x]\nformula = \"{formula}\"\n");
        std::fs::write(folder.path().join("model.toml"), model).unwrap();
        let said = Model::open(folder.path()).unwrap_err().to_string();
        assert!(said.contains("longer than") || said.contains("take more than"), "{formula}: {said}");
    }
}

#[test]
fn time_is_looked_at_between_the_parts_of_a_long_formula() {
    let part = "lpad(cast(vessel.id as text), 4000)";
    let text = format!("grid max(length({})) as x", vec![part; 60].join(" || "));
    let limits = Limits { time: Some(Duration::from_millis(20)), ..Limits::default() };
    let options = QueryOptions { limits, ..QueryOptions::default() };
    let start = Instant::now();
    let said = MODEL.query_with(&text, &options).and_then(|query| query.run()).unwrap_err().to_string();
    assert!(said.contains("the time limit was reached"), "{said}");
    assert!(start.elapsed() < Duration::from_secs(3), "{:?}", start.elapsed());
}
