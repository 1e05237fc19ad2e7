//! `cubrel compare`

use std::path::{Path, PathBuf};

use cubrel::Model;
use serde_json::json;

use super::{Done, Failure, refresh_options};
use crate::Global;
use crate::output::progress::Progress;
use crate::output::sizes;
use crate::output::{Format, Output};

/// Arguments of `compare`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel compare ferries ferries-small --sizes\n  cubrel compare a b --sizes --format json"
)]
pub struct Args {
    /// One model
    #[arg(value_name = "A")]
    a: PathBuf,
    /// Another model
    #[arg(value_name = "B")]
    b: PathBuf,
    /// What their columns weigh
    #[arg(long, required = true)]
    sizes: bool,
}

/// Shows two models side by side.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let open = |path: &Path| {
        let progress = Progress::new(global);
        let (model, _) = Model::open_with(path, &refresh_options(global), &progress)?;
        progress.finish();
        Ok::<_, Failure>(model.sizes())
    };
    let (a, b) = (open(&args.a)?, open(&args.b)?);
    let names = [args.a.display().to_string(), args.b.display().to_string()];
    let table = |human| sizes::differences([names[0].as_str(), names[1].as_str()], &a, &b, human);
    match out.format() {
        Format::Json => out.json(&json!({"a": a, "b": b}))?,
        Format::Csv => table(false).write_csv(out)?,
        _ => table(true).write(out)?,
    }
    Ok(0)
}
