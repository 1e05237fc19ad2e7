//! How the expectations of a model were met.

use cubrel::expectations::{Difference, Expectation, Tested};
use serde_json::Value as Json;

use super::sink::{Output, Tone};
use super::table::TextTable;
use super::text::Align;
use crate::failure::Failure;

/// Shows them to a person: a line each, and under those that do not hold what differs.
pub fn show(tested: &Tested, out: &mut Output) -> Result<(), Failure> {
    if tested.expectations.is_empty() {
        return out.sentence(Tone::Plain, "this model expects nothing: `cubrel test --help` shows how it would");
    }
    for expectation in &tested.expectations {
        let (mark, tone) = if expectation.passed { ("holds", Tone::Added) } else { ("fails", Tone::Gone) };
        let mark = out.paint(tone, mark);
        let time = if expectation.seconds < 0.0995 { String::new() } else { format!("  {:.1} s", expectation.seconds) };
        let time = out.paint(Tone::Faint, &time);
        let name = super::text::visible(&expectation.name);
        out.text(&format!("{mark}  {name}{time}\n"))?;
        if !expectation.passed {
            details(expectation, out)?;
        }
    }
    let all = tested.expectations.len();
    let (tone, said) = match tested.failed {
        0 if all == 1 => (Tone::Total, "the one expectation holds".to_string()),
        0 => (Tone::Total, format!("all {all} expectations hold")),
        failed => (
            Tone::Alert,
            format!("{failed} of {all} expectations {} not hold", if failed == 1 { "does" } else { "do" }),
        ),
    };
    out.text("\n")?;
    out.sentence(tone, &said)
}

fn details(expectation: &Expectation, out: &mut Output) -> Result<(), Failure> {
    if let Some(error) = &expectation.error {
        for line in error.lines() {
            out.sentence(Tone::Plain, &format!("       {line}"))?;
        }
        return Ok(());
    }
    let mut heads: Vec<&str> = Vec::new();
    for difference in &expectation.differences {
        heads.extend(difference.at.keys().map(String::as_str).filter(|key| !heads.contains(key)).collect::<Vec<_>>());
    }
    let columns: Vec<(&str, Align)> = [("    ", Align::Left)]
        .into_iter()
        .chain(heads.iter().map(|head| (*head, Align::Left)))
        .chain([("expected", Align::Right), ("got", Align::Right)])
        .collect();
    let mut table = TextTable::new(&columns);
    for difference in &expectation.differences {
        let at = heads.iter().map(|head| difference.at.get(*head).map_or_else(|| "(total)".into(), text));
        let mut row = vec![String::new()];
        row.extend(at);
        row.extend([text(&difference.expected), text(&difference.got)]);
        table.row(row);
    }
    table.write(out)
}

fn text(value: &Json) -> String {
    match value {
        Json::Null => "(none)".into(),
        Json::String(text) => text.clone(),
        Json::Array(list) => list.iter().map(text).collect::<Vec<_>>().join(", "),
        other => other.to_string(),
    }
}

/// A difference in one line.
pub fn in_words(difference: &Difference) -> String {
    let at: Vec<String> = difference.at.iter().map(|(name, value)| format!("{name} = {}", text(value))).collect();
    let at = if at.is_empty() { String::new() } else { format!("{}: ", at.join(", ")) };
    format!("{at}expected {}, got {}", text(&difference.expected), text(&difference.got))
}

/// A line for each difference, and one for each expectation that holds, for scripts.
pub fn flat(tested: &Tested) -> TextTable {
    let heads = ["name", "kind", "passed", "seconds", "at", "expected", "got", "error"];
    let mut table = TextTable::new(&heads.map(|h| (h, if h == "seconds" { Align::Right } else { Align::Left })));
    for e in &tested.expectations {
        let start = [e.name.clone(), e.kind.to_string(), e.passed.to_string(), format!("{:.3}", e.seconds)];
        let error = e.error.clone().unwrap_or_default();
        if e.differences.is_empty() {
            table.row([&start[..], &[String::new(), String::new(), String::new(), error]].concat());
        }
        for d in &e.differences {
            let at: Vec<String> = d.at.iter().map(|(name, value)| format!("{name} = {}", text(value))).collect();
            table.row([&start[..], &[at.join(", "), text(&d.expected), text(&d.got), String::new()]].concat());
        }
    }
    table
}
