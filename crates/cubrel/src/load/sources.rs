//! Which files a source is, and whether they have changed.

use std::collections::HashMap;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::time::UNIX_EPOCH;

use rayon::prelude::*;
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
    /// The XXH3 hash of its bytes, once it has been read.
    pub hash: u64,
}

/// The files of a source: one, or all that a pattern matches, in the order of their names.
///
/// # Errors
/// When there is none, or when they cannot be looked at.
pub fn files(folder: &Path, source: &str) -> Result<Vec<FileStamp>, LoadError> {
    if source.starts_with("sqlite:") {
        let wanted = super::sqlite::parse(source)?;
        return Ok(vec![stamp(folder, &folder.join(wanted.place))?]);
    }
    if is_server(source) {
        // A server does not say when something was written last.
        return Ok(vec![FileStamp { path: source.into(), bytes: 0, modified: 0, hash: 0 }]);
    }
    let path = folder.join(source);
    let mut paths: Vec<PathBuf> = if source.contains(['*', '?', '[']) {
        // Only what the model says is a pattern, not the name of its folder.
        let escaped = PathBuf::from(glob::Pattern::escape(&folder.to_string_lossy())).join(source);
        let found = glob::glob(&escaped.to_string_lossy())
            .map_err(|e| Diagnostic::general(Problem::Model, format!("`{source}` is not a pattern: {e}")))?;
        let path = |found: glob::GlobResult| {
            found.map_err(|e| {
                let (path, error) = (e.path().to_path_buf(), std::io::Error::from(e.error().kind()));
                LoadError::io(&path, error)
            })
        };
        found.map(path).collect::<Result<_, _>>()?
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

/// Whether a source is on a server, which does not tell whether anything has changed.
pub fn is_server(source: &str) -> bool {
    source.starts_with("postgres://") || source.starts_with("postgresql://")
}

/// Whether a source is a table or query of a database.
pub fn is_database(source: &str) -> bool {
    is_server(source) || source.starts_with("sqlite:")
}

fn stamp(folder: &Path, path: &Path) -> Result<FileStamp, LoadError> {
    let data = std::fs::metadata(path).map_err(|e| LoadError::io(path, e))?;
    if !data.is_file() {
        let what = if data.is_dir() { "a folder" } else { "no regular file" };
        let problem = Diagnostic::general(Problem::Data, format!("{} is {what}", path.display()));
        return Err(problem.help("name files: `data/*.csv` is all of a folder").into());
    }
    let modified =
        data.modified().ok().and_then(|t| t.duration_since(UNIX_EPOCH).ok()).map_or(0, |d| d.as_nanos() as u64);
    let relative = path.strip_prefix(folder).unwrap_or(path).to_path_buf();
    Ok(FileStamp { path: relative, bytes: data.len(), modified, hash: 0 })
}

/// Fills in what is known of files from when they were read. A file that was written again with the same content counts
/// as unchanged, and so does every known file that was last written before the day `since`.
pub fn recognise(folder: &Path, files: &mut [FileStamp], before: &[&FileStamp], since: Option<i32>) {
    let old: HashMap<&Path, &FileStamp> = before.iter().map(|f| (f.path.as_path(), *f)).collect();
    files.par_iter_mut().for_each(|file| {
        let Some(old) = old.get(file.path.as_path()) else { return };
        if file.modified == 0 && old.modified == 0 {
            return;
        }
        let is_old = since.is_some_and(|day| (file.modified as i128) < i128::from(day) * DAY_NANOS);
        let same = || file.bytes == old.bytes && old.hash != 0 && hash(&folder.join(&file.path)) == Some(old.hash);
        if is_old || file.bytes == old.bytes && file.modified == old.modified || same() {
            *file = (*old).clone();
        }
    });
}

const DAY_NANOS: i128 = 86_400 * 1_000_000_000;

/// Fills in the hashes of files that have none yet.
pub fn fingerprint(folder: &Path, files: &mut [FileStamp]) {
    files.par_iter_mut().filter(|f| f.hash == 0).for_each(|f| f.hash = hash(&folder.join(&f.path)).unwrap_or(0));
}

/// The hash of a file's bytes, if it can be read.
fn hash(path: &Path) -> Option<u64> {
    let mut file = std::fs::File::open(path).ok()?;
    let mut hash = xxhash_rust::xxh3::Xxh3::new();
    let mut buffer = vec![0; 1 << 20];
    loop {
        match file.read(&mut buffer).ok()? {
            0 => return Some(hash.digest()),
            count => hash.update(&buffer[..count]),
        }
    }
}
