//! Files as editors name them: `file:` URIs (RFC 8089).

use std::path::{Path, PathBuf};

/// The file of a URI; nothing where it names none on this machine.
pub(crate) fn path_of(uri: &str) -> Option<PathBuf> {
    let rest = uri.strip_prefix("file://")?;
    // A host may stand before the path, which begins with a slash.
    let path = &rest[rest.find('/')?..];
    let mut bytes = Vec::with_capacity(path.len());
    let mut rest = path.as_bytes();
    while let Some((first, more)) = rest.split_first() {
        let digits = more.get(..2).filter(|_| *first == b'%').and_then(|d| std::str::from_utf8(d).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 16).ok()) {
            Some(byte) => {
                bytes.push(byte);
                rest = &more[2..];
            }
            None => {
                bytes.push(*first);
                rest = more;
            }
        }
    }
    let path = String::from_utf8(bytes).ok()?;
    // `/c:/ferries` on machines that have drives.
    let is_drive = path.as_bytes().get(2) == Some(&b':') && path.as_bytes()[1].is_ascii_alphabetic();
    Some(PathBuf::from(if is_drive { &path[1..] } else { &path }))
}

/// The URI of a file.
pub(crate) fn uri_of(path: &Path) -> String {
    let path = path.to_string_lossy().replace('\\', "/");
    let mut uri = String::from(if path.starts_with('/') { "file://" } else { "file:///" });
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'-' | b'.' | b'_' | b'~' => uri.push(byte as char),
            _ => uri.push_str(&format!("%{byte:02X}")),
        }
    }
    uri
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_and_their_names_for_editors_go_there_and_back() {
        for path in ["/ferries/model.toml", "/my models/ö & 100%/model.toml"] {
            assert_eq!(path_of(&uri_of(Path::new(path))).unwrap(), Path::new(path));
        }
        assert_eq!(path_of("file:///c%3A/x").unwrap(), Path::new("c:/x"));
        assert_eq!(path_of("file://host/x%2").unwrap(), Path::new("/x%2"));
        assert_eq!(path_of("untitled:1"), None);
        assert_eq!(path_of("file:///%ff"), None);
    }
}
