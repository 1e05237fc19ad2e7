//! Files that are read: regular ones, and texts that people write, which have a size that people write.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

/// A text that a person wrote is no longer.
const MOST_TEXT: u64 = 64 << 20;

/// Opens a regular file. What else may have its name, such as a pipe or a device, is not waited for.
///
/// # Errors
/// When it is none, or cannot be read.
pub fn open(path: &Path) -> io::Result<File> {
    if std::fs::metadata(path)?.is_file() {
        File::open(path)
    } else {
        Err(io::Error::new(io::ErrorKind::InvalidInput, "this is no regular file"))
    }
}

/// The folder that a file is in: this one, where its path names none.
pub fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// A text of a size that a person writes, such as a model or a query.
///
/// # Errors
/// When it cannot be read, is not UTF-8, or goes on and on.
pub fn text(from: impl Read) -> io::Result<String> {
    let mut text = String::new();
    from.take(MOST_TEXT + 1).read_to_string(&mut text)?;
    if text.len() as u64 > MOST_TEXT {
        let most = crate::units::bytes(MOST_TEXT);
        return Err(io::Error::new(io::ErrorKind::InvalidData, format!("this is longer than {most}")));
    }
    Ok(text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_regular_files_are_opened_and_no_text_is_endless() {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("model.toml");
        std::fs::write(&path, "[model]").expect("can be written");
        assert_eq!(text(open(&path).expect("a file")).expect("a text"), "[model]");
        assert!(open(folder.path()).is_err() && open(&folder.path().join("none")).is_err());
        let endless = Path::new("/dev/zero");
        assert!(!endless.exists() || open(endless).is_err());
        assert!(text(io::repeat(b' ')).is_err());
        assert!(text(&b"\xff"[..]).is_err());
    }
}
