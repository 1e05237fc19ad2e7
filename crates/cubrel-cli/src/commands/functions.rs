//! `cubrel functions`

use cubrel::FunctionEntry;
use serde_json::json;

use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::Output;
use crate::output::table::TextTable;
use crate::output::text::Align;

/// Arguments of `functions`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:\n  cubrel functions\n  cubrel functions round\n  cubrel functions --format json")]
pub struct Args {
    /// One function or aggregate
    name: Option<String>,
}

/// Lists the catalogue.
pub fn run(args: &Args, out: &mut Output) -> Done {
    let all: Vec<FunctionEntry> = cubrel::functions().collect();
    let chosen: Vec<&FunctionEntry> = match &args.name {
        None => all.iter().collect(),
        Some(name) => {
            let found: Vec<&FunctionEntry> = all.iter().filter(|e| e.name == name).collect();
            if found.is_empty() {
                let help = cubrel::suggest(name, all.iter().map(|e| e.name))
                    .unwrap_or_else(|| "`cubrel functions` lists all of them".into());
                return Err(Failure::Other(format!("there is no function `{name}`"), help));
            }
            found
        }
    };
    match out.format() {
        Format::Json => {
            let list: Vec<_> = chosen
                .iter()
                .map(|e| {
                    let mut v = json!({"name": e.name, "area": e.area, "signature": e.signature, "meaning": e.meaning});
                    if let Some((formula, result)) = e.example {
                        v["example"] = json!({"formula": formula, "result": result});
                    }
                    v
                })
                .collect();
            out.json(&json!(list))?;
        }
        Format::Csv => table(&chosen).write_csv(out)?,
        _ => {
            let mut area = "";
            for part in chosen.chunk_by(|a, b| a.area == b.area) {
                if part[0].area != area {
                    area = part[0].area;
                    out.heading(area)?;
                }
                short_table(part).write(out)?;
            }
            if let [only] = chosen.as_slice()
                && let Some((formula, result)) = only.example
            {
                out.text(&format!("\n{formula}  gives  {}\n", if result.is_empty() { "null" } else { result }))?;
            }
        }
    }
    Ok(0)
}

fn short_table(entries: &[&FunctionEntry]) -> TextTable {
    let mut table = TextTable::new(&[("", Align::Left), ("", Align::Left)]);
    entries.iter().for_each(|e| table.row(vec![e.signature.into(), e.meaning.into()]));
    table
}

fn table(entries: &[&FunctionEntry]) -> TextTable {
    let mut table = TextTable::new(&[("signature", Align::Left), ("meaning", Align::Left), ("example", Align::Left)]);
    for e in entries {
        let example =
            e.example.map(|(f, r)| format!("{f} → {}", if r.is_empty() { "null" } else { r })).unwrap_or_default();
        table.row(vec![e.signature.into(), e.meaning.into(), example]);
    }
    table
}
