//! Queries from many threads while the data is refreshed: every answer comes from one version, and nothing stays behind.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::path::Path;
use std::sync::RwLock;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread;

use cubrel::Silent;
use cubrel::{Model, RefreshOptions};

#[path = "counting.rs"]
mod counting;

use counting::{Counting, IN_USE};

#[global_allocator]
static ALLOCATOR: Counting = Counting;

const BOOKINGS: usize = 40_000;
const SAILINGS: usize = 900;
const REFRESHES: usize = 12;

/// In each version all numbers of both tables are the version's own.
fn write_version(folder: &Path, version: usize) {
    let rows = |count: usize| -> String {
        (0..count).map(|i| format!("r{},{version}\n", i * 31 % 17)).fold("route,x\n".into(), |all, row| all + &row)
    };
    fs::write(folder.join("booking.csv"), rows(BOOKINGS)).unwrap();
    fs::write(folder.join("sailing.csv"), rows(SAILINGS)).unwrap();
}

fn sums(model: &Model) -> (usize, usize) {
    let grid = model.query("grid sum(booking.x) as b, sum(sailing.x) as s by booking.route").unwrap().run().unwrap();
    let number = |value: &cubrel::Value| value.to_string().parse::<usize>().unwrap();
    let all = grid.lines.iter().map(|line| number(&line.values[1])).sum();
    (all, number(&grid.lines[0].values[2]))
}

#[test]
fn every_answer_is_of_one_version_and_memory_returns_to_where_it_was() {
    let folder = tempfile::tempdir().unwrap();
    fs::write(
        folder.path().join("model.toml"),
        "[table.booking]\nsource = \"booking.csv\"\n[table.sailing]\nsource = \"sailing.csv\"\n",
    )
    .unwrap();
    write_version(folder.path(), 1);
    let all = RefreshOptions { all: true, ..RefreshOptions::default() };
    let (model, _) = Model::open_with(folder.path(), &all, &Silent).unwrap();
    let current = RwLock::new(model);
    let (done, answers) = (AtomicBool::new(false), AtomicUsize::new(0));
    let mut settled = 0;
    thread::scope(|scope| {
        for _ in 0..4 {
            scope.spawn(|| {
                let mut last = 0;
                while !done.load(Ordering::Relaxed) {
                    let mine = current.read().unwrap().clone();
                    let (bookings, sailings) = sums(&mine);
                    assert_eq!((bookings % BOOKINGS, sailings % SAILINGS), (0, 0), "part of two versions");
                    let version = bookings / BOOKINGS;
                    assert_eq!(version, sailings / SAILINGS, "tables of two versions");
                    assert!(version >= last, "back from {last} to {version}");
                    last = version;
                    answers.fetch_add(1, Ordering::Relaxed);
                }
            });
        }
        for version in 2..2 + REFRESHES {
            write_version(folder.path(), version);
            let (next, _) = Model::refresh(folder.path(), &all, &Silent).unwrap();
            assert_eq!(sums(&next).0, version * BOOKINGS);
            let mut slot = current.write().unwrap();
            *slot = next;
            drop(slot);
            if version == 4 {
                settled = IN_USE.load(Ordering::Relaxed);
            }
        }
        done.store(true, Ordering::Relaxed);
    });
    assert!(answers.load(Ordering::Relaxed) >= 8, "the readers hardly ran");
    let end = IN_USE.load(Ordering::Relaxed);
    assert!(end <= settled + settled / 4 + (1 << 20), "{settled} bytes after three versions, {end} at the end");
}
