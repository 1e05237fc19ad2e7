//! Two models side by side: where their answers differ, and what each costs.

use cubrel::insight::twins::{Answers, Example, Outcome, Question, Twins};

use super::text::{Align, TextTable, bytes, count};
use super::times::ms;
use super::{Output, Tone};
use crate::commands::Failure;

/// Shows what was found to a person.
pub fn show(names: [&str; 2], twins: &Twins, out: &mut Output) -> Result<(), Failure> {
    let (tone, verdict) = verdict(twins);
    let verdict = out.paint(tone, &verdict);
    out.text(&format!("{verdict}\n\n"))?;
    table(names, twins, true).write(out)?;
    out.text(&format!("\nin memory: {} and {}\n", bytes(twins.bytes_a), bytes(twins.bytes_b)))?;
    for (name, only) in names.iter().zip([&twins.only_a, &twins.only_b]).filter(|(_, only)| !only.is_empty()) {
        out.text(&format!("only in {name}: {}\n", only.join(", ")))?;
    }
    Ok(())
}

fn verdict(twins: &Twins) -> (Tone, String) {
    let all = twins.questions.len();
    let is_failed = |q: &&Question| matches!(q.outcome, Outcome::Failed { .. });
    let failed = twins.questions.iter().filter(is_failed).count();
    let differing = twins.questions.iter().filter_map(answers).filter(|a| a.differing > 0).count();
    if all == 0 {
        return (Tone::Alert, "no saved query and no measure is in both".into());
    }
    if differing + failed == 0 {
        let cells: usize = twins.questions.iter().filter_map(answers).map(|a| a.cells).sum();
        return (Tone::Total, format!("the same answers to all {all} questions, {} figures", count(cells as u64)));
    }
    let mut said = vec![format!("other answers to {differing} of {all} questions")];
    said.extend((failed > 0).then(|| format!("{failed} could not be answered by both")));
    (Tone::Alert, said.join("; "))
}

fn answers(question: &Question) -> Option<&Answers> {
    match &question.outcome {
        Outcome::Answered(answers) => Some(answers),
        Outcome::Failed { .. } => None,
    }
}

/// A line for each question.
pub fn table(names: [&str; 2], twins: &Twins, human: bool) -> TextTable {
    let heading = |name: &str| if human { format!("{name} ms") } else { format!("{name}_ms") };
    let (a, b) = if human { (heading(names[0]), heading(names[1])) } else { (heading("a"), heading("b")) };
    // People need no column in which nothing stands.
    let all_agree = human && twins.agree();
    let mut headings = vec![
        ("question", Align::Left),
        ("figures", Align::Right),
        ("differing", Align::Right),
        (&a, Align::Right),
        (&b, Align::Right),
        (if human { "times as fast" } else { "speedup" }, Align::Right),
    ];
    headings.extend((!all_agree).then_some(("first difference", Align::Left)));
    let mut table = TextTable::new(&headings);
    let integer = |n: usize| if human { count(n as u64) } else { n.to_string() };
    let time = |x: f64| if human { ms(x) } else { x.to_string() };
    for question in &twins.questions {
        let name = question.name.clone();
        let mut row = match &question.outcome {
            Outcome::Answered(found) => {
                let speedup = found.a.median_ms / found.b.median_ms.max(1e-3);
                vec![
                    name,
                    integer(found.cells),
                    integer(found.differing),
                    time(found.a.median_ms),
                    time(found.b.median_ms),
                    format!("{speedup:.1}"),
                    found.example.as_ref().map(|e| example(&question.name, e, human)).unwrap_or_default(),
                ]
            }
            Outcome::Failed { error_a, error_b } => {
                let error = |name: &str, error: &Option<String>| {
                    error.as_ref().map(|e| format!("{name}: {}", e.lines().next().unwrap_or_default()))
                };
                let errors = [error(names[0], error_a), error(names[1], error_b)];
                let mut row = vec![name];
                row.extend(std::iter::repeat_n(String::new(), 5));
                row.push(errors.into_iter().flatten().collect::<Vec<_>>().join("; "));
                row
            }
        };
        row.truncate(headings.len());
        table.row(row);
    }
    table
}

/// Where two answers differ first, and what they are; people need the heading only where it is not the question's name.
fn example(question: &str, example: &Example, human: bool) -> String {
    let value = |v: &Option<String>| match v {
        Some(text) if human => short(text),
        Some(text) => text.clone(),
        None => "(none)".into(),
    };
    let figure = if human && example.figure == question { "" } else { &example.figure };
    let at: Vec<String> = example.at.iter().map(|(axis, value)| format!("{axis} = {value}")).collect();
    let at = if at.is_empty() { String::new() } else { format!("at {}", at.join(", ")) };
    let place: Vec<&str> = [figure, &at].into_iter().filter(|part| !part.is_empty()).collect();
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
