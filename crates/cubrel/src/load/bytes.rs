//! Files as bytes, whatever they are packed in.

use std::io::Read;
use std::path::Path;

use super::LoadError;
use crate::formula::source::{Diagnostic, Problem};

/// The bytes of a file; `.gz` and `.zst` are unpacked.
///
/// # Errors
/// When it cannot be read, or is not packed as its name says.
pub fn read(path: &Path) -> Result<Vec<u8>, LoadError> {
    let bytes = std::fs::read(path).map_err(|e| LoadError::io(path, e))?;
    let mut plain = Vec::new();
    let unpacked = match path.extension().and_then(|e| e.to_str()) {
        Some("gz") => flate2::read::MultiGzDecoder::new(bytes.as_slice()).read_to_end(&mut plain),
        Some("zst") => {
            zstd::stream::read::Decoder::new(bytes.as_slice()).and_then(|mut decoder| decoder.read_to_end(&mut plain))
        }
        _ => return Ok(bytes),
    };
    match unpacked {
        Ok(_) => Ok(plain),
        Err(e) => {
            let message = format!("{} cannot be unpacked: {e}", path.display());
            Err(Diagnostic::general(Problem::Data, message)
                .help("the file is damaged, or not what its name says")
                .into())
        }
    }
}

/// A file's extension in small letters, that of the packing left out.
pub fn kind(path: &Path) -> String {
    let name = path.file_name().map(|n| n.to_string_lossy().to_lowercase()).unwrap_or_default();
    let plain = name.strip_suffix(".gz").or(name.strip_suffix(".zst")).unwrap_or(&name);
    plain.rsplit_once('.').map_or(String::new(), |(_, extension)| extension.to_string())
}
