//! Changes of a model's file: written at once or not at all, and taken back one after the other.

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use cubrel_value::files;

/// Where the changes of a model are kept, beside its store.
const FOLDER: &str = "edits";
/// How many are kept.
const KEPT: usize = 50;

/// A change that was made.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct HistoryStep {
    /// In words.
    pub(super) what: String,
    /// The text before it.
    pub(super) before: String,
    /// The text after it.
    pub(super) after: String,
}

/// The changes of one model's file.
pub(super) struct History {
    file: PathBuf,
    folder: PathBuf,
}

impl History {
    /// Of a model: its folder, or its file.
    pub(super) fn of(model: &Path) -> History {
        let file = if model.is_dir() { model.join("model.toml") } else { model.to_path_buf() };
        let folder = files::folder_of(&file).join(".cubrel").join(FOLDER);
        History { file, folder }
    }

    /// The file.
    pub(super) fn file(&self) -> &Path {
        &self.file
    }

    /// What the file says now.
    pub(super) fn text(&self) -> io::Result<String> {
        files::open(&self.file).and_then(files::text)
    }

    /// The numbers of the changes, the oldest first.
    fn numbers(&self) -> Vec<u64> {
        let entries = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let name = |entry: fs::DirEntry| entry.file_name().to_string_lossy().strip_suffix(".json")?.parse().ok();
        let mut numbers: Vec<u64> = entries.filter_map(name).collect();
        numbers.sort_unstable();
        numbers
    }

    fn path(&self, number: u64) -> PathBuf {
        self.folder.join(format!("{number}.json"))
    }

    /// The last change that was not taken back.
    pub(super) fn last(&self) -> io::Result<Option<(u64, HistoryStep)>> {
        let Some(number) = self.numbers().pop() else { return Ok(None) };
        let text = files::open(&self.path(number)).and_then(files::text)?;
        let step = serde_json::from_str(&text).map_err(io::Error::from)?;
        Ok(Some((number, step)))
    }

    /// Writes a change, and remembers it.
    pub(super) fn make(&self, step: &HistoryStep) -> io::Result<()> {
        fs::create_dir_all(&self.folder)?;
        let numbers = self.numbers();
        let path = self.path(numbers.last().map_or(1, |n| n + 1));
        let noted = serde_json::to_string(step).map_err(io::Error::from)?;
        replace(&path, &noted)?;
        if let Err(e) = replace(&self.file, &step.after) {
            // Nothing was changed, so there is nothing to take back.
            let _ = fs::remove_file(&path);
            return Err(e);
        }
        let old = numbers.len().saturating_sub(KEPT - 1);
        // One that stays is no harm.
        numbers[..old].iter().for_each(|n| drop(fs::remove_file(self.path(*n))));
        Ok(())
    }

    /// Takes the last change back.
    pub(super) fn take_back(&self, number: u64, step: &HistoryStep) -> io::Result<()> {
        replace(&self.file, &step.before)?;
        fs::remove_file(self.path(number))
    }
}

/// Puts a text in the place of a file's: whoever reads it reads the old one or the new one. A link stays a link.
fn replace(path: &Path, text: &str) -> io::Result<()> {
    let target = fs::canonicalize(path).unwrap_or_else(|_| path.to_path_buf());
    let folder = files::folder_of(&target);
    let name = target.file_name().unwrap_or_default().to_string_lossy();
    let unfinished = folder.join(format!(".{name}-{}.new", std::process::id()));
    // What an earlier run has left is of no use, and what somebody has put there is not followed.
    let _ = fs::remove_file(&unfinished);
    let written = fs::File::create_new(&unfinished).and_then(|mut file| {
        file.write_all(text.as_bytes())?;
        if let Ok(before) = fs::metadata(&target) {
            if before.permissions().readonly() {
                return Err(io::Error::new(io::ErrorKind::PermissionDenied, "it can only be read"));
            }
            file.set_permissions(before.permissions())?;
        }
        file.sync_all()
    });
    written.and_then(|()| fs::rename(&unfinished, &target)).inspect_err(|_| drop(fs::remove_file(&unfinished)))
}
