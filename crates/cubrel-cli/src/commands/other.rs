//! Words that are no command of this tool: a program `cubrel-WORD` of the path, as `cargo` and `git` have them.

use std::ffi::OsString;
use std::io::ErrorKind;
use std::process::Command;

use crate::failure::{Done, Failure};

/// Runs the program of a word with the rest of the arguments, and ends with its code.
pub fn run(words: &[OsString], known: &clap::Command) -> Done {
    let Some((word, rest)) = words.split_first() else { return Ok(2) };
    let word = word.to_string_lossy();
    let is_name = !word.is_empty() && word.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '_');
    let unknown = || {
        let names = known.get_subcommands().map(clap::Command::get_name);
        let near = cubrel::suggest(&word, names.collect::<Vec<_>>());
        let help = near.unwrap_or_else(|| "`cubrel --help` lists the commands".into());
        Failure::Other(format!("there is no command `{word}`, and no program `cubrel-{word}`"), help)
    };
    if !is_name {
        return Err(unknown());
    }
    match Command::new(format!("cubrel-{word}")).args(rest).status() {
        Ok(status) => Ok(status.code().and_then(|code| u8::try_from(code).ok()).unwrap_or(2)),
        Err(e) if e.kind() == ErrorKind::NotFound => Err(unknown()),
        Err(e) => Err(Failure::Other(format!("cubrel-{word} cannot be run: {e}"), "look at its permissions".into())),
    }
}
