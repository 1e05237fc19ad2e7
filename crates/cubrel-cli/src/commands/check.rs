//! `cubrel check`

use cubrel::{Diagnostic, Severity};
use serde_json::json;

use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::Output;
use crate::output::problems::Pen;
use crate::output::table::TextTable;
use crate::output::text::Align;

/// Arguments of `check`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Exit code 1 when something is wrong.\n\nExamples:\n  cubrel check\n  cubrel -m ferries check --format json"
)]
pub struct Args {}

/// Lists all problems.
pub fn run(_: &Args, global: &Global, out: &mut Output) -> Done {
    let (list, wrong) = match super::open(global) {
        Ok(model) => {
            let list = model.check();
            let wrong = list.iter().any(|p| p.severity == Severity::Error);
            (list, wrong)
        }
        Err(Failure::Model(e)) if !e.problems().is_empty() && has_model(global) => (e.problems().to_vec(), true),
        Err(other) => return Err(other),
    };
    match out.format() {
        Format::Json => out.json(&json!(list))?,
        Format::Csv => as_table(&list).write_csv(out)?,
        _ if list.is_empty() => out.text("nothing is wrong with this model\n")?,
        _ => {
            let pen = Pen::new(out.colored(), out.width());
            list.iter().try_for_each(|problem| out.text(&pen.draw(problem)))?;
        }
    }
    Ok(u8::from(wrong))
}

fn has_model(global: &Global) -> bool {
    global.model.join("model.toml").exists() || global.model.is_file()
}

fn as_table(list: &[Diagnostic]) -> TextTable {
    let mut table = TextTable::new(&[
        ("severity", Align::Left),
        ("file", Align::Left),
        ("line", Align::Right),
        ("column", Align::Right),
        ("formula", Align::Left),
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
            p.message.clone(),
            p.help.clone().unwrap_or_default(),
        ]);
    }
    table
}
