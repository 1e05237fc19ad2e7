//! The folder that a store lives in. Every store that is written there has a name of its own, `store-1`, `store-2` and so
//! on: one that is in use is never written to, nor is its name taken by another.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::{Path, PathBuf};

use super::{ReadError, Stored, read, write_to};

/// What the name of a store begins with; its number follows.
const NAME: &str = "store-";
/// The end of the name of a file that is being written.
const UNFINISHED: &str = ".new";
/// How often a store may be gone when it is opened, because a newer one has taken its place.
const TRIES: usize = 20;

/// The stores of a folder, the newest first.
fn stores(folder: &Path) -> Vec<(u64, PathBuf)> {
    let is_file = |path: &PathBuf| fs::symlink_metadata(path).is_ok_and(|data| data.is_file());
    let mut found: Vec<(u64, PathBuf)> = numbered(folder).filter(|(_, path)| is_file(path)).collect();
    found.sort_by_key(|(number, _)| std::cmp::Reverse(*number));
    found
}

/// Whatever has the name of a store.
fn numbered(folder: &Path) -> impl Iterator<Item = (u64, PathBuf)> {
    names(folder).filter_map(|(name, path)| Some((name.strip_prefix(NAME)?.parse().ok()?, path)))
}

fn names(folder: &Path) -> impl Iterator<Item = (String, PathBuf)> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    entries.map(|entry| (entry.file_name().to_string_lossy().into_owned(), entry.path()))
}

/// The newest store of a folder.
pub fn newest(folder: &Path) -> Option<PathBuf> {
    stores(folder).into_iter().next().map(|(_, path)| path)
}

/// Opens the newest store of a folder; `None` where there is none.
///
/// # Errors
/// When it cannot be used.
pub fn read_newest(folder: &Path) -> Result<Option<Stored>, ReadError> {
    for _ in 0..TRIES {
        let Some(path) = newest(folder) else { return Ok(None) };
        match read(&path) {
            Err(ReadError::Io(e)) if e.kind() == io::ErrorKind::NotFound => {}
            done => return done.map(Some),
        }
    }
    Err(io::Error::from(io::ErrorKind::NotFound).into())
}

/// Writes a store that is the newest of its folder from then on, and removes the others: whoever has them open keeps what
/// is in them. `alone` says that nobody else writes there, so that what is not finished never will be.
///
/// # Errors
/// When something cannot be written; the store that was the newest is it still.
pub fn write_next(folder: &Path, stored: &Stored, alone: bool) -> io::Result<()> {
    fs::create_dir_all(folder)?;
    let older = stores(folder);
    let number = numbered(folder).map(|(number, _)| number).max().map_or(1, |number| number.saturating_add(1));
    let path = folder.join(format!("{NAME}{number}"));
    let unfinished = folder.join(format!("{NAME}{number}-{}{UNFINISHED}", std::process::id()));
    let written = create(&unfinished).and_then(|mut file| {
        let mut buffered = io::BufWriter::with_capacity(1 << 20, &mut file);
        write_to(&mut buffered, stored)?;
        buffered.into_inner().map_err(io::IntoInnerError::into_error)?.sync_all()
    });
    if let Err(e) = written.and_then(|()| fs::rename(&unfinished, &path)) {
        // What was half written is of no use; that it cannot be removed would say nothing new.
        let _ = fs::remove_file(&unfinished);
        return Err(e);
    }
    // The rename itself has to reach the disk, too; not every system can say that of a folder.
    let _ = File::open(folder).and_then(|folder| folder.sync_all());
    let old = older.into_iter().map(|(_, path)| path);
    // `store` is what earlier versions wrote.
    let is_left = |name: &str| alone && name.ends_with(UNFINISHED) || name == "store";
    let left = names(folder).filter(|(name, _)| is_left(name)).map(|(_, path)| path);
    // One that is open cannot be removed everywhere: the next store that is written will try again.
    old.chain(left).for_each(|path| drop(fs::remove_file(path)));
    Ok(())
}

/// A file that was not there: what somebody has put in its place is neither followed nor written to.
fn create(path: &Path) -> io::Result<File> {
    let new = || OpenOptions::new().write(true).create_new(true).open(path);
    match new() {
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {
            fs::remove_file(path)?;
            new()
        }
        done => done,
    }
}

/// Keeps others from writing into a folder for as long as the file that it gives is open; nothing when the file system
/// has no locks, or the folder cannot be written. Waits for somebody else who does so, or not.
///
/// # Errors
/// With [`io::ErrorKind::WouldBlock`] when somebody else does and is not waited for.
pub fn lock(folder: &Path, wait: bool) -> io::Result<Option<File>> {
    let Some(file) = lock_file(folder) else { return Ok(None) };
    if wait {
        return Ok(file.lock().is_ok().then_some(file));
    }
    match file.try_lock() {
        Ok(()) => Ok(Some(file)),
        Err(fs::TryLockError::WouldBlock) => Err(io::ErrorKind::WouldBlock.into()),
        Err(fs::TryLockError::Error(_)) => Ok(None),
    }
}

fn lock_file(folder: &Path) -> Option<File> {
    fs::create_dir_all(folder).ok()?;
    let path = folder.join("lock");
    // A pipe in its place would be waited for, a link would lead elsewhere.
    if fs::symlink_metadata(&path).is_ok_and(|data| !data.is_file()) {
        return None;
    }
    OpenOptions::new().read(true).write(true).create(true).truncate(false).open(path).ok()
}
