//! `cubrel refresh`

use cubrel::{Model, RefreshOptions, RefreshReport};
use serde_json::json;

use super::refresh_options;
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::progress::Progress;
use crate::output::table::TextTable;
use crate::output::text::{Align, bytes, count};
use crate::output::{Output, Tone};

/// Columns that took less are not named.
const WORTH_SAYING_MS: f64 = 10.0;

/// Arguments of `refresh`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel refresh\n  cubrel refresh --table booking\n  cubrel refresh --since 2026-10-01\n  cubrel -m ferries refresh --all --format json"
)]
pub struct Args {
    /// Only this table; may be repeated
    #[arg(long, value_name = "T")]
    table: Vec<String>,
    /// Read only files written since, and parts of databases that reach into it
    #[arg(long, value_name = "DATE", value_parser = crate::args::parse_day, conflicts_with = "all")]
    since: Option<i32>,
    /// Read everything, changed or not
    #[arg(long)]
    all: bool,
}

/// Reads what has changed, and tells how it went.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let base = refresh_options(global);
    let options = RefreshOptions { all: args.all, tables: args.table.clone(), since: args.since, ..base };
    let progress = Progress::new(global);
    let (model, report) = Model::refresh(&global.model, &options, &progress)?;
    progress.finish();
    match out.format() {
        Format::Json => out.json(&as_json(&report))?,
        Format::Csv => flat(&report).write_csv(out)?,
        // Whoever wants to hear nothing hears nothing; a file is asked for.
        Format::Table if global.quiet && global.output.is_none() => {}
        _ => show(&report, out)?,
    }
    super::say_wrong_measures(&model, global);
    Ok(0)
}

/// A report for scripts.
pub fn as_json(report: &RefreshReport) -> serde_json::Value {
    let mut value = json!(report);
    if let Some(peak) = peak_memory() {
        value["peak_bytes"] = json!(peak);
    }
    value
}

fn table(report: &RefreshReport) -> TextTable {
    let mut table = TextTable::new(&[
        ("table", Align::Left),
        ("rows", Align::Right),
        ("bad rows", Align::Right),
        ("filtered", Align::Right),
        ("source", Align::Right),
        ("seconds", Align::Right),
        ("", Align::Left),
    ]);
    for t in &report.tables {
        let blank = |n: u64| if n == 0 { String::new() } else { count(n) };
        let how = match (t.read, t.origin.as_str()) {
            (true, "source") if t.parts_read < t.parts => format!("read {} of {} parts", t.parts_read, t.parts),
            (true, "source") => "read".into(),
            (false, "source") => "unchanged".into(),
            (_, origin) => origin.to_string(),
        };
        table.row(vec![
            t.table.clone(),
            count(t.rows),
            blank(t.bad_rows),
            blank(t.filtered_rows),
            if t.source_bytes == 0 { String::new() } else { bytes(t.source_bytes) },
            if t.read { format!("{:.2}", t.milliseconds as f64 / 1000.0) } else { String::new() },
            how,
        ]);
    }
    table
}

/// A line for each table, for scripts.
fn flat(report: &RefreshReport) -> TextTable {
    let heads = ["table", "origin", "read", "rows", "bad_rows", "filtered_rows", "source_bytes", "parts", "parts_read"];
    let mut heads: Vec<(&str, Align)> = heads.map(|head| (head, Align::Right)).to_vec();
    heads.push(("seconds", Align::Right));
    let mut table = TextTable::new(&heads);
    for t in &report.tables {
        let mut row = vec![t.table.clone(), t.origin.clone(), t.read.to_string()];
        row.extend([t.rows, t.bad_rows, t.filtered_rows, t.source_bytes].map(|n| n.to_string()));
        row.extend([t.parts.to_string(), t.parts_read.to_string()]);
        row.push((t.milliseconds as f64 / 1000.0).to_string());
        table.row(row);
    }
    table
}

/// A report for people.
pub fn show(report: &RefreshReport, out: &mut Output) -> Result<(), Failure> {
    table(report).write(out)?;
    for t in report.tables.iter().filter(|t| t.bad_rows > 0) {
        out.text(&format!(
            "\nRows of {} that cannot be read, for example:\n  {}\n",
            t.table,
            t.bad_examples.join("\n  ")
        ))?;
    }
    for t in report.tables.iter().filter(|t| t.read && !t.notes.is_empty()) {
        out.text(&format!("\nThe source of {}:\n", t.table))?;
        t.notes.iter().try_for_each(|note| out.sentence(Tone::Plain, &format!("  {note}")))?;
    }
    let changed: Vec<&str> = report.tables.iter().flat_map(|t| &t.changed_types).map(String::as_str).collect();
    if !changed.is_empty() {
        out.text(&format!("\nTypes that have changed:\n  {}\n", changed.join("\n  ")))?;
    }
    let computed = report.tables.iter().flat_map(|t| {
        let worth_saying = t.computed.iter().filter(|c| c.milliseconds >= WORTH_SAYING_MS);
        worth_saying.map(move |c| format!("{}.{} ({:.2} s)", t.table, c.column, c.milliseconds / 1e3))
    });
    let computed: Vec<String> = computed.collect();
    if !computed.is_empty() {
        out.text("\n")?;
        out.sentence(Tone::Plain, &format!("calculated after loading: {}", computed.join(", ")))?;
    }
    if !report.unmatched.is_empty() {
        out.text("\nRows that point at nothing (they are grouped under (none)):\n")?;
        let mut table = TextTable::new(&[
            ("from", Align::Left),
            ("to", Align::Left),
            ("rows", Align::Right),
            ("keys not found", Align::Left),
        ]);
        for u in &report.unmatched {
            let keys = if u.examples.is_empty() { "only empty ones".to_string() } else { u.examples.join(", ") };
            table.row(vec![u.many.clone(), u.one.clone(), count(u.rows), keys]);
        }
        table.write(out)?;
    }
    let peak = peak_memory().map(|p| format!(", peak memory {}", bytes(p))).unwrap_or_default();
    let limit = report.memory_limit.map(|l| format!(" of {} allowed", bytes(l))).unwrap_or_default();
    out.text("\n")?;
    let summary = format!("{:.2} s, model {}{peak}{limit}", report.elapsed.as_secs_f64(), bytes(report.bytes));
    out.sentence(Tone::Plain, &summary)
}

/// The most memory that this process has used, where the system tells.
fn peak_memory() -> Option<u64> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find(|l| l.starts_with("VmHWM:"))?;
    let kib: u64 = line.split_whitespace().nth(1)?.parse().ok()?;
    Some(kib * 1024)
}
