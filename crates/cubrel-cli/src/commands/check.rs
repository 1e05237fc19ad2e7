//! `cubrel check`

use cubrel::{Diagnostic, Severity};
use serde_json::json;

use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::problems::Pen;
use crate::output::table::TextTable;
use crate::output::text::Align;
use crate::output::{Output, Tone};

/// Arguments of `check`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel check
  cubrel check --strict
  cubrel -m ferries check --format json

A hint has a name, and `allow = [\"unused\"]` in [model], or in the section that it is about, silences it.

Exit code 1: something is wrong; with --strict, something is said at all.")]
pub struct Args {
    /// Exit with 1 for warnings and hints, too
    #[arg(long)]
    strict: bool,
    /// Leave the hints out
    #[arg(long, conflicts_with = "strict")]
    no_hints: bool,
}

/// Lists all problems, what is surprising, and what is untidy.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let list = match super::open(global) {
        Ok(model) => {
            let hints = if args.no_hints { Vec::new() } else { model.hints() };
            [model.check(), hints].concat()
        }
        Err(Failure::Model(e)) if !e.problems().is_empty() && super::has_model(global) => e.problems().to_vec(),
        Err(other) => return Err(other),
    };
    match out.format() {
        Format::Json => out.json(&json!(list))?,
        Format::Csv => as_table(&list).write_csv(out)?,
        _ => show(&list, out)?,
    }
    let least = if args.strict { Severity::Hint } else { Severity::Error };
    Ok(u8::from(list.iter().any(|p| p.severity >= least)))
}

fn show(list: &[Diagnostic], out: &mut Output) -> Result<(), Failure> {
    let pen = Pen::new(out.colored(), out.width());
    list.iter().try_for_each(|problem| out.text(&pen.draw(problem)))?;
    let count = |severity, one: &str| match list.iter().filter(|p| p.severity == severity).count() {
        0 => None,
        1 => Some(format!("1 {one}")),
        n => Some(format!("{n} {one}s")),
    };
    let said = [(Severity::Error, "error"), (Severity::Warning, "warning"), (Severity::Hint, "hint")];
    let said: Vec<String> = said.into_iter().filter_map(|(severity, word)| count(severity, word)).collect();
    match list.iter().any(|p| p.severity == Severity::Error) {
        _ if list.is_empty() => out.text("nothing is wrong with this model\n"),
        true => out.sentence(Tone::Alert, &said.join(", ")),
        false => out.sentence(Tone::Total, &format!("nothing is wrong with this model; {}", said.join(", "))),
    }
}

fn as_table(list: &[Diagnostic]) -> TextTable {
    let mut table = TextTable::new(&[
        ("severity", Align::Left),
        ("file", Align::Left),
        ("line", Align::Right),
        ("column", Align::Right),
        ("formula", Align::Left),
        ("hint", Align::Left),
        ("message", Align::Left),
        ("help", Align::Left),
    ]);
    for p in list {
        let place = p.place();
        let number = |n: Option<usize>| n.map(|n| n.to_string()).unwrap_or_default();
        table.row(vec![
            p.severity.name().to_string(),
            place.map(|(file, ..)| file.to_string()).unwrap_or_default(),
            number(place.map(|(_, line, _)| line)),
            number(place.map(|(.., column)| column)),
            p.formula().unwrap_or_default().to_string(),
            p.hint.unwrap_or_default().to_string(),
            p.message.clone(),
            p.help.clone().unwrap_or_default(),
        ]);
    }
    table
}
