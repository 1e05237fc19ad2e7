//! `cubrel check`

use cubrel::Diagnostic;
use serde_json::json;

use super::{Done, Failure};
use crate::Global;
use crate::output::problems;
use crate::output::text::{Align, TextTable};
use crate::output::{Format, Output};

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
            // Saved queries are part of the model, too.
            let mut list = model.warnings().to_vec();
            let mut wrong = false;
            for (name, query) in &model.document().file.query {
                let found = match model.query(&query.text) {
                    Ok(query) => query.warnings().to_vec(),
                    Err(e) => {
                        wrong = true;
                        e.problems().to_vec()
                    }
                };
                list.extend(
                    found.into_iter().map(|p| Diagnostic { message: format!("query `{name}`: {}", p.message), ..p }),
                );
            }
            (list, wrong)
        }
        Err(Failure::Model(e)) if !e.problems().is_empty() && has_model(global) => (e.problems().to_vec(), true),
        Err(other) => return Err(other),
    };
    match out.format() {
        Format::Json => out.json(&json!(list.iter().map(as_json).collect::<Vec<_>>()))?,
        Format::Csv => as_table(&list).write_csv(out)?,
        _ if list.is_empty() => out.text("nothing is wrong with this model\n")?,
        _ => {
            for problem in &list {
                let text = problems::draw(problem, out.colored());
                out.text(&text)?;
            }
        }
    }
    Ok(u8::from(wrong))
}

fn has_model(global: &Global) -> bool {
    global.model.join("model.toml").exists() || global.model.is_file()
}

fn as_json(p: &Diagnostic) -> serde_json::Value {
    let mut value = json!({
        "severity": format!("{:?}", p.severity).to_lowercase(),
        "problem": format!("{:?}", p.problem),
        "message": p.message,
    });
    if let Some(source) = &p.source {
        let (line, column) = source.line_column(p.span.start);
        value["source"] = json!(source.name);
        value["line"] = json!(line);
        value["column"] = json!(column);
    }
    if let Some(help) = &p.help {
        value["help"] = json!(help);
    }
    value
}

fn as_table(list: &[Diagnostic]) -> TextTable {
    let mut table = TextTable::new(&[
        ("severity", Align::Left),
        ("source", Align::Left),
        ("line", Align::Right),
        ("message", Align::Left),
        ("help", Align::Left),
    ]);
    for p in list {
        let (name, line) = match &p.source {
            Some(s) => (s.name.clone(), s.line_column(p.span.start).0.to_string()),
            None => Default::default(),
        };
        table.row(vec![
            format!("{:?}", p.severity).to_lowercase(),
            name,
            line,
            p.message.clone(),
            p.help.clone().unwrap_or_default(),
        ]);
    }
    table
}
