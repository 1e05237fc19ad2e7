//! Every command in every format: what programs read is well formed, and says the same whatever it is written as.

use std::path::Path;
use std::process::Output;
use std::sync::{LazyLock, Mutex};

use assert_cmd::Command;
use serde_json::Value as Json;
use tempfile::TempDir;

static DEMO: LazyLock<TempDir> = LazyLock::new(|| {
    let folder = tempfile::tempdir().unwrap();
    let output = cubrel(folder.path(), &["demo", "ferries", "--rows", "3000"]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    folder
});

fn cubrel(folder: &Path, args: &[&str]) -> Output {
    Command::cargo_bin("cubrel").unwrap().current_dir(folder).args(args).output().unwrap()
}

fn demo(args: &[&str]) -> Output {
    cubrel(&DEMO.path().join("ferries"), args)
}

fn stdout(args: &[&str]) -> String {
    let output = demo(args);
    assert!(output.status.success(), "{args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// A command with its arguments, as a person would write them.
fn commands() -> Vec<Vec<&'static str>> {
    vec![
        vec!["query", "grid net_revenue, load_factor by port.region split by calendar.year totals"],
        vec![
            "query",
            "records booking.booked_at, booking.net, route.name, customer.note order by booking.booked_at limit 20",
        ],
        vec!["query", "grid growth by calendar.month where calendar.year = 2031"],
        vec![
            "why",
            "grid net_revenue, bookings by channel.kind",
            "--at",
            "channel.kind = 'desk'",
            "--measure",
            "net_revenue",
        ],
        vec!["time", "grid fare_per_passenger by fare_class.name", "--runs", "2"],
        vec!["time", "grid net_revenue, customers by calendar.year", "--each", "--runs", "2"],
        vec!["size"],
        vec!["size", "--flat", "--sort", "distinct"],
        vec!["size", "--suppose", "round booking.unit_fare to 0"],
        vec!["check"],
        vec!["functions"],
        vec!["functions", "year"],
        vec![
            "compare",
            "--measure",
            "net_revenue",
            "--with",
            "sum(booking.gross)",
            "--by",
            "port.region",
            "--runs",
            "2",
        ],
        vec!["compare", ".", ".", "--sizes"],
        vec!["refresh"],
        vec!["uses", "net_revenue"],
        vec!["uses", "--none"],
        vec!["test"],
        vec!["rename", "booking.net", "net fare", "--dry-run"],
        vec!["remove", "of_target", "--dry-run"],
    ]
}

fn with<'a>(args: &[&'a str], format: &'a str) -> Vec<&'a str> {
    args.iter().copied().chain(["--format", format]).collect()
}

/// The exit code of a comparison tells whether anything differs.
fn answered(args: &[&str]) -> String {
    // All tests of this file ask one model, and two refreshes of one are refused.
    static ALONE: Mutex<()> = Mutex::new(());
    let _alone = (args[0] == "refresh").then(|| ALONE.lock().unwrap_or_else(std::sync::PoisonError::into_inner));
    let output = demo(args);
    let expected: &[i32] = if args[0] == "compare" { &[0, 1] } else { &[0] };
    let code = output.status.code().unwrap();
    assert!(expected.contains(&code), "{args:?} ends with {code}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[test]
fn every_command_writes_json_that_can_be_read() {
    for args in commands() {
        let text = answered(&with(&args, "json"));
        let value: Json = serde_json::from_str(&text).unwrap_or_else(|e| panic!("{args:?}: {e}\n{text}"));
        assert!(value.is_object() || value.is_array(), "{args:?}: {value}");
        assert!(!text.contains('\u{1b}'), "{args:?}: no colours in JSON");
        assert!(text.ends_with('\n') && text.trim_end().lines().count() == 1, "{args:?}: one value in one line");
    }
}

#[test]
fn every_command_writes_csv_with_as_many_fields_in_each_line() {
    for args in commands() {
        let text = answered(&with(&args, "csv"));
        let mut reader = csv::ReaderBuilder::new().flexible(false).from_reader(text.as_bytes());
        let header = reader.headers().unwrap().clone();
        assert!(!header.is_empty(), "{args:?}");
        for record in reader.records() {
            record.unwrap_or_else(|e| panic!("{args:?}: {e}\n{text}"));
        }
        assert!(!text.contains('\u{1b}'), "{args:?}: no colours in CSV");
    }
}

#[test]
fn every_command_writes_plain_text_to_a_pipe() {
    for args in commands() {
        for format in ["table", "markdown"] {
            let text = answered(&with(&args, format));
            assert!(!text.trim().is_empty() && !text.contains('\u{1b}'), "{args:?} as {format}: {text:?}");
            assert!(text.lines().all(|l| l == l.trim_end()), "{args:?} as {format}: nothing hangs over\n{text}");
        }
    }
}

#[test]
fn formats_for_queries_are_refused_elsewhere() {
    for args in commands().into_iter().filter(|args| args[0] != "query") {
        for format in ["jsonl", "arrow", "parquet"] {
            let output = demo(&with(&args, format));
            let said = String::from_utf8_lossy(&output.stderr);
            assert_eq!(output.status.code(), Some(2), "{args:?} as {format}: {said}");
            let more = if args[0] == "uses" { ", dot, svg" } else { "" };
            let values = format!("[possible values: table, csv, json, markdown{more}]");
            assert!(said.contains(&values), "{args:?} as {format}: {said}");
            assert!(output.stdout.is_empty(), "{args:?} as {format}");
        }
    }
}

/// A value as CSV has it.
fn field(value: &Json) -> String {
    match value {
        Json::Null => String::new(),
        Json::String(text) => text.clone(),
        other => other.to_string(),
    }
}

fn same(a: &str, b: &str) -> bool {
    match (a.parse::<f64>(), b.parse::<f64>()) {
        (Ok(a), Ok(b)) => (a - b).abs() <= 1e-12 * a.abs().max(b.abs()),
        _ => a == b,
    }
}

#[test]
fn a_query_says_the_same_in_every_format() {
    let queries = [
        "grid net_revenue, bookings, fare_per_passenger by port.region, channel.kind",
        "grid bookings, max(booking.sailed_on) as latest, min(booking.booked_at) as earliest by fare_class.name order by bookings desc",
        "records customer.id, customer.name, customer.joined_on, customer.newsletter, customer.note order by customer.id limit 60",
    ];
    for query in queries {
        let csv = stdout(&["query", query, "--format", "csv"]);
        let mut reader = csv::Reader::from_reader(csv.as_bytes());
        let header = reader.headers().unwrap().clone();
        let records: Vec<csv::StringRecord> = reader.records().collect::<Result<_, _>>().unwrap();
        let lines = stdout(&["query", query, "--format", "jsonl"]);
        assert_eq!(lines.lines().count(), records.len(), "{query}");
        for (line, record) in lines.lines().zip(&records) {
            let line: Json = serde_json::from_str(line).unwrap();
            for (name, text) in header.iter().zip(record) {
                assert!(same(&field(&line[name]), text), "{query}: {name} is {} and {text}", line[name]);
            }
        }
        let whole: Json = serde_json::from_str(&stdout(&["query", query, "--format", "json"])).unwrap();
        let names: Vec<&str> =
            whole["columns"].as_array().unwrap().iter().map(|c| c["name"].as_str().unwrap()).collect();
        assert_eq!(names, header.iter().collect::<Vec<_>>(), "{query}");
        let rows = whole["lines"].as_array().or(whole["rows"].as_array()).unwrap();
        assert_eq!(rows.len(), records.len(), "{query}");
        let markdown = stdout(&["query", query, "--format", "markdown"]);
        let bars = |l: &str| l.replace("\\|", "").matches('|').count();
        let table: Vec<&str> = markdown.lines().filter(|l| l.starts_with('|')).collect();
        assert_eq!(table.len(), records.len() + 2, "{query}: a header, a rule and the lines");
        assert!(table.iter().all(|l| bars(l) == header.len() + 1), "{query}\n{markdown}");
    }
}

#[test]
fn what_goes_to_a_file_is_what_would_be_printed() {
    let folder = tempfile::tempdir().unwrap();
    for format in ["csv", "json", "jsonl", "markdown"] {
        let file = folder.path().join(format!("out.{format}"));
        let args = ["query", "grid bookings by vessel.name, channel.kind", "--format", format];
        let printed = stdout(&args);
        let said = stdout(&args.iter().copied().chain(["-o", file.to_str().unwrap()]).collect::<Vec<_>>());
        let written = std::fs::read_to_string(&file).unwrap();
        if format == "json" {
            // Only the time that it took is another one.
            let rows = |text: &str| serde_json::from_str::<Json>(text).unwrap()["rows"].clone();
            assert!(rows(&written).is_array(), "{written}");
            assert_eq!(rows(&written), rows(&printed), "{format}");
        } else {
            assert_eq!(written, printed, "{format}");
        }
        assert!(!said.contains(&printed), "{format}: nothing twice");
    }
}

#[test]
fn an_output_that_takes_nothing_is_an_error_of_every_command() {
    let binary = env!("CARGO_BIN_EXE_cubrel");
    let folder = DEMO.path().join("ferries");
    for args in commands() {
        for (output, said) in [(">&-", "the standard output is closed"), (">/dev/full", "No space left on device")] {
            let line = format!("exec \"$0\" \"$@\" {output}");
            let mut shell = std::process::Command::new("sh");
            let output = shell.args(["-c", &line, binary]).args(&args).current_dir(&folder).output().unwrap();
            let error = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(output.status.code() == Some(2) && error.contains(said), "{args:?} {line}: {error}");
        }
        // What goes to a file needs none, and who wants no output says so.
        for rest in [">&- -o out.txt", ">/dev/null"] {
            let line = format!("exec \"$0\" \"$@\" {rest}");
            let mut shell = std::process::Command::new("sh");
            shell.args(["-c", &line, binary]).args(&args).current_dir(&folder);
            let code = shell.stderr(std::process::Stdio::null()).status().unwrap().code();
            assert!(code == Some(0) || args[0] == "compare" && code == Some(1), "{args:?} {line}: {code:?}");
        }
    }
}
