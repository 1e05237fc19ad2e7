//! What the binary tells somebody in a role is what it tells of files that never had the other rows and columns: printed,
//! written to files, and said of what is wrong.

use std::fs;
use std::path::Path;
use std::process::Output;

use assert_cmd::Command;
use serde_json::Value as Json;
use tempfile::TempDir;

const MODEL: &str = "
[table.island]
source = 'island.csv'
key = 'id'
[table.booking]
source = 'booking.csv'
[[relationship]]
many = 'booking.island'
one = 'island.id'
[measure.fares]
formula = 'sum(booking.fare)'
format = '#,##0.00'
[measure.guests]
formula = 'count(distinct booking.guest)'
";

const ROLE: &str = "
[measure.notes]
formula = 'max(booking.note)'
[role.east]
rows.island = \"region = 'east' or region is null\"
deny = ['booking.note']
";

/// Bookings of islands of two regions, some of none; `cut` as the role has them.
fn files(folder: &Path, cut: bool) {
    let islands = ["1,Tarn,east", "2,Holm,west", "3,Esk,east", "4,Gard,"];
    let seen = |island: usize| !cut || island != 2;
    let kept: Vec<&str> = (1..=4).filter(|i| seen(*i)).map(|i| islands[i - 1]).collect();
    fs::write(folder.join("island.csv"), format!("id,name,region\n{}\n", kept.join("\n"))).unwrap();
    let mut bookings = format!("island,guest,fare,booked_on{}\n", if cut { "" } else { ",note" });
    for i in (0..200_usize).filter(|i| seen(i % 5)) {
        let (island, guest, fare, day) = (i % 5, i * 7 % 31, i * 13 % 97, i % 28 + 1);
        let note = if cut { String::new() } else { format!(",secret {i}") };
        // Island 0 is none of those that there are.
        bookings += &format!("{island},g{guest},{fare}.50,2031-02-{day:02}{note}\n");
    }
    fs::write(folder.join("booking.csv"), bookings).unwrap();
    let model = if cut { MODEL.to_string() } else { format!("{MODEL}{ROLE}") };
    fs::write(folder.join("model.toml"), model).unwrap();
    assert!(run(folder, &["refresh", "-q"]).status.success());
}

fn run(folder: &Path, args: &[&str]) -> Output {
    Command::cargo_bin("cubrel").unwrap().current_dir(folder).args(args).output().unwrap()
}

/// Commands with what is asked; those that fail, too.
const ASKED: &[&[&str]] = &[
    &["query", "grid fares, guests by island.name totals"],
    &["query", "grid fares split by island.region with empty"],
    &["query", "records booking.booked_on, island.name, booking.fare order by booking.booked_on, booking.fare"],
    &["query", "grid rows(booking) as n, rows(island) as i, min(island.name) as first"],
    &["query", "grid fares / fares given (without all) as share by island.name"],
    &["query", "grid max(booking.note) as m"],
    &["query", "grid notes"],
    &["query", "grid note"],
    &["query", "grid max(cast(island.name as int)) as m"],
    &["query", "grid fares where island.name = 'Hol'"],
    &["why", "grid fares by island.name", "--at", "island.name = 'Tarn'", "--rows", "5"],
    &["why", "grid fares by island.name", "--at", "island.name = 'Holm'", "--rows", "5"],
    &["why", "grid fares by island.name", "--at", "island.name = 'Hol'"],
    &["why", "booking.note", "--at", "booking.fare = 13.5"],
    &["time", "grid fares by island.name", "--runs", "1"],
    &["time", "grid notes", "--runs", "1"],
    &["compare", "--measure", "fares", "--with", "sum(booking.fare) * 2", "--by", "island.name", "--runs", "1"],
    &["compare", "--measure", "fares", "--with", "notes", "--by", "island.name", "--runs", "1"],
    &["size"],
    &["size", "--flat"],
];

const FORMATS: &[&str] = &["table", "csv", "json", "markdown", "jsonl", "arrow", "parquet"];

/// What of JSON is no time, and does not say who asks.
fn timeless(value: &mut Json) {
    match value {
        Json::Object(entries) => {
            entries.retain(|key, _| !key.ends_with("ms") && key != "speedup" && key != "source_bytes");
            entries.values_mut().for_each(timeless);
        }
        Json::Array(values) => {
            values.retain(|value| value.as_str().is_none_or(|text| !text.starts_with("asked as east")));
            values.iter_mut().for_each(timeless);
        }
        _ => {}
    }
}

/// Everything that is told, but for times and for who asks.
fn told(bytes: &[u8]) -> Vec<u8> {
    if let Ok(mut value) = serde_json::from_slice::<Json>(bytes) {
        timeless(&mut value);
        return value.to_string().into_bytes();
    }
    let Ok(text) = std::str::from_utf8(bytes) else { return bytes.to_vec() };
    text.lines().filter(|l| !l.contains("asked as east")).collect::<Vec<_>>().join("\n").into_bytes()
}

#[test]
fn every_command_tells_a_role_what_files_without_the_rest_would() {
    let (whole, cut) = (TempDir::new().unwrap(), TempDir::new().unwrap());
    files(whole.path(), false);
    files(cut.path(), true);
    let mut compared = 0;
    for args in ASKED {
        for format in FORMATS {
            // Texts of times are compared as JSON, where they can be told apart.
            if matches!(args[0], "time" | "compare" | "size") && *format != "json" {
                continue;
            }
            let asked: Vec<&str> = args.iter().copied().chain(["--format", format, "--output", "out"]).collect();
            let in_role: Vec<&str> = asked.iter().copied().chain(["--as", "east"]).collect();
            let (expected, found) = (run(cut.path(), &asked), run(whole.path(), &in_role));
            let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
            assert_eq!(found.status.code(), expected.status.code(), "{in_role:?}: {}", text(&found.stderr));
            assert_eq!(text(&told(&found.stderr)), text(&told(&expected.stderr)), "{in_role:?}");
            assert!(!text(&found.stdout).contains("secret"), "{in_role:?}");
            let written = |folder: &TempDir| {
                let bytes = fs::read(folder.path().join("out")).unwrap_or_default();
                let _ = fs::remove_file(folder.path().join("out"));
                bytes
            };
            let (found, expected) = (told(&written(&whole)), told(&written(&cut)));
            assert!(found == expected, "{in_role:?}\n{}\n{}", text(&found), text(&expected));
            compared += usize::from(!found.is_empty());
        }
    }
    assert!(compared > 40, "{compared} files were written and compared");
}
