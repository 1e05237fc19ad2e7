//! `cubrel advise`

use cubrel::Model;
use cubrel::advise::{Advice, Advised};
use serde_json::json;

use super::edited;
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::progress::Progress;
use crate::output::table::TextTable;
use crate::output::text::{Align, bytes};
use crate::output::{Output, Tone};

/// Arguments of `advise`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel advise
  cubrel advise --take 2
  cubrel advise --take 2 --dry-run
  cubrel advise --undo

Each is tried and measured. What changes the file is proved by every saved query and measure, and once more when it
is taken.")]
pub struct Args {
    /// Make this change
    #[arg(long, value_name = "N")]
    take: Option<usize>,
    #[command(flatten)]
    how: edited::How,
}

/// Lists what could be done, or does one of it.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let options = args.how.options(global);
    let progress = Progress::new(global);
    match args.take {
        Some(_) if args.how.undo => {
            Err(Failure::Other("`--undo` takes no number".into(), "write `cubrel advise --undo`".into()))
        }
        Some(number) => {
            let edit = Model::take_advice(&global.model, number, &options, &progress)?;
            progress.finish();
            edited::show(&edit, global, out)
        }
        None if args.how.undo => edited::show(&Model::undo(&global.model, &options)?, global, out),
        None => {
            let advice = Model::advise(&global.model, &options, &progress)?;
            progress.finish();
            match out.format() {
                Format::Json => out.json(&json!(advice))?,
                Format::Csv => flat(&advice).write_csv(out)?,
                _ => show(&advice, out)?,
            }
            Ok(0)
        }
    }
}

fn show(advice: &Advice, out: &mut Output) -> Result<(), Failure> {
    if advice.advice.is_empty() {
        return out.sentence(Tone::Plain, "nothing was found that would make this model smaller or faster");
    }
    let mut table =
        TextTable::new(&[("", Align::Right), ("saves", Align::Right), ("numbers", Align::Left), ("what", Align::Left)])
            .wrapped_in(3);
    for advised in &advice.advice {
        let numbers = match (advised.same_numbers, &advised.change) {
            (Some(true), Some(_)) => "the same",
            (Some(true), None) => "the same; by hand",
            (Some(false), _) => "differ",
            (None, _) => "by hand",
        };
        table.row(vec![advised.number.to_string(), saves(advised), numbers.into(), advised.says.clone()]);
    }
    table.write(out)?;
    out.text("\n")?;
    out.sentence(
        Tone::Faint,
        "`cubrel advise --take N` makes a change whose numbers are the same; `--dry-run` shows it",
    )
}

fn saves(advised: &Advised) -> String {
    match (advised.bytes_before, advised.bytes_after, advised.ms_before, advised.ms_after) {
        (Some(before), Some(after), ..) => {
            let saved = before.saturating_sub(after);
            let percent = if before == 0 { 0.0 } else { saved as f64 * 100.0 / before as f64 };
            format!("{} ({percent:.1} %)", bytes(saved))
        }
        (_, _, Some(before), Some(after)) => format!("{:.1} of {before:.1} ms", before - after),
        _ => String::new(),
    }
}

/// A line each, for scripts.
fn flat(advice: &Advice) -> TextTable {
    let heads =
        ["number", "kind", "name", "bytes_before", "bytes_after", "ms_before", "ms_after", "same_numbers", "says"];
    let left = ["kind", "name", "says"];
    let align = |head| if left.contains(&head) { Align::Left } else { Align::Right };
    let mut table = TextTable::new(&heads.map(|head| (head, align(head))));
    let whole = |n: Option<u64>| n.map(|n| n.to_string()).unwrap_or_default();
    let part = |n: Option<f64>| n.map(|n| format!("{n:.3}")).unwrap_or_default();
    for a in &advice.advice {
        let mut row = vec![a.number.to_string(), a.kind.to_string(), a.name.clone()];
        row.extend([whole(a.bytes_before), whole(a.bytes_after), part(a.ms_before), part(a.ms_after)]);
        row.extend([a.same_numbers.map(|same| same.to_string()).unwrap_or_default(), a.says.clone()]);
        table.row(row);
    }
    table
}
