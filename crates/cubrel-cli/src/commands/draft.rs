//! `cubrel draft`

use std::path::{Path, PathBuf};

use cubrel::RefreshOptions;
use cubrel::draft::draft;
use serde_json::json;

use super::refresh;
use crate::args::Global;
use crate::failure::{Done, Failure};
use crate::format::Format;
use crate::output::Output;
use crate::output::progress::Progress;

/// Arguments of `draft`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "Examples:\n  cubrel draft data --into .\n  cubrel draft sales-*.csv shops.csv --into shops-model\n  cubrel draft old.db"
)]
pub struct Args {
    /// Files, or folders with files: CSV, Parquet, Arrow, JSON Lines, SQLite
    #[arg(required = true)]
    files: Vec<PathBuf>,
    /// The folder that gets the `model.toml`
    #[arg(long, value_name = "DIR", default_value = ".")]
    into: PathBuf,
}

/// Drafts a model, writes it, and loads it.
pub fn run(args: &Args, global: &Global, out: &mut Output) -> Done {
    let path = args.into.join("model.toml");
    if path.exists() {
        let message = format!("{} is there already", path.display());
        return Err(Failure::Other(message, "choose another folder with `--into`, or move the file away".into()));
    }
    let is_new = !args.into.exists();
    let done = draft_into(args, &path, global, out);
    if done.is_err() && is_new {
        // Only while there is nothing in it.
        let _ = std::fs::remove_dir(&args.into);
    }
    done
}

fn draft_into(args: &Args, path: &Path, global: &Global, out: &mut Output) -> Done {
    let wrong =
        |e: std::io::Error| Failure::Other(format!("{}: {e}", path.display()), "the folder has to be writable".into());
    std::fs::create_dir_all(&args.into).map_err(wrong)?;
    let progress = Progress::new(global);
    let files = args.files.iter().map(|f| relative(f, &args.into)).collect::<Vec<_>>();
    let found = draft(&args.into, &files, &progress)?;
    std::fs::write(path, &found.toml).map_err(wrong)?;
    let options = RefreshOptions { today: global.today, ..RefreshOptions::default() };
    let (_, report) = found.refresh(&args.into, &options, &progress)?;
    progress.finish();
    match out.format() {
        Format::Json => {
            out.json(&json!({"model": path, "findings": found.findings, "refresh": refresh::as_json(&report)}))?;
        }
        _ => {
            found.findings.iter().try_for_each(|f| out.text(&format!("{f}\n")))?;
            out.heading(&format!("Written to {}, and loaded", path.display()))?;
            refresh::show(&report, out)?;
        }
    }
    Ok(0)
}

/// Files inside the model's folder are named from there; others by their whole path.
fn relative(file: &Path, into: &Path) -> PathBuf {
    match (file.canonicalize(), into.canonicalize()) {
        (Ok(file), Ok(folder)) => match file.strip_prefix(&folder) {
            Ok(inside) => into.join(inside),
            Err(_) => file,
        },
        _ => file.to_path_buf(),
    }
}
