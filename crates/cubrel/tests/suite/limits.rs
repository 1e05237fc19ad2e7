//! A query ends where it may not go on, says why, and counts the same whatever it runs on.
use std::sync::atomic::Ordering;
use std::sync::{Arc, LazyLock};
use std::thread;
use std::time::{Duration, Instant};

use cubrel::insight::why::WhyOptions;
use cubrel::run::read::ReadStats;
use cubrel::run::{Options, Runs};
use cubrel::{Limits, Model, QueryOptions, Type, Value};

const ROWS: i64 = 60_000;
const VESSELS: i64 = 3_000;

/// Rows in runs by route, scattered over vessels.
static MODEL: LazyLock<Model> = LazyLock::new(|| {
    let rows: Vec<Vec<Value>> =
        (0..ROWS).map(|i| vec![Value::Int(i * 8 / ROWS), Value::Int(i * 7919 % VESSELS), Value::Int(i % 11)]).collect();
    let vessels: Vec<Vec<Value>> = (0..VESSELS).map(|i| vec![Value::Int(i), Value::Int(i % 7)]).collect();
    Model::builder()
        .rows("sailing", &[("route", Type::Int), ("vessel", Type::Int), ("fuel", Type::Int)], &rows)
        .rows("vessel", &[("id", Type::Int), ("class", Type::Int)], &vessels)
        .relationship("sailing.vessel", "vessel.id")
        .measure("fuel", "sum(sailing.fuel)")
        .build()
        .unwrap()
});

fn refused(text: &str, limits: Limits) -> String {
    let options = QueryOptions { limits, ..QueryOptions::default() };
    MODEL.query_with(text, &options).unwrap().run().unwrap_err().to_string()
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

#[test]
fn a_query_can_be_ended_from_outside() {
    // A read for each different figure of a vessel: far longer than anybody waits here.
    let text =
        "grid sum((let mine = fuel; rows(sailing) given (without row, sailing.fuel * 100000 > mine)) per vessel) as x";
    let options = Options::default();
    let cancelled = Arc::clone(&options.cancelled);
    let start = Instant::now();
    let ended = thread::spawn(move || MODEL.query(text).unwrap().run_with(&options).err().map(|e| e.to_string()));
    thread::sleep(Duration::from_millis(30));
    cancelled.store(true, Ordering::Relaxed);
    let message = ended.join().unwrap();
    assert!(message.is_none_or(|m| m == "the query was cancelled"));
    assert!(start.elapsed() < Duration::from_secs(20), "it went on for {:?}", start.elapsed());
    let already = Options::default();
    already.cancelled.store(true, Ordering::Relaxed);
    assert!(MODEL.query("grid fuel").unwrap().run_with(&already).is_err());
}

#[test]
fn counters_are_the_same_in_every_run_and_on_any_number_of_threads() {
    let stats = |text: &str, options: &Options| -> Vec<ReadStats> {
        let (_, profile) = MODEL.query(text).unwrap().run_with(options).unwrap();
        profile.reads.iter().map(|r| r.stats).collect()
    };
    let rows = ROWS as u64;
    for (text, passed, groups) in [
        ("grid fuel", rows, 1),
        ("grid fuel by sailing.route", rows, 8),
        ("grid fuel by vessel.class", rows, 7),
        ("grid fuel where sailing.route = 3", rows / 8, 1),
        ("grid fuel, avg(sailing.fuel) as mean, max(sailing.vessel) as highest by sailing.route", rows, 8),
        ("grid fuel by vessel.id, vessel.class", rows, VESSELS as u64),
    ] {
        let expected = stats(text, &Options::default());
        let read = expected.iter().find(|r| r.rows == rows).unwrap();
        assert_eq!((read.rows_read, read.rows_passed, read.groups), (rows, passed, groups), "{text}");
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
    let (plain, profile) = query.run_with(&Options { cheaper: false, ..Options::default() }).unwrap();
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
