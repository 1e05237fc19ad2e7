//! `cubrel remove`

use super::edited;
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::output::Output;
use crate::output::progress::Progress;
use cubrel::Model;

/// Arguments of `remove`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel remove best_month
  cubrel remove booking.booking_ref --dry-run
  cubrel remove 'booking.booked_on -> calendar.date'
  cubrel remove --undo

Only what nothing uses can go: see `cubrel uses --none`. A column of a file is left out from then on.

Exit code 2: refused, with the list of what uses it.")]
pub struct Args {
    /// What is to go: a table, column (table.column), measure, hierarchy, lens, relationship or saved query
    #[arg(value_name = "NAME", required_unless_present = "undo")]
    name: Option<String>,
    #[command(flatten)]
    how: edited::How,
}

/// Takes something out of the model.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let options = args.how.options(global);
    let edit = match &args.name {
        Some(_) if args.how.undo => {
            return Err(Failure::Other("`--undo` takes no name".into(), "write `cubrel remove --undo`".into()));
        }
        Some(name) => {
            let progress = Progress::new(global);
            let edit = Model::remove(&global.model, name, &options, &progress)?;
            progress.finish();
            edit
        }
        None => Model::undo(&global.model, &options)?,
    };
    edited::show(&edit, global, out)
}
