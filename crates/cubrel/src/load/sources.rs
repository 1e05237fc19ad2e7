//! Which files a source is, and whether they have changed.

use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use serde::{Deserialize, Serialize};

use super::LoadError;
use crate::formula::source::{Diagnostic, Problem};

/// A file as it was when it was read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileStamp {
    /// Its path, relative to the model's folder.
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// When it was last written, in nanoseconds since 1970.
    pub modified: u64,
}

/// The files of a source: one, or all that a pattern matches, in the order of their names.
///
/// # Errors
/// When there is none, or when they cannot be looked at.
pub fn files(folder: &Path, source: &str) -> Result<Vec<FileStamp>, LoadError> {
    if source.starts_with("sqlite:") {
        let wanted = super::sqlite::parse(source)?;
        return Ok(vec![stamp(folder, &folder.join(wanted.file))?]);
    }
    if let Some((scheme, _)) = source.split_once(':')
        && scheme == "postgres"
    {
        let problem =
            Diagnostic::general(Problem::Unsupported, format!("sources of the kind `{scheme}:` cannot be read yet"));
        return Err(problem.help("write the table to a CSV file").into());
    }
    let path = folder.join(source);
    let pattern = path.to_string_lossy();
    let mut paths: Vec<PathBuf> = if source.contains(['*', '?', '[']) {
        let found = glob::glob(&pattern)
            .map_err(|e| Diagnostic::general(Problem::Model, format!("`{source}` is not a pattern: {e}")))?;
        found.filter_map(Result::ok).collect()
    } else {
        vec![path.clone()]
    };
    paths.sort();
    if paths.is_empty() {
        let problem = Diagnostic::general(Problem::Data, format!("no file matches `{source}`"));
        return Err(problem.help(format!("paths are relative to {}", folder.display())).into());
    }
    paths.iter().map(|p| stamp(folder, p)).collect()
}

fn stamp(folder: &Path, path: &Path) -> Result<FileStamp, LoadError> {
    let data = std::fs::metadata(path).map_err(|e| LoadError::io(path, e))?;
    let modified =
        data.modified().ok().and_then(|t| t.duration_since(UNIX_EPOCH).ok()).map_or(0, |d| d.as_nanos() as u64);
    let relative = path.strip_prefix(folder).unwrap_or(path).to_path_buf();
    Ok(FileStamp { path: relative, bytes: data.len(), modified })
}
