//! What a person sees: the binary in a terminal of some size.
#![cfg(unix)]
use std::fs::{File, OpenOptions};
use std::io::Read;
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::sync::OnceLock;

use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{Winsize, tcsetwinsize};
use unicode_width::UnicodeWidthStr;

/// A demo model with a name that is longer than most terminals are wide.
fn model() -> &'static PathBuf {
    static MODEL: OnceLock<(tempfile::TempDir, PathBuf)> = OnceLock::new();
    let (_, folder) = MODEL.get_or_init(|| {
        let here = tempfile::tempdir().unwrap();
        let folder = here.path().join("ferries");
        let made = Command::new(env!("CARGO_BIN_EXE_cubrel")).args(["demo", "--rows", "20000"]).arg(&folder).output();
        assert!(made.unwrap().status.success());
        let toml = folder.join("model.toml");
        let mut text = std::fs::read_to_string(&toml).unwrap();
        text += &format!("\n[measure.{}]\nformula = \"sum(booking.net)\"\n", "long_".repeat(30));
        std::fs::write(&toml, text).unwrap();
        (here, folder)
    });
    folder
}

/// What a terminal of so many columns and lines gets, errors included.
fn seen(columns: u16, lines: u16, pager: &str, args: &[&str]) -> String {
    let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY).unwrap();
    grantpt(&master).unwrap();
    unlockpt(&master).unwrap();
    let name = ptsname(&master, Vec::new()).unwrap();
    let terminal = OpenOptions::new().read(true).write(true).open(name.to_str().unwrap()).unwrap();
    tcsetwinsize(&terminal, Winsize { ws_row: lines, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 }).unwrap();
    let mut child = Command::new(env!("CARGO_BIN_EXE_cubrel"))
        .arg("-m")
        .arg(model())
        .args(args)
        .env("PAGER", pager)
        .env_remove("NO_COLOR")
        .stdin(Stdio::null())
        .stdout(terminal.try_clone().unwrap())
        .stderr(terminal)
        .spawn()
        .unwrap();
    let mut bytes = Vec::new();
    // When the last writer is gone, reading ends with an error on some systems.
    let _ = File::from(master).read_to_end(&mut bytes);
    child.wait().unwrap();
    String::from_utf8(bytes).unwrap().replace("\r\n", "\n")
}

/// Without colours and what progress bars do to the cursor.
fn plain(text: &str) -> String {
    let mut parts = text.split('\u{1b}');
    let mut plain = parts.next().unwrap().to_string();
    for part in parts {
        plain.push_str(part.split_once(|c: char| c.is_ascii_alphabetic()).map_or("", |(_, rest)| rest));
    }
    plain.lines().map(|line| line.rsplit('\r').next().unwrap()).collect::<Vec<_>>().join("\n")
}

const OUTPUTS: &[&[&str]] = &[
    &["size"],
    &["size", "--flat"],
    &["size", "--suppose", "drop booking.booking_ref", "--suppose", "round booking.booked_at to hour"],
    &["time", "routes"],
    &["time", "routes", "--each"],
    &[
        "time",
        "grid sum(1 per customer where (let mine = customer.spent; rows(customer) given (without row, customer.spent * 2 > mine) > 5)) as x",
    ],
    &["query", "routes", "--bars"],
    &["query", "routes"],
    &["query", "grid net_revenue, bookings by port.region split by calendar.month_name totals"],
    &["query", "records booking.booking_ref, booking.booked_at, route.name, customer.home_island, booking.net limit 5"],
    &["why", "routes", "--at", "route.name = 'Ness–Holm'", "--rows", "3"],
    &["why", "customer.size", "--at", "customer.id = 17"],
    &["compare", "--measure", "customers", "--with", "sum(1 per customer where bookings > 0)", "--by", "port.region"],
    &["refresh", "--all"],
    &["check"],
    &["functions"],
    &["functions", "to_text"],
    &[
        "query",
        "grid net_revenue by route.nam, port.name, port.region, port.name where calendar.year = 2025 and channel.name = 'Web'",
    ],
    &["-h"],
];

#[test]
fn nothing_is_wider_than_the_terminal() {
    for columns in [60, 80, 120, 200] {
        for args in OUTPUTS {
            let text = plain(&seen(columns, 50, "cat", args));
            assert!(!text.trim().is_empty(), "{args:?}");
            for line in text.lines() {
                assert!(line.width() <= usize::from(columns), "{columns} columns, {args:?}:\n{line}");
            }
        }
    }
}

#[test]
fn what_is_longer_than_the_screen_goes_through_the_pager() {
    let marked = |lines, pager| plain(&seen(100, lines, pager, &["size"]));
    let through = marked(20, "sed 's/^/| /'");
    assert!(through.lines().all(|line| line.starts_with("| ")) && through.lines().count() > 100, "{through}");
    let direct = marked(500, "sed 's/^/| /'");
    assert!(!direct.contains("| ") && direct.contains("booking_ref"), "{direct}");
    for none in ["", "cat", "no-such-program"] {
        assert!(marked(20, none).contains("booking_ref"), "{none}");
    }
    // A pager that is left early is no error.
    assert!(!marked(20, "head -n 1").contains("error"));
}

#[test]
fn a_short_help_has_a_line_for_each_option() {
    for command in ["", "demo", "draft", "refresh", "check", "query", "why", "time", "size", "compare", "functions"] {
        let args: Vec<&str> = [command, "-h"].into_iter().filter(|a| !a.is_empty()).collect();
        let text = plain(&seen(100, 100, "cat", &args));
        let (own, general) = text.split_once("General options:").unwrap();
        assert!(!own.contains("--today") && own.contains("--help"), "{text}");
        let general = general.trim_start().split("\n\n").next().unwrap();
        assert!(general.lines().all(|line| line.trim_start().starts_with('-')), "{general}");
        assert_eq!(general.contains("parquet"), command == "query", "{general}");
    }
}
