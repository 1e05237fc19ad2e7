//! `cubrel lsp`

use std::path::Path;

use cubrel_lsp::ServerOptions;

use crate::args::Global;
use crate::failure::{Done, Failure};

/// Arguments of `lsp`.
#[derive(clap::Args, Debug)]
#[command(
    after_help = "An editor starts it, for `model.toml` and for files with one query each. Nothing is written: tables \
that the store does not have are read into memory.

Example:
  cubrel lsp"
)]
pub struct Args {
    // Some editors say which way of talking they have started; there is only this one.
    #[arg(long, hide = true)]
    stdio: bool,
}

/// Serves one editor.
pub fn run(_: &Args, global: &Global) -> Done {
    // Without a name, each query belongs to the nearest model above its file.
    let named = global.model != Path::new(".");
    if named && !super::has_model(global) {
        let what = format!("no model at {}", global.model.display());
        return Err(Failure::Other(what, "name the folder of a model, or its `model.toml`".into()));
    }
    let options = ServerOptions { model: named.then(|| global.model.clone()), today: global.today };
    let help = "an editor has to be on the other side: `cubrel lsp` is nothing to type into";
    cubrel_lsp::run(&options).map_err(|e| Failure::Other(e.to_string(), help.into()))?;
    Ok(0)
}
