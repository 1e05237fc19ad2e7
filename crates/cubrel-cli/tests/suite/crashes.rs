//! Processes that are killed, disks that are full: the store is the old or the new one, and asking goes on.
#![cfg(unix)]
use std::fs;
use std::path::Path;
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

use cubrel::store::disk::generations;
use tempfile::TempDir;

const MODEL: &str = "[table.booking]
source = 'booking.csv'
[measure.net]
formula = 'sum(booking.net)'
";
/// Kills between the start of a refresh and its end.
const KILLS: u32 = 40;

fn cubrel(folder: &Path, args: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_cubrel"));
    command.current_dir(folder).args(args).stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped());
    command
}

fn run(folder: &Path, args: &[&str]) -> Output {
    cubrel(folder, args).output().unwrap()
}

fn write_bookings(folder: &Path, rows: u64, factor: u64) {
    let mut text = String::from("id,net,note\n");
    (0..rows)
        .for_each(|i| text += &format!("B{:06},{},n{}\n", i.wrapping_mul(7919) % 1_000_003, i % 10 * factor, i % 97));
    fs::write(folder.join("booking.csv"), text).unwrap();
}

fn model() -> TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("model.toml"), MODEL).unwrap();
    folder
}

/// What is in the store, if all of it is whole: the sum of one column.
fn sum_in_store(folder: &Path) -> i64 {
    let stored = generations::read_newest(&folder.join(".cubrel")).unwrap_or_else(|e| panic!("{e}")).expect("a store");
    stored.verify().unwrap_or_else(|e| panic!("{e}"));
    let (_, net) = stored.tables[0].columns.iter().find(|(name, _)| name == "net").unwrap();
    net.codes().into_iter().map(|code| net.value_of(code).to_string().parse::<i64>().unwrap()).sum()
}

#[test]
fn a_process_killed_at_any_time_leaves_the_old_store_or_the_new_one() {
    let folder = model();
    let path = folder.path();
    write_bookings(path, 60_000, 1);
    let start = Instant::now();
    assert!(run(path, &["refresh", "--all"]).status.success());
    let whole = start.elapsed();
    let (mut factor, mut old) = (1, sum_in_store(path));
    let (mut killed, mut finished) = (0, 0);
    for kill in 0..KILLS {
        factor += 1;
        write_bookings(path, 60_000, factor);
        let new = 60_000 / 10 * 45 * factor as i64;
        let mut child = cubrel(path, &["refresh"]).spawn().unwrap();
        std::thread::sleep(whole * kill / (KILLS - 8) + Duration::from_millis(1));
        // A process that is done cannot be killed any more.
        let _ = child.kill();
        if child.wait().unwrap().success() {
            finished += 1
        } else {
            killed += 1
        }
        let now = sum_in_store(path);
        assert!(now == old || now == new, "kill {kill}: {now} is neither {old} nor {new}");
        old = now;
    }
    assert!(killed > 5, "{killed} were killed, {finished} finished");
    let answer = run(path, &["query", "grid net", "--format", "csv"]);
    let expected = format!("net\n{}\n", 60_000 / 10 * 45 * factor as i64);
    assert_eq!(String::from_utf8_lossy(&answer.stdout), expected, "what was left behind is in nobody's way");
    let newest = generations::newest(&path.join(".cubrel")).unwrap();
    assert_eq!(left_in(path), ["lock".to_string(), newest.file_name().unwrap().to_string_lossy().into_owned()]);
}

/// The files beside the model.
fn left_in(folder: &Path) -> Vec<String> {
    let entries = fs::read_dir(folder.join(".cubrel")).unwrap();
    let mut names: Vec<String> = entries.map(|e| e.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

#[test]
fn a_full_disk_leaves_the_old_store() {
    let folder = model();
    let path = folder.path();
    write_bookings(path, 1000, 1);
    assert!(run(path, &["refresh"]).status.success());
    let old = sum_in_store(path);
    write_bookings(path, 2000, 3);
    // A file may have one block and no more.
    let limited = "trap '' XFSZ; ulimit -f 1; exec \"$0\" refresh";
    let output = Command::new("sh").args(["-c", limited, env!("CARGO_BIN_EXE_cubrel")]).current_dir(path).output();
    let output = output.unwrap();
    assert_eq!(output.status.code(), Some(2));
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(said.contains("too large") && said.contains("store"), "{said}");
    assert_eq!(sum_in_store(path), old);
    assert_eq!(left_in(path), ["lock", "store-1"], "nothing half written is left");
    assert!(run(path, &["refresh"]).status.success(), "when there is space again, it is written");
    assert_eq!(sum_in_store(path), 3 * 2 * old);
}

#[test]
fn a_second_refresh_is_refused_and_a_query_waits() {
    let folder = model();
    let path = folder.path();
    write_bookings(path, 1000, 1);
    let lock = generations::lock(&path.join(".cubrel"), true).unwrap().expect("this file system has locks");
    let refused = run(path, &["refresh"]);
    assert_eq!(refused.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("another refresh of this model is running"));
    let waiting = cubrel(path, &["query", "grid net", "--format", "csv"]).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(200));
    // Whoever waits sees what the model says by then.
    let model = MODEL.replace("sum(booking.net)", "sum(booking.net) * 2");
    fs::write(path.join("new.toml"), model).unwrap();
    fs::rename(path.join("new.toml"), path.join("model.toml")).unwrap();
    drop(lock);
    assert_eq!(String::from_utf8_lossy(&waiting.wait_with_output().unwrap().stdout), "net\n9000\n");
}
