//! `cubrel size`

use serde_json::json;

use super::Done;
use crate::Global;
use crate::output::sizes::{self, Sort};
use crate::output::{Format, Output};

/// Arguments of `size`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel size\n  cubrel size --flat --sort distinct\n  cubrel -m ferries size --format json"
)]
pub struct Args {
    /// A flat list of all columns
    #[arg(long)]
    flat: bool,
    /// What the flat list is sorted by
    #[arg(long, value_enum, default_value_t = Sort::Bytes, value_name = "FIELD")]
    sort: Sort,
}

/// Shows where the bytes are.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let sizes = super::open(global)?.sizes();
    match out.format() {
        Format::Json => out.json(&json!(sizes))?,
        Format::Csv => sizes::flat(&sizes, args.sort).write_csv(out)?,
        _ if args.flat => sizes::show_flat(&sizes, args.sort, None, out)?,
        _ => sizes::show_tree(&sizes, out)?,
    }
    Ok(0)
}
