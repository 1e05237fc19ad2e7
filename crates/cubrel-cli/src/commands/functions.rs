//! `cubrel functions`

use cubrel::formula::functions::{self, AGGREGATES};
use cubrel::formula::source::{closest, did_you_mean};
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

struct Entry {
    area: &'static str,
    name: &'static str,
    signature: &'static str,
    meaning: &'static str,
    example: Option<(&'static str, &'static str)>,
}

/// The functions that have a syntax of their own, then the catalogue, then the aggregates.
fn entries() -> Vec<Entry> {
    let special = [
        (
            "if",
            "if(condition, a [, b])",
            "`a` if the condition is true, otherwise `b` (or null)",
            ("if(2 > 1, 'yes', 'no')", "yes"),
        ),
        ("coalesce", "coalesce(a, b, …)", "the first that is not null", ("coalesce(null, 3)", "3")),
        ("nullif", "nullif(a, b)", "null if `a` equals `b`, otherwise `a`", ("nullif(0, 0)", "")),
        (
            "cast",
            "cast(x as type)",
            "`x` as another type; an error if that is not possible",
            ("cast('12.5' as decimal(4,1))", "12.5"),
        ),
        (
            "try_cast",
            "try_cast(x as type)",
            "`x` as another type; null if that is not possible",
            ("try_cast('x' as int)", ""),
        ),
        (
            "extract",
            "extract(unit from d)",
            "a part of a date, such as year(d)",
            ("extract(year from date '2026-03-01')", "2026"),
        ),
    ];
    let special = special.into_iter().map(|(name, signature, meaning, example)| Entry {
        area: "choices",
        name,
        signature,
        meaning,
        example: Some(example),
    });
    let scalar = functions::all().map(|(area, f)| Entry {
        area,
        name: f.name,
        signature: f.signature,
        meaning: f.meaning,
        example: Some(f.example).filter(|(_, result)| !result.is_empty()),
    });
    let aggregates = AGGREGATES.iter().map(|a| Entry {
        area: "aggregates",
        name: a.name,
        signature: a.signature,
        meaning: a.meaning,
        example: None,
    });
    special.chain(scalar).chain(aggregates).collect()
}

/// Lists the catalogue.
pub fn run(args: &Args, out: &mut Output) -> Done {
    let all = entries();
    let chosen: Vec<&Entry> = match &args.name {
        None => all.iter().collect(),
        Some(name) => {
            let found: Vec<&Entry> = all.iter().filter(|e| e.name == name).collect();
            if found.is_empty() {
                let help = match closest(name, all.iter().map(|e| e.name)) {
                    Some(near) => did_you_mean(near),
                    None => "`cubrel functions` lists all of them".into(),
                };
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

fn short_table(entries: &[&Entry]) -> TextTable {
    let mut table = TextTable::new(&[("", Align::Left), ("", Align::Left)]);
    entries.iter().for_each(|e| table.row(vec![e.signature.into(), e.meaning.into()]));
    table
}

fn table(entries: &[&Entry]) -> TextTable {
    let mut table = TextTable::new(&[("signature", Align::Left), ("meaning", Align::Left), ("example", Align::Left)]);
    for e in entries {
        let example =
            e.example.map(|(f, r)| format!("{f} → {}", if r.is_empty() { "null" } else { r })).unwrap_or_default();
        table.row(vec![e.signature.into(), e.meaning.into(), example]);
    }
    table
}
