//! Which files a source is, and whether they have changed.

use std::collections::HashMap;
use std::io::Read;
use std::path::{Component, Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};

use super::LoadError;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::files;
use cubrel_value::threads::map_owned;

/// A file as it was when it was read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileStamp {
    /// Its path, relative to the model's folder.
    pub path: PathBuf,
    /// Its length in bytes.
    pub bytes: u64,
    /// When it was last written, in nanoseconds since 1970; 0 where the next change might not be told by it.
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
        let path = folder.join(wanted.place);
        let mut whole = stamp(folder, &path)?;
        if let Some(log) = log_of(source, &path).and_then(|log| stamp(folder, &log).ok()) {
            whole.bytes += log.bytes;
            whole.modified = whole.modified.max(log.modified);
        }
        return Ok(vec![whole]);
    }
    if is_server(source) {
        // A server does not say when something was written last.
        return Ok(vec![FileStamp { path: source.into(), bytes: 0, modified: 0, hash: 0 }]);
    }
    let path = folder.join(source);
    // A file may well have brackets in its name.
    let is_pattern = source.contains(['*', '?', '[']) && !path.is_file();
    let mut paths: Vec<PathBuf> = if is_pattern { matching(folder, source, source)? } else { vec![path.clone()] };
    paths.sort();
    paths.dedup();
    if paths.is_empty() {
        let problem = Diagnostic::general(Problem::Data, format!("no file matches `{source}`"));
        return Err(problem.help(format!("paths are relative to {}", folder.display())).into());
    }
    paths.iter().map(|p| stamp(folder, p)).collect()
}

/// Bytes of the files of a source; none where they cannot be looked at.
pub fn bytes(folder: &Path, source: &str) -> u64 {
    files(folder, source).map_or(0, |files| files.iter().map(|file| file.bytes).sum())
}

/// The files of a pattern, which is a part of a source. `**` stands for a folder and all folders below it; it follows no
/// links, which can lead in circles.
fn matching(folder: &Path, pattern: &str, source: &str) -> Result<Vec<PathBuf>, LoadError> {
    let whole = if pattern == "**" || pattern.ends_with("/**") { format!("{pattern}/*") } else { pattern.to_string() };
    let Some((before, rest)) = whole.split_once("**/").filter(|(before, _)| before.is_empty() || before.ends_with('/'))
    else {
        return plainly_matching(folder, &whole, source);
    };
    let starts = if before.is_empty() { vec![folder.to_path_buf()] } else { plainly_matching(folder, before, source)? };
    let mut found = Vec::new();
    let mut open: Vec<PathBuf> = starts.into_iter().filter(|path| path.is_dir()).collect();
    while let Some(folder) = open.pop() {
        found.extend(matching(&folder, rest, source)?);
        let failed = |e| LoadError::io(&folder, e);
        for entry in std::fs::read_dir(&folder).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            if entry.file_type().map_err(failed)?.is_dir() {
                open.push(entry.path());
            }
        }
    }
    Ok(found)
}

/// The same without `**`.
fn plainly_matching(folder: &Path, pattern: &str, source: &str) -> Result<Vec<PathBuf>, LoadError> {
    // Only what the model says is a pattern, not the name of its folder.
    let escaped = PathBuf::from(glob::Pattern::escape(&folder.to_string_lossy())).join(pattern);
    let found = glob::glob(&escaped.to_string_lossy())
        .map_err(|e| Diagnostic::general(Problem::Model, format!("`{source}` is not a pattern: {e}")))?;
    let path = |found: glob::GlobResult| {
        found.map_err(|e| {
            let (path, error) = (e.path().to_path_buf(), std::io::Error::from(e.error().kind()));
            LoadError::io(&path, error)
        })
    };
    found.map(path).collect()
}

/// Whether a source is on a server, which does not tell whether anything has changed.
pub fn is_server(source: &str) -> bool {
    source.starts_with("postgres://") || source.starts_with("postgresql://")
}

/// Whether a source is a table or query of a database.
pub fn is_database(source: &str) -> bool {
    is_server(source) || source.starts_with("sqlite:")
}

/// What a SQLite database has not taken into its file yet, if there is any.
fn log_of(source: &str, path: &Path) -> Option<PathBuf> {
    let mut log = path.as_os_str().to_os_string();
    log.push("-wal");
    let log = PathBuf::from(log);
    (source.starts_with("sqlite:") && std::fs::metadata(&log).is_ok_and(|data| data.len() > 0)).then_some(log)
}

fn nanoseconds(time: std::io::Result<SystemTime>) -> u64 {
    time.ok().and_then(|t| t.duration_since(UNIX_EPOCH).ok()).map_or(0, |d| d.as_nanos() as u64)
}

/// A path without the `./` that says nothing: what a pattern finds never has it, whatever the folder is called by.
fn bare(path: &Path) -> PathBuf {
    path.components().filter(|part| *part != Component::CurDir).collect()
}

fn stamp(folder: &Path, path: &Path) -> Result<FileStamp, LoadError> {
    let data = std::fs::metadata(path).map_err(|e| LoadError::io(path, e))?;
    if !data.is_file() {
        let what = if data.is_dir() { "a folder" } else { "no regular file" };
        let problem = Diagnostic::general(Problem::Data, format!("{} is {what}", path.display()));
        return Err(problem.help("name files: `data/*.csv` is all of a folder").into());
    }
    let modified = nanoseconds(data.modified());
    let (bare, inside) = (bare(path), bare(folder));
    let relative = bare.strip_prefix(inside).map_or_else(|_| path.to_path_buf(), Path::to_path_buf);
    Ok(FileStamp { path: relative, bytes: data.len(), modified, hash: 0 })
}

/// Fills in what is known of files from when they were read. A file that was written again with the same content counts
/// as unchanged, and so does every known file that was last written before the day `since`.
pub fn recognise(folder: &Path, source: &str, files: &mut [FileStamp], before: &[&FileStamp], since: Option<i32>) {
    let old: HashMap<&Path, &FileStamp> = before.iter().map(|f| (f.path.as_path(), *f)).collect();
    let recognise = |file: &mut FileStamp| {
        let Some(old) = old.get(file.path.as_path()) else { return };
        if file.modified == 0 && old.modified == 0 {
            return;
        }
        let is_old = since.is_some_and(|day| (file.modified as i128) < i128::from(day) * DAY_NANOS);
        let same =
            || file.bytes == old.bytes && old.hash != 0 && hash(source, &folder.join(&file.path)) == Some(old.hash);
        if is_old || file.bytes == old.bytes && file.modified == old.modified || same() {
            *file = (*old).clone();
        }
    };
    map_owned(files.iter_mut().collect(), recognise);
}

const DAY_NANOS: i128 = 86_400 * 1_000_000_000;

/// Fills in the hashes of files that have none yet. A file that stands there several times is read once.
pub fn fingerprint<'f>(folder: &Path, source: &str, files: impl Iterator<Item = &'f mut FileStamp>) {
    let mut unknown: HashMap<PathBuf, Vec<&mut FileStamp>> = HashMap::new();
    files.filter(|f| f.hash == 0).for_each(|f| unknown.entry(f.path.clone()).or_default().push(f));
    map_owned(unknown.into_iter().collect(), |(path, stamps)| {
        let hash = hash(source, &folder.join(path)).unwrap_or(0);
        let is_young = stamps.first().is_some_and(|f| is_young(f.modified));
        for stamp in stamps {
            stamp.hash = hash;
            if is_young {
                stamp.modified = 0;
            }
        }
    });
}

/// Clocks of file systems go in steps: what is written twice within one bears the same time.
const STEP: u64 = 20_000_000;
/// Some know whole seconds only, or every second one.
const LONG_STEP: u64 = 2_000_000_000;

/// Whether a file that was written then may be written again without bearing another time.
fn is_young(modified: u64) -> bool {
    let step = if modified.is_multiple_of(1_000_000_000) { LONG_STEP } else { STEP };
    nanoseconds(Ok(SystemTime::now())).abs_diff(modified) < step
}

/// The hash of a file's bytes, if it can be read.
fn hash(source: &str, path: &Path) -> Option<u64> {
    let mut hash = xxhash_rust::xxh3::Xxh3::new();
    let mut buffer = vec![0; 1 << 20];
    for path in std::iter::once(path.to_path_buf()).chain(log_of(source, path)) {
        let mut file = files::open(&path).ok()?;
        loop {
            match file.read(&mut buffer).ok()? {
                0 => break,
                count => hash.update(&buffer[..count]),
            }
        }
    }
    Some(hash.digest())
}

/// What tells that a file is still the one it was, whatever length and time it bears.
#[derive(Debug, PartialEq, Eq)]
pub struct FileIdentity {
    stamp: FileStamp,
    /// When something about it was changed last, which nobody can set, in nanoseconds since 1970.
    changed: i128,
    device: u64,
    number: u64,
    /// Of a file that is younger than the clock's step.
    hash: Option<u64>,
}

/// The files of some sources as they are now. Given again what it said before, it looks as closely as then: between the two
/// nothing was written when both are the same.
///
/// # Errors
/// When there is none, or when they cannot be looked at.
pub fn identities(
    folder: &Path,
    sources: &[String],
    before: Option<&[FileIdentity]>,
) -> Result<Vec<FileIdentity>, LoadError> {
    let mut all: Vec<(&str, FileStamp)> = Vec::new();
    for source in sources.iter().filter(|source| !is_server(source)) {
        all.extend(files(folder, source)?.into_iter().map(|file| (source.as_str(), file)));
    }
    let identity = |(i, (source, stamp)): (usize, (&str, FileStamp))| {
        let path = folder.join(&stamp.path);
        // Of a database's log only what its stamp says: whoever opens it may touch it.
        let data = std::fs::metadata(&path).map_err(|e| LoadError::io(&path, e))?;
        let (changed, device, number) = inner(&data);
        let look = match before {
            Some(before) => before.get(i).is_some_and(|b| b.hash.is_some()),
            None => is_young(u64::try_from(changed).unwrap_or(0)) || is_young(stamp.modified),
        };
        let hash = look.then(|| hash(source, &path)).flatten();
        Ok(FileIdentity { stamp, changed, device, number, hash })
    };
    map_owned(all.into_iter().enumerate().collect(), identity).into_iter().collect()
}

#[cfg(unix)]
fn inner(data: &std::fs::Metadata) -> (i128, u64, u64) {
    use std::os::unix::fs::MetadataExt;
    (i128::from(data.ctime()) * 1_000_000_000 + i128::from(data.ctime_nsec()), data.dev(), data.ino())
}

#[cfg(not(unix))]
fn inner(data: &std::fs::Metadata) -> (i128, u64, u64) {
    (i128::from(nanoseconds(data.created())), 0, 0)
}
