//! What `size` says is what the allocator says.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

#[path = "counting.rs"]
mod counting;

use std::fmt::Write as _;
use std::fs;
use std::path::Path;
use std::sync::atomic::Ordering;

use counting::{Counting, IN_USE};
use cubrel::Silent;
use cubrel::sizes::Sizes;
use cubrel::{Model, RefreshOptions};
use tempfile::TempDir;

#[global_allocator]
static ALLOCATOR: Counting = Counting;

fn noise(i: u64) -> u64 {
    let mixed = (i + 1).wrapping_mul(0x9E37_79B9_7F4A_7C15);
    (mixed ^ mixed >> 29).wrapping_mul(0xBF58_476D_1CE4_E5B9) >> 7
}

/// What a model takes beside its data: names, definitions, the catalogue of functions, tables of threads.
const BESIDE: u64 = 1 << 20;

/// Tables with columns of one kind each, large enough to outweigh everything else.
type Kind = (&'static str, fn(u64) -> String);

const KINDS: &[Kind] = &[
    ("whole numbers", |i| (noise(i) % 1_000_000_007).to_string()),
    ("decimals", |i| format!("{}.{:02}", noise(i) % 100_000, noise(i + 5) % 100)),
    ("doubles", |i| format!("{}e-3", noise(i) % 1_000_000_000_000)),
    ("far apart", |i| ((noise(i % 40_000) << 9) % (1 << 60)).to_string()),
    ("references", |i| format!("TI-{:09}", noise(i) % 1_000_000_000)),
    ("identifiers", |i| format!("{:016x}{:016x}", noise(i), noise(i + 3))),
    ("notes", |i| format!("the boat of {} waits for the tide of {}", noise(i), noise(i + 1) % 900)),
    ("in runs", |i| (noise(i / 400) % 50).to_string()),
    ("mostly none", |i| if noise(i).is_multiple_of(30) { noise(i * 3).to_string() } else { String::new() }),
];

fn write(folder: &Path, make: fn(u64) -> String, rows: u64) {
    let mut text = String::from("id,a,b,c\n");
    for i in 0..rows {
        writeln!(text, "{i},{},{},{}", make(i), make(i + rows), make(i * 7 + 1)).unwrap();
    }
    fs::write(folder.join("t.csv"), text).unwrap();
}

fn refreshed(folder: &Path) -> Model {
    Model::refresh(folder, &RefreshOptions { all: true, ..RefreshOptions::default() }, &Silent).unwrap().0
}

/// The parts of everything add up.
fn check_sums(sizes: &Sizes, what: &str) {
    let mut whole = 0;
    for table in &sizes.tables {
        let relationships = sizes.relationships.iter().filter(|r| r.many.starts_with(&format!("{}.", table.name)));
        let keys: u64 = relationships.map(|r| r.link_bytes).sum();
        let columns: u64 = table.columns.iter().map(|c| c.bytes).sum();
        for column in &table.columns {
            let parts = column.parts.codes + column.parts.values + column.parts.links;
            assert!(column.bytes == parts || column.bytes + column.parts.links == parts, "{what}: {}", column.name);
        }
        assert!(
            table.bytes == columns + keys || table.bytes == columns,
            "{what}: {} of {columns} and {keys}",
            table.bytes
        );
        whole += table.bytes;
    }
    assert_eq!(sizes.model.bytes, whole, "{what}");
}

#[test]
fn bytes_that_are_told_are_bytes_that_are_there() {
    for (what, make) in KINDS {
        let folder = TempDir::new().unwrap();
        fs::write(folder.path().join("model.toml"), "[table.t]\nsource = 't.csv'\n").unwrap();
        // Whatever is made once for all models is there before anything is counted.
        write(folder.path(), *make, 10);
        drop(refreshed(folder.path()));
        write(folder.path(), *make, 120_000);
        let before = IN_USE.load(Ordering::Relaxed) as u64;
        let model = refreshed(folder.path());
        let there = (IN_USE.load(Ordering::Relaxed) as u64).saturating_sub(before);
        let sizes = model.sizes();
        check_sums(&sizes, what);
        let told = sizes.model.bytes;
        assert!(there >= told, "{what}: {told} told, {there} there");
        assert!(there - told <= BESIDE + told / 10, "{what}: {told} told, {there} there");
        drop(model);
        let left = (IN_USE.load(Ordering::Relaxed) as u64).saturating_sub(before);
        assert!(left <= BESIDE, "{what}: {left} left");
        // From the disk nothing but what is used is held.
        let opened = Model::open(folder.path()).unwrap();
        assert_eq!(opened.sizes().model.bytes, told, "{what}: opened");
        let held = (IN_USE.load(Ordering::Relaxed) as u64).saturating_sub(before);
        assert!(held <= BESIDE, "{what}: {held} held of a mapped store");
    }
}
