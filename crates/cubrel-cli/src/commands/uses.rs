//! `cubrel uses`

use serde_json::json;

use super::asked::Asker;
use crate::args::Global;
use crate::failure::Done;
use crate::format::Format;
use crate::output::{Output, network, uses};

/// Arguments of `uses`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel uses booking.net
  cubrel uses net_revenue --format json
  cubrel uses 'booking.route_id -> route.id'
  cubrel uses query.routes                  a saved query, where a measure has its name, too
  cubrel uses --none                        what nothing uses, and what it weighs
  cubrel uses booking.net --format svg --output uses.svg")]
pub struct Args {
    /// A table, column (table.column), measure, hierarchy, lens, relationship or saved query
    #[arg(value_name = "NAME", required_unless_present = "none", conflicts_with = "none")]
    name: Option<String>,
    /// List what nothing uses, and what removing it saves
    #[arg(long)]
    none: bool,
    #[command(flatten)]
    asker: Asker,
}

/// Shows where something is used.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let model = args.asker.seen(super::open(global)?)?;
    match &args.name {
        Some(name) => {
            let found = model.uses(name)?;
            match out.format() {
                Format::Json => out.json(&json!(found))?,
                Format::Csv => uses::flat(&found).write_csv(out)?,
                Format::Dot => out.text(&network::of_uses(&found).dot())?,
                Format::Svg => out.text(&network::of_uses(&found).svg())?,
                _ => uses::show(&found, out)?,
            }
        }
        None => {
            let found = model.unused();
            match out.format() {
                Format::Json => out.json(&json!(found))?,
                Format::Csv => uses::unused_table(&found, false).write_csv(out)?,
                Format::Dot => out.text(&network::of_unused(&found).dot())?,
                Format::Svg => out.text(&network::of_unused(&found).svg())?,
                _ => uses::show_unused(&found, out)?,
            }
        }
    }
    Ok(0)
}
