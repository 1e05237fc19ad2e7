//! `cubrel time`

use serde_json::json;

use super::asked::Asked;
use super::query::text_of;
use crate::args::Global;
use crate::failure::Done;
use crate::format::Format;
use crate::output::{Output, profile};

/// Arguments of `time`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel time 'grid net_revenue, load_factor by route.name'\n  cubrel time revenue_by_region --runs 15 --each"
)]
pub struct Args {
    /// A query, the name of a saved one, or `-` for standard input
    query: String,
    /// How many warm runs
    #[arg(long, default_value_t = 7, value_name = "N", value_parser = clap::value_parser!(u64).range(1..=10_000))]
    runs: u64,
    /// Every item by itself, slowest first
    #[arg(long)]
    each: bool,
    #[command(flatten)]
    asked: Asked,
}

/// Times a query.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let model = args.asked.asker.seen(super::open(global)?)?;
    let text = text_of(&model, &args.query)?;
    let options = args.asked.options(global)?;
    if !args.each {
        let (profile, _) = model.profile(&text, &options, args.runs as usize)?;
        match out.format() {
            Format::Json => out.json(&json!(profile))?,
            Format::Csv => profile::flat(&profile).write_csv(out)?,
            _ => profile::show(&profile, out)?,
        }
        return Ok(0);
    }
    let mut all = model.profile_each(&text, &options, args.runs as usize)?;
    all.sort_by(|a, b| b.1.warm.median_ms.total_cmp(&a.1.warm.median_ms));
    match out.format() {
        Format::Json => {
            let list: Vec<_> =
                all.iter().map(|(item, t)| json!({"item": item, "cold": t.cold, "warm": t.warm})).collect();
            out.json(&json!(list))?;
        }
        Format::Csv => profile::each(&all, false).write_csv(out)?,
        _ => profile::each(&all, true).write(out)?,
    }
    Ok(0)
}
