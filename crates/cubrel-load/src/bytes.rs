//! Files as bytes, whatever they are packed in.

use std::io::{self, Read};
use std::path::Path;

use super::LoadError;
use cubrel_formula::source::{Diagnostic, Problem};
use cubrel_value::files;
use cubrel_value::units;

/// What is unpacked as a whole takes no more than this, unless the file is as large itself.
const MOST_UNPACKED: u64 = 1 << 30;

/// The bytes of a file; `.gz` and `.zst` are unpacked.
///
/// # Errors
/// When it cannot be read, or is not packed as its name says.
pub fn read(path: &Path) -> Result<Vec<u8>, LoadError> {
    let file = files::open(path).map_err(|e| LoadError::io(path, e))?;
    let length = file.metadata().map_err(|e| LoadError::io(path, e))?.len();
    let mut plain = Vec::new();
    let most = length.max(MOST_UNPACKED);
    unpacked(path, Box::new(file)).take(most + 1).read_to_end(&mut plain).map_err(|e| problem(path, &e))?;
    if plain.len() as u64 > most {
        let message = format!("{} unpacks to more than {}", path.display(), units::bytes(most));
        return Err(Diagnostic::general(Problem::Data, message)
            .help("unpack it first, or write it as a stream")
            .into());
    }
    Ok(plain)
}

/// The bytes of a file as they are unpacked.
pub fn unpacked(path: &Path, file: Box<dyn Read + Send>) -> Box<dyn Read + Send> {
    match path.extension().and_then(|e| e.to_str()) {
        Some("gz") => Box::new(flate2::read::MultiGzDecoder::new(file)),
        Some("zst") => match zstd::stream::read::Decoder::new(file) {
            Ok(decoder) => Box::new(decoder),
            Err(e) => Box::new(Failed(Some(e))),
        },
        _ => file,
    }
}

/// A file that could not be unpacked.
struct Failed(Option<io::Error>);

impl Read for Failed {
    fn read(&mut self, _: &mut [u8]) -> io::Result<usize> {
        self.0.take().map_or(Ok(0), Err)
    }
}

/// Why a file cannot be read.
pub fn problem(path: &Path, error: &io::Error) -> LoadError {
    let is_packed = path.extension().is_some_and(|e| e == "gz" || e == "zst");
    if !is_packed {
        return LoadError::io(path, io::Error::new(error.kind(), error.to_string()));
    }
    let message = format!("{} cannot be unpacked: {error}", path.display());
    Diagnostic::general(Problem::Data, message).help("the file is damaged, or not what its name says").into()
}

/// Extensions of workbooks.
pub const WORKBOOKS: &[&str] = &["xlsx", "xlsm", "ods", "xls"];

/// Extensions of files whose columns have types.
pub const TYPED: &[&str] = &["parquet", "arrow", "arrows", "ipc", "feather"];

/// A file's extension in small letters, that of the packing left out.
pub fn kind(path: &Path) -> String {
    let name = path.file_name().map(|n| n.to_string_lossy().to_lowercase()).unwrap_or_default();
    let plain = name.strip_suffix(".gz").or(name.strip_suffix(".zst")).unwrap_or(&name);
    plain.rsplit_once('.').map_or(String::new(), |(_, extension)| extension.to_string())
}
