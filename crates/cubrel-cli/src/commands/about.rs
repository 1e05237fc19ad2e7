//! What the tool tells of itself: the schema of model files, completions for shells, the manual.

use std::path::PathBuf;

use clap_complete::Shell;
use clap_mangen::Man;

use crate::failure::{Done, Failure};
use crate::output::Output;

/// Arguments of `schema`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel schema --output model.schema.json      editors that know JSON Schema complete and check with it")]
pub struct SchemaArgs {}

/// Arguments of `completions`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel completions bash > ~/.local/share/bash-completion/completions/cubrel
  cubrel completions zsh > ~/.zfunc/_cubrel
  cubrel completions fish > ~/.config/fish/completions/cubrel.fish")]
pub struct CompletionsArgs {
    /// bash, elvish, fish, powershell or zsh
    #[arg(value_enum, value_name = "SHELL", hide_possible_values = true)]
    shell: Shell,
}

/// Arguments of `manual`.
#[derive(clap::Args, Debug)]
#[command(after_help = "Examples:
  cubrel manual | man -l -
  cubrel manual --into ~/.local/share/man/man1")]
pub struct ManualArgs {
    /// Write a page for the tool and one for each command into this folder
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
}

/// Writes the JSON Schema of `model.toml`.
pub fn schema(out: &mut Output) -> Done {
    let text = serde_json::to_string_pretty(&cubrel::model_schema()).unwrap_or_default();
    out.text(&format!("{text}\n"))?;
    Ok(0)
}

/// Writes completions for a shell.
pub fn completions(args: &CompletionsArgs, mut command: clap::Command, out: &mut Output) -> Done {
    let mut bytes = Vec::new();
    clap_complete::generate(args.shell, &mut command, "cubrel", &mut bytes);
    out.text(&String::from_utf8_lossy(&bytes))?;
    Ok(0)
}

/// Writes the manual.
pub fn manual(args: &ManualArgs, mut command: clap::Command, out: &mut Output) -> Done {
    command.build();
    let page = |command: &clap::Command| -> Result<Vec<u8>, Failure> {
        let mut bytes = Vec::new();
        Man::new(command.clone()).render(&mut bytes)?;
        Ok(bytes)
    };
    let Some(folder) = &args.into else {
        out.text(&String::from_utf8_lossy(&page(&command)?))?;
        return Ok(0);
    };
    let failed = |e: std::io::Error| {
        Failure::Other(format!("{} cannot be written: {e}", folder.display()), "name a folder that can be".into())
    };
    std::fs::create_dir_all(folder).map_err(failed)?;
    let mut pages = vec![("cubrel.1".to_string(), page(&command)?)];
    for sub in command.get_subcommands().filter(|sub| !sub.is_hide_set()) {
        let name = format!("cubrel-{}", sub.get_name());
        let named = sub.clone().name(name.clone()).display_name(name.clone());
        pages.push((format!("{name}.1"), page(&named)?));
    }
    let count = pages.len();
    pages.into_iter().try_for_each(|(name, bytes)| std::fs::write(folder.join(name), bytes)).map_err(failed)?;
    out.text(&format!("{count} pages in {}\n", folder.display()))?;
    Ok(0)
}
