//! Two models side by side: where their answers differ, and what each costs.

use cubrel::changes::{Change, What};
use cubrel::model_comparison::{Answer, Example, ModelComparison, Pair, QueryOutcome};

use super::profile::ms;
use super::sink::{Output, Tone};
use super::table::TextTable;
use super::text::{Align, bytes, count};
use crate::failure::Failure;

/// Shows what was found to a person.
pub fn show(names: [&str; 2], comparison: &ModelComparison, out: &mut Output) -> Result<(), Failure> {
    let (tone, verdict) = verdict(comparison);
    let verdict = out.paint(tone, &verdict);
    out.text(&format!("{verdict}\n\n"))?;
    table(names, comparison).write(out)?;
    out.text(&format!("\nin memory: {} and {}\n", bytes(comparison.bytes_a), bytes(comparison.bytes_b)))?;
    for (name, only) in names.iter().zip([&comparison.only_a, &comparison.only_b]).filter(|(_, only)| !only.is_empty())
    {
        out.text(&format!("only in {name}: {}\n", only.join(", ")))?;
    }
    Ok(())
}

/// Shows what one model says otherwise than the other.
pub fn show_changes(changes: &[Change], out: &mut Output) -> Result<(), Failure> {
    if changes.is_empty() {
        return out.text("both say the same\n\n");
    }
    let mut table =
        TextTable::new(&[("", Align::Left), ("what", Align::Left), ("before", Align::Left), ("after", Align::Left)]);
    for change in changes {
        let (mark, tone) = match change.what {
            What::Added => ("+", Tone::Added),
            What::Removed => ("-", Tone::Gone),
            What::Changed => ("~", Tone::Alert),
        };
        let title = format!("{mark} {} {}", change.kind.name(), change.name);
        if change.said.is_empty() {
            table.toned(tone, vec![title.clone(), String::new(), String::new(), String::new()]);
        }
        for (i, key) in change.said.iter().enumerate() {
            let title = if i == 0 { title.clone() } else { String::new() };
            table.toned(tone, vec![title, key.key.clone(), said(&key.before), said(&key.after)]);
        }
    }
    table.write(out)?;
    out.text("\n")
}

fn said(value: &serde_json::Value) -> String {
    match value {
        serde_json::Value::Null => String::new(),
        serde_json::Value::String(text) => text.split_whitespace().collect::<Vec<_>>().join(" "),
        other => other.to_string(),
    }
}

fn verdict(comparison: &ModelComparison) -> (Tone, String) {
    let all = comparison.answers.len();
    let failed = comparison.answers.iter().filter(|a| matches!(a.outcome, QueryOutcome::Failed { .. })).count();
    let pairs = || comparison.answers.iter().filter_map(pair);
    let differing = pairs().filter(|p| p.differing > 0).count();
    if all == 0 {
        return (Tone::Alert, "no saved query and no measure is in both".into());
    }
    if differing + failed == 0 {
        let cells: usize = pairs().map(|p| p.cells).sum();
        return (Tone::Total, format!("the same numbers in all {all} answers, {} cells", count(cells as u64)));
    }
    let mut said = vec![format!("numbers differ in {differing} of {all} answers")];
    said.extend((failed > 0).then(|| format!("{failed} could not be answered by both")));
    (Tone::Alert, said.join("; "))
}

fn pair(answer: &Answer) -> Option<&Pair> {
    match &answer.outcome {
        QueryOutcome::Answered(pair) => Some(pair),
        QueryOutcome::Failed { .. } => None,
    }
}

/// A line for each answer.
fn table(names: [&str; 2], comparison: &ModelComparison) -> TextTable {
    let (a, b) = (format!("{} ms", names[0]), format!("{} ms", names[1]));
    let mut headings = vec![
        ("asked", Align::Left),
        ("cells", Align::Right),
        ("differing", Align::Right),
        (&a, Align::Right),
        (&b, Align::Right),
        ("times as fast", Align::Right),
    ];
    // People need no column in which nothing stands.
    headings.extend((!comparison.agree()).then_some(("first difference", Align::Left)));
    let mut table = TextTable::new(&headings);
    for answer in &comparison.answers {
        let mut row = vec![answer.name.clone()];
        match &answer.outcome {
            QueryOutcome::Answered(found) => {
                row.extend([count(found.cells as u64), count(found.differing as u64)]);
                row.extend([ms(found.a.median_ms), ms(found.b.median_ms), format!("{:.1}", speedup(found))]);
                row.push(found.example.as_ref().map(|e| example(&answer.name, e)).unwrap_or_default());
            }
            QueryOutcome::Failed { error_a, error_b } => {
                row.extend(std::iter::repeat_n(String::new(), 5));
                row.push(errors(names, [error_a, error_b]));
            }
        }
        row.truncate(headings.len());
        table.row(row);
    }
    table
}

/// A line for each answer, for scripts.
pub fn flat(comparison: &ModelComparison) -> TextTable {
    let left = ["asked", "at", "item", "a", "b", "error"];
    let heads = ["asked", "cells", "differing", "a_ms", "b_ms", "speedup", "at", "item", "a", "b", "error"];
    let align = |head| if left.contains(&head) { Align::Left } else { Align::Right };
    let mut table = TextTable::new(&heads.map(|head| (head, align(head))));
    for answer in &comparison.answers {
        let mut row = vec![answer.name.clone()];
        match &answer.outcome {
            QueryOutcome::Answered(found) => {
                row.extend([found.cells.to_string(), found.differing.to_string()]);
                row.extend([found.a.median_ms.to_string(), found.b.median_ms.to_string()]);
                row.push(format!("{:.3}", speedup(found)));
                let example = found.example.as_ref();
                let value = |v: Option<&Option<String>>| v.cloned().flatten().unwrap_or_default();
                row.push(example.map(place).unwrap_or_default());
                row.push(example.map(|e| e.item.clone()).unwrap_or_default());
                row.extend([value(example.map(|e| &e.a)), value(example.map(|e| &e.b)), String::new()]);
            }
            QueryOutcome::Failed { error_a, error_b } => {
                row.extend(std::iter::repeat_n(String::new(), heads.len() - 2));
                row.push(errors(["a", "b"], [error_a, error_b]));
            }
        }
        table.row(row);
    }
    table
}

fn speedup(pair: &Pair) -> f64 {
    pair.a.median_ms / pair.b.median_ms.max(1e-3)
}

/// The first line of each error.
fn errors(names: [&str; 2], errors: [&Option<String>; 2]) -> String {
    let said = names.iter().zip(errors).filter_map(|(name, error)| {
        error.as_ref().map(|e| format!("{name}: {}", e.lines().next().unwrap_or_default()))
    });
    said.collect::<Vec<_>>().join("; ")
}

/// The axes of a line with their values.
fn place(example: &Example) -> String {
    example.at.iter().map(|(axis, value)| format!("{axis} = {value}")).collect::<Vec<_>>().join(", ")
}

/// Where two answers differ first, and what they are; the heading only where it is not what was asked.
fn example(asked: &str, example: &Example) -> String {
    let value = |v: &Option<String>| v.as_ref().map_or_else(|| "(none)".to_string(), |text| short(text));
    let item = if example.item == asked { "" } else { &example.item };
    let at = if example.at.is_empty() { String::new() } else { format!("at {}", place(example)) };
    let place: Vec<&str> = [item, &at].into_iter().filter(|part| !part.is_empty()).collect();
    let values = format!("{} and {}", value(&example.a), value(&example.b));
    if place.is_empty() { values } else { format!("{}: {values}", place.join(" ")) }
}

/// A double with so many digits that what counts as a difference is seen.
fn short(text: &str) -> String {
    const DIGITS: i32 = 11;
    match text.parse::<f64>() {
        Ok(x) if text.len() > DIGITS as usize + 2 && text.contains('.') && x != 0.0 => {
            let decimals = (DIGITS - 1 - x.abs().log10().floor() as i32).clamp(0, 20) as usize;
            format!("{x:.decimals$}")
        }
        _ => text.to_string(),
    }
}
