//! `cubrel report`

use cubrel::{EditOptions, Model, units};

use super::asked::Asked;
use super::refresh_options;
use crate::args::Global;
use crate::failure::Done;
use crate::output::Output;
use crate::output::progress::Progress;
use crate::report::{Facts, page};

/// Arguments of `report`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel report --output ferries.html
  cubrel report --as north_desk --output north.html
  cubrel report --no-advice --output ferries.html

One page in one file that needs no network: the saved queries as grids, what the figures mean, the tables, where the
bytes are, what is slow, what nothing uses.")]
pub struct Args {
    /// Leave the advice out, which takes longest to find
    #[arg(long)]
    no_advice: bool,
    #[command(flatten)]
    asked: Asked,
}

/// Writes the page.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let model = args.asked.asker.seen(super::open(global)?)?;
    let advice = if args.no_advice || model.seen_as().is_some() {
        None
    } else {
        let progress = Progress::new(global);
        let options = EditOptions { dry_run: true, refresh: refresh_options(global) };
        let advice = Model::advise(&global.model, &options, &progress)?;
        progress.finish();
        Some(advice)
    };
    let options = args.asked.options(global)?;
    let day = units::day_of(model.today()).map_or_else(String::new, |(y, m, d)| format!("{y:04}-{m:02}-{d:02}"));
    let facts = Facts::of(&model, &options, day, advice)?;
    out.text(&page(&facts).into_string())?;
    Ok(0)
}
