//! A model as the version control system has it: asked of the git program, which knows how.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use crate::failure::Failure;

/// The text of a model's file in a revision, and what it is called there.
pub struct Revision {
    /// The folder that its paths are relative to.
    pub folder: PathBuf,
    /// What people call it: `model.toml at abc123`.
    pub name: String,
    /// What it says.
    pub text: String,
}

/// Reads the file of a model as it was.
pub fn read(model: &Path, revision: &str) -> Result<Revision, Failure> {
    let file = if model.is_dir() { model.join("model.toml") } else { model.to_path_buf() };
    let folder = file.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_path_buf();
    let name = file.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let failed = |message: String, help: &str| Failure::Other(message, help.to_string());
    if git(&folder, &["rev-parse", "--is-inside-work-tree"])?.stdout.trim_ascii() != b"true" {
        let message = format!("{} is not in a git repository", folder.display());
        return Err(failed(message, "`--revision` compares with what was committed"));
    }
    // What begins with a dash would be an option.
    let wanted = format!("{revision}^{{commit}}");
    let commit = git(&folder, &["rev-parse", "--verify", "--quiet", "--end-of-options", &wanted])?;
    if !commit.status.success() {
        let help = "name a commit, a branch or a tag, such as `HEAD~1` or `main`";
        return Err(failed(format!("there is no revision `{revision}`"), help));
    }
    let commit = String::from_utf8_lossy(&commit.stdout).trim().to_string();
    let shown = git(&folder, &["show", &format!("{commit}:./{name}")])?;
    if !shown.status.success() {
        return Err(failed(
            format!("revision `{revision}` has no {name} here"),
            "name one in which the model was there",
        ));
    }
    let text = String::from_utf8(shown.stdout)
        .map_err(|_| failed(format!("{name} of revision `{revision}` is not UTF-8"), "name another revision"))?;
    Ok(Revision { folder, name: format!("{name} at {revision}"), text })
}

fn git(folder: &Path, args: &[&str]) -> Result<Output, Failure> {
    let run = Command::new("git").arg("-C").arg(folder).arg("--no-pager").args(args).output();
    run.map_err(|e| {
        let message = format!("the git program cannot be run: {e}");
        Failure::Other(message, "`--revision` needs git; two folders are compared without it".into())
    })
}
