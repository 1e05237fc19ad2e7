//! `cubrel rename`

use super::edited;
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::output::Output;
use crate::output::progress::Progress;
use cubrel::Model;

/// Arguments of `rename`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel rename booking.net net_fare
  cubrel rename net_revenue revenue --dry-run
  cubrel rename query.routes route_list
  cubrel rename --undo

Before anything is written, every name has to mean what it meant, and every saved query and measure has to give
what it gave.

Exit code 2: refused, with the list of what stands against it.")]
pub struct Args {
    /// What is to be renamed: a table, column (table.column), measure, hierarchy, lens or saved query
    #[arg(value_name = "OLD", required_unless_present = "undo", requires = "new")]
    old: Option<String>,
    /// The new name
    #[arg(value_name = "NEW")]
    new: Option<String>,
    #[command(flatten)]
    how: edited::How,
}

/// Gives something another name.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let options = args.how.options(global);
    let edit = match (&args.old, &args.new) {
        (Some(old), Some(new)) if !args.how.undo => {
            let progress = Progress::new(global);
            let edit = Model::rename(&global.model, old, new, &options, &progress)?;
            progress.finish();
            edit
        }
        (None, None) => Model::undo(&global.model, &options)?,
        _ => return Err(Failure::Other("`--undo` takes no names".into(), "write `cubrel rename --undo`".into())),
    };
    edited::show(&edit, global, out)
}
