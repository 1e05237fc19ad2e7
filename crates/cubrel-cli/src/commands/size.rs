//! `cubrel size`

use serde_json::json;

use super::asked::Asker;
use crate::args::Global;
use crate::failure::Done;
use crate::format::Format;
use crate::output::Output;
use crate::output::sizes::{self, Sort};

/// Arguments of `size`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Changes to suppose:
  drop T.C                 leave the column out
  round T.C to 2           numbers to so many decimals, timestamps to second, minute, hour, day, …
  split T.C                a timestamp as a date and a time of day
  load T.C                 a calculated column while loading
  order T by C, C          the rows in this order

Examples:
  cubrel size
  cubrel size --flat --sort distinct
  cubrel size --suppose 'drop booking.booking_ref' --suppose 'round booking.booked_at to hour'
  cubrel size --suppose 'order booking by sailed_on, route_id'
  cubrel -m ferries size --format json")]
pub struct Args {
    /// A flat list of all columns
    #[arg(long)]
    flat: bool,
    /// Sort columns by bytes, distinct, nulls, per-row or name
    #[arg(long, value_enum, default_value_t = Sort::Bytes, value_name = "FIELD", hide_default_value = true, hide_possible_values = true)]
    sort: Sort,
    /// Measure a change without making it, see below; may be repeated
    #[arg(long, value_name = "CHANGE", conflicts_with_all = ["flat", "sort"])]
    suppose: Vec<String>,
    #[command(flatten)]
    asker: Asker,
}

/// Shows where the bytes are.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let model = args.asker.seen(super::open(global)?)?;
    if !args.suppose.is_empty() {
        let supposed = model.suppose(&args.suppose)?;
        let table = |human| {
            let names = if human { ["now", "supposed"] } else { ["before", "after"] };
            sizes::differences(names, &supposed.before, &supposed.after, human)
        };
        match out.format() {
            Format::Json => out.json(&json!(supposed))?,
            Format::Csv => table(false).write_csv(out)?,
            _ => table(true).write(out)?,
        }
        return Ok(0);
    }
    let sizes = model.sizes();
    match out.format() {
        Format::Json => out.json(&json!(sizes))?,
        Format::Csv => sizes::flat(&sizes, args.sort).write_csv(out)?,
        _ if args.flat => sizes::show_flat(&sizes, args.sort, None, out)?,
        _ => sizes::show_tree(&sizes, args.sort, out)?,
    }
    Ok(0)
}
